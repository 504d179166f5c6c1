use crate::link::{FrameText, FrameWords, Transport};
use interlex_bacnet::{Bvll, Npdu, Station, describe};
use parking_lot::RwLock;
use std::net::SocketAddrV4;
use std::time::Instant;

/// The port registered for BACnet/IP: programs decode what goes to it without being told.
const PORT: u16 = 47_808;

/// A datagram of a link.
#[derive(Debug)]
pub(crate) struct BacnetFrame {
    at: Instant,
    is_sent: bool,
    peer: SocketAddrV4,
    octets: Vec<u8>,
}

impl BacnetFrame {
    /// One that went by a moment ago.
    pub(super) fn new(is_sent: bool, peer: SocketAddrV4, octets: Vec<u8>) -> Self {
        Self { at: tokio::time::Instant::now().into_std(), is_sent, peer, octets }
    }

    /// To whom, or from whom, behind a router.
    fn station(&self) -> Option<Station> {
        let (Bvll::Unicast(npdu) | Bvll::Broadcast(npdu) | Bvll::Forwarded { npdu, .. }) =
            Bvll::decode(&self.octets).ok()?
        else {
            return None;
        };
        let npdu = Npdu::decode(npdu).ok()?;
        match (self.is_sent, npdu.destination) {
            (true, Some(interlex_bacnet::Destination::Station(to))) => Some(to),
            (true, _) => None,
            (false, _) => npdu.source,
        }
    }
}

/// Explains the datagrams of a BACnet link.
#[derive(Debug, Default)]
pub(crate) struct BacnetFrames {
    /// Where devices are, with their instances and names.
    devices: RwLock<Vec<(interlex_bacnet::Peer, u32, String)>>,
}

impl BacnetFrames {
    /// Other devices, or elsewhere, from now on.
    pub(super) fn change_devices(&self, devices: Vec<(interlex_bacnet::Peer, u32, String)>) {
        *self.devices.write() = devices;
    }
}

/// What people call a device.
pub(super) fn peer(instance: u32) -> String {
    format!("device {instance}")
}

impl FrameWords for BacnetFrames {
    type Frame = BacnetFrame;

    fn at(&self, frame: &BacnetFrame) -> Instant {
        frame.at
    }

    fn bytes<'a>(&self, frame: &'a BacnetFrame) -> &'a [u8] {
        &frame.octets
    }

    fn is_sent(&self, frame: &BacnetFrame) -> bool {
        frame.is_sent
    }

    fn explain(&self, frame: &BacnetFrame) -> FrameText {
        let place = interlex_bacnet::Peer { address: frame.peer, station: frame.station() };
        let devices = self.devices.read();
        let known: Vec<_> = devices.iter().filter(|(peer, ..)| *peer == place).collect();
        let text = describe(&frame.octets);
        let named = known.first().map(|(_, instance, _)| peer(*instance));
        FrameText {
            peer: Some(named.unwrap_or_else(|| place.to_string())),
            devices: known.iter().map(|(.., name)| name.clone()).collect(),
            request: None,
            answer_ms: None,
            error: ["cannot be read", " failed: ", " rejected: ", " aborted: "].iter().any(|word| text.contains(word)),
            text,
        }
    }

    fn port(&self) -> u16 {
        PORT
    }

    fn transport(&self) -> Transport {
        Transport::Udp
    }
}
