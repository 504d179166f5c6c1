use super::Master;
use super::event::{MasterEvent, Now};
use super::machine::{Outstanding, Task};
use crate::application::{Block, Response};
use crate::object::{Object, Variation};
use std::time::Duration;

/// The time that an outstation is told.
///
/// Source: IEEE 1815-2012, section 10.3 and annex A.27 (group 50).
pub(super) fn time_block(recorded: Option<Now>, delay: u64, now: Now) -> Block {
    match recorded {
        Some(then) => Block::plain(Variation::new(50, 3), [Object::Time(then.wall)]),
        None => Block::plain(Variation::new(50, 1), [Object::Time(now.wall.saturating_add(delay))]),
    }
}

impl Master {
    /// The outstation has noted when a message came, or told how long it took with it: now it is told the time.
    pub(super) fn time_measured(&mut self, outstanding: &Outstanding, response: &Response, now: Now) {
        let round_trip = now.instant.saturating_duration_since(outstanding.sent.instant);
        self.follow = match outstanding.task {
            Task::RecordTime => {
                Some(Task::WriteTime { recorded: Some(outstanding.sent), delay: millis(round_trip) / 2 })
            }
            _ => {
                let told =
                    response.blocks.iter().flat_map(|block| &block.entries).find_map(|entry| match entry.object {
                        Object::Delay(span) => Some(span),
                        _ => None,
                    });
                // Without it there is nothing to reckon with.
                let on_the_way = told.map(|span| millis(round_trip).saturating_sub(span.into()) / 2);
                on_the_way.map(|delay| Task::WriteTime { recorded: None, delay })
            }
        };
    }

    /// It has the time. When a message took too long for that to be exact, it is told again, later.
    pub(super) fn time_written(&mut self, delay: u64, now: Now) {
        let delay = Duration::from_millis(delay);
        self.events.push_back(MasterEvent::ClockSet(delay));
        if delay > self.config.max_delay {
            self.due.again = Some(now.instant + self.config.retry_period);
            self.wanted.time_again = true;
        }
    }
}

fn millis(span: Duration) -> u64 {
    u64::try_from(span.as_millis()).unwrap_or(u64::MAX)
}
