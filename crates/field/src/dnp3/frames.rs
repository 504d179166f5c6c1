use crate::link::{FrameText, FrameWords};
use interlex_dnp3::{TracedFrame, describe};
use parking_lot::RwLock;
use std::time::Instant;

/// The port registered for DNP3: programs decode what goes to it without being told.
const PORT: u16 = 20_000;

/// A frame of a link.
#[derive(Debug)]
pub(crate) struct Dnp3Frame {
    at: Instant,
    frame: TracedFrame,
}

impl Dnp3Frame {
    /// One that went by a moment ago.
    pub(super) fn new(frame: TracedFrame) -> Self {
        Self { at: tokio::time::Instant::now().into_std(), frame }
    }

    /// The address of the outstation that it is to or from.
    fn outstation(&self) -> Option<u16> {
        let [_, _, _, _, to_low, to_high, from_low, from_high, ..] = *self.frame.octets.as_slice() else { return None };
        let octets = if self.frame.is_sent { [to_low, to_high] } else { [from_low, from_high] };
        Some(u16::from_le_bytes(octets))
    }
}

/// Explains the frames of a DNP3 link.
#[derive(Debug, Default)]
pub(crate) struct Dnp3Frames {
    /// The addresses of the outstations with the names of their devices.
    devices: RwLock<Vec<(u16, String)>>,
}

impl Dnp3Frames {
    /// Other devices from now on.
    pub(super) fn change_devices(&self, devices: Vec<(u16, String)>) {
        *self.devices.write() = devices;
    }
}

/// What people call an outstation.
pub(super) fn peer(address: u16) -> String {
    format!("outstation {address}")
}

impl FrameWords for Dnp3Frames {
    type Frame = Dnp3Frame;

    fn at(&self, frame: &Dnp3Frame) -> Instant {
        frame.at
    }

    fn bytes<'a>(&self, frame: &'a Dnp3Frame) -> &'a [u8] {
        &frame.frame.octets
    }

    fn is_sent(&self, frame: &Dnp3Frame) -> bool {
        frame.frame.is_sent
    }

    fn explain(&self, frame: &Dnp3Frame) -> FrameText {
        let outstation = frame.outstation();
        let devices = self.devices.read();
        let is_meant = |(address, _): &&(u16, String)| Some(*address) == outstation;
        let text = frame.frame.error.map_or_else(|| describe(&frame.frame.octets), |error| error.to_string());
        FrameText {
            peer: outstation.map(peer),
            devices: devices.iter().filter(is_meant).map(|(_, name)| name.clone()).collect(),
            request: None,
            answer_ms: None,
            error: frame.frame.error.is_some() || text.contains("cannot be read"),
            text,
        }
    }

    fn port(&self) -> u16 {
        PORT
    }
}
