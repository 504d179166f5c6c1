use interlex_core::{PointIndex, Sample};
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
    live: VecDeque<(usize, Sample)>,
    history: BTreeMap<usize, VecDeque<Sample>>,
    history_len: usize,
    unproven: VecDeque<(usize, Sample)>,
    /// How many of the unproven a question to the broker, under way, will prove.
    asked: Option<usize>,
    lost: u64,
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
            asked: None,
            lost: 0,
        }
    }

    /// A sample to send as soon as possible.
    pub(crate) fn push_live(&mut self, device: usize, sample: Sample) {
        self.live.push_back((device, sample));
        self.make_room();
    }

    /// A sample to keep until there is a session again.
    pub(crate) fn push_history(&mut self, device: usize, sample: Sample) {
        self.history.entry(device).or_default().push_back(sample);
        self.history_len += 1;
        self.make_room();
    }

    /// Up to `most` live samples of one device, in time order. They count as sent, and as unproven.
    pub(crate) fn take_live(&mut self, most: usize) -> Option<(usize, Vec<Sample>)> {
        let device = self.live.front()?.0;
        let of_device = self.live.iter().take(most).take_while(|(of, _)| *of == device).count();
        let samples: Vec<_> = self.live.drain(..of_device).map(|(_, sample)| sample).collect();
        self.unproven.extend(samples.iter().map(|sample| (device, sample.clone())));
        Some((device, samples))
    }

    /// Up to `most` kept samples of one device that `is_ready`, in time order.
    pub(crate) fn take_history(
        &mut self,
        most: usize,
        is_ready: impl Fn(usize) -> bool,
    ) -> Option<(usize, Vec<Sample>)> {
        let (device, kept) = self.history.iter_mut().find(|(device, kept)| !kept.is_empty() && is_ready(**device))?;
        let samples: Vec<_> = kept.drain(..kept.len().min(most)).collect();
        self.history_len -= samples.len();
        self.unproven.extend(samples.iter().map(|sample| (*device, sample.clone())));
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
        self.unproven.drain(..proven);
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
            kept.make_contiguous().sort_by_key(|sample| sample.gateway_time);
        }
    }

    /// Drops kept samples of points that are described no more, and counts them as lost. Tells how many.
    pub(crate) fn keep_only(&mut self, is_known: impl Fn(PointIndex) -> bool) -> usize {
        let before = self.waiting();
        self.live.retain(|(_, sample)| is_known(sample.point));
        self.history.values_mut().for_each(|kept| kept.retain(|sample| is_known(sample.point)));
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

    /// Takes out everything, for a place that survives the process.
    pub(crate) fn drain(&mut self) -> Vec<(usize, Sample)> {
        self.connection_lost();
        self.history_len = 0;
        let history = std::mem::take(&mut self.history);
        history.into_iter().flat_map(|(device, kept)| kept.into_iter().map(move |sample| (device, sample))).collect()
    }

    /// Drops the oldest kept sample, or the oldest live one, when there are too many. It is counted.
    fn make_room(&mut self) {
        if self.waiting() <= self.limit {
            return;
        }
        let oldest = self.history.values_mut().filter(|kept| !kept.is_empty());
        match oldest.min_by_key(|kept| kept.front().map(|sample| sample.gateway_time)) {
            Some(kept) => {
                kept.pop_front();
                self.history_len -= 1;
            }
            None => {
                self.live.pop_front();
            }
        }
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

    fn times(samples: &[Sample]) -> Vec<i64> {
        samples.iter().map(|sample| sample.gateway_time.as_millis()).collect()
    }

    #[test]
    fn samples_stay_until_the_broker_has_proved_to_have_read_them() {
        let mut buffer = Buffer::new(100);
        assert!(!buffer.ask(), "nothing to ask about");
        (1..=3).for_each(|at| buffer.push_live(0, sample(at)));
        assert_eq!(times(&buffer.take_live(2).unwrap().1), [1, 2]);
        assert!(buffer.ask());
        assert_eq!(times(&buffer.take_live(2).unwrap().1), [3]);
        assert!(!buffer.ask(), "one question at a time");
        assert_eq!((buffer.proven(), buffer.waiting()), (2, 1));
        buffer.connection_lost();
        assert_eq!(buffer.proven(), 0, "an answer of the old connection proves nothing");
        assert_eq!(times(&buffer.take_history(10, |_| true).unwrap().1), [3]);
    }

    #[test]
    fn after_a_loss_everything_unproven_comes_again_in_time_order() {
        let mut buffer = Buffer::new(100);
        buffer.push_history(0, sample(1));
        buffer.push_history(0, sample(2));
        (5..=6).for_each(|at| buffer.push_live(0, sample(at)));
        buffer.take_history(1, |_| true);
        buffer.take_live(1);
        buffer.connection_lost();
        buffer.push_history(0, sample(7));
        assert_eq!(times(&buffer.take_history(10, |_| true).unwrap().1), [1, 2, 5, 6, 7]);
    }

    #[test]
    fn what_could_not_be_sent_counts_as_kept_and_not_as_sent() {
        let mut buffer = Buffer::new(100);
        (1..=3).for_each(|at| buffer.push_live(0, sample(at)));
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
        buffer.push_history(0, sample(1));
        buffer.push_history(1, sample(2));
        assert_eq!(buffer.take_history(10, |device| device == 1).map(|(device, _)| device), Some(1));
        assert_eq!(buffer.take_history(10, |device| device == 1), None);
        assert_eq!(buffer.waiting(), 2, "one kept, one unproven");
    }

    #[test]
    fn samples_of_points_that_are_gone_are_dropped_and_counted() {
        let mut buffer = Buffer::new(100);
        let other = Sample { point: PointIndex(9), ..sample(3) };
        buffer.push_history(0, sample(1));
        buffer.push_history(0, other.clone());
        buffer.push_live(0, other);
        assert_eq!(buffer.keep_only(|point| point == PointIndex(0)), 2);
        assert_eq!((buffer.waiting(), buffer.lost()), (1, 2));
    }

    #[test]
    fn a_full_buffer_loses_the_oldest_and_counts_it() {
        let mut buffer = Buffer::new(3);
        (1..=5).for_each(|at| buffer.push_history(usize::try_from(at % 2).unwrap(), sample(at)));
        assert_eq!((buffer.lost(), buffer.waiting()), (2, 3));
        let left: Vec<_> = buffer.drain().into_iter().map(|(_, sample)| sample).collect();
        assert_eq!(times(&left), [4, 3, 5]);
    }
}
