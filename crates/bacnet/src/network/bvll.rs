use crate::codec::{DecodeError, Fault, Reader};
use std::fmt;
use std::net::{Ipv4Addr, SocketAddrV4};

/// What stands around everything that goes over UDP.
///
/// Source: ASHRAE 135-2016, annex J.2.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Bvll<'a> {
    /// What became of something that was asked of a broadcast management device.
    Result(BvllResult),
    /// Asks for the table of broadcasts, or answers; the tables are read by nobody here.
    Table(TableMessage),
    /// Asks for the broadcasts of another network, for so many seconds.
    RegisterForeignDevice {
        /// Seconds.
        time_to_live: u16,
    },
    /// What came from elsewhere, with where it came from.
    Forwarded {
        /// Who sent it first.
        origin: SocketAddrV4,
        /// What was sent.
        npdu: &'a [u8],
    },
    /// What a broadcast management device is asked to tell everybody.
    DistributeBroadcast(&'a [u8]),
    /// For one.
    Unicast(&'a [u8]),
    /// For all of the network.
    Broadcast(&'a [u8]),
}

/// Which message about tables.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TableMessage {
    /// Write-Broadcast-Distribution-Table.
    WriteBroadcast,
    /// Read-Broadcast-Distribution-Table.
    ReadBroadcast,
    /// The answer to that, with how many entries.
    ReadBroadcastAck(usize),
    /// Read-Foreign-Device-Table.
    ReadForeign,
    /// The answer to that, with how many entries.
    ReadForeignAck(usize),
    /// Delete-Foreign-Device-Table-Entry.
    DeleteForeign,
    /// Secure-BVLL, which nobody speaks any more.
    Secure,
}

/// What became of what was asked of a broadcast management device: an open code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct BvllResult(pub u16);

impl BvllResult {
    /// It was done.
    pub const SUCCESS: Self = Self(0x0000);
    /// The table of broadcasts was not written.
    pub const WRITE_BROADCAST_NAK: Self = Self(0x0010);
    /// The table of broadcasts was not read.
    pub const READ_BROADCAST_NAK: Self = Self(0x0020);
    /// A foreign device was not registered.
    pub const REGISTER_NAK: Self = Self(0x0030);
    /// The table of foreign devices was not read.
    pub const READ_FOREIGN_NAK: Self = Self(0x0040);
    /// The entry of a foreign device was not deleted.
    pub const DELETE_NAK: Self = Self(0x0050);
    /// A broadcast was not told everybody.
    pub const DISTRIBUTE_NAK: Self = Self(0x0060);
}

impl fmt::Display for BvllResult {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match *self {
            Self::SUCCESS => "done",
            Self::WRITE_BROADCAST_NAK => "the broadcast distribution table was not written",
            Self::READ_BROADCAST_NAK => "the broadcast distribution table was not read",
            Self::REGISTER_NAK => "the foreign device was not registered",
            Self::READ_FOREIGN_NAK => "the foreign device table was not read",
            Self::DELETE_NAK => "the entry of the foreign device was not deleted",
            Self::DISTRIBUTE_NAK => "the broadcast was not distributed",
            Self(code) => return write!(f, "result {code:#06x}"),
        })
    }
}

const TYPE: u8 = 0x81;
const HEADER: usize = 4;

fn address(reader: &mut Reader<'_>) -> Result<SocketAddrV4, DecodeError> {
    let octets: [u8; 4] = reader.array("an address")?;
    Ok(SocketAddrV4::new(Ipv4Addr::from(octets), reader.u16("a port")?))
}

impl<'a> Bvll<'a> {
    /// Reads a datagram. What follows the length that it says is passed over.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(datagram: &'a [u8]) -> Result<Self, DecodeError> {
        let mut header = Reader::new(datagram);
        if header.u8("the BVLC type")? != TYPE {
            return Err(Fault::Value("the BVLC type").at(0));
        }
        let function = header.u8("the BVLC function")?;
        let length = usize::from(header.u16("the BVLC length")?);
        let content = datagram.get(HEADER..length).ok_or(Fault::Size("the datagram").at(2))?;
        let mut reader = Reader::new(content);
        let message = match function {
            0x00 => Self::Result(BvllResult(reader.u16("a result")?)),
            0x01 | 0x03 if !content.len().is_multiple_of(10) => return Err(Fault::Size("a table").at(HEADER)),
            0x01 => return Ok(Self::Table(TableMessage::WriteBroadcast)),
            0x02 => Self::Table(TableMessage::ReadBroadcast),
            0x03 => return Ok(Self::Table(TableMessage::ReadBroadcastAck(content.len() / 10))),
            0x04 => return Ok(Self::Forwarded { origin: address(&mut reader)?, npdu: reader.rest() }),
            0x05 => Self::RegisterForeignDevice { time_to_live: reader.u16("a time to live")? },
            0x06 => Self::Table(TableMessage::ReadForeign),
            0x07 if !content.len().is_multiple_of(10) => return Err(Fault::Size("a table").at(HEADER)),
            0x07 => return Ok(Self::Table(TableMessage::ReadForeignAck(content.len() / 10))),
            0x08 => {
                address(&mut reader)?;
                Self::Table(TableMessage::DeleteForeign)
            }
            0x09 => return Ok(Self::DistributeBroadcast(content)),
            0x0A => return Ok(Self::Unicast(content)),
            0x0B => return Ok(Self::Broadcast(content)),
            0x0C => return Ok(Self::Table(TableMessage::Secure)),
            _ => return Err(Fault::Value("the BVLC function").at(1)),
        };
        reader.finish("a BVLC message")?;
        Ok(message)
    }

    /// Appends the datagram. Tables are not written.
    pub fn encode(&self, out: &mut Vec<u8>) {
        let from = out.len();
        out.extend([TYPE, self.function(), 0, 0]);
        match self {
            Self::Result(code) => out.extend(code.0.to_be_bytes()),
            Self::Table(_) => {}
            Self::RegisterForeignDevice { time_to_live } => out.extend(time_to_live.to_be_bytes()),
            Self::Forwarded { origin, npdu } => {
                out.extend(origin.ip().octets());
                out.extend(origin.port().to_be_bytes());
                out.extend(*npdu);
            }
            Self::DistributeBroadcast(npdu) | Self::Unicast(npdu) | Self::Broadcast(npdu) => out.extend(*npdu),
        }
        let length = u16::try_from(out.len() - from).unwrap_or(u16::MAX);
        if let Some(place) = out.get_mut(from + 2..from + HEADER) {
            place.copy_from_slice(&length.to_be_bytes());
        }
    }

    const fn function(&self) -> u8 {
        match self {
            Self::Result(_) => 0x00,
            Self::Table(TableMessage::WriteBroadcast) => 0x01,
            Self::Table(TableMessage::ReadBroadcast) => 0x02,
            Self::Table(TableMessage::ReadBroadcastAck(_)) => 0x03,
            Self::Forwarded { .. } => 0x04,
            Self::RegisterForeignDevice { .. } => 0x05,
            Self::Table(TableMessage::ReadForeign) => 0x06,
            Self::Table(TableMessage::ReadForeignAck(_)) => 0x07,
            Self::Table(TableMessage::DeleteForeign) => 0x08,
            Self::DistributeBroadcast(_) => 0x09,
            Self::Unicast(_) => 0x0A,
            Self::Broadcast(_) => 0x0B,
            Self::Table(TableMessage::Secure) => 0x0C,
        }
    }
}
