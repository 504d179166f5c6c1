use super::capture::{self, Recording, Transport};
use interlex_core::Clock;
use parking_lot::Mutex;
use serde::Serialize;
use std::collections::VecDeque;
use std::fmt::Debug;
use std::sync::Arc;
use std::time::Instant;

/// How a protocol keeps and explains its frames. They are recorded as bytes; words are found when somebody looks.
pub(crate) trait FrameWords: Debug + Send + Sync {
    /// A frame with what became of it.
    type Frame: Debug + Send;

    /// When it was sent, or had come.
    fn at(&self, frame: &Self::Frame) -> Instant;

    /// All its bytes.
    fn bytes<'a>(&self, frame: &'a Self::Frame) -> &'a [u8];

    /// Whether it was sent to the field, and not received.
    fn is_sent(&self, frame: &Self::Frame) -> bool;

    /// What it says.
    fn explain(&self, frame: &Self::Frame) -> FrameText;

    /// The port at which programs that read recordings take its frames for what they are.
    fn port(&self) -> u16;

    /// How its frames go over the network.
    fn transport(&self) -> Transport {
        Transport::Tcp
    }
}

/// What a frame says, and what became of it.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct FrameText {
    pub(crate) peer: Option<String>,
    pub(crate) devices: Vec<String>,
    pub(crate) text: String,
    pub(crate) request: Option<String>,
    pub(crate) answer_ms: Option<f64>,
    pub(crate) error: bool,
}

/// The newest frames of a link, for people who look for a fault.
///
/// It is always on: what went wrong a minute ago can still be looked at.
#[derive(Debug)]
pub(crate) struct FrameRing<W: FrameWords> {
    words: W,
    clock: Arc<dyn Clock>,
    /// How many bytes of memory its frames may take.
    budget: usize,
    inner: Mutex<Ring<W::Frame>>,
}

#[derive(Debug)]
struct Ring<F> {
    frames: VecDeque<Recorded<F>>,
    bytes: usize,
    next: u64,
}

#[derive(Debug)]
struct Recorded<F> {
    number: u64,
    /// Microseconds since 1970 UTC.
    at: i64,
    frame: F,
}

/// A minute of a busy link.
const CAPACITY: usize = 2000;
/// All links of a gateway together.
const TOTAL: usize = 12 << 20;
/// So many of the last frames of a link stay, whatever others there are: a request and its answer, and those before.
const LEAST: usize = 4;

/// One recorded frame, in words.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct FrameView {
    /// Counts up by one with each frame of the link.
    pub number: u64,
    /// When it was sent or had come, in milliseconds since 1970 UTC.
    pub at: i64,
    /// Whether it was sent to the device, and not received.
    pub sent: bool,
    /// Whom it is to or from, in the words of the protocol: `unit 3`; none when it is no whole frame.
    pub peer: Option<String>,
    /// The devices that this is: one, several that share it, or none that is known.
    pub devices: Vec<String>,
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
#[derive(Debug, Clone, Default)]
pub struct FrameFilter {
    /// Only those with a greater number.
    pub after: Option<u64>,
    /// Only those of one device.
    pub device: Option<String>,
    /// Only those that tell of something wrong.
    pub errors: bool,
}

impl FrameFilter {
    fn takes(&self, view: &FrameView) -> bool {
        self.after.is_none_or(|after| view.number > after)
            && self.device.as_ref().is_none_or(|device| view.devices.contains(device))
            && (!self.errors || view.error)
    }
}

/// The recording of a link, whatever it speaks.
pub(crate) trait FrameLog: Debug + Send + Sync {
    /// Frames in words, oldest first.
    fn view(&self, filter: &FrameFilter) -> Vec<FrameView>;

    /// All frames as a pcapng file.
    fn capture(&self, link: &str) -> Result<Vec<u8>, pcap_file::PcapError>;
}

impl<W: FrameWords> FrameRing<W> {
    /// What a frame takes beside its bytes.
    const OVERHEAD: usize = size_of::<Recorded<W::Frame>>() + 48;

    /// The recording of one link of several.
    pub(crate) fn new(words: W, links: usize, clock: Arc<dyn Clock>) -> Self {
        let ring = Ring { frames: VecDeque::new(), bytes: 0, next: 0 };
        Self { words, clock, budget: TOTAL / links.max(1), inner: Mutex::new(ring) }
    }

    /// How frames are explained.
    pub(crate) const fn words(&self) -> &W {
        &self.words
    }

    /// Records a frame; the oldest ones make room.
    pub(crate) fn record(&self, frame: W::Frame) {
        let mut ring = self.inner.lock();
        ring.next += 1;
        let number = ring.next;
        ring.bytes += self.words.bytes(&frame).len() + Self::OVERHEAD;
        while ring.frames.len() >= CAPACITY || (ring.bytes > self.budget && ring.frames.len() >= LEAST) {
            let Some(oldest) = ring.frames.pop_front() else { break };
            ring.bytes -= self.words.bytes(&oldest.frame).len() + Self::OVERHEAD;
        }
        // A frame is recorded a moment after it went: its own clock tells how long.
        let now = tokio::time::Instant::now().into_std();
        let ago = now.saturating_duration_since(self.words.at(&frame));
        let at = self.clock.micros() - i64::try_from(ago.as_micros()).unwrap_or_default();
        ring.frames.push_back(Recorded { number, at, frame });
    }

    /// The frames with a greater number that somebody picks.
    pub(crate) fn pick(&self, after: u64, is_wanted: impl Fn(&W::Frame) -> bool) -> Vec<FrameView> {
        let ring = self.inner.lock();
        let newer = ring.frames.iter().rev().take_while(|recorded| recorded.number > after);
        let mut views: Vec<_> =
            newer.filter(|recorded| is_wanted(&recorded.frame)).map(|recorded| self.view_of(recorded)).collect();
        views.reverse();
        views
    }

    /// The number of the newest frame; 0 before the first one.
    pub(crate) fn newest(&self) -> u64 {
        self.inner.lock().next
    }

    fn view_of(&self, Recorded { number, at, frame }: &Recorded<W::Frame>) -> FrameView {
        let FrameText { peer, devices, text, request, answer_ms, error } = self.words.explain(frame);
        FrameView {
            number: *number,
            at: at.div_euclid(1000),
            sent: self.words.is_sent(frame),
            peer,
            devices,
            hex: hex(self.words.bytes(frame)),
            text,
            request,
            answer_ms,
            error,
        }
    }
}

impl<W: FrameWords> FrameLog for FrameRing<W> {
    fn view(&self, filter: &FrameFilter) -> Vec<FrameView> {
        let ring = self.inner.lock();
        // What somebody has already is not explained again: that takes its time.
        let known = filter.after.map_or(0, |after| ring.frames.partition_point(|recorded| recorded.number <= after));
        let views = ring.frames.range(known..).map(|recorded| self.view_of(recorded));
        views.filter(|view| filter.takes(view)).collect()
    }

    fn capture(&self, link: &str) -> Result<Vec<u8>, pcap_file::PcapError> {
        let frames = {
            let ring = self.inner.lock();
            let bytes = |recorded: &Recorded<W::Frame>| {
                let bytes = self.words.bytes(&recorded.frame);
                (recorded.at, self.words.is_sent(&recorded.frame), bytes.to_vec())
            };
            ring.frames.iter().map(bytes).filter(|(.., bytes)| !bytes.is_empty()).collect()
        };
        capture::pcapng(Recording { transport: self.words.transport(), port: self.words.port(), frames }, link)
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
    use interlex_core::{ManualClock, Timestamp};

    /// Frames of which only the bytes are known.
    #[derive(Debug)]
    struct Bare(Instant);

    impl FrameWords for Bare {
        type Frame = Vec<u8>;

        fn at(&self, _: &Vec<u8>) -> Instant {
            self.0
        }

        fn bytes<'a>(&self, frame: &'a Vec<u8>) -> &'a [u8] {
            frame
        }

        fn is_sent(&self, _: &Vec<u8>) -> bool {
            true
        }

        fn explain(&self, frame: &Vec<u8>) -> FrameText {
            let text = format!("{} bytes", frame.len());
            FrameText { peer: None, devices: Vec::new(), text, request: None, answer_ms: None, error: frame.is_empty() }
        }

        fn port(&self) -> u16 {
            4000
        }
    }

    #[test]
    fn the_newest_frames_that_fit_are_kept_and_found_by_their_numbers() {
        let clock: Arc<dyn Clock> = Arc::new(ManualClock::new(Timestamp::from_millis(1_800_000_000_000)));
        let words = Bare(tokio::time::Instant::now().into_std());
        let mut ring = FrameRing::new(words, 1, clock);
        ring.budget = 5 * (FrameRing::<Bare>::OVERHEAD + 12);
        for number in 0..8 {
            ring.record(vec![number; 12]);
        }
        let kept =
            |filter: FrameFilter| ring.view(&filter).iter().map(|view| view.hex[..2].to_owned()).collect::<Vec<_>>();
        assert_eq!(kept(FrameFilter::default()), ["03", "04", "05", "06", "07"]);
        assert_eq!(kept(FrameFilter { after: Some(7), ..FrameFilter::default() }), ["07"]);
        assert!(kept(FrameFilter { errors: true, ..FrameFilter::default() }).is_empty());
        assert_eq!(ring.newest(), 8);
        assert!(ring.capture("line").unwrap().len() > 100);
        // However many links share the room, the last request and its answer stay.
        ring.budget = 1;
        ring.record(vec![8; 12]);
        assert_eq!(ring.view(&FrameFilter::default()).len(), LEAST);
    }
}
