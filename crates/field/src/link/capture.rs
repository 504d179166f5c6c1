//! Recorded frames as a capture file that other programs read.

use etherparse::PacketBuilder;
use pcap_file::pcapng::PcapNgWriter;
use pcap_file::pcapng::blocks::enhanced_packet::EnhancedPacketBlock;
use pcap_file::pcapng::blocks::interface_description::{InterfaceDescriptionBlock, InterfaceDescriptionOption};
use pcap_file::{DataLink, PcapError};
use std::borrow::Cow;
use std::net::Ipv4Addr;
use std::time::Duration;

const OUR_PORT: u16 = 50_000;
/// Addresses that no network has (RFC 5737): a recording holds what was said, not over which route.
const OURS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 1);
const THEIRS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 2);

/// How frames go over a network, as far as a recording is concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Transport {
    /// As parts of a conversation.
    Tcp,
    /// As datagrams.
    Udp,
}

/// What was said on a link.
#[derive(Debug)]
pub(super) struct Recording {
    /// How frames go over the network.
    pub(super) transport: Transport,
    /// The port of the field side.
    pub(super) port: u16,
    /// Each frame: microseconds since 1970 UTC, whether it was sent to the field, and its bytes.
    pub(super) frames: Vec<(i64, bool, Vec<u8>)>,
}

/// Writes frames as pcapng, each one as a TCP segment of one conversation, or as a datagram.
pub(super) fn pcapng(Recording { transport, port, frames }: Recording, link: &str) -> Result<Vec<u8>, PcapError> {
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
    for (at, is_sent, bytes) in frames {
        let (from, to, ports, own) =
            if is_sent { (OURS, THEIRS, (OUR_PORT, port), 0) } else { (THEIRS, OURS, (port, OUR_PORT), 1) };
        let [ours, theirs] = sequence;
        let (sent, seen) = if own == 0 { (ours, theirs) } else { (theirs, ours) };
        let ip = PacketBuilder::ipv4(from.octets(), to.octets(), 64);
        let mut packet = Vec::with_capacity(bytes.len() + 60);
        let written = match transport {
            Transport::Tcp => ip.tcp(ports.0, ports.1, sent, 65_535).ack(seen).psh().write(&mut packet, &bytes),
            Transport::Udp => ip.udp(ports.0, ports.1).write(&mut packet, &bytes),
        };
        written.map_err(|error| PcapError::IoError(std::io::Error::other(error)))?;
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
