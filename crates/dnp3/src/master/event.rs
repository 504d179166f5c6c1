use crate::application::{Block, FunctionCode, Indications};
use crate::codec::DecodeError;
use crate::measurement::Measurement;
use crate::object::CommandStatus;
use std::time::{Duration, Instant};

/// A moment, by both clocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Now {
    /// By the clock that never leaps.
    pub instant: Instant,
    /// In milliseconds since 1970 UTC.
    pub wall: u64,
}

/// Names something that was told, and that is to be confirmed once it is safe.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ToldId(pub(super) u64);

/// Names a command, as whoever gave it likes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct CommandId(pub u64);

/// What happened.
#[derive(Debug, Clone, PartialEq)]
pub enum MasterEvent {
    /// It said something that can be read: it is there.
    Heard {
        /// How long after the request that it answers; nothing where nobody asked.
        took: Option<Duration>,
    },
    /// Everything was read since the connection came up, or since the outstation restarted.
    Started,
    /// The outstation said something of its points.
    Told(Told),
    /// It says something else of itself than before.
    Indications {
        /// What it says now.
        now: Indications,
        /// What of it is new.
        raised: Indications,
    },
    /// It has restarted: it is spoken with from the beginning.
    Restarted,
    /// It lost events: there is a gap.
    Overflow,
    /// It said something that cannot be read, and that is not confirmed.
    Unreadable(DecodeError),
    /// It does not do something that it was asked for.
    Refused {
        /// What it was asked for.
        function: FunctionCode,
        /// What it said.
        indications: Indications,
    },
    /// It did not answer.
    Unanswered(FunctionCode),
    /// Its clock was set; a message took so long.
    ClockSet(Duration),
    /// A command is done.
    Answered(CommandId, CommandAnswer),
}

/// What an outstation said of its points.
#[derive(Debug, Clone, PartialEq)]
pub struct Told {
    /// By what it is confirmed; nothing where the outstation does not wait for that.
    pub id: Option<ToldId>,
    /// Whether nobody asked.
    pub is_unsolicited: bool,
    /// Whether the outstation said with it that its clock has to be set.
    pub needs_time: bool,
    /// What it said, in its order.
    pub measurements: Vec<Measurement>,
    /// What else it said.
    pub others: Vec<Block>,
}

/// What is to be done.
#[derive(Debug, Clone, PartialEq)]
pub enum Command {
    /// Outputs are selected first, and operated then.
    SelectOperate(Block),
    /// Outputs are operated at once.
    DirectOperate(Block),
    /// Anything else that changes something, such as a freeze, a restart, or deadbands.
    Act(FunctionCode, Vec<Block>),
    /// Some objects are read, beside all that is read anyway.
    Read(Vec<Block>),
}

/// What became of a command.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CommandAnswer {
    /// The outstation took it; of a restart, it tells in how many milliseconds it will be there again.
    Accepted(Option<u32>),
    /// It was certainly not done, and why.
    Refused(Refusal),
    /// It may have been done, or not, and why nobody knows.
    Unknown(Doubt),
}

/// Why something was certainly not done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// The outstation said so of an output.
    #[error("{0}")]
    Status(CommandStatus),
    /// The outstation said so of the request.
    #[error("{0}")]
    Indications(Indications),
    /// It did not answer when the outputs were selected: they were not operated.
    #[error("the outstation did not answer to the select")]
    NoSelect,
    /// It selected something else: that was not operated.
    #[error("the outstation selected something else")]
    OtherSelected,
    /// The answer to the select came so late that it would have been operated too late.
    #[error("the select was answered too late")]
    Late,
    /// It was given up before it was sent.
    #[error("it was given up before it was sent")]
    NotSent,
    /// It is none: a count of zero does nothing, and nothing is queued or cleared.
    #[error("the command itself does nothing")]
    Nothing,
}

/// Why nobody knows whether something was done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Doubt {
    /// The outstation did not answer.
    #[error("the outstation did not answer")]
    Unanswered,
    /// It answered to something else than it was told.
    #[error("the outstation answered to something else")]
    OtherEcho,
    /// The connection was lost, or the command given up, after it was sent.
    #[error("the connection was lost before the answer came")]
    Lost,
}
