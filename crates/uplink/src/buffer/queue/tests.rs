use super::*;
use interlex_core::{PointIndex, Quality, Sample, SampleKind, TimeQuality, Timestamp, Value};

fn sample(at: i64) -> Sample {
    let time = Timestamp::from_millis(at);
    let value = Some(Value::Int(at));
    Sample {
        point: PointIndex(0),
        value,
        quality: Quality::Good,
        source_time: time,
        gateway_time: time,
        time_quality: TimeQuality::Unsaid,
        kind: SampleKind::Current,
    }
}

/// The journal's number of a sample.
fn number(at: i64) -> u64 {
    at.unsigned_abs()
}

fn times(samples: &[Sample]) -> Vec<i64> {
    samples.iter().map(|sample| sample.gateway_time.as_millis()).collect()
}

fn history(buffer: &mut Queue<Sample>, barrier: u64) -> Vec<i64> {
    buffer.take_history(10, barrier, |_| true).map(|(_, samples)| times(&samples)).unwrap_or_default()
}

#[test]
fn samples_stay_until_the_broker_has_proved_to_have_read_them() {
    let mut buffer = Queue::default();
    assert!(!buffer.ask(), "nothing to ask about");
    (1..=3).for_each(|at| buffer.push_live(0, number(at), sample(at)));
    assert_eq!(times(&buffer.take_live(2).unwrap().1), [1, 2]);
    assert!(buffer.ask());
    assert_eq!(times(&buffer.take_live(2).unwrap().1), [3]);
    assert!(!buffer.ask(), "one question at a time");
    assert_eq!((buffer.proven(None), buffer.len()), (2, 1));
    assert_eq!(buffer.take_settled(), [1, 2]);
    buffer.nothing_arrived();
    assert_eq!(buffer.proven(None), 0, "an answer of the old connection proves nothing");
    assert_eq!(history(&mut buffer, u64::MAX), [3]);
}

#[test]
fn after_a_loss_everything_unproven_comes_again_in_time_order() {
    let mut buffer = Queue::default();
    (1..=2).for_each(|at| buffer.push_history(0, number(at), sample(at)));
    (5..=6).for_each(|at| buffer.push_live(0, number(at), sample(at)));
    buffer.take_history(1, u64::MAX, |_| true);
    buffer.take_live(1);
    buffer.nothing_arrived();
    buffer.push_history(0, number(7), sample(7));
    assert_eq!(history(&mut buffer, u64::MAX), [1, 2, 5, 6, 7]);
    buffer.take_back(2);
    assert_eq!(history(&mut buffer, u64::MAX), [6, 7], "what could not be sent is kept, and not as sent");
}

#[test]
fn what_is_out_of_memory_goes_before_what_is_newer() {
    let mut buffer = Queue::default();
    (1..=9).for_each(|at| buffer.push_history(usize::try_from(at % 2).unwrap(), number(at), sample(at)));
    let middle: Ranges = [3, 4, 6].into_iter().collect();
    assert_eq!(buffer.take_out(&middle), middle);
    assert_eq!((buffer.len(), buffer.take_out(&middle).len()), (6, 0));
    assert_eq!((history(&mut buffer, 3), history(&mut buffer, 3)), (vec![2], vec![1]));
    assert_eq!(history(&mut buffer, 3), [0_i64; 0], "the rest waits");
    [4, 6, 3].into_iter().for_each(|at| buffer.push_history(usize::try_from(at % 2).unwrap(), number(at), sample(at)));
    assert_eq!((history(&mut buffer, 7), history(&mut buffer, 99)), (vec![4, 6], vec![8]));
    assert_eq!(history(&mut buffer, 99), [3, 5, 7, 9]);
}

#[test]
fn history_of_a_device_that_is_not_ready_waits() {
    let mut buffer = Queue::default();
    buffer.push_history(0, number(1), sample(1));
    buffer.push_history(1, number(2), sample(2));
    let mut of_device_1 = || buffer.take_history(10, u64::MAX, |device| device == 1).map(|(device, _)| device);
    assert_eq!((of_device_1(), of_device_1()), (Some(1), None));
    assert_eq!(buffer.len(), 2, "one kept, one unproven");
}

#[test]
fn samples_of_points_that_are_gone_are_dropped_and_counted() {
    let mut buffer = Queue::default();
    let other = Sample { point: PointIndex(9), ..sample(3) };
    buffer.push_history(0, number(1), sample(1));
    buffer.push_history(0, 33, other.clone());
    buffer.push_live(0, 34, other);
    assert_eq!(buffer.count_unknown(|sample| sample.point == PointIndex(0)), 2);
    assert_eq!(buffer.keep_only(|sample| sample.point == PointIndex(0)), [Timestamp::from_millis(3); 2]);
    assert_eq!((buffer.len(), buffer.bytes()), (1, sample(1).bytes()));
    assert_eq!(buffer.take_settled(), [34, 33], "the journal needs them no more");
}

#[test]
fn the_oldest_or_the_newest_can_be_given_up() {
    let mut buffer = Queue::default();
    (1..=5).for_each(|at| buffer.push_history(usize::try_from(at % 2).unwrap(), number(at), sample(at)));
    let mut gone = |is_oldest| buffer.give_up_one(is_oldest).unwrap().as_millis();
    assert_eq!([gone(true), gone(true), gone(false)], [1, 2, 5]);
    assert_eq!(buffer.take_settled(), [1, 2, 5]);
    assert_eq!((buffer.oldest(), buffer.history_len()), (Some(Timestamp::from_millis(3)), 2));
    buffer.push_live(0, number(7), sample(7));
    let mut gone = |is_oldest| buffer.give_up_one(is_oldest).unwrap().as_millis();
    assert_eq!([gone(false), gone(true), gone(true)], [7, 3, 4], "what is live, too");
    assert_eq!((buffer.give_up_one(true), buffer.bytes()), (None, 0));
}

#[test]
#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn what_the_broker_has_comes_again_when_the_host_was_gone_also_from_the_database() {
    let (now, mut buffer) = (Instant::now(), Queue::default());
    let later = now + std::time::Duration::from_secs(90);
    for at in 1..=4 {
        buffer.push_live(0, number(at), sample(at));
        buffer.take_live(1);
        buffer.ask();
        assert_eq!(buffer.proven(Some(later)), 1);
    }
    assert_eq!((buffer.len(), buffer.unsettled_len(), buffer.settle(Some(now))), (0, 4, 0));
    buffer.shed_unsettled(2 * sample(1).bytes(), |number| number < 4);
    assert_eq!((buffer.bytes(), buffer.unsettled_len()), (2 * sample(1).bytes(), 4));
    assert_eq!(buffer.nobody_heard(), [1, 2].into_iter().collect(), "these are in the database only");
    assert_eq!(history(&mut buffer, u64::MAX), [3, 4]);
    buffer.ask();
    assert_eq!((buffer.proven(Some(later)), buffer.settle(Some(later)), buffer.bytes()), (2, 2, 0));
    assert_eq!(buffer.take_settled(), [3, 4]);
}
