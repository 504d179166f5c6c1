use std::fmt;

/// What a fragment is for.
///
/// Source: IEEE 1815-2012, section 4.2.2.5 and table 4-2.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FunctionCode(pub u8);

macro_rules! functions {
    ($($number:literal $name:ident $words:literal,)*) => {
        impl FunctionCode {
            $(#[doc = concat!("To ", $words, ".")] pub const $name: Self = Self($number);)*

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

functions! {
    0 CONFIRM "confirm",
    1 READ "read",
    2 WRITE "write",
    3 SELECT "select",
    4 OPERATE "operate",
    5 DIRECT_OPERATE "direct operate",
    6 DIRECT_OPERATE_NO_ACK "direct operate without answer",
    7 IMMEDIATE_FREEZE "immediate freeze",
    8 IMMEDIATE_FREEZE_NO_ACK "immediate freeze without answer",
    9 FREEZE_CLEAR "freeze and clear",
    10 FREEZE_CLEAR_NO_ACK "freeze and clear without answer",
    11 FREEZE_AT_TIME "freeze at time",
    12 FREEZE_AT_TIME_NO_ACK "freeze at time without answer",
    13 COLD_RESTART "cold restart",
    14 WARM_RESTART "warm restart",
    15 INITIALIZE_DATA "initialize data",
    16 INITIALIZE_APPLICATION "initialize application",
    17 START_APPLICATION "start application",
    18 STOP_APPLICATION "stop application",
    19 SAVE_CONFIGURATION "save configuration",
    20 ENABLE_UNSOLICITED "enable unsolicited",
    21 DISABLE_UNSOLICITED "disable unsolicited",
    22 ASSIGN_CLASS "assign class",
    23 DELAY_MEASURE "measure delay",
    24 RECORD_CURRENT_TIME "record current time",
    25 OPEN_FILE "open file",
    26 CLOSE_FILE "close file",
    27 DELETE_FILE "delete file",
    28 GET_FILE_INFO "get file info",
    29 AUTHENTICATE_FILE "authenticate file",
    30 ABORT_FILE "abort file",
    31 ACTIVATE_CONFIGURATION "activate configuration",
    32 AUTHENTICATE_REQUEST "authenticate request",
    33 AUTHENTICATE_REQUEST_NO_ACK "authenticate request without answer",
    129 RESPONSE "respond",
    130 UNSOLICITED_RESPONSE "respond unasked",
    131 AUTHENTICATE_RESPONSE "authenticate response",
}

impl FunctionCode {
    /// Whether it is that of a response.
    #[must_use]
    pub const fn is_response(self) -> bool {
        matches!(self, Self::RESPONSE | Self::UNSOLICITED_RESPONSE)
    }

    /// Whether its objects are only named: which ones are meant, and nothing of what they say.
    #[must_use]
    pub const fn names_objects(self) -> bool {
        matches!(
            self,
            Self::READ
                | Self::IMMEDIATE_FREEZE
                | Self::IMMEDIATE_FREEZE_NO_ACK
                | Self::FREEZE_CLEAR
                | Self::FREEZE_CLEAR_NO_ACK
                | Self::INITIALIZE_DATA
                | Self::ENABLE_UNSOLICITED
                | Self::DISABLE_UNSOLICITED
                | Self::ASSIGN_CLASS
        )
    }

    /// Whether it changes what the device does: such a request is never sent again by itself.
    #[must_use]
    pub const fn acts(self) -> bool {
        matches!(
            self,
            Self::OPERATE
                | Self::DIRECT_OPERATE
                | Self::DIRECT_OPERATE_NO_ACK
                | Self::IMMEDIATE_FREEZE
                | Self::IMMEDIATE_FREEZE_NO_ACK
                | Self::FREEZE_CLEAR
                | Self::FREEZE_CLEAR_NO_ACK
                | Self::COLD_RESTART
                | Self::WARM_RESTART
        )
    }

    /// Whether nobody answers it.
    #[must_use]
    pub const fn has_no_answer(self) -> bool {
        matches!(
            self,
            Self::CONFIRM
                | Self::DIRECT_OPERATE_NO_ACK
                | Self::IMMEDIATE_FREEZE_NO_ACK
                | Self::FREEZE_CLEAR_NO_ACK
                | Self::FREEZE_AT_TIME_NO_ACK
                | Self::AUTHENTICATE_REQUEST_NO_ACK
        )
    }
}

impl fmt::Display for FunctionCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.words() {
            Some(words) => f.write_str(words),
            None => write!(f, "function {}", self.0),
        }
    }
}
