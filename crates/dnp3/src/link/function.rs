use std::fmt;

/// What a frame is for.
///
/// Source: IEEE 1815-2012, section 9.2.4.1.4, tables 9-1 and 9-2.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum LinkFunction {
    /// The link begins anew: numbers of confirmed frames are forgotten.
    ResetLinkStates,
    /// Is the link as it was left?
    TestLinkStates {
        /// The frame count bit, which tells a repeated frame from a new one.
        frame_count: bool,
    },
    /// Data whose receipt is to be confirmed by the link.
    ConfirmedUserData {
        /// The frame count bit, which tells a repeated frame from a new one.
        frame_count: bool,
    },
    /// Data.
    UnconfirmedUserData,
    /// Is anybody there?
    RequestLinkStatus,
    /// It was taken.
    Ack {
        /// No more data can be taken for now.
        is_full: bool,
    },
    /// It was not taken.
    Nack {
        /// No more data can be taken for now.
        is_full: bool,
    },
    /// Somebody is there.
    LinkStatus {
        /// No more data can be taken for now.
        is_full: bool,
    },
    /// What was asked for is not known there.
    NotSupported {
        /// No more data can be taken for now.
        is_full: bool,
    },
}

/// Whether the frame begins something, or answers.
const PRIMARY: u8 = 0x40;
/// In a frame that begins something: its count.
const FRAME_COUNT: u8 = 0x20;
/// In one that begins something: whether its count is meant.
const IS_COUNTED: u8 = 0x10;
/// In an answer: data flow control. The bit before it means nothing there.
const IS_FULL: u8 = 0x10;
const CODE: u8 = 0x0F;

impl LinkFunction {
    /// The bits of the control octet that say it.
    pub(super) const fn bits(self) -> u8 {
        const fn counted(code: u8, frame_count: bool) -> u8 {
            PRIMARY | IS_COUNTED | code | if frame_count { FRAME_COUNT } else { 0 }
        }
        const fn answer(code: u8, is_full: bool) -> u8 {
            code | if is_full { IS_FULL } else { 0 }
        }
        match self {
            Self::ResetLinkStates => PRIMARY,
            Self::TestLinkStates { frame_count } => counted(2, frame_count),
            Self::ConfirmedUserData { frame_count } => counted(3, frame_count),
            Self::UnconfirmedUserData => PRIMARY | 4,
            Self::RequestLinkStatus => PRIMARY | 9,
            Self::Ack { is_full } => answer(0, is_full),
            Self::Nack { is_full } => answer(1, is_full),
            Self::LinkStatus { is_full } => answer(11, is_full),
            Self::NotSupported { is_full } => answer(15, is_full),
        }
    }

    /// What a control octet says; none where that is not defined, or its count is meant where it has none, or the other way round.
    pub(super) const fn of(control: u8) -> Option<Self> {
        let (is_counted, frame_count) = (control & IS_COUNTED != 0, control & FRAME_COUNT != 0);
        let is_full = control & IS_FULL != 0;
        Some(match (control & PRIMARY != 0, control & CODE, is_counted) {
            (true, 0, false) => Self::ResetLinkStates,
            (true, 2, true) => Self::TestLinkStates { frame_count },
            (true, 3, true) => Self::ConfirmedUserData { frame_count },
            (true, 4, false) => Self::UnconfirmedUserData,
            (true, 9, false) => Self::RequestLinkStatus,
            (false, 0, _) => Self::Ack { is_full },
            (false, 1, _) => Self::Nack { is_full },
            (false, 11, _) => Self::LinkStatus { is_full },
            (false, 15, _) => Self::NotSupported { is_full },
            _ => return None,
        })
    }

    /// Whether it carries data.
    #[must_use]
    pub const fn has_data(self) -> bool {
        matches!(self, Self::ConfirmedUserData { .. } | Self::UnconfirmedUserData)
    }

    /// Whether it begins something, and is no answer.
    #[must_use]
    pub const fn is_primary(self) -> bool {
        self.bits() & PRIMARY != 0
    }
}

impl fmt::Display for LinkFunction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (word, is_full) = match *self {
            Self::ResetLinkStates => ("reset link states", false),
            Self::TestLinkStates { .. } => ("test link states", false),
            Self::ConfirmedUserData { .. } => ("confirmed user data", false),
            Self::UnconfirmedUserData => ("unconfirmed user data", false),
            Self::RequestLinkStatus => ("request link status", false),
            Self::Ack { is_full } => ("ack", is_full),
            Self::Nack { is_full } => ("nack", is_full),
            Self::LinkStatus { is_full } => ("link status", is_full),
            Self::NotSupported { is_full } => ("not supported", is_full),
        };
        f.write_str(word)?;
        if is_full { f.write_str(", no more data now") } else { Ok(()) }
    }
}
