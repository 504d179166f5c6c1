use super::Master;
use super::event::{MasterEvent, Now};
use crate::link::{Confirmer, Frame, FrameError, FrameReader, LinkAddress, LinkConfirms, LinkFunction, Sender};
use crate::transport::{Assembler, Splitter, TransportError};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::{Duration, Instant};

/// Masters of several outstations, told apart by their addresses: all behind one connection or on one line, or each behind a way of
/// its own, as where outstations dial in.
///
/// ```text
///   octets of a way ──▶ frames ──▶ fragments of each station ──▶ its master
///                   ◀──        ◀──                           ◀──
/// ```
///
/// An outstation has the way on which its last frame came: none takes its place by a connection alone.
#[derive(Debug)]
pub struct MasterLink {
    ways: BTreeMap<WayId, Way>,
    stations: BTreeMap<LinkAddress, Station>,
    sharing: Sharing,
    confirms: Option<LinkConfirms>,
    /// How long a shared line has to be silent before somebody is asked, and when something was heard on it last.
    silence: Duration,
    heard: Option<Instant>,
    events: VecDeque<(LinkAddress, LinkEvent)>,
    outgoing: VecDeque<(WayId, Frame)>,
    /// Whole frames as they went by, for whoever records them.
    traced: VecDeque<TracedFrame>,
}

/// Names a way to outstations, as whoever opened it likes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct WayId(pub u64);

/// A way to outstations.
#[derive(Debug, Default)]
struct Way {
    reader: FrameReader,
    /// Octets that belong to no frame, and were told.
    noise: u64,
    /// Who may speak on it; everybody where that is not said.
    allowed: Option<BTreeSet<LinkAddress>>,
}

/// Whether stations may be asked at the same time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Sharing {
    /// They may: each has its own way behind the connection.
    Together,
    /// They may not: they share a line, on which one at a time may speak.
    OneByOne,
}

/// An outstation with its master.
#[derive(Debug)]
struct Station {
    /// Our address, as the outstation knows it.
    own: LinkAddress,
    master: Master,
    assembler: Assembler,
    splitter: Splitter,
    confirmer: Option<Confirmer>,
    /// The count of the last confirmed frame of the outstation.
    frame_count: Option<bool>,
    /// How it is reached.
    way: Option<WayId>,
}

/// Something that happened with an outstation.
#[derive(Debug, Clone, PartialEq)]
pub enum LinkEvent {
    /// To its master.
    Master(MasterEvent),
    /// A frame of it was part of no fragment.
    Broken(TransportError),
    /// Its link layer answered to the question for its status.
    Status,
    /// It speaks on this way from now on.
    Found(WayId),
    /// It said something on a way on which it may not speak: nothing was taken of that.
    Forbidden(WayId),
}

/// A frame that went by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TracedFrame {
    /// Whether it was sent, and not received.
    pub is_sent: bool,
    /// All its octets; of what was no frame, nothing.
    pub octets: Vec<u8>,
    /// What is wrong with it.
    pub error: Option<FrameError>,
}

impl Station {
    /// It is not reached any more.
    fn lost(&mut self) {
        if self.way.take().is_some() {
            self.master.disconnected();
        }
        self.assembler.clear();
        self.frame_count = None;
        self.confirmer.iter_mut().for_each(Confirmer::clear);
    }

    /// Whether an answer of it is waited for.
    fn is_busy(&self) -> bool {
        self.master.is_waiting() || self.confirmer.as_ref().is_some_and(Confirmer::is_busy)
    }
}

impl MasterLink {
    /// A link with nobody behind it.
    #[must_use]
    pub fn new(sharing: Sharing) -> Self {
        Self {
            ways: BTreeMap::new(),
            stations: BTreeMap::new(),
            sharing,
            confirms: None,
            silence: Duration::ZERO,
            heard: None,
            events: VecDeque::new(),
            outgoing: VecDeque::new(),
            traced: VecDeque::new(),
        }
    }

    /// The frames of user data are confirmed by those who get them, from whoever is added from now on.
    #[must_use]
    pub const fn with_confirms(mut self, confirms: LinkConfirms) -> Self {
        self.confirms = Some(confirms);
        self
    }

    /// On a shared line nobody is asked before it has been silent for so long: outstations that tell unasked look for that, too.
    ///
    /// Source: IEEE 1815-2012, section 9.2.8 (collision avoidance).
    #[must_use]
    pub const fn with_silence(mut self, silence: Duration) -> Self {
        self.silence = silence;
        self
    }

    /// There is an outstation with this address, which knows us by ours. Another one with its address is forgotten.
    pub fn add(&mut self, outstation: LinkAddress, own: LinkAddress, master: Master) {
        let assembler = Assembler::new(master.most_octets());
        let (splitter, frame_count, way) = (Splitter::default(), None, None);
        let confirmer = self.confirms.map(Confirmer::new);
        let station = Station { own, master, assembler, splitter, confirmer, frame_count, way };
        self.stations.insert(outstation, station);
    }

    /// It is not asked any more. Its commands are answered, which [`MasterLink::poll_event`] still tells.
    pub fn remove(&mut self, outstation: LinkAddress) {
        if let Some(mut station) = self.stations.remove(&outstation) {
            station.master.disconnected();
            while let Some(event) = station.master.poll_event() {
                self.events.push_back((outstation, LinkEvent::Master(event)));
            }
        }
    }

    /// The master of an outstation.
    pub fn master(&mut self, outstation: LinkAddress) -> Option<&mut Master> {
        self.stations.get_mut(&outstation).map(|station| &mut station.master)
    }

    /// There is a way, on which only these may speak; everybody where that is not said.
    pub fn open(&mut self, way: WayId, allowed: Option<BTreeSet<LinkAddress>>) {
        self.ways.insert(way, Way { allowed, ..Way::default() });
    }

    /// Only these may speak on a way from now on.
    pub fn allow(&mut self, way: WayId, allowed: Option<BTreeSet<LinkAddress>>) {
        if let Some(way) = self.ways.get_mut(&way) {
            way.allowed = allowed;
        }
    }

    /// Everybody who may and is not reached otherwise is spoken with on this way.
    pub fn connect(&mut self, way: WayId) {
        for (address, _) in self.allowed(way) {
            if self.way(address).is_none() {
                self.reach(address, way);
            }
        }
    }

    /// Who may speak on a way: its address and ours.
    fn allowed(&self, way: WayId) -> Vec<(LinkAddress, LinkAddress)> {
        let allowed = self.stations.iter().filter(|(address, _)| self.is_allowed(way, **address));
        allowed.map(|(address, station)| (*address, station.own)).collect()
    }

    fn is_allowed(&self, way: WayId, address: LinkAddress) -> bool {
        self.ways.get(&way).is_some_and(|way| way.allowed.as_ref().is_none_or(|allowed| allowed.contains(&address)))
    }

    /// An outstation is spoken with on a way, from the beginning.
    fn reach(&mut self, address: LinkAddress, way: WayId) {
        if let Some(station) = self.stations.get_mut(&address) {
            station.lost();
            station.way = Some(way);
            station.master.connected();
        }
    }

    /// Asks those who may speak on a way whether they are there. Who answers is reached on it: what it had before may have ended
    /// without a word.
    pub fn probe(&mut self, way: WayId) {
        for (destination, source) in self.allowed(way) {
            self.outgoing.push_back((way, status_request(destination, source)));
        }
    }

    /// Asks the link layer of an outstation whether it is there; `false` where it is not reached at all.
    ///
    /// Source: IEEE 1815-2012, section 9.2.4.1.3.6 (REQUEST_LINK_STATUS).
    pub fn ask_status(&mut self, outstation: LinkAddress) -> bool {
        let Some(station) = self.stations.get(&outstation) else { return false };
        let Some(way) = station.way else { return false };
        self.outgoing.push_back((way, status_request(outstation, station.own)));
        true
    }

    /// A way is gone. Gives who is not reached any more.
    pub fn close(&mut self, way: WayId) -> Vec<LinkAddress> {
        self.ways.remove(&way);
        self.outgoing.retain(|(of, _)| *of != way);
        let mut gone = Vec::new();
        for (address, station) in self.stations.iter_mut().filter(|(_, station)| station.way == Some(way)) {
            station.lost();
            gone.push(*address);
        }
        gone
    }

    /// All ways are gone.
    pub fn close_all(&mut self) {
        self.ways.clear();
        self.outgoing.clear();
        self.stations.values_mut().for_each(Station::lost);
    }

    /// How an outstation is reached.
    #[must_use]
    pub fn way(&self, outstation: LinkAddress) -> Option<WayId> {
        self.stations.get(&outstation)?.way
    }

    /// Octets that came on a way, however they were cut up.
    pub fn handle_input(&mut self, now: Now, way: WayId, octets: &[u8]) {
        let Some(reader) = self.ways.get_mut(&way).map(|way| &mut way.reader) else { return };
        reader.push(octets);
        self.heard = Some(now.instant);
        while let Some(found) = self.ways.get_mut(&way).and_then(|way| way.reader.next_frame()) {
            match found {
                Ok(frame) => {
                    let octets = self.ways.get(&way).map(|way| way.reader.last_frame().to_vec()).unwrap_or_default();
                    self.traced.push_back(TracedFrame { is_sent: false, octets, error: None });
                    self.handle_frame(now, way, frame);
                }
                Err(error) => {
                    self.traced.push_back(TracedFrame { is_sent: false, octets: Vec::new(), error: Some(error) });
                }
            }
        }
    }

    fn handle_frame(&mut self, now: Now, way: WayId, frame: Frame) {
        let Frame { sender, function, destination, source, user_data } = frame;
        let Some(station) = self.stations.get(&source) else { return };
        // Nobody else's, and no echo of ours.
        if sender != Sender::Outstation || destination != station.own {
            return;
        }
        if !self.is_allowed(way, source) {
            return self.events.push_back((source, LinkEvent::Forbidden(way)));
        }
        if station.way != Some(way) {
            // It is where it speaks; what it said elsewhere is over.
            self.reach(source, way);
            self.events.push_back((source, LinkEvent::Found(way)));
        }
        let Some(station) = self.stations.get_mut(&source) else { return };
        let reply = |function| Frame {
            sender: Sender::Master,
            function,
            destination: source,
            source: destination,
            user_data: Vec::new(),
        };
        match function {
            LinkFunction::UnconfirmedUserData => {}
            LinkFunction::ConfirmedUserData { frame_count } => {
                self.outgoing.push_back((way, reply(LinkFunction::Ack { is_full: false })));
                // The same once more, since our answer was lost.
                if station.frame_count.replace(frame_count) == Some(frame_count) {
                    return;
                }
            }
            LinkFunction::ResetLinkStates => {
                station.frame_count = None;
                return self.outgoing.push_back((way, reply(LinkFunction::Ack { is_full: false })));
            }
            LinkFunction::TestLinkStates { .. } => {
                return self.outgoing.push_back((way, reply(LinkFunction::Ack { is_full: false })));
            }
            LinkFunction::RequestLinkStatus => {
                return self.outgoing.push_back((way, reply(LinkFunction::LinkStatus { is_full: false })));
            }
            LinkFunction::LinkStatus { .. } => return self.events.push_back((source, LinkEvent::Status)),
            LinkFunction::Ack { .. } | LinkFunction::Nack { .. } | LinkFunction::NotSupported { .. } => {
                return station.confirmer.iter_mut().for_each(|confirmer| confirmer.handle(function));
            }
        }
        match station.assembler.push(&user_data) {
            Ok(Some(fragment)) => station.master.handle_fragment(now, &fragment),
            Ok(None) => {}
            Err(error) => self.events.push_back((source, LinkEvent::Broken(error))),
        }
    }

    /// Whole frames that are to be sent now, and on which way. Ask until there is none, after every other call.
    #[must_use]
    pub fn poll_transmit(&mut self, now: Now) -> Option<(WayId, Vec<u8>)> {
        if self.outgoing.is_empty() {
            self.ask(now);
        }
        let (way, _) = *self.outgoing.front()?;
        let mut out = Vec::new();
        while let Some((_, frame)) = self.outgoing.pop_front_if(|(next, _)| *next == way) {
            let mut octets = Vec::new();
            frame.encode(&mut octets);
            out.extend_from_slice(&octets);
            self.traced.push_back(TracedFrame { is_sent: true, octets, error: None });
        }
        Some((way, out))
    }

    fn ask(&mut self, now: Now) {
        let busy = self.stations.iter().find(|(_, station)| station.is_busy()).map(|(address, _)| *address);
        if busy.is_none() && self.silent_at().is_some_and(|at| now.instant < at) {
            return;
        }
        self.heard = None;
        for (address, station) in &mut self.stations {
            let Some(way) = station.way else { continue };
            let is_held = self.sharing == Sharing::OneByOne && busy.is_some_and(|busy| busy != *address);
            if is_held {
                continue;
            }
            let before = self.outgoing.len();
            let (sender, destination, source) = (Sender::Master, *address, station.own);
            let frame = |function, user_data| Frame { sender, function, destination, source, user_data };
            while let Some(fragment) = station.master.poll_transmit(now) {
                let parts = station.splitter.split(&fragment).into_iter();
                match &mut station.confirmer {
                    Some(confirmer) => confirmer.push(parts),
                    None => {
                        self.outgoing.extend(parts.map(|part| (way, frame(LinkFunction::UnconfirmedUserData, part))))
                    }
                }
            }
            if let Some((function, part)) = station.confirmer.as_mut().and_then(|confirmer| confirmer.poll(now.instant))
            {
                self.outgoing.push_back((way, frame(function, part)));
            }
            if self.sharing == Sharing::OneByOne && self.outgoing.len() > before {
                return;
            }
        }
    }

    /// The oldest event that was not taken yet. Ask until there is none, after every other call.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<(LinkAddress, LinkEvent)> {
        self.events.pop_front().or_else(|| {
            self.stations
                .iter_mut()
                .find_map(|(address, station)| Some((*address, LinkEvent::Master(station.master.poll_event()?))))
        })
    }

    /// The oldest frame that went by and was not taken yet. Ask until there is none, after every other call.
    #[must_use]
    pub fn poll_frame(&mut self) -> Option<TracedFrame> {
        self.traced.pop_front()
    }

    /// How many octets came on a way since the last time that belong to no frame.
    pub fn take_noise(&mut self, way: WayId) -> u64 {
        let told = |way: &mut Way| way.reader.noise() - std::mem::replace(&mut way.noise, way.reader.noise());
        self.ways.get_mut(&way).map_or(0, told)
    }

    /// From when on a shared line is silent enough.
    fn silent_at(&self) -> Option<Instant> {
        let is_shared = self.sharing == Sharing::OneByOne && !self.silence.is_zero();
        self.heard.filter(|_| is_shared).map(|at| at + self.silence)
    }

    /// When [`MasterLink::handle_timeout`] is to be called. Ask again after every other call.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        let is_held = self.sharing == Sharing::OneByOne && self.stations.values().any(Station::is_busy);
        let silent = if is_held { None } else { self.silent_at() };
        // Whoever is held has nothing to ask now, whatever is due.
        let of_station = |station: &Station| {
            if is_held && !station.is_busy() {
                return station.master.settle_timeout();
            }
            let confirmed = station.confirmer.as_ref().and_then(Confirmer::deadline);
            // What is due, or wanted at once, while the line is not silent yet waits for that.
            let due = silent.or_else(|| station.master.poll_timeout());
            due.into_iter().chain(station.master.settle_timeout()).chain(confirmed).min()
        };
        self.stations.values().filter_map(of_station).min()
    }

    /// A moment of [`MasterLink::poll_timeout`] has come. Calls that come early do nothing.
    pub fn handle_timeout(&mut self, now: Now) {
        for station in self.stations.values_mut() {
            station.master.handle_timeout(now);
            station.confirmer.iter_mut().for_each(|confirmer| confirmer.handle_timeout(now.instant));
        }
    }
}

fn status_request(destination: LinkAddress, source: LinkAddress) -> Frame {
    let function = LinkFunction::RequestLinkStatus;
    Frame { sender: Sender::Master, function, destination, source, user_data: Vec::new() }
}
