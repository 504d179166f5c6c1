use super::Master;
use super::event::{MasterEvent, Now};
use crate::link::{Frame, FrameError, FrameReader, LinkAddress, LinkFunction, Sender};
use crate::transport::{Assembler, Splitter, TransportError};
use std::collections::{BTreeMap, VecDeque};
use std::time::Instant;

/// Masters of several outstations behind one connection or on one line, told apart by their addresses.
///
/// ```text
///   octets ──▶ frames ──▶ fragments of each station ──▶ its master
///          ◀──        ◀──                           ◀──
/// ```
#[derive(Debug)]
pub struct MasterLink {
    reader: FrameReader,
    stations: BTreeMap<LinkAddress, Station>,
    sharing: Sharing,
    events: VecDeque<(LinkAddress, LinkEvent)>,
    outgoing: VecDeque<Frame>,
    /// Whole frames as they went by, for whoever records them.
    traced: VecDeque<TracedFrame>,
    noise: u64,
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
    /// The count of the last confirmed frame of the outstation.
    frame_count: Option<bool>,
}

/// Something that happened with an outstation.
#[derive(Debug, Clone, PartialEq)]
pub enum LinkEvent {
    /// To its master.
    Master(MasterEvent),
    /// A frame of it was part of no fragment.
    Broken(TransportError),
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

impl MasterLink {
    /// A link with nobody behind it.
    #[must_use]
    pub fn new(sharing: Sharing) -> Self {
        Self {
            reader: FrameReader::default(),
            stations: BTreeMap::new(),
            sharing,
            events: VecDeque::new(),
            outgoing: VecDeque::new(),
            traced: VecDeque::new(),
            noise: 0,
        }
    }

    /// There is an outstation with this address, which knows us by ours. Another one with its address is forgotten.
    pub fn add(&mut self, outstation: LinkAddress, own: LinkAddress, master: Master) {
        let assembler = Assembler::new(master.most_octets());
        let station = Station { own, master, assembler, splitter: Splitter::default(), frame_count: None };
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

    /// The connection is up: everybody is spoken with from the beginning.
    pub fn connected(&mut self) {
        self.forget();
        self.stations.values_mut().for_each(|station| station.master.connected());
    }

    /// The connection is gone.
    pub fn disconnected(&mut self) {
        self.forget();
        self.stations.values_mut().for_each(|station| station.master.disconnected());
    }

    fn forget(&mut self) {
        self.reader.clear();
        self.noise = self.reader.noise();
        self.outgoing.clear();
        for station in self.stations.values_mut() {
            station.assembler.clear();
            station.frame_count = None;
        }
    }

    /// Octets that came, however they were cut up.
    pub fn handle_input(&mut self, now: Now, octets: &[u8]) {
        self.reader.push(octets);
        while let Some(found) = self.reader.next_frame() {
            match found {
                Ok(frame) => {
                    let mut octets = Vec::new();
                    frame.encode(&mut octets);
                    self.traced.push_back(TracedFrame { is_sent: false, octets, error: None });
                    self.handle_frame(now, frame);
                }
                Err(error) => {
                    self.traced.push_back(TracedFrame { is_sent: false, octets: Vec::new(), error: Some(error) });
                }
            }
        }
    }

    fn handle_frame(&mut self, now: Now, frame: Frame) {
        let Frame { sender, function, destination, source, user_data } = frame;
        let Some(station) = self.stations.get_mut(&source) else { return };
        // Nobody else's, and no echo of ours.
        if sender != Sender::Outstation || destination != station.own {
            return;
        }
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
                self.outgoing.push_back(reply(LinkFunction::Ack { is_full: false }));
                // The same once more, since our answer was lost.
                if station.frame_count.replace(frame_count) == Some(frame_count) {
                    return;
                }
            }
            LinkFunction::ResetLinkStates => {
                station.frame_count = None;
                return self.outgoing.push_back(reply(LinkFunction::Ack { is_full: false }));
            }
            LinkFunction::TestLinkStates { .. } => {
                return self.outgoing.push_back(reply(LinkFunction::Ack { is_full: false }));
            }
            LinkFunction::RequestLinkStatus => {
                return self.outgoing.push_back(reply(LinkFunction::LinkStatus { is_full: false }));
            }
            LinkFunction::Ack { .. }
            | LinkFunction::Nack { .. }
            | LinkFunction::LinkStatus { .. }
            | LinkFunction::NotSupported { .. } => return,
        }
        match station.assembler.push(&user_data) {
            Ok(Some(fragment)) => station.master.handle_fragment(now, &fragment),
            Ok(None) => {}
            Err(error) => self.events.push_back((source, LinkEvent::Broken(error))),
        }
    }

    /// Appends the octets that are to be sent now; tells whether there were any. Ask again after every other call.
    #[must_use]
    pub fn poll_transmit(&mut self, now: Now, out: &mut Vec<u8>) -> bool {
        if self.outgoing.is_empty() {
            self.ask(now);
        }
        let is_any = !self.outgoing.is_empty();
        for frame in self.outgoing.drain(..) {
            let mut octets = Vec::new();
            frame.encode(&mut octets);
            out.extend_from_slice(&octets);
            self.traced.push_back(TracedFrame { is_sent: true, octets, error: None });
        }
        is_any
    }

    fn ask(&mut self, now: Now) {
        let busy = self.stations.iter().find(|(_, station)| station.master.is_waiting()).map(|(address, _)| *address);
        for (address, station) in &mut self.stations {
            let is_held = self.sharing == Sharing::OneByOne && busy.is_some_and(|busy| busy != *address);
            if is_held {
                continue;
            }
            let before = self.outgoing.len();
            while let Some(fragment) = station.master.poll_transmit(now) {
                let frame = |user_data| Frame {
                    sender: Sender::Master,
                    function: LinkFunction::UnconfirmedUserData,
                    destination: *address,
                    source: station.own,
                    user_data,
                };
                self.outgoing.extend(station.splitter.split(&fragment).into_iter().map(frame));
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

    /// How many octets came since the last time that belong to no frame.
    pub fn take_noise(&mut self) -> u64 {
        let noise = self.reader.noise();
        noise - std::mem::replace(&mut self.noise, noise)
    }

    /// When [`MasterLink::handle_timeout`] is to be called. Ask again after every other call.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        let is_busy = |station: &&Station| station.master.is_waiting();
        let is_held = self.sharing == Sharing::OneByOne && self.stations.values().any(|station| is_busy(&station));
        // Whoever is held has nothing to ask now, whatever is due.
        let of_station = |station: &Station| {
            if is_held && !station.master.is_waiting() {
                station.master.settle_timeout()
            } else {
                station.master.poll_timeout()
            }
        };
        self.stations.values().filter_map(of_station).min()
    }

    /// A moment of [`MasterLink::poll_timeout`] has come. Calls that come early do nothing.
    pub fn handle_timeout(&mut self, now: Now) {
        self.stations.values_mut().for_each(|station| station.master.handle_timeout(now));
    }
}
