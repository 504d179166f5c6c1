use super::Master;
use super::config::Classes;
use super::event::{MasterEvent, Now, Told, ToldId};
use super::machine::{Outstanding, Settling, Task};
use super::startup::Stage;
use crate::application::{Block, Control, FunctionCode, Indications, Request, Response, ResponseHeader};
use crate::codec::DecodeError;

impl Master {
    /// A fragment of the outstation came.
    pub fn handle_fragment(&mut self, now: Now, octets: &[u8]) {
        if !self.is_connected {
            return;
        }
        let header = match ResponseHeader::decode(octets) {
            Ok((header, _)) => header,
            Err(error) => return self.events.push_back(MasterEvent::Unreadable(error)),
        };
        // It speaks.
        self.due.retry = None;
        let is_answer =
            |outstanding: &&Outstanding| is_ours(outstanding, header.control) && !header.control.is_unsolicited;
        let answered = self.outstanding.as_ref().filter(is_answer);
        let took = answered.map(|outstanding| now.instant.saturating_duration_since(outstanding.sent.instant));
        self.events.push_back(MasterEvent::Heard { took });
        self.note(header.indications, now);
        if header.control.is_unsolicited {
            self.handle_unsolicited(header, octets, now);
        } else {
            self.handle_solicited(header, octets, now);
        }
    }

    /// What the outstation says of itself is read from every fragment. Classes with events are read until there are none; of all
    /// else, what is new counts, and after a while what is still there.
    fn note(&mut self, indications: Indications, now: Now) {
        let raised = indications.since(self.indications);
        let is_other = indications.since(Indications::EVENTS) != self.indications.since(Indications::EVENTS);
        self.indications = indications;
        if is_other {
            self.events.push_back(MasterEvent::Indications { now: indications, raised });
        }
        if raised.has(Indications::DEVICE_RESTART) && self.stage > Stage::ClearRestart {
            self.restarted();
            self.indications = indications;
            return;
        }
        let has = |bit| indications.has(bit);
        if self.due.events.is_none_or(|at| now.instant >= at) {
            self.wanted.events = self.wanted.events.with(Classes {
                first: has(Indications::CLASS_1_EVENTS),
                second: has(Indications::CLASS_2_EVENTS),
                third: has(Indications::CLASS_3_EVENTS),
            });
        }
        if raised.has(Indications::EVENT_BUFFER_OVERFLOW) {
            self.events.push_back(MasterEvent::Overflow);
            self.wanted.events = Classes::ALL;
            self.wanted.integrity = true;
        }
        if self.stage == Stage::Running {
            self.wanted.time |= raised.has(Indications::NEED_TIME);
            let is_left = has(Indications::NEED_TIME) || has(Indications::DEVICE_RESTART);
            if is_left && self.due.again.is_none() {
                self.due.again = Some(now.instant + self.config.retry_period);
            }
        }
    }

    fn restarted(&mut self) {
        self.events.push_back(MasterEvent::Restarted);
        // A select that it forgot is not operated; what is under way ends by itself.
        if let Some(task) = self.follow.take() {
            self.command_not_sent(task);
        }
        self.begin_anew();
    }

    fn handle_solicited(&mut self, header: ResponseHeader, octets: &[u8], now: Now) {
        let control = header.control;
        // Anything else is late, or for somebody else.
        let Some(mut outstanding) = self.outstanding.take_if(|outstanding| is_ours(outstanding, control)) else {
            return;
        };
        let response = match Response::decode(octets) {
            Ok(response) => response,
            Err(error) => return self.unreadable(outstanding, error, now),
        };
        if !outstanding.task.reads() {
            if control.wants_confirm {
                self.confirm(control.sequence, false);
            }
            return self.done(outstanding, &response, now);
        }
        if header.indications.has(Indications::REFUSALS) && outstanding.task.command().is_none() {
            let indications = Indications(header.indications.0 & Indications::REFUSALS.0);
            self.events.push_back(MasterEvent::Refused { function: outstanding.function, indications });
        }
        outstanding.has_objects |= !response.blocks.is_empty();
        let waits = self.tell(&response, now);
        if control.is_final && !waits {
            return self.done(outstanding, &response, now);
        }
        outstanding.is_begun = true;
        outstanding.deadline = (!waits).then(|| now.instant + self.config.response_timeout);
        if !control.is_final {
            outstanding.sequence = Control::next(control.sequence);
        }
        self.outstanding = Some(outstanding);
    }

    /// Something cannot be read. Where all was asked for at once, it is asked for one kind after the other.
    fn unreadable(&mut self, outstanding: Outstanding, error: DecodeError, now: Now) {
        self.events.push_back(MasterEvent::Unreadable(error));
        if outstanding.task == Task::Integrity && !self.wanted.is_explicit {
            (self.wanted.is_explicit, self.wanted.integrity) = (true, true);
        } else {
            self.due.retry = Some(now.instant + self.config.retry_period);
        }
        self.command_lost(outstanding.task);
    }

    fn done(&mut self, outstanding: Outstanding, response: &Response, now: Now) {
        let refusals = Indications(response.header.indications.0 & Indications::REFUSALS.0);
        let is_refused = refusals != Indications::NONE && !outstanding.task.reads();
        if is_refused && outstanding.task.command().is_none() {
            self.events.push_back(MasterEvent::Refused { function: outstanding.function, indications: refusals });
        }
        let task = outstanding.task.clone();
        match &task {
            Task::RecordTime | Task::MeasureDelay if !is_refused => self.time_measured(&outstanding, response, now),
            Task::WriteTime { delay, .. } if !is_refused => self.time_written(*delay, now),
            // It says that there are some, and tells none: it is not asked again and again.
            Task::Events(_) if !outstanding.has_objects => {
                self.wanted.events = Classes::NONE;
                self.due.events = Some(now.instant + self.config.retry_period);
            }
            task if task.command().is_some() => self.command_answered(outstanding, response),
            _ => {}
        }
        self.step_done(&task, now);
    }

    fn handle_unsolicited(&mut self, header: ResponseHeader, octets: &[u8], now: Now) {
        let (sequence, wants_confirm) = (header.control.sequence, header.control.wants_confirm);
        let is_empty = octets.len() == HEADER;
        if is_empty {
            self.unsolicited = Some((sequence, octets.to_vec(), true));
            if wants_confirm {
                self.confirm(sequence, true);
            }
            return;
        }
        // Until all was read, nothing is taken that would be older, or newer, than that.
        if !self.is_started() {
            return;
        }
        if let Some((_, known, is_confirmed)) = &self.unsolicited
            && is_repeat(known, octets)
        {
            if *is_confirmed {
                if wants_confirm {
                    self.confirm(sequence, true);
                }
                return;
            }
            // While it is being made safe, that will confirm it.
            if self.settling.values().any(|settling| settling.is_unsolicited) {
                return;
            }
        }
        let response = match Response::decode(octets) {
            Ok(response) => response,
            Err(error) => return self.events.push_back(MasterEvent::Unreadable(error)),
        };
        // One is told at a time: what was not confirmed until the next one comes is told again by the outstation.
        self.settling.retain(|_, settling| !settling.is_unsolicited);
        self.unsolicited = Some((sequence, octets.to_vec(), !wants_confirm));
        self.tell(&response, now);
    }

    /// Tells what a response says; whether it has to be made safe before it is confirmed.
    fn tell(&mut self, response: &Response, now: Now) -> bool {
        let ResponseHeader { control, indications } = response.header;
        let measurements: Vec<_> = response.measurements().collect();
        let is_other = |block: &&Block| !block.is_of_points();
        let others: Vec<_> = response.blocks.iter().filter(is_other).cloned().collect();
        if measurements.is_empty() && others.is_empty() {
            if control.wants_confirm {
                self.confirm(control.sequence, control.is_unsolicited);
            }
            return false;
        }
        let id = control.wants_confirm.then(|| {
            self.last_told += 1;
            ToldId(self.last_told)
        });
        if let Some(id) = id {
            let settling = Settling {
                sequence: control.sequence,
                is_unsolicited: control.is_unsolicited,
                is_final: control.is_final,
                deadline: now.instant + self.config.confirm_within,
            };
            self.settling.insert(id, settling);
        }
        let needs_time = indications.has(Indications::NEED_TIME);
        let is_unsolicited = control.is_unsolicited;
        self.events.push_back(MasterEvent::Told(Told { id, is_unsolicited, needs_time, measurements, others }));
        id.is_some()
    }

    /// What was told is safe: it is confirmed, and the outstation forgets it.
    pub fn settled(&mut self, now: Now, id: ToldId) {
        let Some(Settling { sequence, is_unsolicited, is_final, .. }) = self.settling.remove(&id) else { return };
        self.confirm(sequence, is_unsolicited);
        if is_unsolicited {
            self.unsolicited.iter_mut().for_each(|(_, _, is_confirmed)| *is_confirmed = true);
            return;
        }
        let Some(outstanding) = &mut self.outstanding else { return };
        if !is_final {
            outstanding.deadline = Some(now.instant + self.config.response_timeout);
        } else if let Some(outstanding) = self.outstanding.take() {
            let header = ResponseHeader { control: Control::request(sequence), indications: Indications::NONE };
            self.done(outstanding, &Response { header, blocks: Vec::new() }, now);
        }
    }

    /// What was told could not be made safe in time: it is not confirmed, and comes again.
    pub(super) fn unsettled(&mut self, id: ToldId, now: Now) {
        let Some(Settling { is_unsolicited: false, .. }) = self.settling.remove(&id) else { return };
        if let Some(outstanding) = self.outstanding.take() {
            self.due.retry = Some(now.instant + self.config.response_timeout);
            if matches!(outstanding.task, Task::Integrity | Task::Events(_)) {
                self.wanted.events = Classes::ALL;
                self.wanted.integrity |= outstanding.task == Task::Integrity;
            }
            self.command_lost(outstanding.task);
        }
    }

    fn confirm(&mut self, sequence: u8, is_unsolicited: bool) {
        let control = Control { is_unsolicited, ..Control::request(sequence) };
        let confirm = Request { control, function: FunctionCode::CONFIRM, blocks: Vec::new() };
        self.ready.extend(confirm.encode());
    }
}

/// Whether a fragment is the one that is waited for.
fn is_ours(outstanding: &Outstanding, control: Control) -> bool {
    control.sequence == outstanding.sequence
        && control.is_first != outstanding.is_begun
        && outstanding.deadline.is_some()
}

/// Control, function and indications.
const HEADER: usize = 4;

/// Whether a fragment says the same as another one, with the same number: whatever the outstation says of itself by now.
fn is_repeat(known: &[u8], octets: &[u8]) -> bool {
    let parts = |octets: &[u8]| Some((*octets.first()?, octets.get(HEADER..)?.to_vec()));
    parts(known) == parts(octets)
}

impl Task {
    /// Whether its answer has points in it.
    const fn reads(&self) -> bool {
        matches!(self, Self::Integrity | Self::Events(_) | Self::Read(..))
    }
}
