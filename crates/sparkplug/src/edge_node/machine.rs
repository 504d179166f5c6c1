use super::event::{EdgeNodeEvent, NotSent, Outgoing, Will};
use crate::device::{Datum, Device, DeviceSpec, MetricSpec, Snapshots};
use crate::primary_host::PrimaryHost;
use crate::proto::{Metric, Payload, metric};
use crate::{DataType, MessageType, NAMESPACE, Topic, encode_payload};
use std::collections::VecDeque;

pub(super) const REBIRTH: &str = "Node Control/Rebirth";
const BD_SEQ: &str = "bdSeq";

/// The session of one edge node, without I/O.
///
/// ```text
///            connect()          handle_subscribed()          birth()
///  Offline ────────────▶ Connecting ─────────────▶ BirthDue ─────────▶ Born
///     ▲                       │                    ▲  ▲                 │ NCMD Rebirth
///     │          primary host └▶ AwaitingHost ─────┘  └─────────────────┤
///     │                                    STATE online                 │
///     └── handle_connection_lost(), disconnect(), STATE offline ────────┘
/// ```
///
/// Source: Sparkplug 3.0.0, sections 5.4 to 5.11 (operational behaviour of edge nodes).
#[derive(Debug)]
pub struct EdgeNode {
    pub(super) group: String,
    pub(super) node: String,
    /// By the number that the caller knows them by; `None` where there is no device, or no more.
    pub(super) devices: Vec<Option<Device>>,
    /// The node's own metrics, as if it were a device.
    pub(super) own: Device,
    pub(super) host: Option<PrimaryHost>,
    pub(super) state: State,
    /// The bdSeq of the last CONNECT; `None` before the first ever.
    pub(super) bd_seq: Option<u8>,
    pub(super) seq: u8,
    pub(super) transmits: VecDeque<Outgoing>,
    pub(super) events: VecDeque<EdgeNodeEvent>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    Offline,
    Connecting,
    /// Subscribed, and the primary host is not known to be there.
    AwaitingHost,
    BirthDue,
    Born,
}

impl EdgeNode {
    /// A node that is offline. `last_bd_seq` is that of the last CONNECT ever made, kept over a restart.
    #[must_use]
    pub fn new(group: &str, node: &str, devices: Vec<DeviceSpec>, last_bd_seq: Option<u8>) -> Self {
        Self {
            group: group.to_owned(),
            node: node.to_owned(),
            devices: devices.into_iter().map(|spec| Some(Device::new(spec))).collect(),
            own: Device::new(DeviceSpec { id: node.to_owned(), metrics: Vec::new() }),
            host: None,
            state: State::Offline,
            bd_seq: last_bd_seq,
            seq: 0,
            transmits: VecDeque::new(),
            events: VecDeque::new(),
        }
    }

    /// Makes the node wait for a primary host. `known` is the time of its last STATE that an earlier run knew of, where
    /// that run ended without a word.
    #[must_use]
    pub fn with_primary_host(mut self, host: &str, known: Option<u64>) -> Self {
        self.host = Some(PrimaryHost::new(host, known));
        self
    }

    /// Says what metrics the node itself has. When they differ from those of its birth, births are due again.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-topics-nbirth-metrics.
    pub fn set_metrics(&mut self, metrics: Vec<MetricSpec>, snapshots: &dyn Snapshots) {
        let spec = DeviceSpec { id: self.node.clone(), metrics };
        if self.own.is_announced_as(&spec, snapshots) {
            return;
        }
        self.own = Device::new(spec);
        if self.state == State::Born {
            self.birth_due();
        }
    }

    /// Adds a device, replaces its metrics, or takes it away.
    ///
    /// A born device whose metrics differ is born again at once, which is told by `true`; one that is taken away dies. Nothing goes
    /// out when nothing differs.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-operational-behavior-device-ddeath; section 6.4.19 (DBIRTH): the birth holds
    /// every metric that the device will ever send in this session.
    pub fn set_device(&mut self, now: u64, device: usize, spec: Option<DeviceSpec>, snapshots: &dyn Snapshots) -> bool {
        if self.devices.len() <= device {
            self.devices.resize_with(device + 1, || None);
        }
        let known = self.device(device);
        let is_same = match (known, &spec) {
            (Some(known), Some(spec)) => known.is_announced_as(spec, snapshots),
            (known, spec) => known.is_none() && spec.is_none(),
        };
        if is_same {
            return false;
        }
        let was_born = known.is_some_and(|known| known.is_born);
        let Some(spec) = spec else {
            self.device_down(now, device);
            if let Some(slot) = self.devices.get_mut(device) {
                *slot = None;
            }
            return false;
        };
        let next = match known {
            Some(known) => known.with_spec(spec),
            None => Device::new(spec),
        };
        if let Some(slot) = self.devices.get_mut(device) {
            *slot = Some(next);
        }
        if was_born {
            self.device_birth(now, device, snapshots);
        }
        was_born
    }

    pub(super) fn device(&self, device: usize) -> Option<&Device> {
        self.devices.get(device)?.as_ref()
    }

    pub(super) fn device_mut(&mut self, device: usize) -> Option<&mut Device> {
        self.devices.get_mut(device)?.as_mut()
    }

    /// Starts a new session and gives the will for its CONNECT packet. Call it before every attempt: a failed one
    /// counts too.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-topics-nbirth-bdseq-increment, tck-id-payloads-ndeath-will-message.
    pub fn connect(&mut self, now: u64) -> Will {
        self.connect_to(now, 0)
    }

    /// The same, to one of several brokers, by its place among them.
    pub fn connect_to(&mut self, now: u64, broker: usize) -> Will {
        self.forget_session();
        if let Some(host) = &mut self.host {
            host.connect(broker);
        }
        self.state = State::Connecting;
        let bd_seq = self.bd_seq.map_or(0, |last| last.wrapping_add(1));
        self.bd_seq = Some(bd_seq);
        let death = self.death(now);
        Will { topic: death.topic, payload: death.payload, bd_seq }
    }

    /// What to subscribe to at QoS 1 after CONNACK, before anything is published: commands to the node and to all its
    /// devices, also those that come later.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-message-flow-edge-node-ncmd-subscribe, tck-id-message-flow-device-dcmd-subscribe.
    #[must_use]
    pub fn subscriptions(&self) -> Vec<String> {
        let topic =
            |message, device| Topic { group: self.group.clone(), message, node: self.node.clone(), device }.to_string();
        let commands = [topic(MessageType::NCmd, None), topic(MessageType::DCmd, Some("+".to_owned()))];
        commands.into_iter().chain(self.state_topic()).collect()
    }

    /// Where the primary host tells its STATE; `None` without one.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-message-flow-edge-node-birth-publish-phid-wait.
    #[must_use]
    pub fn state_topic(&self) -> Option<String> {
        self.host.as_ref().map(|host| format!("{NAMESPACE}/STATE/{}", host.id))
    }

    /// The broker confirmed the subscriptions: births are due, once the primary host is there.
    pub fn handle_subscribed(&mut self) {
        if self.state != State::Connecting {
            return;
        }
        if self.host.as_ref().is_none_or(|host| host.is_online) {
            self.birth_due();
        } else {
            self.state = State::AwaitingHost;
        }
    }

    /// The connection is gone. Nothing that was queued goes out.
    pub fn handle_connection_lost(&mut self) {
        if let Some(host) = &mut self.host {
            host.ended(true);
        }
        self.forget_session();
    }

    /// Publishes changed metrics of the node itself.
    ///
    /// # Errors
    /// [`NotSent`] when the birth that must come first is not out.
    pub fn node_data<'a>(&mut self, now: u64, data: impl IntoIterator<Item = Datum<'a>>) -> Result<(), NotSent> {
        if self.state != State::Born {
            return Err(NotSent::NodeNotBorn);
        }
        let metrics = self.own.data_metrics(data);
        if !metrics.is_empty() {
            self.transmit(now, MessageType::NData, None, metrics);
        }
        Ok(())
    }

    /// Publishes changed metrics of one device.
    ///
    /// # Errors
    /// [`NotSent`] when the births that must come first are not out; nothing was queued then.
    pub fn data<'a>(
        &mut self,
        now: u64,
        device: usize,
        data: impl IntoIterator<Item = Datum<'a>>,
    ) -> Result<(), NotSent> {
        if self.state != State::Born {
            return Err(NotSent::NodeNotBorn);
        }
        let Some(state) = self.device_mut(device).filter(|device| device.is_born) else {
            return Err(NotSent::DeviceNotBorn);
        };
        let metrics = state.data_metrics(data);
        self.transmit(now, MessageType::DData, Some(device), metrics);
        Ok(())
    }

    /// Ends the session on purpose: publishes NDEATH. Send a DISCONNECT after it.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-operational-behavior-edge-node-intentional-disconnect-ndeath.
    pub fn disconnect(&mut self, now: u64) {
        if self.state == State::Born || self.state == State::BirthDue {
            let death = self.death(now);
            self.transmits.push_back(death);
        }
        self.state = State::Offline;
        if let Some(host) = &mut self.host {
            host.ended(false);
        }
        self.devices.iter_mut().flatten().for_each(|device| device.is_born = false);
    }

    /// The next message to publish. Poll it after every other call, until `None`.
    #[must_use]
    pub fn poll_transmit(&mut self) -> Option<Outgoing> {
        self.transmits.pop_front()
    }

    /// What the node asks for. Poll it after every other call, until `None`.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<EdgeNodeEvent> {
        self.events.pop_front()
    }

    /// Whether births are out and data may go.
    #[must_use]
    pub fn is_born(&self) -> bool {
        self.state == State::Born
    }

    /// Whether a device's birth is out in this session.
    #[must_use]
    pub fn is_device_born(&self, device: usize) -> bool {
        self.device(device).is_some_and(|device| device.is_born)
    }

    pub(super) fn forget_session(&mut self) {
        self.state = State::Offline;
        self.transmits.clear();
        self.events.clear();
        self.devices.iter_mut().flatten().for_each(|device| device.is_born = false);
    }

    pub(super) fn birth_due(&mut self) {
        self.state = State::BirthDue;
        self.devices.iter_mut().flatten().for_each(|device| device.is_born = false);
        self.events.push_back(EdgeNodeEvent::BirthDue);
    }

    pub(super) fn device_birth(&mut self, now: u64, device: usize, snapshots: &dyn Snapshots) {
        let Some(state) = self.device_mut(device) else { return };
        state.is_born = true;
        let metrics = state.birth_metrics(snapshots);
        self.transmit(now, MessageType::DBirth, Some(device), metrics);
    }

    /// Source: Sparkplug 3.0.0, tck-id-topics-nbirth-bdseq-included.
    pub(super) fn bd_seq_metric(&self, now: u64) -> Metric {
        Metric {
            name: Some(BD_SEQ.to_owned()),
            timestamp: Some(now),
            datatype: Some(DataType::Int64.code()),
            value: Some(metric::Value::LongValue(self.bd_seq.unwrap_or(0).into())),
            ..Metric::default()
        }
    }

    /// NDEATH has bdSeq and nothing else, and no seq (tck-id-topics-ndeath-payload, tck-id-payloads-ndeath-seq).
    pub(super) fn death(&self, now: u64) -> Outgoing {
        let payload = Payload { timestamp: Some(now), metrics: vec![self.bd_seq_metric(now)], ..Payload::default() };
        let topic = self.topic(MessageType::NDeath, None);
        Outgoing { message: MessageType::NDeath, topic, payload: encode_payload(&payload) }
    }

    /// Queues a message with the next seq: one counter for the node and all its devices, 255 is followed by 0.
    pub(super) fn transmit(&mut self, now: u64, message: MessageType, device: Option<usize>, metrics: Vec<Metric>) {
        let payload = Payload { timestamp: Some(now), metrics, seq: Some(self.seq.into()), ..Payload::default() };
        self.seq = self.seq.wrapping_add(1);
        let topic = self.topic(message, device);
        self.transmits.push_back(Outgoing { message, topic, payload: encode_payload(&payload) });
    }

    pub(super) fn topic(&self, message: MessageType, device: Option<usize>) -> String {
        let device = device.and_then(|device| self.device(device)).map(|device| device.id.clone());
        Topic { group: self.group.clone(), message, node: self.node.clone(), device }.to_string()
    }
}
