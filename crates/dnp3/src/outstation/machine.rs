use super::config::{OutstationConfig, Process};
use super::event_buffer::Event;
use super::point::{Point, PointUpdate, Points};
use super::reading::{Piece, Reading};
use super::session::{Session, Waiting};
use crate::application::{Block, Control, FunctionCode, Indications, Request, Response, ResponseHeader};
use crate::link::LinkAddress;
use crate::master::{Classes, Now};
use crate::object::PointKind;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Instant;

/// Has points, tells their changes to masters, and takes commands.
///
/// ```text
///   updates ──▶ points ──▶ events, for each master ──▶ told, until they are confirmed
///   requests ─▶ answered; what comes again is answered again, and not done again
/// ```
///
/// Each master has events, numbers and selects of its own.
///
/// Source: IEEE 1815-2012, sections 4 and 5.
#[derive(Debug)]
pub struct Outstation {
    pub(super) config: OutstationConfig,
    pub(super) points: Points,
    /// What it says of itself, by the numbers of group 0.
    pub(super) attributes: BTreeMap<u8, String>,
    pub(super) sessions: BTreeMap<LinkAddress, Session>,
    /// What it says of itself to everybody.
    pub(super) own: Indications,
}

impl Outstation {
    /// One that has just started.
    #[must_use]
    pub fn new(config: OutstationConfig, masters: impl IntoIterator<Item = LinkAddress>) -> Self {
        let sessions = masters.into_iter().map(|master| (master, Session::new(config.most_events))).collect();
        let own = Indications::DEVICE_RESTART.with(Indications::NEED_TIME);
        Self { config, points: Points::new(), attributes: BTreeMap::new(), sessions, own }
    }

    /// It says this of itself, as a text: by the number that group 0 has for it.
    ///
    /// Source: IEEE 1815-2012, annex A.1.
    pub fn describe(&mut self, attribute: u8, text: &str) {
        self.attributes.insert(attribute, text.to_owned());
    }

    /// It has another point, or one that begins anew.
    pub fn put(&mut self, kind: PointKind, index: u32, point: Point) {
        self.points.insert((kind, index), point);
    }

    /// A point as it is now.
    #[must_use]
    pub fn point(&self, kind: PointKind, index: u32) -> Option<&Point> {
        self.points.get(&(kind, index))
    }

    /// Something new is known of a point; an event for every master, where that is one.
    pub fn update(&mut self, kind: PointKind, index: u32, update: PointUpdate) {
        let Some(point) = self.points.get_mut(&(kind, index)) else { return };
        let (value, flags, time) = (update.value.clone(), update.flags, update.time);
        let is_event = point.update(update);
        let Some(class) = point.class.filter(|_| is_event) else { return };
        for session in self.sessions.values_mut() {
            let (number, value) = (0, value.clone());
            session.buffer.push(Event { number, class, kind, index, value, flags, time });
        }
    }

    /// How many events a master has not confirmed; none while it does not want any unasked.
    #[must_use]
    pub fn backlog(&self, master: LinkAddress) -> Option<usize> {
        let session = self.sessions.get(&master).filter(|session| !session.enabled.is_empty())?;
        Some(session.buffer.iter().count())
    }

    /// It says something of itself, or does not any more.
    pub const fn indicate(&mut self, indications: Indications, is_said: bool) {
        self.own = if is_said { self.own.with(indications) } else { self.own.since(indications) };
    }

    /// It has restarted: what masters wanted is forgotten, and so are events.
    pub fn restart(&mut self) {
        let masters: Vec<_> = self.sessions.keys().copied().collect();
        self.sessions = masters.into_iter().map(|master| (master, Session::new(self.config.most_events))).collect();
        self.own = self.own.with(Indications::DEVICE_RESTART).with(Indications::NEED_TIME);
    }

    /// A connection is another one: what was to be sent over the one before is not.
    pub fn disconnected(&mut self, master: LinkAddress) {
        if let Some(session) = self.sessions.get_mut(&master) {
            session.ready.clear();
            (session.last, session.selected, session.deferred) = (None, None, None);
            (session.solicited, session.unsolicited) = (None, None);
        }
    }

    /// A fragment of a master came, or one for all stations.
    pub fn handle_fragment(
        &mut self,
        now: Now,
        master: LinkAddress,
        is_broadcast: bool,
        octets: &[u8],
        process: &mut impl Process,
    ) {
        if !self.sessions.contains_key(&master) {
            return;
        }
        let request = match Request::decode(octets) {
            Ok(request) => request,
            Err(_) if is_broadcast => return,
            Err(_) => return self.refuse(master, octets, Indications::PARAMETER_ERROR),
        };
        // A request is one fragment, always.
        if !request.control.is_first || !request.control.is_final {
            return;
        }
        if request.function == FunctionCode::CONFIRM {
            return self.confirmed(now, master, request.control, process);
        }
        let Some(session) = self.sessions.get_mut(&master) else { return };
        let waits = session.unsolicited.is_some() && request.function == FunctionCode::READ;
        if waits {
            session.deferred = Some(octets.to_vec());
            return;
        }
        if let Some((last, answer)) = &session.last
            && last == octets
            && !is_broadcast
        {
            session.ready.extend(answer.clone());
            return;
        }
        (session.last, session.solicited) = (Some((octets.to_vec(), None)), None);
        let response = self.answer(now, (master, is_broadcast), &request, octets, process);
        if is_broadcast {
            self.sessions.values_mut().for_each(|session| session.was_broadcast = true);
        } else if let Some((pieces, indications)) = response {
            self.respond(now, master, request.control.sequence, pieces, indications);
        }
    }

    fn refuse(&mut self, master: LinkAddress, octets: &[u8], indications: Indications) {
        let Some(first) = octets.first().filter(|_| octets.len() > 1) else { return };
        let sequence = first & 0xF;
        let header = self.header(master, Control::request(sequence), indications, &BTreeSet::new());
        if let Some(session) = self.sessions.get_mut(&master) {
            session.ready.extend(Response { header, blocks: Vec::new() }.encode());
        }
    }

    /// What stands before the objects of an answer.
    fn header(
        &mut self,
        master: LinkAddress,
        control: Control,
        more: Indications,
        events: &BTreeSet<u64>,
    ) -> ResponseHeader {
        let mut indications = self.own.with(more);
        if let Some(session) = self.sessions.get_mut(&master) {
            let classes = [Indications::CLASS_1_EVENTS, Indications::CLASS_2_EVENTS, Indications::CLASS_3_EVENTS];
            for (class, has_events) in classes.into_iter().zip(session.buffer.classes(events)) {
                indications = if has_events { indications.with(class) } else { indications };
            }
            if session.buffer.has_overflown {
                indications = indications.with(Indications::EVENT_BUFFER_OVERFLOW);
            }
            if std::mem::take(&mut session.was_broadcast) {
                indications = indications.with(Indications::BROADCAST);
            }
        }
        ResponseHeader { control, indications }
    }

    /// Sends the first fragment of an answer, and keeps the others until it is confirmed.
    fn respond(&mut self, now: Now, master: LinkAddress, sequence: u8, pieces: Vec<Piece>, indications: Indications) {
        let fragments = self.fragments(pieces);
        let last = fragments.len().saturating_sub(1);
        let mut told: VecDeque<_> = VecDeque::new();
        let mut sequence = sequence;
        for (number, (blocks, events)) in fragments.into_iter().enumerate() {
            let (is_first, is_final) = (number == 0, number == last);
            let wants_confirm = !is_final || !events.is_empty();
            let control = Control { is_first, is_final, wants_confirm, is_unsolicited: false, sequence };
            let header = self.header(master, control, indications, &events);
            let octets = Response { header, blocks }.encode().unwrap_or_default();
            told.push_back((control, octets, events));
            sequence = Control::next(sequence);
        }
        let Some((control, fragment, events)) = told.pop_front() else { return };
        let deadline = now.instant + self.config.confirm_timeout;
        let Some(session) = self.sessions.get_mut(&master) else { return };
        session.ready.push_back(fragment.clone());
        if let Some((_, answer)) = &mut session.last {
            *answer = Some(fragment.clone());
        }
        if control.wants_confirm {
            let sequence = control.sequence;
            session.solicited = Some(Waiting { sequence, fragment, events, deadline, rest: told });
        }
    }

    fn fragments(&self, pieces: Vec<Piece>) -> Vec<(Vec<Block>, BTreeSet<u64>)> {
        const HEADER: usize = 4;
        let (mut fragments, mut octets) = (vec![(Vec::new(), BTreeSet::new())], HEADER);
        for Piece { block, events } in pieces {
            let mut encoded = Vec::new();
            if block.encode(&mut encoded).is_err() {
                continue;
            }
            if octets + encoded.len() > self.config.most_octets {
                // A moment that others are told from stays with them.
                let common = fragments.last_mut().and_then(|(blocks, _): &mut (Vec<Block>, _)| {
                    blocks.pop_if(|block: &mut Block| block.variation.group == 51)
                });
                fragments.push((common.into_iter().collect(), BTreeSet::new()));
                octets = HEADER + 16;
            }
            octets += encoded.len();
            if let Some((blocks, known)) = fragments.last_mut() {
                blocks.push(block);
                known.extend(events);
            }
        }
        fragments
    }

    fn confirmed(&mut self, now: Now, master: LinkAddress, control: Control, process: &mut impl Process) {
        let Some(session) = self.sessions.get_mut(&master) else { return };
        let slot = if control.is_unsolicited { &mut session.unsolicited } else { &mut session.solicited };
        // Only its own confirm makes something forgotten.
        let Some(waiting) = slot.take_if(|waiting| waiting.sequence == control.sequence) else { return };
        session.buffer.remove(&waiting.events);
        if control.is_unsolicited {
            session.is_greeted = true;
            session.next_unsolicited = Control::next(control.sequence);
            if let Some(deferred) = session.deferred.take() {
                self.handle_fragment(now, master, false, &deferred, process);
            }
            return;
        }
        let mut rest = waiting.rest;
        if let Some((control, fragment, events)) = rest.pop_front() {
            session.ready.push_back(fragment.clone());
            let (sequence, deadline) = (control.sequence, now.instant + self.config.confirm_timeout);
            session.solicited = control.wants_confirm.then_some(Waiting { sequence, fragment, events, deadline, rest });
        }
    }

    /// The next fragment, and whom it is for. Ask again after every other call.
    #[must_use]
    pub fn poll_transmit(&mut self, now: Now) -> Option<(LinkAddress, Vec<u8>)> {
        let masters: Vec<_> = self.sessions.keys().copied().collect();
        masters.into_iter().find_map(|master| Some((master, self.poll_transmit_to(now, master)?)))
    }

    /// The next fragment for one master. Ask again after every other call.
    #[must_use]
    pub fn poll_transmit_to(&mut self, now: Now, master: LinkAddress) -> Option<Vec<u8>> {
        if self.sessions.get(&master)?.ready.is_empty() {
            self.tell_unasked(now, master);
        }
        self.sessions.get_mut(&master)?.ready.pop_front()
    }

    /// Tells that it is there, and then events of the classes that the master wants unasked, one fragment at a time.
    fn tell_unasked(&mut self, now: Now, master: LinkAddress) {
        let Some(session) = self.sessions.get(&master).filter(|_| self.config.is_unsolicited) else { return };
        if session.unsolicited.is_some() || session.solicited.is_some() {
            return;
        }
        let mut reading = Reading::new(&self.points, &self.attributes, &session.buffer);
        if session.is_greeted {
            let Classes { first, second, third } = session.enabled;
            for (is_enabled, variation) in [(first, 2), (second, 3), (third, 4)] {
                if is_enabled {
                    reading.ask(&Block::all(60, variation), now.wall);
                }
            }
            if reading.pieces.is_empty() {
                return;
            }
        }
        let (pieces, sequence) = (reading.pieces, session.next_unsolicited);
        let Some((blocks, events)) = self.fragments(pieces).into_iter().next() else { return };
        let control = Control { is_unsolicited: true, wants_confirm: true, ..Control::request(sequence) };
        let header = self.header(master, control, Indications::NONE, &events);
        let fragment = Response { header, blocks }.encode().unwrap_or_default();
        let deadline = now.instant + self.config.confirm_timeout;
        if let Some(session) = self.sessions.get_mut(&master) {
            session.ready.push_back(fragment.clone());
            session.unsolicited = Some(Waiting { sequence, fragment, events, deadline, rest: VecDeque::new() });
        }
    }

    /// When [`Outstation::handle_timeout`] is to be called. Ask again after every other call.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        let waits = self.sessions.values().flat_map(|session| [&session.solicited, &session.unsolicited]);
        waits.flatten().map(|waiting| waiting.deadline).min()
    }

    /// A moment of [`Outstation::poll_timeout`] has come. Calls that come early do nothing.
    pub fn handle_timeout(&mut self, now: Now, process: &mut impl Process) {
        let confirm_timeout = self.config.confirm_timeout;
        let mut deferred = Vec::new();
        for (master, session) in &mut self.sessions {
            let is_late = |waiting: &Waiting| now.instant >= waiting.deadline;
            // What was asked for and not confirmed stays here.
            session.solicited.take_if(|waiting| is_late(waiting));
            let Some(waiting) = session.unsolicited.as_mut().filter(|waiting| is_late(waiting)) else { continue };
            waiting.deadline = now.instant + confirm_timeout;
            match session.deferred.take() {
                Some(request) => {
                    session.unsolicited = None;
                    deferred.push((*master, request));
                }
                // The same again, with the same number.
                None => session.ready.push_back(waiting.fragment.clone()),
            }
        }
        for (master, request) in deferred {
            self.handle_fragment(now, master, false, &request, process);
        }
    }
}
