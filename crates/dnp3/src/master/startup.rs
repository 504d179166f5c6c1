use super::Master;
use super::event::{MasterEvent, Now};
use super::machine::Task;
use crate::application::Indications;

/// How far the beginning has come.
///
/// Source: IEEE 1815-2012, section 4.6.6.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Stage {
    DisableUnsolicited,
    Time,
    ClearRestart,
    AssignClasses,
    Deadbands,
    Integrity,
    EnableUnsolicited,
    Running,
}

impl Stage {
    const fn next(self) -> Self {
        match self {
            Self::DisableUnsolicited => Self::Time,
            Self::Time => Self::ClearRestart,
            Self::ClearRestart => Self::AssignClasses,
            Self::AssignClasses => Self::Deadbands,
            Self::Deadbands => Self::Integrity,
            Self::Integrity => Self::EnableUnsolicited,
            Self::EnableUnsolicited | Self::Running => Self::Running,
        }
    }
}

impl Master {
    /// The next step of the beginning; none once it is over. What there is no need for is passed over.
    pub(super) fn next_of_startup(&mut self) -> Option<Task> {
        loop {
            let assignments = &self.config.assignments;
            let task = match self.stage {
                Stage::DisableUnsolicited => Some(Task::DisableUnsolicited),
                Stage::Time => {
                    self.wanted.time = self.indications.has(Indications::NEED_TIME);
                    self.time_task()
                }
                Stage::ClearRestart if self.indications.has(Indications::DEVICE_RESTART) => Some(Task::ClearRestart),
                Stage::AssignClasses if !assignments.classes.is_empty() => Some(Task::AssignClasses),
                Stage::Deadbands if !assignments.deadbands.is_empty() => Some(Task::Deadbands),
                Stage::Integrity => Some(Task::Integrity),
                Stage::EnableUnsolicited if !self.config.unsolicited.is_empty() => Some(Task::EnableUnsolicited),
                Stage::Running => return None,
                Stage::ClearRestart | Stage::AssignClasses | Stage::Deadbands | Stage::EnableUnsolicited => None,
            };
            if task.is_some() {
                return task;
            }
            self.stage = self.stage.next();
        }
    }

    /// A step of the beginning is done, or the outstation does not take it.
    pub(super) fn step_done(&mut self, task: &Task, now: Now) {
        let is_of_stage = match self.stage {
            Stage::DisableUnsolicited => *task == Task::DisableUnsolicited,
            Stage::Time => matches!(task, Task::RecordTime | Task::MeasureDelay | Task::WriteTime { .. }),
            Stage::ClearRestart => *task == Task::ClearRestart,
            Stage::AssignClasses => *task == Task::AssignClasses,
            Stage::Deadbands => *task == Task::Deadbands,
            Stage::Integrity => *task == Task::Integrity,
            Stage::EnableUnsolicited => *task == Task::EnableUnsolicited,
            Stage::Running => false,
        };
        // A time follows its measurement, and only then the next step.
        if !is_of_stage || self.follow.is_some() {
            return;
        }
        if self.stage == Stage::Integrity {
            self.events.push_back(MasterEvent::Started);
            self.due.polls = self.config.event_polls.iter().map(|(_, period)| now.instant + *period).collect();
            self.due.integrity = self.config.integrity_period.map(|period| now.instant + period);
            self.wanted.integrity = false;
        }
        self.stage = self.stage.next();
    }
}
