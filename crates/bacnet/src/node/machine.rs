use super::client::Request;
use super::event::{Audience, NodeEvent, Target, Via};
use super::foreign::{ForeignDevice, Registration};
use super::invoke_ids::InvokeIds;
use super::server::{Asked, Recent};
use crate::apdu::{AbortReason, Apdu, MaxApdu, UnconfirmedService};
use crate::network::{Bvll, BvllResult, Destination, NetworkMessage, Npdu, NpduContent, Peer, Station, TableMessage};
use std::collections::{BTreeSet, HashMap, VecDeque};
use std::net::SocketAddrV4;
use std::time::{Duration, Instant};

/// What a node is like.
#[derive(Debug, Clone)]
pub struct NodeConfig {
    /// How large a message it takes.
    pub max_apdu: MaxApdu,
    /// How many segments it sends before they are acknowledged, 1 to 127. More is faster, and lost more easily by small devices.
    pub window: u8,
    /// How long an acknowledgment of segments may take. A segment may take four times as long.
    pub segment_timeout: Duration,
    /// How often a window of segments is sent again.
    pub segment_retries: u8,
    /// Where it is behind a router that the same host is; none where it has an address of its own.
    pub station: Option<Station>,
    /// At whom it registers to hear broadcasts.
    pub foreign: Option<ForeignDevice>,
    /// How long a message in segments may become, in octets.
    pub most_octets: usize,
}

impl Default for NodeConfig {
    fn default() -> Self {
        Self {
            max_apdu: MaxApdu::BACNET_IP,
            window: 16,
            // Clause 12.11: the least that the standard asks for, where nobody says another.
            segment_timeout: Duration::from_secs(2),
            segment_retries: 3,
            station: None,
            foreign: None,
            // The object list of a device with 100,000 objects.
            most_octets: 1 << 20,
        }
    }
}

/// What is waited for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Timer {
    /// Something of a request of ours.
    Request(Peer, u8),
    /// Something of a request of others.
    Asked(Peer, u8),
    /// The next registration.
    Registration,
}

/// One participant of a network: sends requests and gets their answers, gets requests and sends answers, in segments where they are
/// long. It knows no objects.
///
/// ```text
///   request ──▶ ┌──────┐ ──poll_transmit──▶ UDP
///   answer  ──▶ │ Node │
///   tell    ──▶ │      │ ◀──handle_input── UDP
///               └──────┘ ──poll_event──▶ Answered, Asked, Told, ...
/// ```
#[derive(Debug)]
pub struct Node {
    pub(super) config: NodeConfig,
    pub(super) rng: fastrand::Rng,
    pub(super) requests: HashMap<(Peer, u8), Request>,
    pub(super) invoke_ids: HashMap<Peer, InvokeIds>,
    /// The last segments of answers that were taken, which may come again.
    pub(super) taken: VecDeque<(Peer, u8, u8, u8)>,
    pub(super) asked: HashMap<(Peer, u8), Asked>,
    pub(super) recent: VecDeque<Recent>,
    pub(super) last_id: u64,
    registration: Option<Registration>,
    deadlines: BTreeSet<(Instant, Timer)>,
    transmits: VecDeque<(Target, Vec<u8>)>,
    events: VecDeque<NodeEvent>,
}

impl Node {
    /// A node that has not said anything yet.
    #[must_use]
    pub fn new(config: NodeConfig, rng: fastrand::Rng, now: Instant) -> Self {
        let registration = config.foreign.map(Registration::new);
        let deadlines = registration.iter().map(|_| (now, Timer::Registration)).collect();
        Self {
            config,
            rng,
            requests: HashMap::new(),
            invoke_ids: HashMap::new(),
            taken: VecDeque::new(),
            asked: HashMap::new(),
            recent: VecDeque::new(),
            last_id: 0,
            registration,
            deadlines,
            transmits: VecDeque::new(),
            events: VecDeque::new(),
        }
    }

    /// Tells something that nobody answers.
    pub fn tell(&mut self, to: Audience, service: UnconfirmedService, data: &[u8]) {
        let mut apdu = Vec::with_capacity(data.len() + 2);
        Apdu::UnconfirmedRequest { service, data }.encode(&mut apdu);
        self.send_npdu(to, &Npdu::plain(&apdu, false));
    }

    /// Asks which routers lead to a network, or to any. They answer with [`NodeEvent::Router`].
    pub fn who_is_router(&mut self, network: Option<u16>) {
        let content = NpduContent::Message(NetworkMessage::WhoIsRouter(network));
        self.send_npdu(Audience::Local, &Npdu { content, ..Npdu::plain(&[], false) });
    }

    /// Whether the broadcast management device has taken us on; also where none is asked to.
    #[must_use]
    pub fn is_registered(&self) -> bool {
        self.registration.as_ref().is_none_or(|registration| registration.is_registered)
    }

    /// The next datagram to send; poll again after any other call, until there is none.
    #[must_use]
    pub fn poll_transmit(&mut self) -> Option<(Target, Vec<u8>)> {
        self.transmits.pop_front()
    }

    /// The next thing that it tells; poll again after any other call, until there is none.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<NodeEvent> {
        self.events.pop_front()
    }

    /// When to call [`Node::handle_timeout`]; ask again after any other call.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.deadlines.first().map(|(at, _)| *at)
    }

    /// Does what is due. Early or repeated calls do nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        while let Some((at, timer)) = self.deadlines.first().copied().filter(|(at, _)| *at <= now) {
            self.deadlines.remove(&(at, timer));
            match timer {
                Timer::Request(peer, invoke_id) => self.request_is_due((peer, invoke_id), now),
                Timer::Asked(peer, invoke_id) => self.asked_is_due((peer, invoke_id), now),
                Timer::Registration => self.register(now),
            }
        }
    }

    /// Takes a datagram.
    pub fn handle_input(&mut self, now: Instant, via: Via, from: SocketAddrV4, datagram: &[u8]) {
        let bvll = match Bvll::decode(datagram) {
            Ok(bvll) => bvll,
            Err(error) => return self.events.push_back(NodeEvent::Garbled { from, error }),
        };
        let bbmd = self.config.foreign.map(|foreign| foreign.bbmd);
        match bvll {
            Bvll::Unicast(npdu) | Bvll::Broadcast(npdu) => self.handle_npdu(now, from, from, npdu),
            // Who registered hears from whom it registered at; else it is the one of this network that broadcasts.
            Bvll::Forwarded { origin, npdu } => {
                let is_expected = bbmd.map_or(via == Via::Broadcast, |bbmd| bbmd == from);
                if is_expected {
                    self.handle_npdu(now, from, origin, npdu);
                }
            }
            Bvll::Result(result) => {
                if bbmd == Some(from)
                    && let Some(registration) = &mut self.registration
                {
                    let before = registration.is_registered;
                    registration.told(result, now);
                    let (is_registered, due) = (registration.is_registered, registration.due());
                    if before != is_registered {
                        self.events.push_back(NodeEvent::Registered(is_registered));
                    }
                    self.deadlines.retain(|(_, timer)| *timer != Timer::Registration);
                    self.deadlines.extend(due.map(|due| (due, Timer::Registration)));
                }
            }
            // No broadcast management device is here.
            Bvll::DistributeBroadcast(_) => self.refuse(via, from, BvllResult::DISTRIBUTE_NAK),
            Bvll::RegisterForeignDevice { .. } => self.refuse(via, from, BvllResult::REGISTER_NAK),
            Bvll::Table(TableMessage::WriteBroadcast) => self.refuse(via, from, BvllResult::WRITE_BROADCAST_NAK),
            Bvll::Table(TableMessage::ReadBroadcast) => self.refuse(via, from, BvllResult::READ_BROADCAST_NAK),
            Bvll::Table(TableMessage::ReadForeign) => self.refuse(via, from, BvllResult::READ_FOREIGN_NAK),
            Bvll::Table(TableMessage::DeleteForeign) => self.refuse(via, from, BvllResult::DELETE_NAK),
            Bvll::Table(TableMessage::ReadBroadcastAck(_) | TableMessage::ReadForeignAck(_) | TableMessage::Secure) => {
            }
        }
    }

    fn refuse(&mut self, via: Via, to: SocketAddrV4, result: BvllResult) {
        if via == Via::Unicast {
            self.send_bvll(Target::Address(to), &Bvll::Result(result));
        }
    }

    fn register(&mut self, now: Instant) {
        let Some(registration) = &mut self.registration else { return };
        let before = registration.is_registered;
        let (bvll, bbmd) = (registration.poll(now), registration.terms.bbmd);
        let (is_registered, due) = (registration.is_registered, registration.due());
        if let Some(bvll) = bvll {
            self.send_bvll(Target::Address(bbmd), &bvll);
        }
        if before != is_registered {
            self.events.push_back(NodeEvent::Registered(is_registered));
        }
        self.deadlines.extend(due.map(|due| (due, Timer::Registration)));
    }

    /// A message that came from an address, of whoever is at the origin.
    fn handle_npdu(&mut self, now: Instant, from: SocketAddrV4, origin: SocketAddrV4, octets: &[u8]) {
        let npdu = match Npdu::decode(octets) {
            Ok(npdu) => npdu,
            Err(error) => return self.events.push_back(NodeEvent::Garbled { from, error }),
        };
        let is_ours = match npdu.destination {
            // What is told on this network stays there.
            None => self.config.station.is_none(),
            Some(Destination::Global) => true,
            Some(Destination::Network(network)) => self.config.station.is_some_and(|own| own.network == network),
            Some(Destination::Station(station)) => self.config.station == Some(station),
        };
        // Nobody is routed for here.
        if !is_ours {
            return;
        }
        let peer = Peer { address: origin, station: npdu.source };
        let apdu = match npdu.content {
            NpduContent::Apdu(apdu) => apdu,
            NpduContent::Message(NetworkMessage::IAmRouter(networks)) => {
                return self.events.push_back(NodeEvent::Router { address: origin, networks });
            }
            NpduContent::Message(NetworkMessage::Reject { reason, network }) => {
                return self.events.push_back(NodeEvent::NotRouted { address: origin, network, reason });
            }
            NpduContent::Message(_) => return,
        };
        match Apdu::decode(apdu) {
            Ok(apdu) => self.handle_apdu(now, peer, &apdu),
            Err(error) => self.events.push_back(NodeEvent::Garbled { from, error }),
        }
    }

    fn handle_apdu(&mut self, now: Instant, peer: Peer, apdu: &Apdu<'_>) {
        match apdu {
            Apdu::UnconfirmedRequest { service, data } => {
                self.events.push_back(NodeEvent::Told { from: peer, service: *service, data: data.to_vec() });
            }
            Apdu::ConfirmedRequest { header, service, data } => self.take_asked(now, peer, header, *service, data),
            Apdu::SegmentAck(ack) if ack.by_server => self.request_acknowledged(now, peer, ack),
            Apdu::SegmentAck(ack) => self.asked_acknowledged(now, peer, ack),
            Apdu::Abort { by_server: false, invoke_id, .. } => self.forget_asked((peer, *invoke_id)),
            answer => self.take_answer(now, peer, answer),
        }
    }

    pub(super) fn event(&mut self, event: NodeEvent) {
        self.events.push_back(event);
    }

    /// Something is due at another moment than before, or not any more.
    pub(super) fn set_deadline(&mut self, timer: Timer, before: Option<Instant>, at: Option<Instant>) {
        if let Some(before) = before {
            self.deadlines.remove(&(before, timer));
        }
        self.deadlines.extend(at.map(|at| (at, timer)));
    }

    pub(super) fn send_apdu(&mut self, to: Peer, apdu: &Apdu<'_>) {
        let mut octets = Vec::with_capacity(usize::from(self.config.max_apdu.octets()));
        apdu.encode(&mut octets);
        // Whoever sends segments waits for their acknowledgment, too.
        let expects_reply = matches!(apdu, Apdu::ConfirmedRequest { .. } | Apdu::ComplexAck { segment: Some(_), .. });
        self.send_npdu(Audience::Peer(to), &Npdu::plain(&octets, expects_reply));
    }

    pub(super) fn abort(&mut self, to: Peer, invoke_id: u8, by_server: bool, reason: AbortReason) {
        self.send_apdu(to, &Apdu::Abort { by_server, invoke_id, reason });
    }

    fn send_npdu(&mut self, to: Audience, npdu: &Npdu<'_>) {
        let (target, destination) = match to {
            Audience::Peer(peer) => (Target::Address(peer.address), peer.station.map(Destination::Station)),
            Audience::Local => (Target::Broadcast, None),
            Audience::Network(network) => (Target::Broadcast, Some(Destination::Network(network))),
            Audience::Global => (Target::Broadcast, Some(Destination::Global)),
        };
        let npdu = Npdu { destination, source: self.config.station, ..npdu.clone() };
        let mut octets = Vec::with_capacity(1500);
        npdu.encode(&mut octets);
        match (target, self.config.foreign) {
            (Target::Address(_), _) => self.send_bvll(target, &Bvll::Unicast(&octets)),
            (Target::Broadcast, None) => self.send_bvll(target, &Bvll::Broadcast(&octets)),
            (Target::Broadcast, Some(foreign)) => {
                self.send_bvll(Target::Address(foreign.bbmd), &Bvll::DistributeBroadcast(&octets));
            }
        }
    }

    fn send_bvll(&mut self, to: Target, bvll: &Bvll<'_>) {
        let mut datagram = Vec::with_capacity(1504);
        bvll.encode(&mut datagram);
        self.transmits.push_back((to, datagram));
    }
}
