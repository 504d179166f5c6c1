use super::{LinkAddress, LinkFunction, crc};

/// Who sent a frame: the two ends of a link are no equals.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Sender {
    /// Whoever asks.
    Master,
    /// Whoever has the points.
    Outstation,
}

/// The largest number of octets of data in one frame.
///
/// Source: IEEE 1815-2012, section 9.2.4.1.2.
pub const MOST_USER_DATA: usize = 250;

/// One frame of the link layer.
///
/// ```text
///   05 64 | length | control | destination | source | CRC | 16 octets of data | CRC | … | the rest | CRC
/// ```
///
/// Source: IEEE 1815-2012, section 9.2.4.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Frame {
    /// Who sent it.
    pub sender: Sender,
    /// What it is for.
    pub function: LinkFunction,
    /// Whom it is for.
    pub destination: LinkAddress,
    /// Whose it is.
    pub source: LinkAddress,
    /// What it carries, at most [`MOST_USER_DATA`] octets.
    pub user_data: Vec<u8>,
}

/// Octets that are no frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum FrameError {
    /// They begin with something else.
    #[error("there are no start octets")]
    Start,
    /// There would be no room for control and addresses.
    #[error("length {0} is below 5")]
    Length(u8),
    /// What was sent is not what came.
    #[error("the check of {0} is wrong")]
    Check(Checked),
    /// Its control octet says nothing that there is.
    #[error("control {0:#04x} is not defined")]
    Control(u8),
    /// It has data where it carries none, or none where it does.
    #[error("{0} does not go with so much data")]
    Data(LinkFunction),
    /// Nobody has the address that it comes from.
    #[error("it comes from {0}, which is no station")]
    Source(LinkAddress),
}

/// A part of a frame with a check of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Checked {
    /// The first ten octets.
    Header,
    /// A block of data, counted from 0.
    Block(usize),
}

impl std::fmt::Display for Checked {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Header => f.write_str("the header"),
            Self::Block(number) => write!(f, "block {number}"),
        }
    }
}

pub(super) const START: [u8; 2] = [0x05, 0x64];
/// Control and addresses, which the length counts.
const COUNTED: usize = 5;
/// With start, length and check.
pub(super) const HEADER: usize = 10;
const BLOCK: usize = 16;
const CHECK: usize = 2;
const FROM_MASTER: u8 = 0x80;

impl Frame {
    /// Appends its octets. Of too much data, what is beyond [`MOST_USER_DATA`] is left out: splitting it is the transport's.
    pub fn encode(&self, out: &mut Vec<u8>) {
        let data = self.user_data.get(..MOST_USER_DATA).unwrap_or(&self.user_data);
        let direction = if self.sender == Sender::Master { FROM_MASTER } else { 0 };
        let length = u8::try_from(COUNTED + data.len()).unwrap_or(u8::MAX);
        let start = out.len();
        out.extend_from_slice(&START);
        out.extend_from_slice(&[length, direction | self.function.bits()]);
        out.extend_from_slice(&self.destination.0.to_le_bytes());
        out.extend_from_slice(&self.source.0.to_le_bytes());
        let check = crc(out.get(start..).unwrap_or_default());
        out.extend_from_slice(&check.to_le_bytes());
        for block in data.chunks(BLOCK) {
            out.extend_from_slice(block);
            out.extend_from_slice(&crc(block).to_le_bytes());
        }
    }

    /// How many octets a frame with these first ones has, once they are there; checks the header.
    ///
    /// # Errors
    /// When no frame begins so.
    pub fn size(octets: &[u8]) -> Result<Option<usize>, FrameError> {
        if !octets.iter().zip(START).all(|(octet, start)| *octet == start) {
            return Err(FrameError::Start);
        }
        let Some(length) = octets.get(2).copied() else { return Ok(None) };
        let data = usize::from(length).checked_sub(COUNTED).ok_or(FrameError::Length(length))?;
        let Some(header) = octets.get(..HEADER) else { return Ok(None) };
        if checked(header).is_none() {
            return Err(FrameError::Check(Checked::Header));
        }
        Ok(Some(HEADER + data + data.div_ceil(BLOCK) * CHECK))
    }

    /// Reads one frame from all of some octets, which are as many as its length says.
    pub(super) fn read(octets: &[u8]) -> Result<Self, FrameError> {
        let Some((&[_, _, length, control, to_low, to_high, from_low, from_high, _, _], blocks)) =
            octets.split_first_chunk::<HEADER>()
        else {
            return Err(FrameError::Start);
        };
        let mut user_data = Vec::with_capacity(usize::from(length).saturating_sub(COUNTED));
        for (number, block) in blocks.chunks(BLOCK + CHECK).enumerate() {
            user_data.extend_from_slice(checked(block).ok_or(FrameError::Check(Checked::Block(number)))?);
        }
        let function = LinkFunction::of(control).ok_or(FrameError::Control(control))?;
        if function.has_data() == user_data.is_empty() {
            return Err(FrameError::Data(function));
        }
        let address = |low, high| LinkAddress(u16::from_le_bytes([low, high]));
        let (destination, source) = (address(to_low, to_high), address(from_low, from_high));
        if !source.is_station() {
            return Err(FrameError::Source(source));
        }
        let sender = if control & FROM_MASTER == 0 { Sender::Outstation } else { Sender::Master };
        Ok(Self { sender, function, destination, source, user_data })
    }
}

/// What stands before a check that is right.
fn checked(block: &[u8]) -> Option<&[u8]> {
    let (octets, check) = block.split_last_chunk::<CHECK>()?;
    (crc(octets) == u16::from_le_bytes(*check)).then_some(octets)
}
