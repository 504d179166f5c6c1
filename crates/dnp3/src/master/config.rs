use crate::application::Block;
use std::time::Duration;

/// Classes of events.
///
/// Source: IEEE 1815-2012, section 5.1.4.2.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Classes {
    /// Class 1.
    pub first: bool,
    /// Class 2.
    pub second: bool,
    /// Class 3.
    pub third: bool,
}

impl Classes {
    /// None of them.
    pub const NONE: Self = Self { first: false, second: false, third: false };
    /// All of them.
    pub const ALL: Self = Self { first: true, second: true, third: true };

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self == Self::NONE
    }

    /// Those of both.
    #[must_use]
    pub const fn with(self, other: Self) -> Self {
        Self { first: self.first || other.first, second: self.second || other.second, third: self.third || other.third }
    }

    /// Those of both that are the same.
    #[must_use]
    pub const fn and(self, other: Self) -> Self {
        Self { first: self.first && other.first, second: self.second && other.second, third: self.third && other.third }
    }

    /// Objects that name them.
    pub(super) fn blocks(self) -> Vec<Block> {
        let all = [(self.first, 2), (self.second, 3), (self.third, 4)];
        all.into_iter().filter(|(is_meant, _)| *is_meant).map(|(_, variation)| Block::all(60, variation)).collect()
    }
}

/// How the clock of an outstation is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum TimeSync {
    /// It is not.
    Off,
    /// The outstation notes when it got a message, and is told when that was sent: for networks.
    ///
    /// Source: IEEE 1815-2012, section 10.3.3.
    Lan,
    /// How long a message takes is measured first: for serial lines.
    ///
    /// Source: IEEE 1815-2012, section 10.3.2.
    NonLan,
}

/// How an outstation is spoken with.
#[derive(Debug, Clone, PartialEq)]
pub struct MasterConfig {
    /// Whether it begins with the outstation at all: else nothing is asked but what commands ask.
    pub begins: bool,
    /// How long an answer may take. Too short takes late answers for lost ones; too long keeps commands waiting behind a silent
    /// outstation.
    pub response_timeout: Duration,
    /// How often a request that changes nothing is sent again when its answer does not come.
    pub retries: u8,
    /// So long after something failed it is tried again.
    pub retry_period: Duration,
    /// How often everything is read; never again after the beginning where this is none.
    pub integrity_period: Option<Duration>,
    /// How often the events of some classes are read.
    pub event_polls: Vec<(Classes, Duration)>,
    /// Of which classes the outstation is to tell events unasked.
    pub unsolicited: Classes,
    /// How its clock is set.
    pub time_sync: TimeSync,
    /// Its clock is set again when a message took longer than this.
    pub max_delay: Duration,
    /// What is told again to the outstation when it has restarted: which points are of which class, and deadbands.
    pub assignments: Assignments,
    /// What is asked for by variations of its own whenever everything is read, behind that.
    pub variations: Vec<Block>,
    /// How long what is to be confirmed may take to be safe here. What takes longer is not confirmed: the outstation tells it
    /// again.
    pub confirm_within: Duration,
    /// How long after its select an operate may be sent.
    pub select_timeout: Duration,
    /// The largest fragment that is taken.
    pub most_octets: usize,
}

/// What an outstation forgets when it restarts.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Assignments {
    /// Each class, by its block of group 60, before the points that belong to it.
    pub classes: Vec<Block>,
    /// Deadbands of analog inputs: blocks of group 34.
    pub deadbands: Vec<Block>,
}

impl Default for MasterConfig {
    fn default() -> Self {
        Self {
            begins: true,
            response_timeout: Duration::from_secs(5),
            retries: 1,
            retry_period: Duration::from_secs(30),
            integrity_period: Some(Duration::from_secs(3600)),
            event_polls: Vec::new(),
            unsolicited: Classes::ALL,
            time_sync: TimeSync::Lan,
            max_delay: Duration::from_millis(500),
            assignments: Assignments::default(),
            variations: Vec::new(),
            confirm_within: Duration::from_secs(2),
            select_timeout: Duration::from_secs(10),
            most_octets: 2048,
        }
    }
}
