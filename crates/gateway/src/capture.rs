//! Recorded frames as a capture file that other programs read.

use crate::link::FrameRing;
use etherparse::PacketBuilder;
use interlex_modbus::{Direction, Framing};
use pcap_file::pcapng::PcapNgWriter;
use pcap_file::pcapng::blocks::enhanced_packet::EnhancedPacketBlock;
use pcap_file::pcapng::blocks::interface_description::{InterfaceDescriptionBlock, InterfaceDescriptionOption};
use pcap_file::{DataLink, PcapError};
use std::borrow::Cow;
use std::net::Ipv4Addr;
use std::time::Duration;

/// The port registered for Modbus: programs decode what goes to it without being told.
const MODBUS_PORT: u16 = 502;
/// RTU and ASCII frames go to another port, since at 502 they would be taken for Modbus TCP. Programs have to be told:
/// `tcp.port==5020,mbrtu`.
const SERIAL_PORT: u16 = 5020;
const OUR_PORT: u16 = 50_000;
/// Addresses that no network has (RFC 5737): a recording holds what was said, not over which route.
const OURS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 1);
const THEIRS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 2);

/// Writes frames as pcapng, each one as a TCP segment of one conversation.
pub(crate) fn pcapng(ring: &FrameRing, link: &str) -> Result<Vec<u8>, PcapError> {
    let (framing, frames) = ring.bytes();
    let port = if framing == Framing::Tcp { MODBUS_PORT } else { SERIAL_PORT };
    let mut writer = PcapNgWriter::new(Vec::new())?;
    writer.write_pcapng_block(InterfaceDescriptionBlock {
        linktype: DataLink::RAW,
        snaplen: 0,
        options: vec![
            InterfaceDescriptionOption::IfName(Cow::Borrowed(link)),
            InterfaceDescriptionOption::IfTsResol(9),
        ],
    })?;
    // Where each side has come in its half of the conversation.
    let mut sequence = [1_u32, 1];
    for (at, direction, bytes) in frames {
        let (from, to, ports, own) = match direction {
            Direction::Sent => (OURS, THEIRS, (OUR_PORT, port), 0),
            Direction::Received => (THEIRS, OURS, (port, OUR_PORT), 1),
        };
        let [ours, theirs] = sequence;
        let (sent, seen) = if own == 0 { (ours, theirs) } else { (theirs, ours) };
        let builder = PacketBuilder::ipv4(from.octets(), to.octets(), 64).tcp(ports.0, ports.1, sent, 65_535).ack(seen);
        let mut packet = Vec::with_capacity(builder.size(bytes.len()));
        builder.psh().write(&mut packet, &bytes).map_err(|error| PcapError::IoError(std::io::Error::other(error)))?;
        if let Some(sequence) = sequence.get_mut(own) {
            *sequence = sequence.wrapping_add(u32::try_from(bytes.len()).unwrap_or_default());
        }
        writer.write_pcapng_block(EnhancedPacketBlock {
            interface_id: 0,
            timestamp: Duration::from_micros(at.cast_unsigned()),
            original_len: u32::try_from(packet.len()).unwrap_or(u32::MAX),
            data: Cow::Owned(packet),
            options: Vec::new(),
        })?;
    }
    Ok(writer.into_inner())
}
