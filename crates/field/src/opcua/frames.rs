use crate::link::{FrameText, FrameWords};
use interlex_opcua::TracedMessage;
use parking_lot::RwLock;
use std::time::Instant;

/// The port registered for OPC UA: programs decode what goes to it without being told.
const PORT: u16 = 4840;

/// A message of a link, as it was before it was secured.
#[derive(Debug)]
pub(crate) struct OpcUaFrame {
    at: Instant,
    message: TracedMessage,
}

impl OpcUaFrame {
    /// One that went a moment ago.
    pub(super) fn new(message: TracedMessage) -> Self {
        Self { at: tokio::time::Instant::now().into_std(), message }
    }

    /// Whether it is a request, or the answer to one.
    pub(super) fn is_of(&self, request: u32) -> bool {
        self.message.request() == Some(request)
    }
}

/// Explains the messages of an OPC UA link.
#[derive(Debug, Default)]
pub(crate) struct OpcUaFrames {
    /// All devices of the link: a message may be about any of them.
    devices: RwLock<Vec<String>>,
}

impl OpcUaFrames {
    /// Other devices from now on.
    pub(super) fn change_devices(&self, devices: Vec<String>) {
        *self.devices.write() = devices;
    }
}

impl FrameWords for OpcUaFrames {
    type Frame = OpcUaFrame;

    fn at(&self, frame: &OpcUaFrame) -> Instant {
        frame.at
    }

    fn bytes<'a>(&self, frame: &'a OpcUaFrame) -> &'a [u8] {
        &frame.message.bytes
    }

    fn is_sent(&self, frame: &OpcUaFrame) -> bool {
        frame.message.is_sent
    }

    fn explain(&self, frame: &OpcUaFrame) -> FrameText {
        let text = frame.message.describe();
        let error = !frame.message.is_sent && (text.contains(" bad, the first ") || text.contains(": Bad"))
            || text.starts_with("Error");
        FrameText {
            peer: Some("server".to_owned()),
            devices: self.devices.read().clone(),
            request: None,
            answer_ms: None,
            error,
            text,
        }
    }

    fn port(&self) -> u16 {
        PORT
    }
}
