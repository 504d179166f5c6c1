use super::Master;
use super::event::{Command, CommandAnswer, CommandId, Doubt, Now, Refusal};
use super::machine::{Outstanding, Task};
use crate::application::{Block, Entry, Indications, Response};
use crate::object::{CommandStatus, ControlRelayOutputBlock, Object};

impl Task {
    pub(super) fn of_command(id: CommandId, command: Command) -> Self {
        match command {
            Command::SelectOperate(block) => Self::Select(id, block),
            Command::DirectOperate(block) => Self::DirectOperate(id, block),
            Command::Act(function, blocks) => Self::Act(id, function, blocks),
            Command::Read(blocks) => Self::Read(id, blocks),
        }
    }

    /// The command that it belongs to.
    pub(super) const fn command(&self) -> Option<CommandId> {
        match self {
            Self::Select(id, _)
            | Self::Operate(id, ..)
            | Self::DirectOperate(id, _)
            | Self::Act(id, ..)
            | Self::Read(id, _) => Some(*id),
            _ => None,
        }
    }
}

impl Master {
    /// What speaks against a command before it is sent.
    pub(super) fn objection(command: &Command) -> Option<Refusal> {
        let (Command::SelectOperate(block) | Command::DirectOperate(block)) = command else { return None };
        let does_nothing = |entry: &Entry| match &entry.object {
            Object::Control(control) => control.count == 0 || control.is_queued || control.clears,
            Object::Setting { .. } => false,
            _ => true,
        };
        (block.entries.is_empty() || block.entries.iter().any(does_nothing)).then_some(Refusal::Nothing)
    }

    /// An operate that would come too late after its select is not sent.
    pub(super) fn too_late(&mut self, task: Task, now: Now) -> Option<Task> {
        match &task {
            Task::Operate(id, _, until) if now.instant > *until => {
                self.answer(*id, CommandAnswer::Refused(Refusal::Late));
                None
            }
            _ => Some(task),
        }
    }

    /// An answer to a command came.
    pub(super) fn command_answered(&mut self, outstanding: Outstanding, response: &Response) {
        let Outstanding { task, sent, .. } = outstanding;
        let refusals = response.header.indications.0 & Indications::REFUSALS.0;
        let refused = (refusals != 0).then_some(Refusal::Indications(Indications(refusals)));
        match task {
            Task::Select(id, block) => match refused.or_else(|| refusal(&block, response, Refusal::OtherSelected)) {
                Some(refusal) => self.answer(id, CommandAnswer::Refused(refusal)),
                None => self.follow = Some(Task::Operate(id, block, sent.instant + self.config.select_timeout)),
            },
            Task::Operate(id, block, _) | Task::DirectOperate(id, block) => {
                let answer = match (refused, echoed(&block, response)) {
                    (Some(refusal), _) => CommandAnswer::Refused(refusal),
                    (None, Some(CommandStatus::SUCCESS)) => CommandAnswer::Accepted(None),
                    (None, Some(status)) => CommandAnswer::Refused(Refusal::Status(status)),
                    (None, None) => CommandAnswer::Unknown(Doubt::OtherEcho),
                };
                self.answer(id, answer);
            }
            Task::Act(id, ..) => {
                let delay =
                    response.blocks.iter().flat_map(|block| &block.entries).find_map(|entry| match entry.object {
                        Object::Delay(span) => Some(span),
                        _ => None,
                    });
                self.answer(id, refused.map_or(CommandAnswer::Accepted(delay), CommandAnswer::Refused));
            }
            Task::Read(id, _) => {
                self.answer(id, refused.map_or(CommandAnswer::Accepted(None), CommandAnswer::Refused));
            }
            _ => {}
        }
    }

    /// What was sent for a command is not waited for any more.
    pub(super) fn command_lost(&mut self, task: Task) {
        match task {
            // It was selected at most.
            Task::Select(id, _) | Task::Read(id, _) => self.answer(id, CommandAnswer::Refused(Refusal::NotSent)),
            other => {
                if let Some(id) = other.command() {
                    self.answer(id, CommandAnswer::Unknown(Doubt::Lost));
                }
            }
        }
    }

    /// What was to follow is not sent.
    pub(super) fn command_not_sent(&mut self, task: Task) {
        if let Some(id) = task.command() {
            self.answer(id, CommandAnswer::Refused(Refusal::NotSent));
        }
    }
}

fn refusal(sent: &Block, response: &Response, otherwise: Refusal) -> Option<Refusal> {
    match echoed(sent, response) {
        Some(CommandStatus::SUCCESS) => None,
        Some(status) => Some(Refusal::Status(status)),
        None => Some(otherwise),
    }
}

/// The worst of what was said to each output, where the answer has the same outputs with the same commands.
///
/// Source: IEEE 1815-2012, section 4.4.4.
fn echoed(sent: &Block, response: &Response) -> Option<CommandStatus> {
    let [echo] = response.blocks.as_slice() else { return None };
    let is_same =
        |(sent, echo): (&Entry, &Entry)| sent.index == echo.index && bare(&sent.object).0 == bare(&echo.object).0;
    let (before, after) = (&sent.entries, &echo.entries);
    if sent.variation != echo.variation || before.len() != after.len() || !before.iter().zip(after).all(is_same) {
        return None;
    }
    let mut statuses = after.iter().map(|entry| bare(&entry.object).1);
    Some(statuses.find(|status| *status != CommandStatus::SUCCESS).unwrap_or_default())
}

/// A command without what was said to it, and that.
fn bare(object: &Object) -> (Object, CommandStatus) {
    match object {
        Object::Control(control) => {
            (Object::Control(ControlRelayOutputBlock { status: CommandStatus::SUCCESS, ..*control }), control.status)
        }
        Object::Setting { number, status } => {
            (Object::Setting { number: *number, status: CommandStatus::SUCCESS }, *status)
        }
        other => (other.clone(), CommandStatus::SUCCESS),
    }
}
