use crate::clock::wall_clock_micros;
use interlex_modbus::{Direction, Fate, Framing, TracedFrame, describe_request, describe_response};
use parking_lot::Mutex;
use serde::Serialize;
use std::collections::VecDeque;
use tokio::time::Instant;

/// The newest frames of a link, for people who look for a fault.
///
/// It is always on: what went wrong a minute ago can still be looked at.
#[derive(Debug)]
pub(crate) struct FrameRing {
    framing: Framing,
    /// How many bytes of memory its frames may take.
    budget: usize,
    inner: Mutex<Ring>,
}

#[derive(Debug, Default)]
struct Ring {
    frames: VecDeque<Recorded>,
    bytes: usize,
    next: u64,
}

#[derive(Debug, Clone)]
struct Recorded {
    number: u64,
    /// Microseconds since 1970 UTC.
    at: i64,
    frame: TracedFrame,
}

/// A minute of a busy link.
const CAPACITY: usize = 2000;
/// All links of a gateway together.
const TOTAL: usize = 12 << 20;
/// The last requests and answers of a link, whatever others there are.
const LEAST: usize = 32 << 10;
/// What a frame takes beside its bytes.
const OVERHEAD: usize = size_of::<Recorded>() + 48;

/// One recorded frame, in words.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct FrameView {
    /// Counts up by one with each frame of the link.
    pub number: u64,
    /// When it was sent or had come, in milliseconds since 1970 UTC.
    pub at: i64,
    /// Whether it was sent to the device, and not received.
    pub sent: bool,
    /// The unit that it is to or from; none when it is no whole frame.
    pub unit: Option<u8>,
    /// The device with that unit.
    pub device: Option<String>,
    /// All its bytes, hexadecimal.
    pub hex: String,
    /// What it says.
    pub text: String,
    /// The request that it answers, in words.
    pub request: Option<String>,
    /// How long after its request it came, in milliseconds.
    pub answer_ms: Option<f64>,
    /// Whether it tells of something wrong: no answer, a refusal, a broken or a late frame.
    pub error: bool,
}

/// Which frames are wanted.
#[derive(Debug, Clone, Copy, Default)]
pub struct FrameFilter {
    /// Only those with a greater number.
    pub after: Option<u64>,
    /// Only those of one unit.
    pub unit: Option<u8>,
    /// Only those that tell of something wrong.
    pub errors: bool,
}

impl FrameRing {
    /// The recording of one link of several.
    pub(crate) fn new(framing: Framing, links: usize) -> Self {
        Self { framing, budget: (TOTAL / links.max(1)).max(LEAST), inner: Mutex::default() }
    }

    /// How messages are put on the stream.
    pub(crate) const fn framing(&self) -> Framing {
        self.framing
    }

    pub(crate) fn record(&self, frame: TracedFrame) {
        let mut ring = self.inner.lock();
        ring.next += 1;
        let number = ring.next;
        ring.bytes += frame.bytes.len() + OVERHEAD;
        while ring.frames.len() >= CAPACITY || ring.bytes > self.budget {
            let Some(oldest) = ring.frames.pop_front() else { break };
            ring.bytes -= oldest.frame.bytes.len() + OVERHEAD;
        }
        // A frame is recorded a moment after it went: its own clock tells how long.
        let ago = Instant::now().into_std().saturating_duration_since(frame.at);
        let at = wall_clock_micros() - i64::try_from(ago.as_micros()).unwrap_or_default();
        ring.frames.push_back(Recorded { number, at, frame });
    }

    /// The number of the newest frame; 0 before the first one.
    pub(crate) fn newest(&self) -> u64 {
        self.inner.lock().next
    }

    /// The bytes of every frame, oldest first, with the time in microseconds since 1970 UTC.
    pub(crate) fn bytes(&self) -> (Framing, Vec<(i64, Direction, Vec<u8>)>) {
        let ring = self.inner.lock();
        let frames = ring.frames.iter().filter(|recorded| !recorded.frame.bytes.is_empty());
        let bytes = |recorded: &Recorded| (recorded.at, recorded.frame.direction, recorded.frame.bytes.clone());
        (self.framing, frames.map(bytes).collect())
    }

    /// Frames in words, oldest first.
    pub(crate) fn view(&self, filter: FrameFilter, device_of: impl Fn(u8) -> Option<String>) -> Vec<FrameView> {
        let ring = self.inner.lock();
        let views = ring.frames.iter().filter_map(|recorded| {
            let view = recorded.view(self.framing, &device_of);
            let is_wanted = filter.after.is_none_or(|after| view.number > after)
                && filter.unit.is_none_or(|unit| view.unit == Some(unit))
                && (!filter.errors || view.error);
            is_wanted.then_some(view)
        });
        views.collect()
    }
}

impl Recorded {
    fn view(&self, framing: Framing, device_of: impl Fn(u8) -> Option<String>) -> FrameView {
        let TracedFrame { direction, bytes, fate, request, .. } = &self.frame;
        let decoded = framing.decode(bytes);
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
        FrameView {
            number: self.number,
            at: self.at.div_euclid(1000),
            sent: *direction == Direction::Sent,
            unit,
            device: unit.and_then(device_of),
            hex: hex(bytes),
            text,
            request: asked.map(describe_request),
            answer_ms: match fate {
                Fate::Answer(took) => Some((took.as_secs_f64() * 1e5).round() / 100.0),
                _ => None,
            },
            error: refused || !matches!(fate, Fate::Request | Fate::Answer(_)),
        }
    }
}

fn hex(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len() * 3);
    for byte in bytes {
        if !text.is_empty() {
            text.push(' ');
        }
        let digit = |nibble: u8| char::from_digit(nibble.into(), 16).unwrap_or('?').to_ascii_uppercase();
        text.extend([digit(byte >> 4), digit(byte & 0xF)]);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_modbus::{Client, ClientConfig, ReadRequest, Table};
    use std::time::Duration;

    #[test]
    fn a_recording_tells_what_was_asked_and_what_became_of_it() {
        let mut config = ClientConfig::default();
        config.trace = true;
        let (mut client, now) = (Client::new(config), Instant::now().into_std());
        let ring = FrameRing::new(Framing::Tcp, 1);
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
            let views = ring.view(filter, |unit| Some(format!("unit-{unit}")));
            views.iter().map(|view| (view.number, view.text.clone())).collect::<Vec<_>>()
        };
        let wrong = [(4, "exception 02, illegal data address"), (6, "no answer within 1000 ms")];
        assert_eq!(
            told(FrameFilter { errors: true, ..FrameFilter::default() }),
            wrong.map(|(number, text)| (number, text.to_owned()))
        );
        let all = ring.view(FrameFilter::default(), |unit| Some(format!("unit-{unit}")));
        assert_eq!(all.len(), 6);
        assert_eq!((all[0].hex.as_str(), all[0].sent), ("00 01 00 00 00 06 07 03 00 0A 00 01", true));
        assert_eq!((all[1].text.as_str(), all[1].answer_ms), ("1234", Some(12.0)));
        assert_eq!(all[3].request.as_deref(), Some("read holding registers 11"));
        assert_eq!(all[2].device.as_deref(), Some("unit-7"));
        let narrow = FrameRing { budget: 2 * OVERHEAD + 30, ..FrameRing::new(Framing::Tcp, 1) };
        for number in 0..5 {
            let (direction, fate) = (Direction::Sent, Fate::Request);
            narrow.record(TracedFrame { at: now, direction, bytes: vec![number; 12], fate, request: None });
        }
        let kept = narrow.bytes().1;
        assert_eq!(kept.iter().map(|(.., bytes)| bytes[0]).collect::<Vec<_>>(), [3, 4], "the newest that fit");
        assert!(told(FrameFilter { unit: Some(8), ..FrameFilter::default() }).is_empty());
        assert_eq!(told(FrameFilter { after: Some(5), ..FrameFilter::default() }).len(), 1);
    }
}
