use super::address::{MacAddress, Station};
use crate::codec::{DecodeError, Fault, Reader};

/// What stands around every message: where it goes behind routers, and where it came from behind them.
///
/// Source: ASHRAE 135-2016, clause 6.2.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Npdu<'a> {
    /// Whether an answer is waited for.
    pub expects_reply: bool,
    /// 0 normal, 1 urgent, 2 critical equipment, 3 life safety.
    pub priority: u8,
    /// Where it goes, where that is behind routers.
    pub destination: Option<Destination>,
    /// Who sent it, where that is behind routers.
    pub source: Option<Station>,
    /// How many routers may pass it on; means something with a destination only.
    pub hop_count: u8,
    /// What is in it.
    pub content: NpduContent<'a>,
}

/// Where a message goes behind routers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Destination {
    /// To one device.
    Station(Station),
    /// To all devices of a network.
    Network(u16),
    /// To all devices of all networks.
    Global,
}

/// What is in an [`Npdu`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NpduContent<'a> {
    /// A message of the application layer.
    Apdu(&'a [u8]),
    /// A message between routers.
    Message(NetworkMessage<'a>),
}

/// A message between routers, or to and from one.
///
/// Source: ASHRAE 135-2016, clause 6.4.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NetworkMessage<'a> {
    /// Who leads to a network, or to any.
    WhoIsRouter(Option<u16>),
    /// These networks are led to.
    IAmRouter(Vec<u16>),
    /// A message was not passed on.
    Reject {
        /// 1 not directly connected, 2 busy, 3 unknown message, 4 too long, ...
        reason: u8,
        /// The network it went to.
        network: u16,
    },
    /// What is the number of this network?
    WhatIsNetworkNumber,
    /// The number of this network.
    NetworkNumberIs {
        /// The number.
        network: u16,
        /// Whether it was set there, and not learned.
        is_configured: bool,
    },
    /// Another one, by its number.
    Other(u8, &'a [u8]),
}

const GLOBAL: u16 = 0xFFFF;

fn station(network: u16, mac: &[u8], at: usize) -> Result<Station, DecodeError> {
    let mac = MacAddress::new(mac).ok_or(Fault::Size("an address behind a router").at(at))?;
    Ok(Station { network, mac })
}

impl<'a> Npdu<'a> {
    /// A message of the application layer for a neighbour.
    #[must_use]
    pub const fn plain(apdu: &'a [u8], expects_reply: bool) -> Self {
        let content = NpduContent::Apdu(apdu);
        Self { expects_reply, priority: 0, destination: None, source: None, hop_count: 255, content }
    }

    /// Reads what is in a datagram.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(octets: &'a [u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(octets);
        if reader.u8("the NPDU version")? != 1 {
            return Err(Fault::Value("the NPDU version").at(0));
        }
        let control = reader.u8("the NPDU control octet")?;
        let mut destination = None;
        if control & 0x20 != 0 {
            let network = reader.u16("DNET")?;
            let at = reader.at();
            let length = usize::from(reader.u8("DLEN")?);
            let mac = reader.take(length, "DADR")?;
            destination = Some(match (network, mac.is_empty()) {
                (0, _) => return Err(Fault::Value("DNET").at(at)),
                (GLOBAL, _) => Destination::Global,
                (network, true) => Destination::Network(network),
                (network, false) => Destination::Station(station(network, mac, at)?),
            });
        }
        let mut source = None;
        if control & 0x08 != 0 {
            let at = reader.at();
            let network = reader.u16("SNET")?;
            if network == 0 || network == GLOBAL {
                return Err(Fault::Value("SNET").at(at));
            }
            let at = reader.at();
            let length = usize::from(reader.u8("SLEN")?);
            if length == 0 {
                return Err(Fault::Value("SLEN").at(at));
            }
            source = Some(station(network, reader.take(length, "SADR")?, at)?);
        }
        let hop_count = if destination.is_some() { reader.u8("the hop count")? } else { 255 };
        let content = if control & 0x80 != 0 {
            NpduContent::Message(NetworkMessage::read(&mut reader)?)
        } else if reader.is_empty() {
            return Err(reader.error(Fault::Cut("the NPDU")));
        } else {
            NpduContent::Apdu(reader.rest())
        };
        let expects_reply = control & 0x04 != 0;
        Ok(Self { expects_reply, priority: control & 0x03, destination, source, hop_count, content })
    }

    /// Appends it.
    pub fn encode(&self, out: &mut Vec<u8>) {
        let bit = |is_set, bit| if is_set { bit } else { 0 };
        let control = bit(matches!(self.content, NpduContent::Message(_)), 0x80)
            | bit(self.destination.is_some(), 0x20)
            | bit(self.source.is_some(), 0x08)
            | bit(self.expects_reply, 0x04)
            | (self.priority & 0x03);
        out.extend([1, control]);
        let put = |out: &mut Vec<u8>, network: u16, mac: &[u8]| {
            out.extend(network.to_be_bytes());
            // At most eight.
            out.push(u8::try_from(mac.len()).unwrap_or_default());
            out.extend(mac);
        };
        match self.destination {
            Some(Destination::Global) => put(out, GLOBAL, &[]),
            Some(Destination::Network(network)) => put(out, network, &[]),
            Some(Destination::Station(to)) => put(out, to.network, to.mac.octets()),
            None => {}
        }
        if let Some(from) = self.source {
            put(out, from.network, from.mac.octets());
        }
        if self.destination.is_some() {
            out.push(self.hop_count);
        }
        match &self.content {
            NpduContent::Apdu(apdu) => out.extend(*apdu),
            NpduContent::Message(message) => message.put(out),
        }
    }
}

impl<'a> NetworkMessage<'a> {
    fn read(reader: &mut Reader<'a>) -> Result<Self, DecodeError> {
        let message = match reader.u8("the message type")? {
            0x00 if reader.is_empty() => Self::WhoIsRouter(None),
            0x00 => Self::WhoIsRouter(Some(reader.u16("a network")?)),
            0x01 => {
                let (networks, rest) = reader.rest().as_chunks::<2>();
                let networks = networks.iter().map(|octets| u16::from_be_bytes(*octets)).collect();
                let is_whole = rest.is_empty();
                return if is_whole {
                    Ok(Self::IAmRouter(networks))
                } else {
                    Err(reader.error(Fault::Cut("a network")))
                };
            }
            0x03 => Self::Reject { reason: reader.u8("a reason")?, network: reader.u16("a network")? },
            0x12 => Self::WhatIsNetworkNumber,
            0x13 => {
                Self::NetworkNumberIs { network: reader.u16("a network")?, is_configured: reader.u8("a flag")? == 1 }
            }
            other => return Ok(Self::Other(other, reader.rest())),
        };
        reader.finish("a network message")?;
        Ok(message)
    }

    fn put(&self, out: &mut Vec<u8>) {
        match self {
            Self::WhoIsRouter(network) => {
                out.push(0x00);
                out.extend(network.iter().flat_map(|network| network.to_be_bytes()));
            }
            Self::IAmRouter(networks) => {
                out.push(0x01);
                out.extend(networks.iter().flat_map(|network| network.to_be_bytes()));
            }
            Self::Reject { reason, network } => {
                out.extend([0x03, *reason]);
                out.extend(network.to_be_bytes());
            }
            Self::WhatIsNetworkNumber => out.push(0x12),
            Self::NetworkNumberIs { network, is_configured } => {
                out.push(0x13);
                out.extend(network.to_be_bytes());
                out.push(u8::from(*is_configured));
            }
            Self::Other(kind, content) => {
                out.push(*kind);
                out.extend(*content);
            }
        }
    }
}
