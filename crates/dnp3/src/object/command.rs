use std::fmt;

/// What an outstation says to a command.
///
/// Source: IEEE 1815-2012, table 11-9 and annex A.8.1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct CommandStatus(pub u8);

macro_rules! statuses {
    ($($number:literal $name:ident $words:literal,)*) => {
        impl CommandStatus {
            $(#[doc = concat!("In words: ", $words, ".")] pub const $name: Self = Self($number);)*

            /// What it is called, where it is defined.
            #[must_use]
            pub const fn words(self) -> Option<&'static str> {
                Some(match self.0 {
                    $($number => $words,)*
                    _ => return None,
                })
            }
        }
    };
}

statuses! {
    0 SUCCESS "success",
    1 TIMEOUT "the operate came too late after its select",
    2 NO_SELECT "there was no select before the operate",
    3 FORMAT_ERROR "the command is not formed as it should be",
    4 NOT_SUPPORTED "the point does not take such commands",
    5 ALREADY_ACTIVE "the point is being operated already",
    6 HARDWARE_ERROR "the hardware is at fault",
    7 LOCAL "the point is operated by hand",
    8 TOO_MANY_OBJECTS "too many points at a time",
    9 NOT_AUTHORIZED "whoever asked may not do that",
    10 AUTOMATION_INHIBIT "another function of the device keeps it from being done",
    11 PROCESSING_LIMITED "the device has too much to do",
    12 OUT_OF_RANGE "the value is out of range",
    13 DOWNSTREAM_LOCAL "a device behind it is operated by hand",
    14 ALREADY_COMPLETE "the point is in that state already",
    15 BLOCKED "the point is blocked",
    16 CANCELED "it was given up",
    17 BLOCKED_OTHER_MASTER "another master has control",
    18 DOWNSTREAM_FAIL "a device behind it failed",
    126 NON_PARTICIPATING "the point takes no part in that",
    127 UNDEFINED "for a reason that is not told",
}

impl fmt::Display for CommandStatus {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.words() {
            Some(words) => f.write_str(words),
            None => write!(f, "status {}", self.0),
        }
    }
}

/// What an output is made to do.
///
/// Source: IEEE 1815-2012, annex A.8.1, table A-2.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum Operation {
    /// Nothing by itself: trip and close say what.
    #[default]
    Nul,
    /// On for the on-time, as often as the count says.
    PulseOn,
    /// Off for the off-time, as often as the count says.
    PulseOff,
    /// On, and it stays so.
    LatchOn,
    /// Off, and it stays so.
    LatchOff,
    /// One that is not defined, by its number.
    Other(u8),
}

/// Which one of a pair of outputs is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum TripClose {
    /// There is no pair.
    #[default]
    Nul,
    /// That which closes.
    Close,
    /// That which trips.
    Trip,
    /// Not defined.
    Reserved,
}

/// A control relay output block: what an output with two states is made to do.
///
/// Source: IEEE 1815-2012, annex A.8.1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct ControlRelayOutputBlock {
    /// What it is made to do.
    pub operation: Operation,
    /// Behind what is waiting already. Obsolete.
    pub is_queued: bool,
    /// What is going on is given up first.
    pub clears: bool,
    /// Which one of a pair.
    pub trip_close: TripClose,
    /// How often; 0 for not at all.
    pub count: u8,
    /// In milliseconds.
    pub on_time: u32,
    /// In milliseconds.
    pub off_time: u32,
    /// What the outstation says to it.
    pub status: CommandStatus,
}

const QUEUED: u8 = 0x10;
const CLEARS: u8 = 0x20;

impl ControlRelayOutputBlock {
    /// The octet that says what is to be done.
    #[must_use]
    pub const fn code(&self) -> u8 {
        let operation = match self.operation {
            Operation::Nul => 0,
            Operation::PulseOn => 1,
            Operation::PulseOff => 2,
            Operation::LatchOn => 3,
            Operation::LatchOff => 4,
            Operation::Other(number) => number & 0xF,
        };
        let pair = match self.trip_close {
            TripClose::Nul => 0,
            TripClose::Close => 0x40,
            TripClose::Trip => 0x80,
            TripClose::Reserved => 0xC0,
        };
        operation | pair | if self.is_queued { QUEUED } else { 0 } | if self.clears { CLEARS } else { 0 }
    }

    /// The same with what another code says.
    #[must_use]
    pub const fn with_code(self, code: u8) -> Self {
        let operation = match code & 0xF {
            0 => Operation::Nul,
            1 => Operation::PulseOn,
            2 => Operation::PulseOff,
            3 => Operation::LatchOn,
            4 => Operation::LatchOff,
            number => Operation::Other(number),
        };
        let trip_close = match code >> 6 {
            0 => TripClose::Nul,
            1 => TripClose::Close,
            2 => TripClose::Trip,
            _ => TripClose::Reserved,
        };
        Self { operation, trip_close, is_queued: code & QUEUED != 0, clears: code & CLEARS != 0, ..self }
    }
}
