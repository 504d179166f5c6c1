use crate::link::{FrameFilter, FrameLog, FrameRing, FrameText, FrameView, FrameWords};
use interlex_modbus::{Direction, Fate, Framing, Request, TracedFrame, describe_request, describe_response};
use parking_lot::RwLock;
use std::time::Instant;

/// The port registered for Modbus: programs decode what goes to it without being told.
const MODBUS_PORT: u16 = 502;
/// RTU and ASCII frames go to another port, since at 502 they would be taken for Modbus TCP. Programs have to be told:
/// `tcp.port==5020,mbrtu`.
const SERIAL_PORT: u16 = 5020;

/// Explains the frames of a Modbus link.
#[derive(Debug)]
pub(super) struct ModbusFrames {
    framing: Framing,
    /// The unit identifiers of the link's devices, with the names of those that it is.
    devices: RwLock<Vec<(u8, Vec<String>)>>,
}

impl ModbusFrames {
    pub(super) const fn new(framing: Framing, devices: Vec<(u8, Vec<String>)>) -> Self {
        Self { framing, devices: RwLock::new(devices) }
    }

    /// Other devices from now on.
    pub(super) fn change_devices(&self, devices: Vec<(u8, Vec<String>)>) {
        *self.devices.write() = devices;
    }

    /// The unit that a frame is to or from.
    pub(super) fn unit_of(&self, bytes: &[u8]) -> Option<u8> {
        self.framing.decode(bytes).map(|(unit, _)| unit)
    }
}

/// What people call a unit.
pub(super) fn peer(unit: u8) -> String {
    format!("unit {unit}")
}

/// The frames of one exchange: those of a unit that came after a number, without those of other requests under way.
pub(super) fn frames_of(ring: &FrameRing<ModbusFrames>, unit: u8, after: u64, request: &Request) -> Vec<FrameView> {
    let (text, peer) = (request.to_string(), Some(peer(unit)));
    let frames = ring.view(&FrameFilter { after: Some(after), ..FrameFilter::default() }).into_iter();
    let is_of = |frame: &FrameView| frame.peer == peer && frame.request.as_ref().unwrap_or(&frame.text) == &text;
    frames.filter(is_of).collect()
}

impl FrameWords for ModbusFrames {
    type Frame = TracedFrame;

    fn at(&self, frame: &TracedFrame) -> Instant {
        frame.at
    }

    fn bytes<'a>(&self, frame: &'a TracedFrame) -> &'a [u8] {
        &frame.bytes
    }

    fn is_sent(&self, frame: &TracedFrame) -> bool {
        frame.direction == Direction::Sent
    }

    fn explain(&self, frame: &TracedFrame) -> FrameText {
        let TracedFrame { bytes, fate, request, .. } = frame;
        let decoded = self.framing.decode(bytes);
        let pdu = decoded.as_ref().map(|(_, pdu)| pdu.as_slice());
        let asked = request.as_ref().map(|(_, pdu)| pdu.as_slice());
        let unit = decoded.as_ref().map(|(unit, _)| *unit).or(request.as_ref().map(|(unit, _)| *unit));
        let refused = pdu.and_then(<[u8]>::first).is_some_and(|function| function & 0x80 != 0);
        let text = match (fate, pdu) {
            (Fate::Request, Some(pdu)) => describe_request(pdu),
            (Fate::NoAnswer(wait), _) => {
                let rest = if bytes.is_empty() { "" } else { "; what came is no frame" };
                format!("no answer within {} ms{rest}", wait.as_millis())
            }
            (Fate::Answer(_), Some(pdu)) => describe_response(pdu, asked),
            (Fate::Unmatched, Some(pdu)) => format!("answers nothing that was asked: {}", describe_response(pdu, None)),
            (Fate::Late(after), Some(pdu)) => {
                format!("late, {} ms after its request: {}", after.as_millis(), describe_response(pdu, None))
            }
            (Fate::WrongUnit, Some(pdu)) => format!("of a unit that was not asked: {}", describe_response(pdu, None)),
            (Fate::Several, Some(pdu)) => format!("one of several at once: {}", describe_response(pdu, asked)),
            (Fate::Garbled, _) => "garbled: cut, or its check is wrong".to_owned(),
            (Fate::Malformed, Some(pdu)) => format!("broken: {}", describe_response(pdu, asked)),
            (_, None) => "no frame".to_owned(),
        };
        let devices = self.devices.read();
        let device = unit.and_then(|unit| devices.iter().find(|(known, _)| *known == unit));
        FrameText {
            peer: unit.map(peer),
            devices: device.map(|(_, names)| names.clone()).unwrap_or_default(),
            text,
            request: asked.map(describe_request),
            answer_ms: match fate {
                Fate::Answer(took) => Some((took.as_secs_f64() * 1e5).round() / 100.0),
                _ => None,
            },
            error: refused || !matches!(fate, Fate::Request | Fate::Answer(_)),
        }
    }

    fn port(&self) -> u16 {
        if self.framing == Framing::Tcp { MODBUS_PORT } else { SERIAL_PORT }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_core::{Clock, ManualClock, Timestamp};
    use interlex_modbus::{Client, ClientConfig, ReadRequest, Table};
    use std::sync::Arc;
    use std::time::Duration;

    fn ring(devices: &[u8]) -> FrameRing<ModbusFrames> {
        let devices = devices.iter().map(|unit| (*unit, vec![format!("unit-{unit}")])).collect();
        let clock: Arc<dyn Clock> = Arc::new(ManualClock::new(Timestamp::from_millis(1_800_000_000_000)));
        FrameRing::new(ModbusFrames::new(Framing::Tcp, devices), 1, clock)
    }

    #[test]
    fn a_recording_tells_what_was_asked_and_what_became_of_it() {
        let mut config = ClientConfig::default();
        config.trace = true;
        let (mut client, now) = (Client::new(config), tokio::time::Instant::now().into_std());
        let ring = ring(&[7]);
        let answers: [&[u8]; 3] = [&[0, 1, 0, 0, 0, 5, 7, 3, 2, 0x12, 0x34], &[0, 2, 0, 0, 0, 3, 7, 0x83, 2], &[]];
        for (address, answer) in (10..).zip(answers) {
            client.request(7, ReadRequest::new(Table::HoldingRegister, address, 1).unwrap()).unwrap();
            assert!(client.poll_transmit(now, &mut Vec::new()));
            client.handle_input(now + Duration::from_millis(12), answer);
            client.handle_timeout(now + Duration::from_secs(1));
            while client.poll_event().is_some() {}
            while let Some(frame) = client.poll_frame() {
                ring.record(frame);
            }
        }
        let told = |filter| {
            let views = ring.view(&filter);
            views.iter().map(|view| (view.number, view.text.clone())).collect::<Vec<_>>()
        };
        let wrong = [(4, "exception 02, illegal data address"), (6, "no answer within 1000 ms")];
        assert_eq!(
            told(FrameFilter { errors: true, ..FrameFilter::default() }),
            wrong.map(|(number, text)| (number, text.to_owned()))
        );
        let all = ring.view(&FrameFilter::default());
        assert_eq!(all.len(), 6);
        assert_eq!(
            (all[0].hex.as_str(), all[0].sent, all[0].peer.as_deref()),
            ("00 01 00 00 00 06 07 03 00 0A 00 01", true, Some("unit 7"))
        );
        assert_eq!((all[1].text.as_str(), all[1].answer_ms), ("1234", Some(12.0)));
        assert_eq!(all[3].request.as_deref(), Some("read holding registers 11"));
        assert_eq!(all[2].devices, ["unit-7"]);
        assert!(told(FrameFilter { device: Some("unit-8".to_owned()), ..FrameFilter::default() }).is_empty());
        assert_eq!(told(FrameFilter { after: Some(5), ..FrameFilter::default() }).len(), 1);
    }
}
