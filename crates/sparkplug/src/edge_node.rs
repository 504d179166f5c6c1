use crate::device::{Datum, Device, DeviceSpec, MetricSpec, Snapshots};
use crate::primary_host::{HostNews, HostState, PrimaryHost};
use crate::proto::{Metric, Payload, metric};
use crate::{
    DataType, MessageType, MetricValue, NAMESPACE, Topic, check_payload, decode_command, decode_within, encode_payload,
};
use std::collections::VecDeque;

const REBIRTH: &str = "Node Control/Rebirth";
const BD_SEQ: &str = "bdSeq";

/// A message for the MQTT client: QoS 0, not retained.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outgoing {
    /// What it is.
    pub message: MessageType,
    /// Where to.
    pub topic: String,
    /// The encoded payload.
    pub payload: Vec<u8>,
}

/// The last will of one connection: QoS 1, not retained.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Will {
    /// Where to.
    pub topic: String,
    /// The encoded payload.
    pub payload: Vec<u8>,
    /// The bdSeq in it; keep it over a restart.
    pub bd_seq: u8,
}

/// What the node asks its caller to do or to know.
#[derive(Debug, Clone, PartialEq)]
pub enum EdgeNodeEvent {
    /// Births are due: call [`EdgeNode::birth`]. Until then no data goes out.
    BirthDue,
    /// The primary host was in doubt and is there: what was published meanwhile may have reached nobody. Births follow.
    HostConfirmed,
    /// The primary host said anew that it is there, and no word of its end came between: what the broker had read before
    /// has reached it.
    HostAlive,
    /// The primary host came anew: what the broker had read before may have reached nobody.
    HostRenewed,
    /// The primary host is gone. Where births were out, the death is queued: disconnect after it, and connect again.
    HostOffline,
    /// A host wants a metric of a device to have a value. It is read by the datatype that the command names; whether it
    /// fits the metric is for the caller to say.
    Command {
        /// The device, by the number that the caller knows it by.
        device: usize,
        /// The metric, by its position in the [`DeviceSpec`].
        metric: usize,
        /// What it is to be.
        value: MetricValue<'static>,
    },
    /// A command was not carried out.
    CommandRefused {
        /// The device that it was for, where there is such a device.
        device: Option<usize>,
        /// Why.
        why: String,
    },
}

/// What a command may take in memory.
const HEAVIEST_COMMAND: usize = 1 << 20;
/// More metrics in one command are taken for a mistake: each is answered by a message of its own.
const MOST_COMMANDS: usize = 500;

/// Why data did not go out. The caller keeps it or drops it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NotSent {
    /// The node's births are not out.
    #[error("the node is not born")]
    NodeNotBorn,
    /// The device's birth is not out.
    #[error("the device is not born")]
    DeviceNotBorn,
}

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
    group: String,
    node: String,
    /// By the number that the caller knows them by; `None` where there is no device, or no more.
    devices: Vec<Option<Device>>,
    /// The node's own metrics, as if it were a device.
    own: Device,
    host: Option<PrimaryHost>,
    state: State,
    /// The bdSeq of the last CONNECT; `None` before the first ever.
    bd_seq: Option<u8>,
    seq: u8,
    transmits: VecDeque<Outgoing>,
    events: VecDeque<EdgeNodeEvent>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
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
    pub fn set_metrics(&mut self, metrics: Vec<MetricSpec>) {
        if self.own.spec.metrics == metrics {
            return;
        }
        self.own = Device::new(DeviceSpec { id: self.node.clone(), metrics });
        if self.state == State::Born {
            self.birth_due();
        }
    }

    /// Adds a device, replaces its metrics, or takes it away.
    ///
    /// A born device whose metrics differ is born again at once; one that is taken away dies. Nothing goes out when
    /// nothing differs.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-operational-behavior-device-ddeath; section 6.4.19 (DBIRTH): the birth holds
    /// every metric that the device will ever send in this session.
    pub fn set_device(&mut self, now: u64, device: usize, spec: Option<DeviceSpec>, snapshots: &dyn Snapshots) {
        if self.devices.len() <= device {
            self.devices.resize_with(device + 1, || None);
        }
        let known = self.device(device);
        if known.map(|known| &known.spec) == spec.as_ref() {
            return;
        }
        let was_born = known.is_some_and(|known| known.is_born);
        let Some(spec) = spec else {
            self.device_down(now, device);
            if let Some(slot) = self.devices.get_mut(device) {
                *slot = None;
            }
            return;
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
    }

    fn device(&self, device: usize) -> Option<&Device> {
        self.devices.get(device)?.as_ref()
    }

    fn device_mut(&mut self, device: usize) -> Option<&mut Device> {
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

    /// Takes in what arrived on [`state_topic`](Self::state_topic).
    ///
    /// Source: Sparkplug 3.0.0, tck-id-message-flow-edge-node-birth-publish-phid-wait-online, -phid-offline.
    pub fn handle_state(&mut self, now: u64, payload: &[u8], is_retained: bool) {
        let Some(host) = &mut self.host else { return };
        let state = match serde_json::from_slice::<HostState>(payload) {
            Ok(state) => state,
            Err(error) => {
                let why = format!("STATE of host {}: {error}", host.id);
                self.events.push_back(EdgeNodeEvent::CommandRefused { device: None, why });
                return;
            }
        };
        match host.hear(state, is_retained) {
            HostNews::Nothing => {}
            HostNews::Alive => self.events.push_back(EdgeNodeEvent::HostAlive),
            news @ (HostNews::Online | HostNews::Renewed) => {
                if news == HostNews::Renewed {
                    self.events.push_back(EdgeNodeEvent::HostRenewed);
                }
                if self.state == State::AwaitingHost {
                    self.birth_due();
                }
            }
            HostNews::Confirmed => {
                self.events.push_back(EdgeNodeEvent::HostConfirmed);
                if self.state == State::Born {
                    self.birth_due();
                }
            }
            HostNews::Offline => {
                self.events.clear();
                self.events.push_back(EdgeNodeEvent::HostOffline);
                if matches!(self.state, State::Born | State::BirthDue) {
                    self.disconnect(now);
                }
            }
        }
    }

    /// Whether what is published may reach nobody: see [`with_primary_host`](Self::with_primary_host). History is to wait
    /// then, and nothing counts as delivered.
    #[must_use]
    pub fn is_host_doubtful(&self) -> bool {
        self.state == State::Born && self.host.as_ref().is_some_and(|host| host.is_doubtful)
    }

    /// Whether the session waits for nothing but its primary host.
    #[must_use]
    pub fn is_awaiting_host(&self) -> bool {
        self.state == State::AwaitingHost
    }

    /// The host was waited for long enough: its old word has to do.
    pub fn trust_host(&mut self) {
        self.host.iter_mut().for_each(PrimaryHost::trust);
    }

    /// The time of the primary host's last STATE at the first broker; keep it over a sudden end.
    #[must_use]
    pub fn host_known(&self) -> Option<u64> {
        self.host.as_ref().and_then(PrimaryHost::known)
    }

    /// Takes in a message of a subscribed topic.
    pub fn handle_message(&mut self, topic: &str, payload: &[u8]) {
        let refused = |why: String| EdgeNodeEvent::CommandRefused { device: None, why: format!("{topic}: {why}") };
        let to = topic.parse::<Topic>().ok().filter(|to| to.group == self.group && to.node == self.node);
        let addressed = to.filter(|to| matches!(to.message, MessageType::NCmd | MessageType::DCmd));
        let Some(to) = addressed else {
            self.events.push_back(refused("not a command to this node".to_owned()));
            return;
        };
        let payload = match decode_within(payload, HEAVIEST_COMMAND) {
            Ok(payload) => payload,
            Err(error) => {
                self.events.push_back(refused(error.to_string()));
                return;
            }
        };
        if let Err(error) = check_payload(&payload) {
            self.events.push_back(refused(error.to_string()));
            return;
        }
        if payload.metrics.len() > MOST_COMMANDS {
            let why = format!("{} metrics in one command; {MOST_COMMANDS} are taken", payload.metrics.len());
            self.events.push_back(refused(why));
            return;
        }
        if let Some(id) = to.device {
            let events: Vec<_> = payload.metrics.iter().map(|metric| self.device_command(&id, metric)).collect();
            let known = |device: &Option<Device>| device.as_ref().is_some_and(|device| device.spec.id == id);
            let device = self.devices.iter().position(known);
            let refused = |why: String| EdgeNodeEvent::CommandRefused { device, why: format!("{topic}: {why}") };
            let event = |outcome: Result<EdgeNodeEvent, String>| outcome.unwrap_or_else(refused);
            self.events.extend(events.into_iter().map(event));
            return;
        }
        for command in &payload.metrics {
            match (command.name.as_deref(), &command.value) {
                (Some(REBIRTH), Some(metric::Value::BooleanValue(true))) => {
                    // tck-id-operational-behavior-data-commands-rebirth-action-1: no data until the births are out.
                    if self.state == State::Born {
                        if self.is_host_doubtful() {
                            self.trust_host();
                            self.events.push_back(EdgeNodeEvent::HostConfirmed);
                        }
                        self.birth_due();
                    }
                }
                (Some(REBIRTH), _) => self.events.push_back(refused("Rebirth takes the Boolean true".to_owned())),
                (name, _) => {
                    let alias = || {
                        command
                            .alias
                            .map_or_else(|| "a metric without a name".to_owned(), |alias| format!("alias {alias}"))
                    };
                    let name = name.map_or_else(alias, |name| format!("{name:?}"));
                    self.events.push_back(refused(format!("{name} is no command of this node")));
                }
            }
        }
    }

    /// What one metric of a DCMD asks for, by name or by alias.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-payloads-alias-data-cmd-requirement.
    fn device_command(&self, id: &str, command: &Metric) -> Result<EdgeNodeEvent, String> {
        let known = |device: &Option<Device>| device.as_ref().is_some_and(|device| device.spec.id == id);
        let device = self.devices.iter().position(known).ok_or_else(|| format!("there is no device {id:?}"))?;
        let metrics = self.device(device).map(|device| device.spec.metrics.as_slice()).unwrap_or_default();
        let (at, name) = match (command.alias, command.name.as_deref()) {
            (Some(alias), _) => (metrics.iter().position(|metric| metric.alias == alias), format!("alias {alias}")),
            (None, name) => {
                let name = name.unwrap_or_default();
                (metrics.iter().position(|metric| metric.name == name), format!("{name:?}"))
            }
        };
        let (metric, spec) = at
            .and_then(|at| Some((at, metrics.get(at)?)))
            .ok_or_else(|| format!("device {id:?} has no metric {name}"))?;
        if !spec.is_writable {
            return Err(format!("metric {:?} takes no commands", spec.name));
        }
        let value = command.value.as_ref().ok_or_else(|| format!("metric {:?} is told no value", spec.name))?;
        let named = command.datatype.and_then(DataType::from_code);
        let value =
            decode_command(spec.data_type, named, value).map_err(|error| format!("metric {:?}: {error}", spec.name))?;
        Ok(EdgeNodeEvent::Command { device, metric, value: value.into_owned() })
    }

    /// Somebody on this side wants everything to be told anew: the births are due, as after a command of a host.
    pub fn ask_births(&mut self) {
        if self.state == State::Born {
            self.birth_due();
        }
    }

    /// Publishes NBIRTH and the DBIRTH of every device that is up. Does nothing unless births are due.
    pub fn birth(&mut self, now: u64, snapshots: &dyn Snapshots) {
        if self.state != State::BirthDue {
            return;
        }
        self.state = State::Born;
        // tck-id-topics-nbirth-seq-num: NBIRTH has seq 0, a rebirth too.
        self.seq = 0;
        // tck-id-operational-behavior-data-commands-rebirth-name-aliases: it has no alias.
        let rebirth = Metric {
            name: Some(REBIRTH.to_owned()),
            timestamp: Some(now),
            datatype: Some(DataType::Boolean.code()),
            value: Some(metric::Value::BooleanValue(false)),
            ..Metric::default()
        };
        let mut metrics = vec![self.bd_seq_metric(now), rebirth];
        metrics.extend(self.own.birth_metrics(snapshots));
        self.transmit(now, MessageType::NBirth, None, metrics);
        for device in 0..self.devices.len() {
            if self.device(device).is_some_and(|device| device.is_up) {
                self.device_birth(now, device, snapshots);
            }
        }
    }

    /// A device answers: its birth goes out at once, or with the node's.
    pub fn device_up(&mut self, now: u64, device: usize, snapshots: &dyn Snapshots) {
        let Some(state) = self.device_mut(device) else { return };
        state.is_up = true;
        let is_due = !state.is_born;
        if self.state == State::Born && is_due {
            self.device_birth(now, device, snapshots);
        }
    }

    /// A device is lost: its death goes out if it was born in this session.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-operational-behavior-device-ddeath.
    pub fn device_down(&mut self, now: u64, device: usize) {
        let Some(state) = self.device_mut(device) else { return };
        state.is_up = false;
        if std::mem::take(&mut state.is_born) && self.state == State::Born {
            self.transmit(now, MessageType::DDeath, Some(device), Vec::new());
        }
    }

    /// Publishes changed metrics of the node itself.
    ///
    /// # Errors
    /// [`NotSent`] when the birth that must come first is not out.
    pub fn node_data<'a>(&mut self, now: u64, data: impl IntoIterator<Item = Datum<'a>>) -> Result<(), NotSent> {
        if self.state != State::Born {
            return Err(NotSent::NodeNotBorn);
        }
        let metrics: Vec<_> = data.into_iter().filter_map(|datum| self.own.data_metric(datum)).collect();
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
        let metrics = data.into_iter().filter_map(|datum| state.data_metric(datum)).collect();
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

    fn forget_session(&mut self) {
        self.state = State::Offline;
        self.transmits.clear();
        self.events.clear();
        self.devices.iter_mut().flatten().for_each(|device| device.is_born = false);
    }

    fn birth_due(&mut self) {
        self.state = State::BirthDue;
        self.devices.iter_mut().flatten().for_each(|device| device.is_born = false);
        self.events.push_back(EdgeNodeEvent::BirthDue);
    }

    fn device_birth(&mut self, now: u64, device: usize, snapshots: &dyn Snapshots) {
        let Some(state) = self.device_mut(device) else { return };
        state.is_born = true;
        let metrics = state.birth_metrics(snapshots);
        self.transmit(now, MessageType::DBirth, Some(device), metrics);
    }

    /// Source: Sparkplug 3.0.0, tck-id-topics-nbirth-bdseq-included.
    fn bd_seq_metric(&self, now: u64) -> Metric {
        Metric {
            name: Some(BD_SEQ.to_owned()),
            timestamp: Some(now),
            datatype: Some(DataType::Int64.code()),
            value: Some(metric::Value::LongValue(self.bd_seq.unwrap_or(0).into())),
            ..Metric::default()
        }
    }

    /// NDEATH has bdSeq and nothing else, and no seq (tck-id-topics-ndeath-payload, tck-id-payloads-ndeath-seq).
    fn death(&self, now: u64) -> Outgoing {
        let payload = Payload { timestamp: Some(now), metrics: vec![self.bd_seq_metric(now)], ..Payload::default() };
        let topic = self.topic(MessageType::NDeath, None);
        Outgoing { message: MessageType::NDeath, topic, payload: encode_payload(&payload) }
    }

    /// Queues a message with the next seq: one counter for the node and all its devices, 255 is followed by 0.
    fn transmit(&mut self, now: u64, message: MessageType, device: Option<usize>, metrics: Vec<Metric>) {
        let payload = Payload { timestamp: Some(now), metrics, seq: Some(self.seq.into()), ..Payload::default() };
        self.seq = self.seq.wrapping_add(1);
        let topic = self.topic(message, device);
        self.transmits.push_back(Outgoing { message, topic, payload: encode_payload(&payload) });
    }

    fn topic(&self, message: MessageType, device: Option<usize>) -> String {
        let device = device.and_then(|device| self.device(device)).map(|device| device.spec.id.clone());
        Topic { group: self.group.clone(), message, node: self.node.clone(), device }.to_string()
    }
}
