//! Octets of others: read so that nobody reads beyond them.

use std::fmt;

/// Octets that are not what they should be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{fault}, at octet {at}")]
pub struct DecodeError {
    /// How many octets lie before it.
    pub at: usize,
    /// What is wrong.
    pub fault: Fault,
}

/// What is wrong with octets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// They end too early.
    #[error("{0} ends too early")]
    Cut(Part),
    /// A response has a function of a request, or one that is not defined; or the other way round.
    #[error("function {0:#04x} does not belong here")]
    Function(u8),
    /// The outstation wants a proof of who asks, which is not built here.
    #[error("it challenges us to authenticate (function 0x83): secure authentication is not built here")]
    Challenge,
    /// Responses that nobody asked for have a bit that says so, and others do not.
    #[error("the unsolicited bit does not go with function {0:#04x}")]
    Unsolicited(u8),
    /// Its length is not known, so nothing after it can be read.
    #[error("group {group} has no variation {variation}")]
    Unknown {
        /// The group.
        group: u8,
        /// The variation.
        variation: u8,
    },
    /// It belongs to requests.
    #[error("group {group} variation {variation} belongs to requests")]
    OnlyAsked {
        /// The group.
        group: u8,
        /// The variation.
        variation: u8,
    },
    /// It says nothing that is defined.
    #[error("qualifier {0:#04x} is not defined")]
    Qualifier(u8),
    /// It goes with other objects.
    #[error("qualifier {qualifier:#04x} does not go with group {group} variation {variation}")]
    Unfitting {
        /// The qualifier.
        qualifier: u8,
        /// The group.
        group: u8,
        /// The variation.
        variation: u8,
    },
    /// The end lies before the start.
    #[error("stop {stop} is below start {start}")]
    Range {
        /// The first one.
        start: u32,
        /// The last one.
        stop: u32,
    },
    /// What was said to have so many octets has others.
    #[error("{0} has another number of octets than it says")]
    Size(Part),
}

/// What is being read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// The first octets of a fragment.
    Header,
    /// The first octets of some objects.
    ObjectHeader,
    /// Objects of a group and a variation.
    Objects(u8, u8),
}

impl fmt::Display for Part {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Header => f.write_str("the header of the fragment"),
            Self::ObjectHeader => f.write_str("an object header"),
            Self::Objects(group, variation) => write!(f, "group {group} variation {variation}"),
        }
    }
}

/// Reads numbers, the low octet first.
#[derive(Debug, Clone)]
pub(crate) struct Reader<'a> {
    rest: &'a [u8],
    all: usize,
    /// What the octets belong to, for errors.
    pub(crate) part: Part,
}

impl<'a> Reader<'a> {
    pub(crate) const fn new(octets: &'a [u8]) -> Self {
        Self { rest: octets, all: octets.len(), part: Part::Header }
    }

    pub(crate) const fn is_empty(&self) -> bool {
        self.rest.is_empty()
    }

    pub(crate) const fn fault(&self, fault: Fault) -> DecodeError {
        DecodeError { at: self.all - self.rest.len(), fault }
    }

    pub(crate) fn take(&mut self, count: usize) -> Result<&'a [u8], DecodeError> {
        let Some((taken, rest)) = self.rest.split_at_checked(count) else {
            return Err(self.fault(Fault::Cut(self.part)));
        };
        self.rest = rest;
        Ok(taken)
    }

    pub(crate) fn array<const N: usize>(&mut self) -> Result<[u8; N], DecodeError> {
        let Some((taken, rest)) = self.rest.split_first_chunk() else {
            return Err(self.fault(Fault::Cut(self.part)));
        };
        self.rest = rest;
        Ok(*taken)
    }

    pub(crate) fn octet(&mut self) -> Result<u8, DecodeError> {
        self.array().map(u8::from_le_bytes)
    }

    pub(crate) fn u16(&mut self) -> Result<u16, DecodeError> {
        self.array().map(u16::from_le_bytes)
    }

    pub(crate) fn u32(&mut self) -> Result<u32, DecodeError> {
        self.array().map(u32::from_le_bytes)
    }

    /// A number of 48 bits.
    pub(crate) fn u48(&mut self) -> Result<u64, DecodeError> {
        let [a, b, c, d, e, f] = self.array()?;
        Ok(u64::from_le_bytes([a, b, c, d, e, f, 0, 0]))
    }
}

/// The low 48 bits of a number.
pub(crate) fn put_u48(number: u64, out: &mut Vec<u8>) {
    out.extend(number.to_le_bytes().into_iter().take(6));
}
