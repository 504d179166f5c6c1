//! The sockets at one address and port, with the node that speaks there: shared by all links of this program that speak from there.

use interlex_bacnet::{
    Answer, AskedId, Audience, BindError, ConfirmedService, CovNotification, Device, DeviceConfig, Error,
    ForeignDevice, IAm, MaxApdu, Node, NodeConfig, NodeEvent, NotSent, Now, Peer, RejectReason, RequestId,
    Segmentation, Sockets, Target, Terms, UnconfirmedService, WhoIs,
};
use parking_lot::Mutex;
use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::net::{Ipv4Addr, SocketAddrV4};
use std::sync::{Arc, LazyLock, Weak};
use std::time::{Duration, Instant};
use tokio::sync::Notify;

/// Where links of this program speak. A second socket at one of these would get some of the answers to the first one.
static ENDPOINTS: LazyLock<Mutex<HashMap<SocketAddrV4, Weak<Endpoint>>>> = LazyLock::new(Mutex::default);

/// How links speak from one address and port.
#[derive(Debug)]
struct Endpoint {
    sockets: Sockets,
    state: Mutex<State>,
    /// Something came for another member than the one that took it off the socket.
    changed: Notify,
}

#[derive(Debug)]
struct State {
    node: Node,
    terms: (Ipv4Addr, Option<ForeignDevice>),
    own: Option<OwnDevice>,
    owners: HashMap<RequestId, u64>,
    members: BTreeMap<u64, Member>,
    last_member: u64,
}

/// A link that speaks here.
#[derive(Debug, Default)]
struct Member {
    /// By which devices know its subscriptions; 0 where it has none.
    process: u32,
    /// Whose I-Am it wants to hear: these, and all while it looks who is there.
    wanted: BTreeSet<u32>,
    wants_all: bool,
    inbox: VecDeque<Inbound>,
}

/// Our own device object, by which others know us.
#[derive(Debug)]
struct OwnDevice {
    device: Device,
    /// Until then others may say that they have its instance.
    asks_until: Instant,
    taken_by: Option<Peer>,
    /// All were told that it is there.
    is_told: bool,
    password: Option<String>,
}

/// What comes for a link.
#[derive(Debug)]
pub(super) enum Inbound {
    /// A request is done with.
    Answered { id: RequestId, took: Duration, outcome: Result<Vec<u8>, interlex_bacnet::Failure> },
    /// A device says who it is.
    IAm { from: Peer, told: IAm },
    /// A change, where one was subscribed to; it has to be acknowledged where it has an id.
    Changed { from: Peer, told: Box<CovNotification>, id: Option<AskedId> },
    /// Something happened at an object, which somebody has the device tell us.
    Event { from: Peer, told: Box<interlex_bacnet::EventNotification> },
    /// A router did not pass something on.
    NotRouted { address: SocketAddrV4, network: u16, reason: u8 },
    /// A router says to which networks it leads.
    Router { address: SocketAddrV4, networks: Vec<u16> },
    /// The broadcast management device took us on, or does so no more.
    Registered(bool),
    /// Somebody else has our own instance.
    InstanceTaken { instance: u32, by: Peer },
    /// What went over the network.
    Frame { is_sent: bool, peer: SocketAddrV4, octets: Vec<u8> },
    /// Something came that cannot be read.
    Garbled,
}

/// So much may wait for a link that does not take it; what is told unasked is lost then.
const MOST_WAITING: usize = 16_384;
/// So long others may say that they have our instance.
const ASKED: Duration = Duration::from_secs(3);
/// Our program has no number of a maker; 999 is nobody's.
const VENDOR: u32 = 999;
/// So many datagrams are taken at a time before anything else is done.
const AT_ONCE: usize = 256;

/// How a link speaks.
#[derive(Debug, Clone)]
pub(super) struct Membership {
    pub(super) local: SocketAddrV4,
    pub(super) broadcast: Ipv4Addr,
    pub(super) foreign: Option<ForeignDevice>,
    pub(super) process: u32,
    pub(super) own: Option<(u32, String, Option<String>)>,
}

/// A link's place at an endpoint; it is left when this is dropped.
#[derive(Debug)]
pub(super) struct Seat {
    endpoint: Arc<Endpoint>,
    id: u64,
}

impl Seat {
    /// Takes a place at the endpoint of an address and port, which is opened where nobody speaks from there yet.
    pub(super) fn take(wanted: Membership, now: Now) -> Result<Self, String> {
        let mut all = ENDPOINTS.lock();
        let known = all.get(&wanted.local).and_then(Weak::upgrade);
        let terms = (wanted.broadcast, wanted.foreign);
        let endpoint = match known {
            Some(endpoint) if endpoint.state.lock().terms != terms => {
                let local = wanted.local;
                return Err(format!("another link speaks from {local} with another broadcast or bbmd"));
            }
            Some(endpoint) => endpoint,
            None => {
                let hears = wanted.foreign.is_none();
                let sockets = Sockets::bind(wanted.local, wanted.broadcast, hears).map_err(|error| words(&error))?;
                let config = NodeConfig { foreign: wanted.foreign, ..NodeConfig::default() };
                let state = State {
                    node: Node::new(config, fastrand::Rng::new(), now.instant),
                    terms,
                    own: None,
                    owners: HashMap::new(),
                    members: BTreeMap::new(),
                    last_member: 0,
                };
                let endpoint = Endpoint { sockets, state: Mutex::new(state), changed: Notify::new() };
                let endpoint = Arc::new(endpoint);
                all.insert(wanted.local, Arc::downgrade(&endpoint));
                endpoint
            }
        };
        all.retain(|_, endpoint| endpoint.strong_count() > 0);
        drop(all);
        let mut state = endpoint.state.lock();
        let is_taken = |member: &Member| member.process == wanted.process && member.process != 0;
        if state.members.values().any(is_taken) {
            return Err("another link speaks from there under the same name".to_owned());
        }
        state.last_member += 1;
        let id = state.last_member;
        state.members.insert(id, Member { process: wanted.process, ..Member::default() });
        if let Some((instance, name, password)) = wanted.own {
            state.introduce(instance, name, password, now);
        }
        drop(state);
        Ok(Self { endpoint, id })
    }

    /// Whose I-Am is to be heard.
    pub(super) fn want(&self, instances: impl IntoIterator<Item = u32>, wants_all: bool) {
        if let Some(member) = self.endpoint.state.lock().members.get_mut(&self.id) {
            (member.wanted, member.wants_all) = (instances.into_iter().collect(), wants_all);
        }
    }

    /// Sends a request; what becomes of it comes as [`Inbound::Answered`].
    pub(super) fn request(
        &self,
        now: Instant,
        to: Peer,
        service: ConfirmedService,
        data: Vec<u8>,
        terms: Terms,
    ) -> Result<RequestId, NotSent> {
        let mut state = self.endpoint.state.lock();
        let id = state.node.request(now, to, service, data, terms)?;
        state.owners.insert(id, self.id);
        Ok(id)
    }

    /// Tells something that nobody answers.
    pub(super) fn tell(&self, to: Audience, service: UnconfirmedService, data: &[u8]) {
        self.endpoint.state.lock().node.tell(to, service, data);
    }

    /// Asks which routers lead to a network, or to any.
    pub(super) fn who_is_router(&self, network: Option<u16>) {
        self.endpoint.state.lock().node.who_is_router(network);
    }

    /// Answers what somebody asked.
    pub(super) fn answer(&self, now: Instant, id: &AskedId, answer: &Answer) {
        self.endpoint.state.lock().node.answer(now, id, answer);
    }

    /// Takes what came, does what is due, and sends what is to be sent.
    pub(super) fn pump(&self, now: Now) -> std::io::Result<()> {
        let Endpoint { sockets, state, changed } = &*self.endpoint;
        let mut buffer = Sockets::buffer();
        let mut state = state.lock();
        for _ in 0..AT_ONCE {
            let Some((via, from, length)) = sockets.try_receive(&mut buffer) else { break };
            let datagram = buffer.get(..length).unwrap_or_default();
            state.record(false, from, datagram);
            state.node.handle_input(now.instant, via, from, datagram);
        }
        state.node.handle_timeout(now.instant);
        state.say_who(now.instant);
        while let Some(event) = state.node.poll_event() {
            state.distribute(now, event);
        }
        let mut failed = Ok(());
        while let Some((to, datagram)) = state.node.poll_transmit() {
            let peer = match to {
                Target::Address(address) => address,
                Target::Broadcast => SocketAddrV4::new(state.terms.0, sockets.local().port()),
            };
            match sockets.send(to, &datagram) {
                Ok(()) => state.record(true, peer, &datagram),
                // The network may be gone: whoever waits for an answer gets none.
                Err(error) => failed = Err(error),
            }
        }
        if state.members.iter().any(|(id, member)| *id != self.id && !member.inbox.is_empty()) {
            changed.notify_waiters();
        }
        failed
    }

    /// The next thing that came for this link.
    pub(super) fn next(&self) -> Option<Inbound> {
        self.endpoint.state.lock().members.get_mut(&self.id)?.inbox.pop_front()
    }

    /// When [`Seat::pump`] has something to do.
    pub(super) fn deadline(&self) -> Option<Instant> {
        let state = self.endpoint.state.lock();
        let said = state.own.as_ref().filter(|own| !own.is_told && own.taken_by.is_none()).map(|own| own.asks_until);
        state.node.poll_timeout().into_iter().chain(said).min()
    }

    /// Waits until something may have come.
    pub(super) async fn readable(&self) -> std::io::Result<()> {
        let changed = self.endpoint.changed.notified();
        if self.endpoint.state.lock().members.get(&self.id).is_some_and(|member| !member.inbox.is_empty()) {
            return Ok(());
        }
        tokio::select! {
            ready = self.endpoint.sockets.readable() => ready,
            () = changed => Ok(()),
        }
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        let mut state = self.endpoint.state.lock();
        state.members.remove(&self.id);
        state.owners.retain(|_, owner| *owner != self.id);
        if state.members.is_empty() {
            state.own = None;
        }
    }
}

fn words(error: &BindError) -> String {
    match error {
        BindError::Own { at, source } if source.kind() == std::io::ErrorKind::AddrInUse => {
            format!("{at} is taken by another program")
        }
        other => other.to_string(),
    }
}

impl State {
    /// Says who we are, unless somebody else says that first.
    fn introduce(&mut self, instance: u32, name: String, password: Option<String>, now: Now) {
        let config = DeviceConfig {
            instance,
            name,
            vendor: VENDOR,
            vendor_name: "Interlex".to_owned(),
            model: "gateway".to_owned(),
            max_apdu: MaxApdu::BACNET_IP,
            segmentation: Segmentation::Both,
            utc_offset: 0,
            password: None,
            broadcasts_i_am: false,
        };
        let asks_until = now.instant + ASKED;
        self.own =
            Some(OwnDevice { device: Device::new(config), asks_until, taken_by: None, is_told: false, password });
        let mut data = Vec::new();
        WhoIs::one(instance).encode(&mut data);
        self.node.tell(Audience::Global, UnconfirmedService::WHO_IS, &data);
    }

    /// Tells all that we are there, once it is clear that nobody else has our instance.
    fn say_who(&mut self, now: Instant) {
        let Some(own) = self.own.as_mut().filter(|own| !own.is_told && own.is_there(now)) else { return };
        own.is_told = true;
        own.device.say_who(&mut self.node, Audience::Global);
    }

    fn record(&mut self, is_sent: bool, peer: SocketAddrV4, datagram: &[u8]) {
        for member in self.members.values_mut() {
            member.put(Inbound::Frame { is_sent, peer, octets: datagram.to_vec() });
        }
    }

    fn distribute(&mut self, now: Now, event: NodeEvent) {
        match event {
            NodeEvent::Answered { id, took, outcome } => {
                let owner = self.owners.remove(&id).and_then(|owner| self.members.get_mut(&owner));
                if let Some(member) = owner {
                    member.inbox.push_back(Inbound::Answered { id, took, outcome });
                }
            }
            NodeEvent::Told { from, service, data } => self.told(now, from, service, data),
            NodeEvent::Asked { id, from, service, data, room } => self.asked(now, id, from, service, data, room),
            NodeEvent::Router { address, networks } => {
                self.tell_members(|| Inbound::Router { address, networks: networks.clone() });
            }
            NodeEvent::NotRouted { address, network, reason } => {
                self.tell_members(|| Inbound::NotRouted { address, network, reason });
            }
            NodeEvent::Registered(is_registered) => self.tell_members(|| Inbound::Registered(is_registered)),
            NodeEvent::Garbled { .. } => self.tell_members(|| Inbound::Garbled),
        }
    }

    fn tell_members(&mut self, inbound: impl Fn() -> Inbound) {
        for member in self.members.values_mut() {
            member.put(inbound());
        }
    }

    fn told(&mut self, now: Now, from: Peer, service: UnconfirmedService, data: Vec<u8>) {
        match service {
            UnconfirmedService::I_AM => {
                let Ok(told) = IAm::decode(&data) else { return };
                let instance = told.device.instance();
                if let Some(own) = self.own.as_mut().filter(|own| own.device.config().instance == instance) {
                    let is_news = own.taken_by.replace(from).is_none();
                    if is_news {
                        self.tell_members(|| Inbound::InstanceTaken { instance, by: from });
                    }
                }
                for member in self.members.values_mut() {
                    if member.wants_all || member.wanted.contains(&instance) {
                        member.put(Inbound::IAm { from, told });
                    }
                }
            }
            UnconfirmedService::COV_NOTIFICATION => {
                let Ok(told) = CovNotification::decode(&data) else { return };
                if let Some(member) = self.subscriber(told.process) {
                    member.put(Inbound::Changed { from, told: Box::new(told), id: None });
                }
            }
            UnconfirmedService::EVENT_NOTIFICATION => {
                if let Ok(told) = interlex_bacnet::EventNotification::decode(&data) {
                    self.tell_members(|| Inbound::Event { from, told: Box::new(told.clone()) });
                }
            }
            service => {
                let Some(own) = self.own.as_mut().filter(|own| own.is_there(now.instant)) else { return };
                own.device.handle(now, &mut self.node, NodeEvent::Told { from, service, data });
            }
        }
    }

    fn asked(&mut self, now: Now, id: AskedId, from: Peer, service: ConfirmedService, data: Vec<u8>, room: usize) {
        let answer = match service {
            ConfirmedService::COV_NOTIFICATION => match CovNotification::decode(&data) {
                Ok(told) => match self.subscriber(told.process) {
                    Some(member) => {
                        if !member.put(Inbound::Changed { from, told: Box::new(told), id: Some(id) }) {
                            // It comes again, as nobody acknowledges it.
                            self.node.drop_asked(&id);
                        }
                        return;
                    }
                    // Whoever is told so forgets the subscription.
                    None => Answer::Error(Error::UNKNOWN_SUBSCRIPTION),
                },
                Err(_) => Answer::Reject(RejectReason::INVALID_TAG),
            },
            ConfirmedService::EVENT_NOTIFICATION => {
                if let Ok(told) = interlex_bacnet::EventNotification::decode(&data) {
                    self.tell_members(|| Inbound::Event { from, told: Box::new(told.clone()) });
                }
                Answer::Simple
            }
            ConfirmedService::DEVICE_COMMUNICATION_CONTROL => self.control(&data),
            service => match self.own.as_mut().filter(|own| own.is_there(now.instant)) {
                Some(own) => {
                    let asked = NodeEvent::Asked { id, from, service, data, room };
                    own.device.handle(now, &mut self.node, asked);
                    return;
                }
                None => Answer::Reject(RejectReason::UNRECOGNIZED_SERVICE),
            },
        };
        self.node.answer(now.instant, &id, &answer);
    }

    /// Somebody wants us to be quiet. What is told of ourselves is nothing but answers, and polls go on in any case: there is nothing
    /// that could be left.
    fn control(&self, data: &[u8]) -> Answer {
        let Ok(asked) = interlex_bacnet::DeviceCommunicationControl::decode(data) else {
            return Answer::Reject(RejectReason::MISSING_REQUIRED_PARAMETER);
        };
        let password = self.own.as_ref().and_then(|own| own.password.as_deref());
        let is_right = password.is_some() && asked.password.as_deref() == password;
        if is_right { Answer::Simple } else { Answer::Error(Error::PASSWORD_FAILURE) }
    }

    fn subscriber(&mut self, process: u32) -> Option<&mut Member> {
        self.members.values_mut().find(|member| member.process == process)
    }
}

impl OwnDevice {
    fn is_there(&self, now: Instant) -> bool {
        self.taken_by.is_none() && now >= self.asks_until
    }
}

impl Member {
    /// Whether there was room for it.
    fn put(&mut self, inbound: Inbound) -> bool {
        let has_room = self.inbox.len() < MOST_WAITING;
        if has_room {
            self.inbox.push_back(inbound);
        }
        has_room
    }
}
