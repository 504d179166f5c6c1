use super::*;
use interlex_core::{PointIndex, Quality, Sample, SampleKind, TimeQuality};

fn sample(at: i64) -> Sample {
    let time = Timestamp::from_millis(at);
    Sample {
        point: PointIndex(0),
        value: None,
        quality: Quality::Good,
        source_time: time,
        gateway_time: time,
        time_quality: TimeQuality::Unsaid,
        kind: SampleKind::Current,
    }
}

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn start() -> Instant {
    Instant::now()
}

fn due(ledger: &mut Ledger<Sample>, now: Instant, all: bool) -> Option<Due<Sample>> {
    ledger.due(now, all, |_| true)
}

#[test]
fn what_the_broker_has_in_time_is_never_written_and_the_rest_is() {
    let (flush, now) = (Duration::from_millis(500), start());
    let mut ledger = Ledger::<Sample>::new(flush);
    let numbers: Vec<_> = (0..5).map(|at| ledger.add(&sample(at), now)).collect();
    ledger.settle(numbers[1]);
    assert!(due(&mut ledger, now + flush / 2, false).is_none());
    let due = ledger.due(now + flush, false, |sample| sample.gateway_time.as_millis() != 4).unwrap();
    let times: Vec<_> = due.items.iter().map(|sample| sample.gateway_time.as_millis()).collect();
    assert_eq!((due.first, times), (0, vec![0, 2, 3]));
    assert!(self::due(&mut ledger, now + 2 * flush, true).is_none(), "nothing is left");
    ledger.settle(numbers[0]);
    assert_eq!(ledger.durable(), 0, "not there yet");
    ledger.written(0, 77, 30);
    assert_eq!((ledger.durable(), ledger.bytes()), (2, 30));
    ledger.settle(99);
    ledger.settle(numbers[1]);
    assert_eq!(ledger.durable(), 2, "they are not in there");
    ledger.settle(numbers[3]);
    ledger.settle(numbers[2]);
    assert_eq!((ledger.take_removable(), ledger.durable(), ledger.bytes()), (vec![77], 0, 0));
    assert!(ledger.take_removable().is_empty());
}

#[test]
fn a_block_whose_samples_are_settled_before_it_is_there_goes_when_it_is() {
    let now = start();
    let mut ledger = Ledger::<Sample>::new(Duration::ZERO);
    let number = ledger.add(&sample(1), now);
    assert!(due(&mut ledger, now, false).is_some());
    ledger.settle(number);
    assert!(ledger.take_removable().is_empty());
    ledger.written(number, 5, 9);
    assert_eq!(ledger.take_removable(), [5]);
}

#[test]
fn blocks_of_an_earlier_run_and_large_heaps_keep_their_numbers_apart() {
    let now = start();
    let mut ledger = Ledger::<Sample>::new(Duration::from_secs(1));
    let at = Timestamp::from_millis;
    let day = Duration::from_secs(86_400);
    let stored = |id| Stored { id, bytes: 10, oldest: at(1), newest: at(3), age: day };
    let first = ledger.restore(stored(9), 3, now);
    assert_eq!(ledger.age(now + day), Some(2 * day), "it goes on where it was");
    assert_eq!((ledger.restore(stored(10), 0, now).len(), ledger.take_removable()), (0, vec![10]), "of no use");
    assert_eq!((ledger.barrier(), ledger.coldest(), ledger.cold()), (0, Some((0, 9)), 3));
    let numbers: Vec<_> = (0..5000).map(|at| ledger.add(&sample(at + 10), now)).collect();
    assert_eq!(numbers[0], 3);
    let (one, two) = (due(&mut ledger, now, false).unwrap(), due(&mut ledger, now, true).unwrap());
    assert_eq!((one.items.len(), two.items.len(), two.first), (4000, 1000, 4003));
    assert_eq!(ledger.warm(0), Some((first.clone(), first.clone())));
    assert_eq!((ledger.barrier(), ledger.coldest()), (u64::MAX, None));
    first.iter().for_each(|number| ledger.settle(number));
    assert_eq!(ledger.take_removable(), [9]);
}

#[test]
fn blocks_leave_the_memory_newest_first_and_are_given_up_oldest_first() {
    let now = start();
    let mut ledger = Ledger::<Sample>::new(Duration::ZERO);
    for block in 0..3 {
        let number = ledger.add(&sample(block), now);
        ledger.add(&sample(block), now);
        due(&mut ledger, now, true).unwrap();
        ledger.written(number, 70 + number, 100);
    }
    for expected in [4, 2] {
        let (first, numbers) = ledger.warmest().unwrap();
        assert_eq!(first, expected);
        let all = numbers.clone();
        ledger.cool(first, all);
    }
    assert_eq!((ledger.barrier(), ledger.cold(), ledger.durable()), (2, 4, 6));
    let hour = Duration::from_secs(3600);
    assert!(ledger.give_up(hour, now + hour / 2).is_none(), "not so old, whatever the time of day is by now");
    let gone = ledger.give_up(hour, now + hour).unwrap();
    assert_eq!((gone.numbers.len(), gone.cold, ledger.bytes()), (2, 0, 200));
    let gone = ledger.give_up(Duration::ZERO, now).unwrap();
    assert_eq!((gone.cold, ledger.barrier(), ledger.take_removable()), (2, 4, vec![70, 72]));
}
