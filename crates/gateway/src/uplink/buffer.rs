use interlex_core::{PointIndex, Sample, Timestamp};
use std::collections::{BTreeMap, VecDeque};

/// The samples of one uplink between report policy and proof of delivery.
///
/// ```text
/// push ──▶ live ──take_live──▶ unproven ──proven──▶ gone: the broker has read them
///   │                             │
///   └──▶ history ◀── lost ────────┘      history ──take_history──▶ unproven
///        (per device)
/// ```
#[derive(Debug)]
pub(crate) struct Buffer {
    limit: usize,
    live: VecDeque<(usize, Kept)>,
    history: BTreeMap<usize, VecDeque<Kept>>,
    history_len: usize,
    unproven: VecDeque<(usize, Kept)>,
    /// The numbers of samples that are proven or lost, until somebody asks for them.
    settled: Vec<u64>,
    /// How many of the unproven a question to the broker, under way, will prove.
    asked: Option<usize>,
    lost: u64,
}

/// A sample and the number that the journal knows it by.
#[derive(Debug, Clone, PartialEq)]
struct Kept {
    number: u64,
    sample: Sample,
}

/// A million numeric samples take about 100 MB.
pub(crate) const LIMIT: usize = 1_000_000;

impl Buffer {
    pub(crate) fn new(limit: usize) -> Self {
        Self {
            limit,
            live: VecDeque::new(),
            history: BTreeMap::new(),
            history_len: 0,
            unproven: VecDeque::new(),
            settled: Vec::new(),
            asked: None,
            lost: 0,
        }
    }

    /// A sample to send as soon as possible.
    pub(crate) fn push_live(&mut self, device: usize, number: u64, sample: Sample) {
        self.live.push_back((device, Kept { number, sample }));
        self.make_room();
    }

    /// A sample to keep until there is a session again.
    pub(crate) fn push_history(&mut self, device: usize, number: u64, sample: Sample) {
        self.history.entry(device).or_default().push_back(Kept { number, sample });
        self.history_len += 1;
        self.make_room();
    }

    /// Up to `most` live samples of one device, in time order. They count as sent, and as unproven.
    pub(crate) fn take_live(&mut self, most: usize) -> Option<(usize, Vec<Sample>)> {
        let device = self.live.front()?.0;
        let of_device = self.live.iter().take(most).take_while(|(of, _)| *of == device).count();
        let taken = self.live.drain(..of_device).collect::<Vec<_>>();
        let samples = taken.iter().map(|(_, kept)| kept.sample.clone()).collect();
        self.unproven.extend(taken);
        Some((device, samples))
    }

    /// Up to `most` kept samples of one device that `is_ready`, in time order.
    pub(crate) fn take_history(
        &mut self,
        most: usize,
        is_ready: impl Fn(usize) -> bool,
    ) -> Option<(usize, Vec<Sample>)> {
        let (device, kept) = self.history.iter_mut().find(|(device, kept)| !kept.is_empty() && is_ready(**device))?;
        let taken: Vec<_> = kept.drain(..kept.len().min(most)).collect();
        self.history_len -= taken.len();
        let samples = taken.iter().map(|kept| kept.sample.clone()).collect();
        self.unproven.extend(taken.into_iter().map(|kept| (*device, kept)));
        Some((*device, samples))
    }

    /// The last `count` samples taken could not be sent after all: they become history.
    pub(crate) fn take_back(&mut self, count: usize) {
        let back = self.unproven.split_off(self.unproven.len().saturating_sub(count));
        self.history_len += back.len();
        for (device, sample) in back.into_iter().rev() {
            self.history.entry(device).or_default().push_front(sample);
        }
    }

    /// Everything sent so far was followed by a question to the broker. `false` when there is nothing to ask about,
    /// or a question is under way.
    pub(crate) fn ask(&mut self) -> bool {
        if self.asked.is_some() || self.unproven.is_empty() {
            return false;
        }
        self.asked = Some(self.unproven.len());
        true
    }

    /// The broker answered the question. Tells how many samples it has read.
    pub(crate) fn proven(&mut self) -> usize {
        let proven = self.asked.take().unwrap_or(0).min(self.unproven.len());
        self.settled.extend(self.unproven.drain(..proven).map(|(_, kept)| kept.number));
        proven
    }

    /// The question never left, or another one is asked in its place.
    pub(crate) fn proven_nothing(&mut self) {
        self.asked = None;
    }

    /// The connection is gone: what is not proven has to be sent again, before what came after it.
    pub(crate) fn connection_lost(&mut self) {
        self.asked = None;
        let again: Vec<_> = self.unproven.drain(..).chain(self.live.drain(..)).collect();
        for (device, sample) in again.into_iter().rev() {
            self.history.entry(device).or_default().push_front(sample);
            self.history_len += 1;
        }
        // A device's live samples can overtake its history; keep each point's time order.
        for kept in self.history.values_mut() {
            kept.make_contiguous().sort_by_key(|kept| kept.sample.gateway_time);
        }
    }

    /// Drops kept samples of points that are described no more, and counts them as lost. Tells how many.
    pub(crate) fn keep_only(&mut self, is_known: impl Fn(PointIndex) -> bool) -> usize {
        let before = self.waiting();
        let settled = &mut self.settled;
        let mut stays = |kept: &Kept| {
            let is_known = is_known(kept.sample.point);
            if !is_known {
                settled.push(kept.number);
            }
            is_known
        };
        self.live.retain(|(_, kept)| stays(kept));
        self.history.values_mut().for_each(|of_device| of_device.retain(&mut stays));
        self.history_len = self.history.values().map(VecDeque::len).sum();
        let dropped = before - self.waiting();
        self.lost += dropped as u64;
        dropped
    }

    /// How many samples are not proven to be with the broker.
    pub(crate) fn waiting(&self) -> usize {
        self.live.len() + self.history_len + self.unproven.len()
    }

    /// How many were dropped because there was no room.
    pub(crate) const fn lost(&self) -> u64 {
        self.lost
    }

    /// The numbers of samples that are proven or lost since the last call.
    pub(crate) fn take_settled(&mut self) -> Vec<u64> {
        std::mem::take(&mut self.settled)
    }

    /// When the oldest sample that is not proven came.
    pub(crate) fn oldest(&self) -> Option<Timestamp> {
        let history = self.history.values().filter_map(|kept| kept.front());
        let others = self.unproven.front().into_iter().chain(self.live.front()).map(|(_, kept)| kept);
        history.chain(others).map(|kept| kept.sample.gateway_time).min()
    }

    /// Drops the oldest kept sample, or the oldest live one, when there are too many. It is counted.
    fn make_room(&mut self) {
        if self.waiting() <= self.limit {
            return;
        }
        let oldest = self.history.values_mut().filter(|kept| !kept.is_empty());
        let gone = match oldest.min_by_key(|kept| kept.front().map(|kept| kept.sample.gateway_time)) {
            Some(kept) => {
                self.history_len -= 1;
                kept.pop_front()
            }
            None => self.live.pop_front().map(|(_, kept)| kept),
        };
        self.settled.extend(gone.map(|kept| kept.number));
        self.lost += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_core::{Quality, Timestamp, Value};

    fn sample(at: i64) -> Sample {
        let time = Timestamp::from_millis(at);
        let value = Some(Value::Int(at));
        Sample { point: PointIndex(0), value, quality: Quality::Good, source_time: time, gateway_time: time }
    }

    /// The journal's number of a sample.
    fn number(at: i64) -> u64 {
        at.unsigned_abs()
    }

    fn times(samples: &[Sample]) -> Vec<i64> {
        samples.iter().map(|sample| sample.gateway_time.as_millis()).collect()
    }

    #[test]
    fn samples_stay_until_the_broker_has_proved_to_have_read_them() {
        let mut buffer = Buffer::new(100);
        assert!(!buffer.ask(), "nothing to ask about");
        (1..=3).for_each(|at| buffer.push_live(0, number(at), sample(at)));
        assert_eq!(times(&buffer.take_live(2).unwrap().1), [1, 2]);
        assert!(buffer.ask());
        assert_eq!(times(&buffer.take_live(2).unwrap().1), [3]);
        assert!(!buffer.ask(), "one question at a time");
        assert_eq!((buffer.proven(), buffer.waiting()), (2, 1));
        assert_eq!(buffer.take_settled(), [1, 2]);
        buffer.connection_lost();
        assert_eq!(buffer.proven(), 0, "an answer of the old connection proves nothing");
        assert_eq!(times(&buffer.take_history(10, |_| true).unwrap().1), [3]);
    }

    #[test]
    fn after_a_loss_everything_unproven_comes_again_in_time_order() {
        let mut buffer = Buffer::new(100);
        buffer.push_history(0, number(1), sample(1));
        buffer.push_history(0, number(2), sample(2));
        (5..=6).for_each(|at| buffer.push_live(0, number(at), sample(at)));
        buffer.take_history(1, |_| true);
        buffer.take_live(1);
        buffer.connection_lost();
        buffer.push_history(0, number(7), sample(7));
        assert_eq!(times(&buffer.take_history(10, |_| true).unwrap().1), [1, 2, 5, 6, 7]);
    }

    #[test]
    fn what_could_not_be_sent_counts_as_kept_and_not_as_sent() {
        let mut buffer = Buffer::new(100);
        (1..=3).for_each(|at| buffer.push_live(0, number(at), sample(at)));
        buffer.take_live(1);
        buffer.take_live(2);
        buffer.take_back(2);
        assert!(buffer.ask());
        assert_eq!((buffer.proven(), buffer.waiting()), (1, 2));
        assert_eq!(times(&buffer.take_history(10, |_| true).unwrap().1), [2, 3]);
    }

    #[test]
    fn history_of_a_device_that_is_not_ready_waits() {
        let mut buffer = Buffer::new(100);
        buffer.push_history(0, number(1), sample(1));
        buffer.push_history(1, number(2), sample(2));
        assert_eq!(buffer.take_history(10, |device| device == 1).map(|(device, _)| device), Some(1));
        assert_eq!(buffer.take_history(10, |device| device == 1), None);
        assert_eq!(buffer.waiting(), 2, "one kept, one unproven");
    }

    #[test]
    fn samples_of_points_that_are_gone_are_dropped_and_counted() {
        let mut buffer = Buffer::new(100);
        let other = Sample { point: PointIndex(9), ..sample(3) };
        buffer.push_history(0, number(1), sample(1));
        buffer.push_history(0, 33, other.clone());
        buffer.push_live(0, 34, other);
        assert_eq!(buffer.keep_only(|point| point == PointIndex(0)), 2);
        assert_eq!((buffer.waiting(), buffer.lost()), (1, 2));
        assert_eq!(buffer.take_settled(), [34, 33], "the journal needs them no more");
    }

    #[test]
    fn a_full_buffer_loses_the_oldest_and_counts_it() {
        let mut buffer = Buffer::new(3);
        (1..=5).for_each(|at| buffer.push_history(usize::try_from(at % 2).unwrap(), number(at), sample(at)));
        assert_eq!((buffer.lost(), buffer.waiting()), (2, 3));
        assert_eq!(buffer.take_settled(), [1, 2]);
        assert_eq!(buffer.oldest(), Some(Timestamp::from_millis(3)));
        assert_eq!(times(&buffer.take_history(10, |_| true).unwrap().1), [4]);
        assert_eq!(times(&buffer.take_history(10, |_| true).unwrap().1), [3, 5]);
    }
}
