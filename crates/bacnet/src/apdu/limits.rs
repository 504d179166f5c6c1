use crate::codec::Fault;
use std::fmt;

/// How large a message of the application layer may be, from one of six steps.
///
/// Source: ASHRAE 135-2016, clause 20.1.2.5.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct MaxApdu(u16);

const STEPS: [u16; 6] = [50, 128, 206, 480, 1024, 1476];

impl MaxApdu {
    /// What fits into one datagram of BACnet/IP.
    pub const BACNET_IP: Self = Self(1476);
    /// What fits into one frame of MS/TP.
    pub const MS_TP: Self = Self(480);
    /// What fits through LonTalk.
    pub const LON_TALK: Self = Self(206);
    /// What everybody takes.
    pub const LEAST: Self = Self(50);

    /// The highest step that is not above a number of octets; the lowest one where all are.
    #[must_use]
    pub fn within(octets: u32) -> Self {
        Self(STEPS.into_iter().rev().find(|step| u32::from(*step) <= octets).unwrap_or(50))
    }

    /// How many octets.
    #[must_use]
    pub const fn octets(self) -> u16 {
        self.0
    }

    /// The next smaller step; none below the lowest.
    #[must_use]
    pub fn smaller(self) -> Option<Self> {
        STEPS.into_iter().rev().find(|step| *step < self.0).map(Self)
    }

    pub(super) fn of_code(code: u8) -> Self {
        // Codes of later revisions stand for larger ones.
        Self(STEPS.get(usize::from(code & 0x0F)).copied().unwrap_or(1476))
    }

    pub(super) fn code(self) -> u8 {
        u8::try_from(STEPS.iter().position(|step| *step == self.0).unwrap_or_default()).unwrap_or_default()
    }
}

/// How many segments an answer may have.
///
/// Source: ASHRAE 135-2016, clause 20.1.2.4.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct MaxSegments(u8);

impl MaxSegments {
    /// Nothing is said.
    pub const UNSPECIFIED: Self = Self(0);
    /// Up to 64.
    pub const SIXTY_FOUR: Self = Self(6);
    /// More than 64.
    pub const MORE: Self = Self(7);

    /// How many at the most; none where no number is said.
    #[must_use]
    pub const fn most(self) -> Option<u16> {
        match self.0 {
            1 => Some(2),
            2 => Some(4),
            3 => Some(8),
            4 => Some(16),
            5 => Some(32),
            6 => Some(64),
            _ => None,
        }
    }

    pub(super) const fn of_code(code: u8) -> Self {
        Self(code & 0x07)
    }

    pub(super) const fn code(self) -> u8 {
        self.0
    }
}

/// Whether a device sends and takes messages in segments.
///
/// Source: ASHRAE 135-2016, clause 21 (BACnetSegmentation).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Segmentation {
    /// Both.
    Both,
    /// It sends them.
    Transmit,
    /// It takes them.
    Receive,
    /// Neither.
    None,
}

impl Segmentation {
    /// Its number.
    #[must_use]
    pub const fn number(self) -> u32 {
        match self {
            Self::Both => 0,
            Self::Transmit => 1,
            Self::Receive => 2,
            Self::None => 3,
        }
    }

    pub(crate) const fn of_number(number: u32) -> Result<Self, Fault> {
        match number {
            0 => Ok(Self::Both),
            1 => Ok(Self::Transmit),
            2 => Ok(Self::Receive),
            3 => Ok(Self::None),
            _ => Err(Fault::Value("the segmentation")),
        }
    }

    /// Whether requests may go to it in segments.
    #[must_use]
    pub const fn receives(self) -> bool {
        matches!(self, Self::Both | Self::Receive)
    }

    /// Whether its answers may come in segments.
    #[must_use]
    pub const fn transmits(self) -> bool {
        matches!(self, Self::Both | Self::Transmit)
    }
}

impl fmt::Display for Segmentation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Both => "segments both ways",
            Self::Transmit => "sends segments",
            Self::Receive => "takes segments",
            Self::None => "no segments",
        })
    }
}
