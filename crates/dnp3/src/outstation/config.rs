use crate::object::{CommandStatus, Object, PointKind};
use std::time::Duration;

/// What an outstation allows.
#[derive(Debug, Clone, PartialEq)]
pub struct OutstationConfig {
    /// The largest fragment that it sends.
    pub most_octets: usize,
    /// How long it waits for the confirm of what it told.
    pub confirm_timeout: Duration,
    /// How long after its select an output may be operated.
    pub select_timeout: Duration,
    /// Whether it tells events unasked, once a master wants that.
    pub is_unsolicited: bool,
    /// So many events are kept for each master; of more, the oldest are lost.
    pub most_events: usize,
}

impl Default for OutstationConfig {
    fn default() -> Self {
        Self {
            most_octets: 2048,
            confirm_timeout: Duration::from_secs(5),
            select_timeout: Duration::from_secs(10),
            is_unsolicited: true,
            most_events: 10_000,
        }
    }
}

/// Which events are told together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum EventClass {
    /// Class 1.
    First,
    /// Class 2.
    Second,
    /// Class 3.
    Third,
}

/// What is behind an outstation.
pub trait Process {
    /// Whether an output would do what it is told.
    fn select(&mut self, kind: PointKind, index: u32, command: &Object) -> CommandStatus;

    /// An output does what it is told.
    fn operate(&mut self, kind: PointKind, index: u32, command: &Object) -> CommandStatus;

    /// It is told what time it is, in milliseconds since 1970 UTC.
    fn set_time(&mut self, wall: u64);

    /// Whether what was done last is answered.
    fn is_answered(&mut self) -> bool {
        true
    }

    /// It is to restart; in how many milliseconds it will be there again, where it does.
    fn restart(&mut self, is_cold: bool) -> Option<u16>;
}
