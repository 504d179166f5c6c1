use super::faults::{DeviceFaults, Writes};
use super::object::Object;
use super::subscription::{Subscription, SubscriptionKey};
use crate::apdu::{AbortReason, ConfirmedService, Error, MaxApdu, RejectReason, Segmentation, UnconfirmedService};
use crate::codec::{DecodeError, Fault};
use crate::network::Peer;
use crate::node::{Answer, Audience, Failure, Node, NodeEvent, Terms};
use crate::primitive::{BitString, Content, DateTime, ObjectIdentifier, ObjectType, PropertyIdentifier, Value};
use crate::service::{
    CovNotification, DeviceCommunicationControl, EventState, EventSummary, GetEventInformation, GetEventInformationAck,
    IAm, IHave, LogDatum, LogRecord, PropertyReference, ReadProperty, ReadPropertyAck, ReadPropertyMultiple,
    ReadPropertyMultipleAck, ReadRange, ReadResult, SubscribeCov, Wanted, WhoHas, WhoIs, WriteProperty,
    WritePropertyMultiple,
};
use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};

/// What a device says of itself.
#[derive(Debug, Clone)]
pub struct DeviceConfig {
    /// Its instance, 0 to 4194302.
    pub instance: u32,
    /// Its name.
    pub name: String,
    /// The number of its maker.
    pub vendor: u32,
    /// The name of its maker.
    pub vendor_name: String,
    /// What it is called by its maker.
    pub model: String,
    /// How large a message it takes.
    pub max_apdu: MaxApdu,
    /// Whether it sends and takes segments.
    pub segmentation: Segmentation,
    /// Minutes from its local standard time to UTC: positive in the west.
    pub utc_offset: i16,
    /// Without which it is not to be quieted; it never is where there is none.
    pub password: Option<String>,
    /// Whether it says to all who it is, and not only to who asked.
    pub broadcasts_i_am: bool,
}

/// The time: of the machine, and of the world.
#[derive(Debug, Clone, Copy)]
pub struct Now {
    /// For spans.
    pub instant: Instant,
    /// Milliseconds since 1970 in UTC.
    pub utc_millis: i64,
}

/// A device: its objects, who is told their changes, and how it answers. It speaks through a [`Node`].
#[derive(Debug)]
pub struct Device {
    config: DeviceConfig,
    objects: BTreeMap<ObjectIdentifier, Object>,
    subscriptions: BTreeMap<SubscriptionKey, Subscription>,
    faults: DeviceFaults,
    next_log: BTreeMap<ObjectIdentifier, Instant>,
    /// The last values that were written, oldest first.
    written: VecDeque<(ObjectIdentifier, Content)>,
}

/// So many values that were written are known.
const MOST_WRITTEN: usize = 1000;
/// So many subscriptions at the most, whoever asks for them.
const MOST_SUBSCRIPTIONS: usize = 10_000;

fn identifier(config: &DeviceConfig) -> ObjectIdentifier {
    // An instance of more bits is that of nobody.
    ObjectIdentifier::device(config.instance & ObjectIdentifier::MOST)
        .unwrap_or(ObjectIdentifier::from_bits(0x0200_0000))
}

impl Device {
    /// A device without objects but its own.
    #[must_use]
    pub fn new(config: DeviceConfig) -> Self {
        let identifier = identifier(&config);
        // Clause 21 (BACnetServicesSupported).
        let services = [5_usize, 12, 14, 15, 16, 17, 26, 27, 28, 33, 34, 35, 38, 39];
        let services: Vec<bool> = (0..44).map(|at| services.contains(&at)).collect();
        let own = Object::new(identifier, &config.name)
            .with(PropertyIdentifier::SYSTEM_STATUS, Value::Enumerated(0))
            .with(PropertyIdentifier::VENDOR_NAME, config.vendor_name.as_str())
            .with(PropertyIdentifier::VENDOR_IDENTIFIER, config.vendor)
            .with(PropertyIdentifier::MODEL_NAME, config.model.as_str())
            .with(PropertyIdentifier::FIRMWARE_REVISION, "1.0")
            .with(PropertyIdentifier::APPLICATION_SOFTWARE_VERSION, "1.0")
            .with(PropertyIdentifier::PROTOCOL_VERSION, 1_u32)
            .with(PropertyIdentifier::PROTOCOL_REVISION, 19_u32)
            .with(PropertyIdentifier::PROTOCOL_SERVICES_SUPPORTED, BitString::of(&services))
            .with(PropertyIdentifier::MAX_APDU_LENGTH_ACCEPTED, u32::from(config.max_apdu.octets()))
            .with(PropertyIdentifier::SEGMENTATION_SUPPORTED, Value::Enumerated(config.segmentation.number()))
            .with(PropertyIdentifier::APDU_TIMEOUT, 3000_u32)
            .with(PropertyIdentifier::NUMBER_OF_APDU_RETRIES, 3_u32)
            .with(PropertyIdentifier::UTC_OFFSET, Value::Signed(config.utc_offset.into()))
            .with(PropertyIdentifier::DAYLIGHT_SAVINGS_STATUS, false)
            .with(PropertyIdentifier::DATABASE_REVISION, 1_u32)
            .with_content(PropertyIdentifier::DEVICE_ADDRESS_BINDING, Content::default());
        let objects = BTreeMap::from([(identifier, own)]);
        let (subscriptions, next_log, written) = (BTreeMap::new(), BTreeMap::new(), VecDeque::new());
        Self { config, objects, subscriptions, faults: DeviceFaults::default(), next_log, written }
    }

    /// The same with an object.
    #[must_use]
    pub fn with(mut self, object: Object) -> Self {
        self.objects.insert(object.identifier(), object);
        self
    }

    /// What it says of itself.
    #[must_use]
    pub const fn config(&self) -> &DeviceConfig {
        &self.config
    }

    /// How it misbehaves.
    pub const fn faults_mut(&mut self) -> &mut DeviceFaults {
        &mut self.faults
    }

    /// One of its objects.
    #[must_use]
    pub fn object(&self, identifier: ObjectIdentifier) -> Option<&Object> {
        self.objects.get(&identifier)
    }

    /// One of its objects. What is changed so is told by [`Device::tell_changes`].
    pub fn object_mut(&mut self, identifier: ObjectIdentifier) -> Option<&mut Object> {
        self.objects.get_mut(&identifier)
    }

    /// Takes an object away.
    pub fn remove(&mut self, identifier: ObjectIdentifier) {
        self.objects.remove(&identifier);
    }

    /// The last values that others wrote, oldest first.
    pub fn written(&self) -> impl Iterator<Item = &(ObjectIdentifier, Content)> {
        self.written.iter()
    }

    /// Whether somebody subscribed to an object, and has all that became of it.
    #[must_use]
    pub fn is_told(&self, object: ObjectIdentifier) -> bool {
        let mut of_object = self.subscriptions.iter().skip_while(|(key, _)| key.object < object);
        of_object.next().is_some_and(|(key, subscription)| {
            key.object == object && subscription.told.is_some() && subscription.under_way.is_none()
        })
    }

    /// How many subscriptions there are.
    #[must_use]
    pub fn subscriptions(&self) -> usize {
        self.subscriptions.len()
    }

    /// It starts anew: it knows nobody who subscribed any more, and says who it is.
    pub fn restart(&mut self, node: &mut Node) {
        self.subscriptions.clear();
        self.say_who(node, Audience::Global);
    }

    /// Says who it is.
    pub fn say_who(&self, node: &mut Node, to: Audience) {
        let told = IAm {
            device: identifier(&self.config),
            max_apdu: self.config.max_apdu.octets().into(),
            segmentation: self.config.segmentation,
            vendor: self.config.vendor,
        };
        let mut data = Vec::new();
        told.encode(&mut data);
        node.tell(to, UnconfirmedService::I_AM, &data);
    }

    /// The local time at a moment.
    #[must_use]
    pub fn local(&self, now: Now) -> Option<DateTime> {
        DateTime::of_local_millis(now.utc_millis - i64::from(self.config.utc_offset) * 60_000)
    }

    /// Takes what a node tells, and gives back what is not for a device.
    pub fn handle(&mut self, now: Now, node: &mut Node, event: NodeEvent) -> Option<NodeEvent> {
        match event {
            NodeEvent::Asked { .. } | NodeEvent::Told { .. } if self.faults.is_silent => None,
            NodeEvent::Asked { id, from, service, data, room } => {
                let outcome = self.carry_out(now, from, service, &data, room);
                let answer = match outcome {
                    Ok(Answer::Complex(data)) if self.faults.most_octets.is_some_and(|most| data.len() > most) => {
                        Answer::Abort(AbortReason::BUFFER_OVERFLOW)
                    }
                    Ok(Answer::Complex(data)) if self.faults.loses_above.is_some_and(|most| data.len() > most) => {
                        node.drop_asked(&id);
                        return None;
                    }
                    Ok(Answer::Complex(data)) if data.len() + 3 > room && !self.config.segmentation.transmits() => {
                        Answer::Abort(AbortReason::SEGMENTATION_NOT_SUPPORTED)
                    }
                    Ok(Answer::Simple)
                        if service == ConfirmedService::WRITE_PROPERTY && self.faults.writes == Writes::Swallows =>
                    {
                        node.drop_asked(&id);
                        return None;
                    }
                    Ok(answer) => answer,
                    Err(error) => Answer::Reject(reject(error)),
                };
                node.answer(now.instant, &id, &answer);
                self.tell_changes(now, node);
                None
            }
            NodeEvent::Told { from, service, data } => self.take_told(node, from, service, data),
            NodeEvent::Answered { id, took, outcome } => {
                let known = self.subscriptions.iter_mut().find(|(_, known)| known.under_way == Some(id));
                let Some((key, subscription)) = known else { return Some(NodeEvent::Answered { id, took, outcome }) };
                subscription.under_way = None;
                // Whoever knows nothing of it wants to hear no more.
                if matches!(outcome, Err(Failure::Error { .. })) {
                    let key = *key;
                    self.subscriptions.remove(&key);
                }
                self.tell_changes(now, node);
                None
            }
            other => Some(other),
        }
    }

    fn take_told(&self, node: &mut Node, from: Peer, service: UnconfirmedService, data: Vec<u8>) -> Option<NodeEvent> {
        match service {
            UnconfirmedService::WHO_IS => {
                if WhoIs::decode(&data).is_ok_and(|asked| asked.asks(self.config.instance)) {
                    let to = if self.config.broadcasts_i_am { Audience::Global } else { Audience::Peer(from) };
                    self.say_who(node, to);
                }
                None
            }
            UnconfirmedService::WHO_HAS => {
                let asked = WhoHas::decode(&data).ok()?;
                let is_asked = asked.range.is_none_or(|(low, high)| (low..=high).contains(&self.config.instance));
                let found = match &asked.wanted {
                    Wanted::Object(wanted) => self.objects.get(wanted),
                    Wanted::Name(name) => self.objects.values().find(|object| object.name() == *name),
                };
                if let Some(object) = found.filter(|_| is_asked) {
                    let (device, object, name) = (identifier(&self.config), object.identifier(), object.name());
                    let mut told = Vec::new();
                    IHave { device, object, name }.encode(&mut told);
                    node.tell(Audience::Peer(from), UnconfirmedService::I_HAVE, &told);
                }
                None
            }
            service => Some(NodeEvent::Told { from, service, data }),
        }
    }

    fn carry_out(
        &mut self,
        now: Now,
        from: Peer,
        service: ConfirmedService,
        data: &[u8],
        room: usize,
    ) -> Result<Answer, DecodeError> {
        let mut out = Vec::new();
        let answered = match service {
            ConfirmedService::READ_PROPERTY => {
                let asked = ReadProperty::decode(data)?;
                let object = self.meant(asked.object);
                self.read(now, object, &asked.reference).map(|value| {
                    ReadPropertyAck { object, reference: asked.reference, value }.encode(&mut out);
                })
            }
            ConfirmedService::READ_PROPERTY_MULTIPLE if !self.faults.refuses_multiple => {
                let asked = ReadPropertyMultiple::decode(data)?;
                self.read_multiple(now, &asked).encode(&mut out);
                Ok(())
            }
            ConfirmedService::READ_RANGE => {
                let asked = ReadRange::decode(data)?;
                let log = self.objects.get(&asked.object).ok_or(Error::UNKNOWN_OBJECT);
                let log = log.and_then(|object| object.log.as_ref().ok_or(Error::UNKNOWN_PROPERTY));
                log.and_then(|log| log.read(&asked, room)).map(|ack| ack.encode(&mut out))
            }
            ConfirmedService::GET_EVENT_INFORMATION => {
                self.events(GetEventInformation::decode(data)?).encode(&mut out);
                Ok(())
            }
            ConfirmedService::WRITE_PROPERTY => return Ok(simple(self.write(&WriteProperty::decode(data)?))),
            ConfirmedService::WRITE_PROPERTY_MULTIPLE => {
                let writes = WritePropertyMultiple::decode(data)?;
                return Ok(simple(writes.0.iter().try_for_each(|write| self.write(write))));
            }
            ConfirmedService::SUBSCRIBE_COV if !self.faults.refuses_subscriptions => {
                return Ok(simple(self.subscribe(now.instant, from, &SubscribeCov::decode(data)?)));
            }
            ConfirmedService::SUBSCRIBE_COV_PROPERTY if !self.faults.refuses_subscriptions => {
                return Ok(simple(self.subscribe(now.instant, from, &SubscribeCov::decode_property(data)?)));
            }
            ConfirmedService::DEVICE_COMMUNICATION_CONTROL => {
                let asked = DeviceCommunicationControl::decode(data)?;
                let is_right = self.config.password.is_some() && asked.password == self.config.password;
                // Even who may ask quiets nothing here: whatever polls goes on.
                let denied = if is_right { Error::SERVICE_REQUEST_DENIED } else { Error::PASSWORD_FAILURE };
                return Ok(Answer::Error(denied));
            }
            _ => return Ok(Answer::Reject(RejectReason::UNRECOGNIZED_SERVICE)),
        };
        Ok(match answered {
            Ok(()) => Answer::Complex(out),
            Err(error) => Answer::Error(error),
        })
    }

    /// The instance that stands for whichever there is, is this one.
    fn meant(&self, object: ObjectIdentifier) -> ObjectIdentifier {
        let is_any = object.object_type() == ObjectType::DEVICE && object.instance() == ObjectIdentifier::MOST;
        if is_any { identifier(&self.config) } else { object }
    }

    /// What a property holds.
    ///
    /// # Errors
    /// [`Error`], where there is nothing to read.
    pub fn read(&self, now: Now, object: ObjectIdentifier, reference: &PropertyReference) -> Result<Content, Error> {
        let found = self.objects.get(&object).ok_or(Error::UNKNOWN_OBJECT)?;
        if object == identifier(&self.config) {
            let one = |value: Option<Value>| value.map(|value| Content::of(&[value])).ok_or(Error::UNKNOWN_PROPERTY);
            match reference.property {
                PropertyIdentifier::OBJECT_LIST => return self.object_list(reference.index),
                PropertyIdentifier::LOCAL_DATE => return one(self.local(now).map(|local| local.date.into())),
                PropertyIdentifier::LOCAL_TIME => return one(self.local(now).map(|local| local.time.into())),
                _ => {}
            }
        }
        if let Some(log) = &found.log {
            let number = match reference.property {
                PropertyIdentifier::RECORD_COUNT => u32::try_from(log.count()).ok(),
                PropertyIdentifier::TOTAL_RECORD_COUNT => Some(log.total()),
                PropertyIdentifier::BUFFER_SIZE => u32::try_from(log.most()).ok(),
                _ => None,
            };
            if let Some(number) = number {
                return Ok(Content::of(&[number.into()]));
            }
            // It can be read by range only.
            if reference.property == PropertyIdentifier::LOG_BUFFER {
                return Err(Error::READ_ACCESS_DENIED);
            }
        }
        found.read(reference)
    }

    fn object_list(&self, index: Option<u32>) -> Result<Content, Error> {
        match index {
            None if self.faults.lists_by_index => Err(Error { class: 3, code: 0 }),
            None => Ok(Content::of(&self.objects.keys().map(|object| (*object).into()).collect::<Vec<_>>())),
            Some(0) => Ok(Content::of(&[Value::Unsigned(u64::try_from(self.objects.len()).unwrap_or_default())])),
            Some(index) => {
                let at = usize::try_from(index - 1).unwrap_or(usize::MAX);
                let object = self.objects.keys().nth(at).ok_or(Error::INVALID_ARRAY_INDEX)?;
                Ok(Content::of(&[(*object).into()]))
            }
        }
    }

    fn read_multiple(&self, now: Now, asked: &ReadPropertyMultiple) -> ReadPropertyMultipleAck {
        let result = |access: &crate::service::ReadAccess| {
            let object = self.meant(access.object);
            let known = self.objects.get(&object);
            let references = access.properties.iter().flat_map(|reference| {
                let meant = known.map_or_else(|| vec![reference.property], |known| known.meant(reference.property));
                meant.into_iter().map(|property| PropertyReference { property, index: reference.index })
            });
            let results = references.map(|reference| (reference, self.read(now, object, &reference)));
            ReadResult { object, results: results.collect() }
        };
        let mut results: Vec<_> = asked.0.iter().map(result).collect();
        if self.faults.reorders_results {
            results.reverse();
        }
        ReadPropertyMultipleAck(results)
    }

    fn write(&mut self, write: &WriteProperty) -> Result<(), Error> {
        match self.faults.writes {
            Writes::Refuses => return Err(Error::WRITE_ACCESS_DENIED),
            Writes::Ignores => return Ok(()),
            Writes::Takes | Writes::Swallows => {}
        }
        if self.written.len() == MOST_WRITTEN {
            self.written.pop_front();
        }
        self.written.push_back((write.object, write.value.clone()));
        let object = self.objects.get_mut(&write.object).ok_or(Error::UNKNOWN_OBJECT)?;
        object.write(&write.reference, &write.value, write.priority)
    }

    fn events(&self, asked: GetEventInformation) -> GetEventInformationAck {
        let summary = |object: &Object| {
            let state = object.value(PropertyIdentifier::EVENT_STATE)?.as_unsigned()?;
            let state = EventState(u32::try_from(state).ok().filter(|state| *state != 0)?);
            Some(EventSummary { object: object.identifier(), state, acknowledged: BitString::of(&[true; 3]) })
        };
        let from = asked.after.map_or(std::ops::Bound::Unbounded, std::ops::Bound::Excluded);
        let summaries =
            self.objects.range((from, std::ops::Bound::Unbounded)).filter_map(|(_, object)| summary(object));
        let mut summaries: Vec<_> = summaries.take(21).collect();
        let has_more = summaries.len() > 20;
        summaries.truncate(20);
        GetEventInformationAck { summaries, has_more }
    }

    fn subscribe(&mut self, now: Instant, peer: Peer, asked: &SubscribeCov) -> Result<(), Error> {
        let object = self.objects.get(&asked.object).ok_or(Error::UNKNOWN_OBJECT)?;
        let property = asked.property.map(|(reference, _)| reference);
        match &property {
            Some(reference) => object.read(reference).map(|_| ())?,
            None if !object.tells_changes() => return Err(Error::NOT_COV_PROPERTY),
            None => {}
        }
        let key = SubscriptionKey { object: asked.object, peer, process: asked.process, property };
        let Some(terms) = asked.terms else {
            self.subscriptions.remove(&key);
            return Ok(());
        };
        let most = self.faults.most_subscriptions.unwrap_or(MOST_SUBSCRIPTIONS);
        if !self.subscriptions.contains_key(&key) && self.subscriptions.len() >= most {
            return Err(Error::NO_SPACE_FOR_SUBSCRIPTION);
        }
        let until = (terms.lifetime != 0).then(|| now + Duration::from_secs(terms.lifetime.into()));
        let increment = asked.property.and_then(|(_, increment)| increment);
        // Whoever subscribes is told what is the case now.
        let subscription =
            Subscription { is_confirmed: terms.is_confirmed, until, increment, told: None, under_way: None };
        self.subscriptions.insert(key, subscription);
        Ok(())
    }

    /// Tells those who subscribed what became of what they subscribed to.
    pub fn tell_changes(&mut self, now: Now, node: &mut Node) {
        let keys: Vec<_> = self.subscriptions.keys().copied().collect();
        keys.iter().for_each(|key| self.tell_subscriber(now, node, key));
    }

    /// The same, where only one object may have changed.
    pub fn tell_changes_of(&mut self, object: ObjectIdentifier, now: Now, node: &mut Node) {
        let keys = self.subscriptions.keys().skip_while(|key| key.object < object);
        let keys: Vec<_> = keys.take_while(|key| key.object == object).copied().collect();
        keys.iter().for_each(|key| self.tell_subscriber(now, node, key));
    }

    fn tell_subscriber(&mut self, now: Now, node: &mut Node, key: &SubscriptionKey) {
        let Some(subscription) = self.subscriptions.get_mut(key) else { return };
        let Some(object) = self.objects.get(&key.object) else { return };
        if subscription.under_way.is_some() || self.faults.tells_nothing || self.faults.is_silent {
            return;
        }
        let reference = key.property.unwrap_or(PropertyIdentifier::PRESENT_VALUE.into());
        let read = object.read(&reference).ok();
        let value = read.as_ref().and_then(Content::one);
        let flags = match object.value(PropertyIdentifier::STATUS_FLAGS) {
            Some(Value::BitString(flags)) => Some(flags),
            _ => None,
        };
        let increment = object.value(PropertyIdentifier::COV_INCREMENT).and_then(|increment| increment.as_f64());
        if !subscription.is_news(value.as_ref(), flags.as_ref(), increment) {
            return;
        }
        let mut values: Vec<_> = read.into_iter().map(|content| (reference, content)).collect();
        if let Some(flags) = &flags {
            values.push((PropertyIdentifier::STATUS_FLAGS.into(), Content::of(&[flags.clone().into()])));
        }
        let told = CovNotification {
            process: key.process,
            device: identifier(&self.config),
            object: key.object,
            time_remaining: subscription.remaining(now.instant),
            values,
        };
        let mut data = Vec::new();
        told.encode(&mut data);
        subscription.told = Some((value, flags));
        if subscription.is_confirmed {
            let sent = node.request(now.instant, key.peer, ConfirmedService::COV_NOTIFICATION, data, Terms::default());
            // Where none can be sent now, it is told when something was acknowledged.
            match sent {
                Ok(id) => subscription.under_way = Some(id),
                Err(_) => subscription.told = None,
            }
        } else {
            node.tell(Audience::Peer(key.peer), UnconfirmedService::COV_NOTIFICATION, &data);
        }
    }

    /// When [`Device::handle_timeout`] has something to do.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        let expires = self.subscriptions.values().filter_map(|subscription| subscription.until).min();
        expires.into_iter().chain(self.next_log.values().copied()).min()
    }

    /// Forgets who subscribed for a while that is over, and writes records that are due.
    pub fn handle_timeout(&mut self, now: Now) {
        self.subscriptions.retain(|_, subscription| subscription.until.is_none_or(|until| until > now.instant));
        let at = self.local(now);
        let logs: Vec<_> =
            self.objects.values().filter(|object| object.log.is_some()).map(Object::identifier).collect();
        for identifier in logs {
            let due = self.next_log.entry(identifier).or_insert(now.instant);
            let log = self.objects.get(&identifier).and_then(|object| object.log.as_ref());
            let (Some(log), Some(at)) = (log, at) else { continue };
            if *due > now.instant {
                continue;
            }
            *due = now.instant + log.interval;
            let source = self.objects.get(&log.source);
            let value = source.and_then(|source| source.value(PropertyIdentifier::PRESENT_VALUE));
            let flags = source.and_then(|source| source.value(PropertyIdentifier::STATUS_FLAGS));
            let status_flags = if let Some(Value::BitString(flags)) = flags { Some(flags) } else { None };
            let datum = value.map_or(LogDatum::Failure(Error::UNKNOWN_OBJECT), LogDatum::Value);
            if let Some(log) = self.objects.get_mut(&identifier).and_then(|object| object.log.as_mut()) {
                log.push(LogRecord { at, datum, status_flags });
            }
        }
    }
}

fn simple(outcome: Result<(), Error>) -> Answer {
    match outcome {
        Ok(()) => Answer::Simple,
        Err(error) => Answer::Error(error),
    }
}

/// What is said to who sends what cannot be read.
fn reject(error: DecodeError) -> RejectReason {
    match error.fault {
        Fault::Missing(_) | Fault::Cut(_) => RejectReason::MISSING_REQUIRED_PARAMETER,
        Fault::Value(_) => RejectReason::PARAMETER_OUT_OF_RANGE,
        Fault::Size(_) | Fault::Text => RejectReason::INVALID_PARAMETER_DATA_TYPE,
        Fault::Trailing(_) => RejectReason::TOO_MANY_ARGUMENTS,
        Fault::ApplicationTag(_) | Fault::Unpaired(_) | Fault::Deep => RejectReason::INVALID_TAG,
    }
}
