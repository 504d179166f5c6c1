//! Octets of others: read so that nobody reads beyond them.

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
    Cut(&'static str),
    /// Something follows where nothing may.
    #[error("octets follow {0}")]
    Trailing(&'static str),
    /// It has another value than it may have.
    #[error("{0} has a value that it may not have")]
    Value(&'static str),
    /// It has another number of octets than its type has.
    #[error("{0} has a wrong number of octets")]
    Size(&'static str),
    /// Something else stands there.
    #[error("{0} is missing")]
    Missing(&'static str),
    /// Tag numbers that the standard keeps for later.
    #[error("application tag {0} is not defined")]
    ApplicationTag(u8),
    /// An opening tag without its closing tag, or the other way round.
    #[error("tag {0} is opened and not closed, or closed and not opened")]
    Unpaired(u8),
    /// What is inside what is inside.
    #[error("tags are nested more than {MOST_NESTED} deep")]
    Deep,
    /// No text in its character set.
    #[error("a text is not in its character set")]
    Text,
}

/// Nothing that the standard defines is nested deeper than a handful.
pub(crate) const MOST_NESTED: usize = 32;

impl Fault {
    pub(crate) const fn at(self, at: usize) -> DecodeError {
        DecodeError { at, fault: self }
    }
}

/// Reads octets from the first to the last.
#[derive(Debug, Clone)]
pub(crate) struct Reader<'a> {
    octets: &'a [u8],
    at: usize,
}

impl<'a> Reader<'a> {
    pub(crate) const fn new(octets: &'a [u8]) -> Self {
        Self { octets, at: 0 }
    }

    pub(crate) const fn at(&self) -> usize {
        self.at
    }

    pub(crate) const fn error(&self, fault: Fault) -> DecodeError {
        fault.at(self.at)
    }

    pub(crate) fn rest(&self) -> &'a [u8] {
        self.octets.get(self.at..).unwrap_or_default()
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.rest().is_empty()
    }

    /// The octets between two places.
    pub(crate) fn between(&self, from: usize, to: usize) -> &'a [u8] {
        self.octets.get(from..to).unwrap_or_default()
    }

    pub(crate) fn take(&mut self, length: usize, what: &'static str) -> Result<&'a [u8], DecodeError> {
        let taken = self.rest().get(..length).ok_or_else(|| self.error(Fault::Cut(what)))?;
        self.at += length;
        Ok(taken)
    }

    pub(crate) fn array<const N: usize>(&mut self, what: &'static str) -> Result<[u8; N], DecodeError> {
        let error = self.error(Fault::Cut(what));
        self.take(N, what)?.try_into().map_err(|_| error)
    }

    pub(crate) fn u8(&mut self, what: &'static str) -> Result<u8, DecodeError> {
        self.array::<1>(what).map(|[octet]| octet)
    }

    pub(crate) fn u16(&mut self, what: &'static str) -> Result<u16, DecodeError> {
        self.array(what).map(u16::from_be_bytes)
    }

    pub(crate) fn u32(&mut self, what: &'static str) -> Result<u32, DecodeError> {
        self.array(what).map(u32::from_be_bytes)
    }

    /// Nothing may follow.
    pub(crate) fn finish(&self, what: &'static str) -> Result<(), DecodeError> {
        if self.is_empty() { Ok(()) } else { Err(self.error(Fault::Trailing(what))) }
    }
}
