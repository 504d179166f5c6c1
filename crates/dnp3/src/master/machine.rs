use super::config::{Classes, MasterConfig, TimeSync};
use super::event::{Command, CommandAnswer, CommandId, Doubt, MasterEvent, Now, Refusal, ToldId};
use super::startup::Stage;
use crate::application::{Block, FunctionCode, Indications, Request};
use std::collections::{BTreeMap, VecDeque};
use std::time::Instant;

/// Speaks with one outstation: asks, confirms, and reacts to what the outstation says of itself.
///
/// ```text
///            connected                         integrity is over
///   nothing ──────────▶ start-up, step by step ─────────────────▶ running: commands, events, integrity, clock
///      ▲                       ▲                                     │
///      │ lost                  └───────── the outstation restarted ──┘
///      └── from anywhere
/// ```
///
/// One request is under way at a time. Nothing that changes something is ever sent again by itself. What is told with a number
/// is confirmed once [`Master::settled`] says that it is safe; what takes too long for that is not confirmed.
///
/// Source: IEEE 1815-2012, sections 4.4, 4.6 and 10.
#[derive(Debug)]
pub struct Master {
    pub(super) config: MasterConfig,
    pub(super) is_connected: bool,
    pub(super) stage: Stage,
    /// The number of the next request.
    sequence: u8,
    pub(super) outstanding: Option<Outstanding>,
    /// What has to go next, and nothing else between: an operate behind its select, a time behind its measurement.
    pub(super) follow: Option<Task>,
    /// Confirms, and what is sent again: they go before everything else.
    pub(super) ready: VecDeque<Vec<u8>>,
    pub(super) commands: VecDeque<(CommandId, Command)>,
    pub(super) events: VecDeque<MasterEvent>,
    pub(super) settling: BTreeMap<ToldId, Settling>,
    pub(super) last_told: u64,
    /// What was told unasked last: its number, its octets, and whether it was confirmed.
    pub(super) unsolicited: Option<(u8, Vec<u8>, bool)>,
    pub(super) indications: Indications,
    pub(super) wanted: Wanted,
    pub(super) due: Due,
    /// Whether this side knows what time it is.
    pub(super) has_clock: bool,
}

/// A request that is under way.
#[derive(Debug)]
pub(super) struct Outstanding {
    pub(super) task: Task,
    pub(super) function: FunctionCode,
    request: Vec<u8>,
    /// The number of the next fragment of its answer.
    pub(super) sequence: u8,
    /// Whether a fragment of its answer has come.
    pub(super) is_begun: bool,
    pub(super) sent: Now,
    /// Whether it had objects.
    pub(super) has_objects: bool,
    /// Until when the next fragment has to come; none while one is being made safe here.
    pub(super) deadline: Option<Instant>,
    sent_again: u8,
}

/// Something told that is to be confirmed.
#[derive(Debug)]
pub(super) struct Settling {
    pub(super) sequence: u8,
    pub(super) is_unsolicited: bool,
    pub(super) is_final: bool,
    pub(super) deadline: Instant,
}

/// What is asked for.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Task {
    DisableUnsolicited,
    ClearRestart,
    AssignClasses,
    Deadbands,
    Integrity,
    EnableUnsolicited,
    Events(Classes),
    RecordTime,
    MeasureDelay,
    /// The moment of a request that the outstation noted; else the present moment, after so many milliseconds on the way.
    WriteTime {
        recorded: Option<Now>,
        delay: u64,
    },
    Select(CommandId, Block),
    Operate(CommandId, Block, Instant),
    DirectOperate(CommandId, Block),
    Act(CommandId, FunctionCode, Vec<Block>),
    Read(CommandId, Vec<Block>),
}

/// What the outstation makes necessary.
#[derive(Debug, Default)]
pub(super) struct Wanted {
    pub(super) events: Classes,
    pub(super) integrity: bool,
    pub(super) time: bool,
    /// The clock could not be set well enough.
    pub(super) time_again: bool,
    pub(super) clear_restart: bool,
    /// All objects are named one kind after the other, since all at once could not be read.
    pub(super) is_explicit: bool,
}

/// What comes with time.
#[derive(Debug, Default)]
pub(super) struct Due {
    /// Nothing is asked before, since the outstation does not answer; commands are.
    pub(super) retry: Option<Instant>,
    pub(super) integrity: Option<Instant>,
    /// In the order of the configuration.
    pub(super) polls: Vec<Instant>,
    /// What the outstation still says of itself, though something was done about it, is seen to again.
    pub(super) again: Option<Instant>,
    /// Until then it is not believed that there are events, since it told none when it was asked.
    pub(super) events: Option<Instant>,
}

impl Master {
    /// A master that is not connected yet.
    #[must_use]
    pub fn new(config: MasterConfig) -> Self {
        Self {
            config,
            is_connected: false,
            stage: Stage::DisableUnsolicited,
            sequence: 0,
            outstanding: None,
            follow: None,
            ready: VecDeque::new(),
            commands: VecDeque::new(),
            events: VecDeque::new(),
            settling: BTreeMap::new(),
            last_told: 0,
            unsolicited: None,
            indications: Indications::NONE,
            wanted: Wanted::default(),
            due: Due::default(),
            has_clock: true,
        }
    }

    /// Whether this side knows what time it is: only then are clocks set by it. It does at first.
    pub const fn set_clock(&mut self, is_synchronized: bool) {
        self.has_clock = is_synchronized;
    }

    /// The largest fragment that it takes.
    #[must_use]
    pub const fn most_octets(&self) -> usize {
        self.config.most_octets
    }

    /// Whether an answer is waited for.
    #[must_use]
    pub const fn is_waiting(&self) -> bool {
        self.outstanding.is_some()
    }

    /// There is a way to the outstation.
    pub fn connected(&mut self) {
        self.is_connected = true;
        self.begin_anew();
    }

    /// There is none any more. Commands are answered: what was sent may have been done.
    pub fn disconnected(&mut self) {
        self.is_connected = false;
        if let Some(Outstanding { task, .. }) = self.outstanding.take() {
            self.command_lost(task);
        }
        if let Some(task) = self.follow.take() {
            self.command_not_sent(task);
        }
        for (id, _) in std::mem::take(&mut self.commands) {
            self.answer(id, CommandAnswer::Refused(Refusal::NotSent));
        }
        self.ready.clear();
        self.settling.clear();
    }

    pub(super) fn begin_anew(&mut self) {
        let first = if self.config.begins { Stage::DisableUnsolicited } else { Stage::Running };
        (self.stage, self.unsolicited, self.follow) = (first, None, None);
        (self.wanted, self.due) = (Wanted::default(), Due::default());
        self.indications = Indications::NONE;
    }

    /// Gives a command, which goes ahead of all that is asked anyway. It is answered in an event.
    pub fn command(&mut self, id: CommandId, command: Command) {
        if !self.is_connected {
            return self.answer(id, CommandAnswer::Refused(Refusal::NotSent));
        }
        match Self::objection(&command) {
            Some(refusal) => self.answer(id, CommandAnswer::Refused(refusal)),
            None => self.commands.push_back((id, command)),
        }
    }

    /// Nobody waits for a command any more: it is not sent, or answered as unknown.
    pub fn cancel(&mut self, id: CommandId) {
        if let Some(at) = self.commands.iter().position(|(known, _)| *known == id) {
            self.commands.remove(at);
            return self.answer(id, CommandAnswer::Refused(Refusal::NotSent));
        }
        if self.follow.as_ref().and_then(Task::command) == Some(id)
            && let Some(task) = self.follow.take()
        {
            return self.command_not_sent(task);
        }
        if self.outstanding.as_ref().and_then(|outstanding| outstanding.task.command()) == Some(id)
            && let Some(Outstanding { task, .. }) = self.outstanding.take()
        {
            self.command_lost(task);
        }
    }

    /// Everything is read again, as soon as may be.
    pub const fn read_all(&mut self) {
        self.wanted.integrity = true;
    }

    /// The next fragment for the outstation. Ask again after every other call.
    #[must_use]
    pub fn poll_transmit(&mut self, now: Now) -> Option<Vec<u8>> {
        if !self.is_connected {
            return None;
        }
        if let Some(confirm) = self.ready.pop_front() {
            return Some(confirm);
        }
        if self.outstanding.is_some() {
            return None;
        }
        while let Some(task) = self.next_task(now) {
            if let Some(task) = self.too_late(task, now) {
                return Some(self.ask(task, now));
            }
        }
        None
    }

    fn ask(&mut self, task: Task, now: Now) -> Vec<u8> {
        if task == Task::Integrity {
            // It reads them, too.
            self.wanted.events = Classes::NONE;
        }
        let (function, blocks) = self.request_of(&task, now);
        let sequence = self.sequence;
        self.sequence = crate::application::Control::next(sequence);
        // All objects are made here, by their variations.
        let request = Request::new(sequence, function, blocks).encode().unwrap_or_default();
        let deadline = Some(now.instant + self.config.response_timeout);
        let (is_begun, has_objects, sent, sent_again) = (false, false, now, 0);
        if function.has_no_answer() {
            if let Some(id) = task.command() {
                self.answer(id, CommandAnswer::Accepted(None));
            }
            return request;
        }
        let copy = request.clone();
        self.outstanding =
            Some(Outstanding { task, function, request, sequence, is_begun, has_objects, sent, deadline, sent_again });
        copy
    }

    fn next_task(&mut self, now: Now) -> Option<Task> {
        if let Some(task) = self.follow.take() {
            return Some(task);
        }
        if let Some((id, command)) = self.commands.pop_front() {
            return Some(Task::of_command(id, command));
        }
        if self.due.retry.is_some_and(|at| now.instant < at) {
            return None;
        }
        self.due.retry = None;
        if let Some(task) = self.next_of_startup() {
            return Some(task);
        }
        self.next_of_running(now)
    }

    /// What is asked while all goes as it always does.
    fn next_of_running(&mut self, now: Now) -> Option<Task> {
        if !self.config.begins {
            return None;
        }
        let is_due = |at: Instant| now.instant >= at;
        if self.due.again.is_some_and(is_due) {
            self.due.again = None;
            self.wanted.clear_restart = self.indications.has(Indications::DEVICE_RESTART);
            self.wanted.time |=
                std::mem::take(&mut self.wanted.time_again) || self.indications.has(Indications::NEED_TIME);
        }
        if std::mem::take(&mut self.wanted.clear_restart) {
            return Some(Task::ClearRestart);
        }
        if let Some(task) = self.time_task() {
            return Some(task);
        }
        for ((classes, period), at) in self.config.event_polls.iter().zip(&mut self.due.polls) {
            if is_due(*at) {
                *at = now.instant + *period;
                self.wanted.events = self.wanted.events.with(*classes);
            }
        }
        if !self.wanted.events.is_empty() {
            return Some(Task::Events(std::mem::take(&mut self.wanted.events)));
        }
        let is_due = self.due.integrity.is_some_and(is_due);
        (std::mem::take(&mut self.wanted.integrity) || is_due).then(|| {
            self.due.integrity = self.config.integrity_period.map(|period| now.instant + period);
            Task::Integrity
        })
    }

    pub(super) fn time_task(&mut self) -> Option<Task> {
        let is_wanted = std::mem::take(&mut self.wanted.time) && self.has_clock;
        match self.config.time_sync {
            TimeSync::Lan if is_wanted => Some(Task::RecordTime),
            TimeSync::NonLan if is_wanted => Some(Task::MeasureDelay),
            _ => None,
        }
    }

    fn request_of(&self, task: &Task, now: Now) -> (FunctionCode, Vec<Block>) {
        let all = |groups: &[u8]| groups.iter().map(|group| Block::all(*group, 0)).collect();
        match task {
            Task::DisableUnsolicited => (FunctionCode::DISABLE_UNSOLICITED, Classes::ALL.blocks()),
            Task::EnableUnsolicited => (FunctionCode::ENABLE_UNSOLICITED, self.config.unsolicited.blocks()),
            Task::ClearRestart => (FunctionCode::WRITE, vec![clear_restart()]),
            Task::AssignClasses => (FunctionCode::ASSIGN_CLASS, self.config.assignments.classes.clone()),
            Task::Deadbands => (FunctionCode::WRITE, self.config.assignments.deadbands.clone()),
            // Events first, so that how things are now is never older than they were.
            Task::Integrity if self.wanted.is_explicit => {
                (FunctionCode::READ, all(&[2, 4, 11, 22, 23, 32, 42, 1, 3, 10, 20, 21, 30, 40]))
            }
            Task::Integrity => {
                let mut blocks = Classes::ALL.blocks();
                blocks.push(Block::all(60, 1));
                blocks.extend(self.config.variations.iter().cloned());
                (FunctionCode::READ, blocks)
            }
            Task::Events(classes) => (FunctionCode::READ, classes.blocks()),
            Task::RecordTime => (FunctionCode::RECORD_CURRENT_TIME, Vec::new()),
            Task::MeasureDelay => (FunctionCode::DELAY_MEASURE, Vec::new()),
            Task::WriteTime { recorded, delay } => {
                (FunctionCode::WRITE, vec![super::time::time_block(*recorded, *delay, now)])
            }
            Task::Select(_, block) => (FunctionCode::SELECT, vec![block.clone()]),
            Task::Operate(_, block, _) => (FunctionCode::OPERATE, vec![block.clone()]),
            Task::DirectOperate(_, block) => (FunctionCode::DIRECT_OPERATE, vec![block.clone()]),
            Task::Act(_, function, blocks) => (*function, blocks.clone()),
            Task::Read(_, blocks) => (FunctionCode::READ, blocks.clone()),
        }
    }

    /// When [`Master::handle_timeout`] is to be called, or [`Master::poll_transmit`] asked again. Ask again after every other call.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        if !self.is_connected {
            return None;
        }
        let answers = self.outstanding.iter().filter_map(|outstanding| outstanding.deadline);
        let waits = answers.chain(self.settle_timeout());
        if self.outstanding.is_some() {
            return waits.min();
        }
        let is_running = self.stage == Stage::Running;
        let polls = self.due.polls.iter().copied().chain(self.due.integrity).chain(self.due.again);
        let polls = polls.filter(|_| is_running).map(|at| self.due.retry.map_or(at, |retry| at.max(retry)));
        waits.chain(polls).chain(self.due.retry).min()
    }

    /// When the first of what is to be confirmed is given up.
    pub(super) fn settle_timeout(&self) -> Option<Instant> {
        self.settling.values().map(|settling| settling.deadline).min()
    }

    /// A moment of [`Master::poll_timeout`] has come. Calls that come early do nothing.
    pub fn handle_timeout(&mut self, now: Now) {
        let is_over = |settling: &Settling| now.instant >= settling.deadline;
        let given_up: Vec<_> =
            self.settling.iter().filter(|(_, settling)| is_over(settling)).map(|(id, _)| *id).collect();
        given_up.into_iter().for_each(|id| self.unsettled(id, now));
        let is_late = |at: Instant| now.instant >= at;
        let Some(outstanding) = self.outstanding.take_if(|outstanding| outstanding.deadline.is_some_and(is_late))
        else {
            return;
        };
        let may_again = !outstanding.is_begun && outstanding.task.changes_nothing();
        if may_again && outstanding.sent_again < self.config.retries {
            let deadline = Some(now.instant + self.config.response_timeout);
            self.ready.push_back(outstanding.request.clone());
            let sent_again = outstanding.sent_again + 1;
            self.outstanding = Some(Outstanding { deadline, sent_again, sent: now, ..outstanding });
            return;
        }
        self.unanswered(outstanding, now);
    }

    fn unanswered(&mut self, Outstanding { task, function, .. }: Outstanding, now: Now) {
        self.events.push_back(MasterEvent::Unanswered(function));
        if task.command().is_none() {
            self.due.retry = Some(now.instant + self.config.retry_period);
            // What it said before is to be heard again, once it speaks.
            self.wanted.integrity |= self.stage == Stage::Running;
        }
        match task {
            Task::Select(id, _) => self.answer(id, CommandAnswer::Refused(Refusal::NoSelect)),
            other => {
                if let Some(id) = other.command() {
                    self.answer(id, CommandAnswer::Unknown(Doubt::Unanswered));
                }
            }
        }
    }

    /// The oldest event that was not taken yet. Ask until there is none, after every other call.
    #[must_use]
    pub fn poll_event(&mut self) -> Option<MasterEvent> {
        self.events.pop_front()
    }

    /// Whether everything was read since the connection came up.
    #[must_use]
    pub fn is_started(&self) -> bool {
        self.stage > Stage::Integrity
    }

    pub(super) fn answer(&mut self, id: CommandId, answer: CommandAnswer) {
        self.events.push_back(MasterEvent::Answered(id, answer));
    }
}

/// Takes back the indication that the outstation has restarted.
///
/// Source: IEEE 1815-2012, section 4.5.1 (IIN1.7) and annex A.31.
fn clear_restart() -> Block {
    Block::in_a_row(crate::object::Variation::new(80, 1), 7, [crate::object::Object::Bit(false)])
}

impl Task {
    /// Whether it may be sent again, since nothing comes of it twice.
    fn changes_nothing(&self) -> bool {
        matches!(
            self,
            Self::DisableUnsolicited
                | Self::EnableUnsolicited
                | Self::ClearRestart
                | Self::AssignClasses
                | Self::Deadbands
                | Self::Integrity
                | Self::Events(_)
                | Self::Read(..)
        )
    }
}
