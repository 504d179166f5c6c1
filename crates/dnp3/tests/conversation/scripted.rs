//! A master, and an outstation that says what no outstation of ours would.

use interlex_dnp3::{Classes, FunctionCode, Master, MasterConfig, MasterEvent, Now, Request};
use std::time::{Duration, Instant};

struct Script {
    master: Master,
    now: Now,
}

impl Script {
    fn new(config: MasterConfig) -> Self {
        let mut master = Master::new(config);
        master.connected();
        #[expect(clippy::disallowed_methods, reason = "where time begins; it goes on by itself")]
        let now = Now { instant: Instant::now(), wall: 1_795_000_000_000 };
        Self { master, now }
    }

    fn pass(&mut self, span: Duration) {
        self.now.instant += span;
        self.master.handle_timeout(self.now);
    }

    /// The next request, with its number.
    fn asked(&mut self) -> Option<(FunctionCode, u8, Vec<u8>)> {
        let octets = self.master.poll_transmit(self.now)?;
        let request = Request::decode(&octets).unwrap();
        Some((request.function, request.control.sequence, octets[2..].to_vec()))
    }

    fn said(&mut self, control: u8, function: u8, rest: &[u8]) -> Vec<MasterEvent> {
        self.master.handle_fragment(self.now, &[&[control, function], rest].concat());
        std::iter::from_fn(|| self.master.poll_event()).collect()
    }

    /// Answers the next request, with indications and objects; tells what it was.
    fn answer(&mut self, rest: &[u8]) -> (FunctionCode, Vec<u8>) {
        let (function, sequence, objects) = self.asked().unwrap();
        self.said(0xC0 | sequence, 0x81, rest);
        (function, objects)
    }

    /// The beginning, up to the request for everything.
    fn begin(&mut self) {
        assert_eq!(self.answer(&[0, 0]).0, FunctionCode::DISABLE_UNSOLICITED);
    }
}

const BINARY_EVENT: [u8; 7] = [0, 0, 2, 1, 0x17, 1, 4];

#[test]
fn what_cannot_be_read_is_not_confirmed_and_asked_for_one_kind_after_the_other() {
    let mut script = Script::new(MasterConfig::default());
    script.begin();
    let (function, sequence, _) = script.asked().unwrap();
    assert_eq!(function, FunctionCode::READ);
    // A group that nobody knows, and a confirm is wanted.
    let events = script.said(0xE0 | sequence, 0x81, &[0, 0, 99, 1, 0, 0, 0, 7]);
    assert!(events.iter().any(|event| matches!(event, MasterEvent::Unreadable(_))), "{events:?}");
    let (function, sequence, objects) = script.asked().unwrap();
    assert_eq!((function, &objects[..6]), (FunctionCode::READ, &[2, 0, 6, 4, 0, 6][..]), "and no confirm before");
    let events = script.said(0xC0 | sequence, 0x81, &[0, 0, 30, 3, 0, 0, 0, 5, 0, 0, 0]);
    assert!(events.contains(&MasterEvent::Started), "{events:?}");
}

#[test]
fn before_everything_was_read_only_what_is_empty_is_confirmed() {
    let mut script = Script::new(MasterConfig::default());
    script.begin();
    let told = |events: &[MasterEvent]| events.iter().any(|event| matches!(event, MasterEvent::Told(_)));
    let (_, reading, _) = script.asked().unwrap();
    let events = script.said(0xF3, 0x82, &[&BINARY_EVENT[..], &[0x81]].concat());
    assert!(!told(&events) && script.asked().is_none(), "neither taken nor confirmed");
    script.said(0xF4, 0x82, &[0, 0]);
    let (function, sequence, _) = script.asked().unwrap();
    assert_eq!((function, sequence), (FunctionCode::CONFIRM, 4));
    script.said(0xC0 | reading, 0x81, &[0, 0]);
    assert_eq!(script.answer(&[0, 0]).0, FunctionCode::ENABLE_UNSOLICITED);
    let events = script.said(0xF5, 0x82, &[&BINARY_EVENT[..], &[0x81]].concat());
    assert!(told(&events), "from now on it is taken");
}

#[test]
fn answers_of_others_and_of_before_are_passed_over() {
    let mut script = Script::new(MasterConfig::default());
    script.begin();
    let (_, sequence, _) = script.asked().unwrap();
    let other = (sequence + 5) & 0xF;
    let objects = [0, 0, 30, 3, 0, 0, 0, 5, 0, 0, 0];
    let is_told = |events: Vec<MasterEvent>| events.iter().any(|event| matches!(event, MasterEvent::Told(_)));
    assert!(!is_told(script.said(0xC0 | other, 0x81, &objects)), "another number");
    assert!(!is_told(script.said(0x40 | sequence, 0x81, &objects)), "it goes on with nothing");
    assert!(is_told(script.said(0xC0 | sequence, 0x81, &objects)));
    assert!(!is_told(script.said(0xC0 | sequence, 0x81, &objects)), "the same again");
}

#[test]
fn whoever_says_that_there_are_events_and_tells_none_is_not_asked_without_end() {
    let polls = vec![(Classes::ALL, Duration::from_secs(60))];
    let mut script = Script::new(MasterConfig { event_polls: polls, ..MasterConfig::default() });
    script.begin();
    // Class 1, in every answer, without end; and its restart is never taken back.
    let stuck = [0x82, 0];
    let mut asked = Vec::new();
    for _ in 0..100 {
        match script.asked() {
            Some((function, sequence, _)) => {
                asked.push(function);
                script.said(0xC0 | sequence, 0x81, &stuck);
            }
            None => script.pass(Duration::from_secs(1)),
        }
    }
    let count = |wanted| asked.iter().filter(|function| **function == wanted).count();
    assert!(asked.len() < 25, "{asked:?}");
    assert!(count(FunctionCode::READ) < 12 && count(FunctionCode::WRITE) < 8, "{asked:?}");
}
