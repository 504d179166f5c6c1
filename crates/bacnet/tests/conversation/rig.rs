//! A client and a device in memory: the way between them loses, doubles and reorders what it likes, and time goes as it is told.

use interlex_bacnet::{
    Audience, ConfirmedService, Device, DeviceConfig, Failure, MaxApdu, Node, NodeConfig, NodeEvent, Now, Object,
    ObjectIdentifier, ObjectType, Peer, PropertyIdentifier, ReadAccess, ReadProperty, ReadPropertyAck,
    ReadPropertyMultiple, ReadPropertyMultipleAck, RequestId, Segmentation, Target, Terms, UnconfirmedService, Value,
    Via, WhoIs,
};
use std::collections::VecDeque;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::{Duration, Instant};

pub(crate) const CLIENT: SocketAddrV4 = SocketAddrV4::new(Ipv4Addr::new(10, 0, 0, 1), 47_808);
pub(crate) const DEVICE: SocketAddrV4 = SocketAddrV4::new(Ipv4Addr::new(10, 0, 0, 2), 47_808);
const BEGIN_MILLIS: i64 = 1_709_251_200_000;

/// What becomes of a datagram.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Fate {
    Arrives,
    IsLost,
    IsDoubled,
    Overtakes,
}

type Fates = Box<dyn FnMut(&[u8]) -> Fate>;

pub(crate) struct Rig {
    pub(crate) client: Node,
    pub(crate) node: Node,
    pub(crate) device: Device,
    pub(crate) now: Instant,
    begun: Instant,
    way: VecDeque<(SocketAddrV4, Vec<u8>)>,
    fate: Fates,
    pub(crate) events: Vec<NodeEvent>,
    pub(crate) sent: Vec<(bool, Vec<u8>)>,
}

#[expect(clippy::disallowed_methods, reason = "where time begins; it goes on by itself")]
pub(crate) fn begin() -> Instant {
    Instant::now()
}

pub(crate) fn object(object_type: ObjectType, instance: u32) -> ObjectIdentifier {
    ObjectIdentifier::new(object_type, instance).unwrap()
}

pub(crate) fn config() -> DeviceConfig {
    DeviceConfig {
        instance: 1001,
        name: "boiler-house".to_owned(),
        vendor: 999,
        vendor_name: "Alderfen".to_owned(),
        model: "test".to_owned(),
        max_apdu: MaxApdu::BACNET_IP,
        segmentation: Segmentation::Both,
        utc_offset: -60,
        password: None,
        broadcasts_i_am: false,
    }
}

pub(crate) fn temperature(instance: u32, value: f32) -> Object {
    Object::valued(object(ObjectType::ANALOG_INPUT, instance), &format!("temperature-{instance}"), value)
        .with(PropertyIdentifier::UNITS, Value::Enumerated(62))
        .with(PropertyIdentifier::COV_INCREMENT, 0.5_f32)
}

impl Rig {
    pub(crate) fn new(device: Device) -> Self {
        let now = begin();
        let seeded = fastrand::Rng::with_seed;
        let config = NodeConfig { max_apdu: device.config().max_apdu, ..NodeConfig::default() };
        Self {
            client: Node::new(NodeConfig::default(), seeded(1), now),
            node: Node::new(config, seeded(2), now),
            device,
            now,
            begun: now,
            way: VecDeque::new(),
            fate: Box::new(|_| Fate::Arrives),
            events: Vec::new(),
            sent: Vec::new(),
        }
    }

    pub(crate) fn with_fate(mut self, fate: impl FnMut(&[u8]) -> Fate + 'static) -> Self {
        self.fate = Box::new(fate);
        self
    }

    pub(crate) fn set_fate(&mut self, fate: impl FnMut(&[u8]) -> Fate + 'static) {
        self.fate = Box::new(fate);
    }

    pub(crate) fn time(&self) -> Now {
        let passed = self.now.duration_since(self.begun);
        Now { instant: self.now, utc_millis: BEGIN_MILLIS + i64::try_from(passed.as_millis()).unwrap() }
    }

    /// Carries what there is to carry.
    pub(crate) fn carry(&mut self) {
        loop {
            while let Some((_, datagram)) = self.client.poll_transmit() {
                self.put(DEVICE, datagram);
            }
            while let Some((_, datagram)) = self.node.poll_transmit() {
                self.put(CLIENT, datagram);
            }
            let Some((to, datagram)) = self.way.pop_front() else { return };
            let time = self.time();
            if to == DEVICE {
                self.node.handle_input(self.now, Via::Unicast, CLIENT, &datagram);
                while let Some(event) = self.node.poll_event() {
                    self.device.handle(time, &mut self.node, event);
                }
            } else {
                self.client.handle_input(self.now, Via::Unicast, DEVICE, &datagram);
                while let Some(event) = self.client.poll_event() {
                    self.events.push(event);
                }
            }
        }
    }

    fn put(&mut self, to: SocketAddrV4, datagram: Vec<u8>) {
        self.sent.push((to == DEVICE, datagram.clone()));
        match (self.fate)(&datagram) {
            Fate::Arrives => self.way.push_back((to, datagram)),
            Fate::IsLost => {}
            Fate::IsDoubled => self.way.extend([(to, datagram.clone()), (to, datagram)]),
            Fate::Overtakes => self.way.push_front((to, datagram)),
        }
    }

    /// Lets time go to the next moment at which somebody does something.
    pub(crate) fn wait(&mut self) -> bool {
        self.carry();
        let due = [self.client.poll_timeout(), self.node.poll_timeout(), self.device.poll_timeout()];
        let Some(due) = due.into_iter().flatten().min() else { return false };
        self.pass(due.saturating_duration_since(self.now).max(Duration::from_millis(1)));
        true
    }

    pub(crate) fn pass(&mut self, span: Duration) {
        self.now += span;
        self.client.handle_timeout(self.now);
        self.node.handle_timeout(self.now);
        while let Some(event) = self.node.poll_event() {
            let time = self.time();
            self.device.handle(time, &mut self.node, event);
        }
        while let Some(event) = self.client.poll_event() {
            self.events.push(event);
        }
        let time = self.time();
        self.device.handle_timeout(time);
        self.device.tell_changes(time, &mut self.node);
        self.carry();
    }

    pub(crate) fn request(&mut self, service: ConfirmedService, data: Vec<u8>) -> RequestId {
        self.client.request(self.now, DEVICE.into(), service, data, Terms::default()).unwrap()
    }

    /// What becomes of a request, however long it takes.
    pub(crate) fn outcome(&mut self, id: RequestId) -> Result<Vec<u8>, Failure> {
        for _ in 0..2000 {
            self.carry();
            let found = self.events.iter().find_map(|event| match event {
                NodeEvent::Answered { id: answered, outcome, .. } if *answered == id => Some(outcome.clone()),
                _ => None,
            });
            if let Some(outcome) = found {
                return outcome;
            }
            assert!(self.wait(), "nothing is waited for, and nothing came");
        }
        panic!("no end");
    }

    pub(crate) fn ask(&mut self, service: ConfirmedService, data: Vec<u8>) -> Result<Vec<u8>, Failure> {
        let id = self.request(service, data);
        self.outcome(id)
    }

    pub(crate) fn read(&mut self, object: ObjectIdentifier, property: PropertyIdentifier) -> Result<Value, Failure> {
        let mut data = Vec::new();
        ReadProperty { object, reference: property.into() }.encode(&mut data);
        let told = self.ask(ConfirmedService::READ_PROPERTY, data)?;
        Ok(ReadPropertyAck::decode(&told).unwrap().value.one().unwrap())
    }

    pub(crate) fn read_multiple(
        &mut self,
        objects: impl IntoIterator<Item = ObjectIdentifier>,
        properties: &[PropertyIdentifier],
    ) -> Result<ReadPropertyMultipleAck, Failure> {
        let properties: Vec<_> = properties.iter().copied().map(Into::into).collect();
        let access = |object| ReadAccess { object, properties: properties.clone() };
        let mut data = Vec::new();
        ReadPropertyMultiple(objects.into_iter().map(access).collect()).encode(&mut data);
        self.ask(ConfirmedService::READ_PROPERTY_MULTIPLE, data)
            .map(|told| ReadPropertyMultipleAck::decode(&told).unwrap())
    }

    /// What was told unasked, of one service.
    pub(crate) fn told(&self, wanted: UnconfirmedService) -> Vec<Vec<u8>> {
        let data = |event: &NodeEvent| match event {
            NodeEvent::Told { service, data, .. } if *service == wanted => Some(data.clone()),
            _ => None,
        };
        self.events.iter().filter_map(data).collect()
    }

    pub(crate) fn who_is(&mut self, asked: WhoIs) {
        let mut data = Vec::new();
        asked.encode(&mut data);
        self.client.tell(Audience::Peer(Peer::from(DEVICE)), UnconfirmedService::WHO_IS, &data);
        self.carry();
    }
}

/// Where a datagram of a node goes.
pub(crate) fn is_broadcast(target: Target) -> bool {
    target == Target::Broadcast
}
