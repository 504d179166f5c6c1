use std::fmt;

/// What an outstation says of itself with every response: the internal indications.
///
/// Source: IEEE 1815-2012, section 4.5.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Indications(pub u16);

macro_rules! indications {
    ($($bit:literal $name:ident $words:literal $doc:literal,)*) => {
        impl Indications {
            $(#[doc = $doc] pub const $name: Self = Self(1 << $bit);)*

            /// What is said, in words.
            pub fn words(self) -> impl Iterator<Item = &'static str> {
                [$(($bit, $words),)*].into_iter().filter(move |(bit, _)| self.0 >> bit & 1 == 1).map(|(_, words)| words)
            }
        }
    };
}

indications! {
    0 BROADCAST "broadcast" "A message to all stations was taken.",
    1 CLASS_1_EVENTS "class 1 events" "There are events of class 1.",
    2 CLASS_2_EVENTS "class 2 events" "There are events of class 2.",
    3 CLASS_3_EVENTS "class 3 events" "There are events of class 3.",
    4 NEED_TIME "need time" "Its clock has to be set.",
    5 LOCAL_CONTROL "local control" "Some of its outputs are operated by hand.",
    6 DEVICE_TROUBLE "device trouble" "Something is wrong with it.",
    7 DEVICE_RESTART "device restart" "It has restarted.",
    8 NO_FUNCTION_CODE_SUPPORT "no function code support" "It does not do what it was asked for.",
    9 OBJECT_UNKNOWN "object unknown" "It has no such objects.",
    10 PARAMETER_ERROR "parameter error" "A qualifier, a range or something else was wrong.",
    11 EVENT_BUFFER_OVERFLOW "event buffer overflow" "Events were lost.",
    12 ALREADY_EXECUTING "already executing" "What was asked for goes on already.",
    13 CONFIG_CORRUPT "config corrupt" "Its configuration is damaged.",
    14 RESERVED_2_6 "reserved 2.6" "Means nothing.",
    15 RESERVED_2_7 "reserved 2.7" "Means nothing.",
}

impl Indications {
    /// Nothing.
    pub const NONE: Self = Self(0);
    /// There are events of some class.
    pub const EVENTS: Self = Self(0b1110);
    /// It could not do what it was asked for.
    pub const REFUSALS: Self = Self(0b111 << 8);

    /// Whether one of these is said.
    #[must_use]
    pub const fn has(self, any: Self) -> bool {
        self.0 & any.0 != 0
    }

    /// Both.
    #[must_use]
    pub const fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// What is said here, and was not said before.
    #[must_use]
    pub const fn since(self, before: Self) -> Self {
        Self(self.0 & !before.0)
    }
}

impl fmt::Display for Indications {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let words: Vec<_> = self.words().collect();
        f.write_str(&words.join(", "))
    }
}
