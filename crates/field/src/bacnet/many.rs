//! Several properties of a device are read: in as few requests as it takes, and one by one where it takes no more.

use super::ways::{Meaning, Ways, meaning};
use interlex_bacnet::{
    ConfirmedService, Content, EachResult, Error, Failure, ObjectIdentifier, PropertyReference, ReadProperty,
    ReadPropertyAck, ReadPropertyMultiple, ReadPropertyMultipleAck,
};
use std::collections::VecDeque;

/// One property, with how many octets its value is expected to have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Wanted {
    pub(super) object: ObjectIdentifier,
    pub(super) reference: PropertyReference,
    pub(super) octets: usize,
}

/// Why a property is not known.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(super) enum Unread {
    /// The device says so.
    #[error("{0}")]
    Error(Error),
    /// It did not understand, or gave it up.
    #[error("{0}")]
    Failure(Failure),
    /// It answered something else, or left it out.
    #[error("it answered something else")]
    Unfitting,
}

/// Reads several properties: no I/O.
#[derive(Debug, Default)]
pub(super) struct ReadMany {
    wanted: Vec<Wanted>,
    results: Vec<Option<Result<Content, Unread>>>,
    /// What is to be asked yet, each in one request.
    parts: VecDeque<Vec<usize>>,
    /// What was asked last, and whether in one request for several.
    asked: Option<(Vec<usize>, bool)>,
    /// Several were asked for, so many octets were expected, and nothing came: if one alone comes, that was too much.
    was_silent: Option<usize>,
    pub(super) requests: u32,
}

/// About how long a request for several properties becomes, and its answer. Neighbours of one object share its octets.
#[derive(Debug, Clone, Copy)]
pub(super) struct Lengths {
    answer: usize,
    request: usize,
    last: Option<ObjectIdentifier>,
}

/// Octets before all properties.
const HEADER: usize = 8;
/// Octets of an object, with the tags around its properties.
const OBJECT: usize = 7;
/// Octets of a property beside its value in an answer, and in a request.
const PROPERTY: usize = 6;
const PROPERTY_ASKED: usize = 4;

impl Lengths {
    pub(super) const NONE: Self = Self { answer: HEADER, request: HEADER, last: None };

    /// With one property more.
    pub(super) fn with(self, wanted: &Wanted) -> Self {
        let object = if self.last == Some(wanted.object) { 0 } else { OBJECT };
        Self {
            answer: self.answer + object + PROPERTY + wanted.octets,
            request: self.request + object + PROPERTY_ASKED,
            last: Some(wanted.object),
        }
    }

    /// Whether a device, and the way there, can carry both.
    pub(super) fn fit(self, ways: &Ways) -> bool {
        self.answer <= ways.room() && self.request <= usize::from(ways.max_apdu.octets())
    }
}

impl ReadMany {
    /// To read these.
    pub(super) fn new(wanted: Vec<Wanted>, ways: &Ways) -> Self {
        let mut many = Self { results: vec![None; wanted.len()], wanted, ..Self::default() };
        many.plan((0..many.wanted.len()).collect(), ways);
        many
    }

    fn expected(&self, part: &[usize]) -> usize {
        let wanted = part.iter().filter_map(|at| self.wanted.get(*at));
        wanted.fold(Lengths::NONE, |lengths, wanted| lengths.with(wanted)).answer
    }

    /// Cuts what is to be read into requests.
    fn plan(&mut self, all: Vec<usize>, ways: &Ways) {
        let (mut part, mut lengths) = (Vec::new(), Lengths::NONE);
        for at in all {
            let Some(wanted) = self.wanted.get(at) else { continue };
            lengths = lengths.with(wanted);
            if !part.is_empty() && (!lengths.fit(ways) || !ways.reads_multiple) {
                self.parts.push_back(std::mem::take(&mut part));
                lengths = Lengths::NONE.with(wanted);
            }
            part.push(at);
        }
        self.parts.extend(Some(part).filter(|part| !part.is_empty()));
    }

    /// The next request; none while an answer is waited for, and when all is known.
    pub(super) fn next(&mut self, ways: &Ways) -> Option<(ConfirmedService, Vec<u8>)> {
        if self.asked.is_some() {
            return None;
        }
        let part = self.parts.pop_front()?;
        self.requests += 1;
        let mut data = Vec::new();
        let is_multiple = ways.reads_multiple && part.len() > 1;
        if is_multiple {
            let asked = part.iter().filter_map(|at| self.wanted.get(*at));
            ReadPropertyMultiple::encode_each(asked.map(|wanted| (wanted.object, wanted.reference)), &mut data);
        } else if let Some(wanted) = part.first().and_then(|at| self.wanted.get(*at)) {
            ReadProperty { object: wanted.object, reference: wanted.reference }.encode(&mut data);
        }
        // One at a time, where it reads no more.
        let (first, rest) = if is_multiple { (part.as_slice(), &[][..]) } else { part.split_at(1.min(part.len())) };
        if !rest.is_empty() {
            self.parts.push_front(rest.to_vec());
        }
        self.asked = Some((first.to_vec(), is_multiple));
        let service =
            if is_multiple { ConfirmedService::READ_PROPERTY_MULTIPLE } else { ConfirmedService::READ_PROPERTY };
        Some((service, data))
    }

    /// What became of it. An error says that the device is silent: nothing more is asked.
    pub(super) fn answered(&mut self, ways: &mut Ways, outcome: Result<Vec<u8>, Failure>) -> Result<(), Failure> {
        let Some((part, is_multiple)) = self.asked.take() else { return Ok(()) };
        let data = match outcome {
            Ok(data) => data,
            Err(failure) => return self.failed(part, is_multiple, ways, failure),
        };
        if is_multiple {
            ways.arrives();
        }
        if let Some(octets) = self.was_silent.take() {
            ways.was_lost(octets);
            let rest: Vec<_> = std::mem::take(&mut self.parts).into_iter().flatten().collect();
            self.plan(rest, ways);
        }
        if is_multiple {
            self.take_several(&part, &data)
        } else {
            self.take_one(&part, &data)
        }
        Ok(())
    }

    fn take_one(&mut self, part: &[usize], data: &[u8]) {
        let Some((at, wanted)) = part.first().and_then(|at| Some((*at, *self.wanted.get(*at)?))) else { return };
        let told = match ReadPropertyAck::decode(data) {
            Ok(told) if told.reference == wanted.reference && is_same(told.object, wanted.object) => Ok(told.value),
            _ => Err(Unread::Unfitting),
        };
        self.put(at, told);
    }

    /// Results are matched by what they say that they are, in whatever order they come.
    fn take_several(&mut self, part: &[usize], data: &[u8]) {
        let told = ReadPropertyMultipleAck::decode_each(data).unwrap_or_default();
        let mut left: Vec<EachResult> = Vec::new();
        let mut told = told.into_iter();
        for at in part {
            let Some(wanted) = self.wanted.get(*at).copied() else { continue };
            let is_it =
                |(object, reference, _): &EachResult| *reference == wanted.reference && is_same(*object, wanted.object);
            // Nearly all devices keep the order.
            let found = match left.iter().position(is_it) {
                Some(place) => Some(left.swap_remove(place)),
                None => told.find_map(|result| {
                    if is_it(&result) {
                        Some(result)
                    } else {
                        left.push(result);
                        None
                    }
                }),
            };
            self.put(*at, found.map_or(Err(Unread::Unfitting), |(.., outcome)| outcome.map_err(Unread::Error)));
        }
    }

    fn put(&mut self, at: usize, told: Result<Content, Unread>) {
        if let (Ok(value), Some(wanted)) = (&told, self.wanted.get_mut(at)) {
            wanted.octets = value.octets().len();
        }
        if let Some(result) = self.results.get_mut(at) {
            *result = Some(told);
        }
    }

    fn failed(
        &mut self,
        part: Vec<usize>,
        is_multiple: bool,
        ways: &mut Ways,
        failure: Failure,
    ) -> Result<(), Failure> {
        let service =
            if is_multiple { ConfirmedService::READ_PROPERTY_MULTIPLE } else { ConfirmedService::READ_PROPERTY };
        let octets = self.expected(&part);
        let meant = meaning(service, &failure);
        if !is_multiple {
            if meant == Meaning::Silent {
                return Err(failure);
            }
            let told = match failure {
                Failure::Error { error, .. } => Unread::Error(error),
                other => Unread::Failure(other),
            };
            part.first().into_iter().for_each(|at| self.put(*at, Err(told.clone())));
            return Ok(());
        }
        match meant {
            Meaning::UnknownService => {
                ways.reads_multiple = false;
                self.plan(part, ways);
            }
            Meaning::TooLong => {
                ways.was_too_long(octets);
                let rest: Vec<_> =
                    part.into_iter().chain(std::mem::take(&mut self.parts).into_iter().flatten()).collect();
                self.plan(rest, ways);
            }
            // One of them may be what it cannot answer; or it is too much for the way, which loses it.
            Meaning::Silent => {
                self.was_silent = Some(octets);
                let (first, rest) = part.split_at(1);
                self.parts.push_front(rest.to_vec());
                self.parts.push_front(first.to_vec());
            }
            Meaning::Other => {
                let (one, two) = part.split_at(part.len() / 2);
                self.parts.push_front(two.to_vec());
                self.parts.push_front(one.to_vec());
            }
        }
        Ok(())
    }

    /// Whether nothing is to be asked any more.
    pub(super) fn is_over(&self) -> bool {
        self.asked.is_none() && self.parts.is_empty()
    }

    /// Whether the answer that is waited for says no more than whether the device is there.
    pub(super) const fn is_doubtful(&self) -> bool {
        self.was_silent.is_some()
    }

    /// How many are known.
    pub(super) fn known(&self) -> usize {
        self.results.iter().filter(|result| result.is_some()).count()
    }

    /// What was found: in the order in which it was wanted; nothing of what was not asked for any more.
    pub(super) fn results(self) -> impl Iterator<Item = (Wanted, Option<Result<Content, Unread>>)> {
        self.wanted.into_iter().zip(self.results)
    }
}

/// The device object may be asked for by the instance that stands for whichever there is.
fn is_same(told: ObjectIdentifier, wanted: ObjectIdentifier) -> bool {
    told == wanted || (wanted.instance() == ObjectIdentifier::MOST && told.object_type() == wanted.object_type())
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_bacnet::{
        AbortReason, Device, DeviceConfig, Node, NodeConfig, NodeEvent, Now, Object, ObjectType, PropertyIdentifier,
        RejectReason, Via,
    };
    use std::time::Duration;

    /// Answers as a device would, and counts what it was asked.
    struct Asked {
        device: Device,
        ways: Ways,
        refused: Option<Failure>,
        largest: usize,
        requests: usize,
    }

    impl Asked {
        fn new(objects: u32) -> Self {
            let config = DeviceConfig {
                instance: 7,
                name: "boiler-house".to_owned(),
                vendor: 999,
                vendor_name: String::new(),
                model: String::new(),
                max_apdu: interlex_bacnet::MaxApdu::BACNET_IP,
                segmentation: interlex_bacnet::Segmentation::Both,
                utc_offset: 0,
                password: None,
                broadcasts_i_am: false,
            };
            let device = (1..=objects).fold(Device::new(config), |device, instance| {
                device.with(Object::valued(input(instance), "x", f32::from(u16::try_from(instance).unwrap())))
            });
            Self {
                device,
                ways: Ways::new(Duration::from_secs(1), 0, None),
                refused: None,
                largest: usize::MAX,
                requests: 0,
            }
        }

        fn answer(&mut self, service: ConfirmedService, data: &[u8]) -> Result<Vec<u8>, Failure> {
            self.requests += 1;
            let now = Now { instant: tokio::time::Instant::now().into_std(), utc_millis: 0 };
            let rng = fastrand::Rng::with_seed(1);
            let mut client = Node::new(NodeConfig::default(), rng.clone(), now.instant);
            let mut node = Node::new(NodeConfig::default(), rng, now.instant);
            let (here, there) = ("10.0.0.1:1".parse().unwrap(), "10.0.0.2:1".parse().unwrap());
            let terms = interlex_bacnet::Terms::default();
            client.request(now.instant, interlex_bacnet::Peer::from(there), service, data.to_vec(), terms).unwrap();
            loop {
                while let Some((_, sent)) = client.poll_transmit() {
                    node.handle_input(now.instant, Via::Unicast, here, &sent);
                }
                while let Some(event) = node.poll_event() {
                    self.device.handle(now, &mut node, event);
                }
                while let Some((_, sent)) = node.poll_transmit() {
                    client.handle_input(now.instant, Via::Unicast, there, &sent);
                }
                if let Some(NodeEvent::Answered { outcome, .. }) = client.poll_event() {
                    let is_long = outcome.as_ref().is_ok_and(|data| data.len() > self.largest);
                    return if is_long { Err(self.refused.clone().unwrap()) } else { outcome };
                }
            }
        }

        fn read(&mut self, objects: impl IntoIterator<Item = u32>) -> Result<Vec<String>, Failure> {
            let reference = PropertyIdentifier::PRESENT_VALUE.into();
            let wanted = |instance| Wanted { object: input(instance), reference, octets: 5 };
            let mut many = ReadMany::new(objects.into_iter().map(wanted).collect(), &self.ways);
            while let Some((service, data)) = many.next(&self.ways) {
                let outcome = self.answer(service, &data);
                many.answered(&mut self.ways, outcome)?;
            }
            assert!(many.is_over());
            let word = |(_, told): (Wanted, Option<Result<Content, Unread>>)| match told.unwrap() {
                Ok(value) => value.to_string(),
                Err(why) => why.to_string(),
            };
            Ok(many.results().map(word).collect())
        }
    }

    fn input(instance: u32) -> ObjectIdentifier {
        ObjectIdentifier::new(ObjectType::ANALOG_INPUT, instance).unwrap()
    }

    fn numbers(objects: std::ops::RangeInclusive<u32>) -> Vec<String> {
        objects.map(|number| number.to_string()).collect()
    }

    #[test]
    fn as_few_requests_are_made_as_fit_and_one_bad_object_spoils_nothing() {
        let mut asked = Asked::new(200);
        assert_eq!((asked.read(1..=200), asked.requests), (Ok(numbers(1..=200)), 3));
        let told = asked.read([1, 999, 3]).unwrap();
        assert_eq!((told.join("; "), asked.requests), ("1; unknown-object (object); 3".to_owned(), 4));
        asked.device.faults_mut().reorders_results = true;
        assert_eq!(asked.read(1..=9), Ok(numbers(1..=9)), "by what they are, and not by their order");
    }

    #[test]
    fn devices_that_do_not_read_several_are_asked_one_by_one_from_then_on() {
        let mut asked = Asked::new(20);
        asked.device.faults_mut().refuses_multiple = true;
        assert_eq!((asked.read(1..=20), asked.requests), (Ok(numbers(1..=20)), 21));
        assert_eq!((asked.read(1..=20), asked.requests), (Ok(numbers(1..=20)), 41));
    }

    #[test]
    fn what_is_too_long_is_made_shorter_until_it_arrives() {
        let reason = AbortReason::BUFFER_OVERFLOW;
        for refused in [
            Failure::Abort { by_peer: true, reason },
            Failure::Reject(RejectReason::TOO_MANY_ARGUMENTS),
            Failure::Timeout,
        ] {
            let mut asked = Asked::new(200);
            (asked.largest, asked.refused) = (206, Some(refused.clone()));
            assert_eq!(asked.read(1..=200), Ok(numbers(1..=200)), "{refused:?}");
            let first = std::mem::take(&mut asked.requests);
            assert_eq!(asked.read(1..=200), Ok(numbers(1..=200)));
            assert!(asked.requests <= first && asked.requests < 60, "{refused:?}: {first}, then {}", asked.requests);
        }
        let mut asked = Asked::new(200);
        (asked.largest, asked.refused) = (0, Some(Failure::Timeout));
        assert_eq!((asked.read(1..=200), asked.requests), (Err(Failure::Timeout), 2), "it is not there");
    }
}
