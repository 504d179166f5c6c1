use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// When what is read of a device is due. What is read as often stands in one round, which takes as many requests as it takes. A
/// round that is late is late once: what was missed meanwhile is not caught up.
#[derive(Debug)]
pub(super) struct Rounds {
    list: Vec<Round>,
    /// Requests of rounds that are due, and what is to be read once in between.
    waiting: VecDeque<Chunk>,
}

#[derive(Debug)]
struct Round {
    period: Duration,
    due: Instant,
    /// Its place in its period, 0 to 1, that chance gave it: not all devices are asked in the same moment.
    place: f64,
    is_first: bool,
}

/// What goes into one request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Chunk {
    /// The places of what is read.
    pub(super) items: Vec<usize>,
    /// When it was due, and how often it is; none of what is read once.
    pub(super) due: Option<(Instant, Duration)>,
}

impl Rounds {
    pub(super) fn new(periods: impl IntoIterator<Item = Duration>, now: Instant, rng: &mut fastrand::Rng) -> Self {
        let mut periods: Vec<_> = periods.into_iter().collect();
        periods.sort_unstable();
        periods.dedup();
        let round = |period| Round { period, due: now, place: rng.f64(), is_first: true };
        Self { list: periods.into_iter().map(round).collect(), waiting: VecDeque::new() }
    }

    /// Everything is due now.
    pub(super) fn restart(&mut self, now: Instant) {
        self.waiting.clear();
        self.list.iter_mut().for_each(|round| (round.due, round.is_first) = (now, true));
    }

    /// When something is due.
    pub(super) fn due(&self, now: Instant) -> Option<Instant> {
        if self.waiting.is_empty() { self.list.iter().map(|round| round.due).min() } else { Some(now) }
    }

    /// Reads something once, ahead of all others.
    pub(super) fn first(&mut self, items: Vec<usize>) {
        if !items.is_empty() {
            self.waiting.push_front(Chunk { items, due: None });
        }
    }

    /// The next request that is due. A round is filled with what `fill` says for its period, cut into requests.
    pub(super) fn next(&mut self, now: Instant, fill: impl Fn(Duration) -> Vec<Vec<usize>>) -> Option<Chunk> {
        loop {
            if let Some(chunk) = self.waiting.pop_front() {
                return Some(chunk);
            }
            let round = self.list.iter_mut().filter(|round| round.due <= now).min_by_key(|round| round.due)?;
            let due = Some((round.due, round.period));
            self.waiting.extend(fill(round.period).into_iter().map(|items| Chunk { items, due }));
            if std::mem::take(&mut round.is_first) {
                round.due = now + round.period.mul_f64(round.place.max(0.01));
            } else {
                let late = now.saturating_duration_since(round.due).as_nanos() / round.period.as_nanos().max(1);
                round.due += round.period * u32::try_from(late + 1).unwrap_or(u32::MAX);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_round_that_is_late_is_late_once_and_keeps_its_place() {
        let start = tokio::time::Instant::now().into_std();
        let at = |millis| start + Duration::from_millis(millis);
        let second = Duration::from_secs(1);
        let mut rounds = Rounds::new([second, second, second * 100], start, &mut fastrand::Rng::with_seed(7));
        let read = |now, rounds: &mut Rounds| {
            let fill = |period: Duration| if period == second { vec![vec![1, 2], vec![3]] } else { vec![vec![9]] };
            let mut all = Vec::new();
            while let Some(chunk) = rounds.next(now, fill) {
                all.extend(chunk.items);
            }
            all
        };
        assert_eq!(read(start, &mut rounds), [1, 2, 3, 9], "everything once, at first");
        let due = rounds.due(start).unwrap();
        assert!(due > start && due <= at(1000));
        assert_eq!(read(due, &mut rounds), [1, 2, 3]);
        assert_eq!(rounds.due(due), Some(due + second));
        let late = due + Duration::from_millis(4300);
        assert_eq!(read(late, &mut rounds), [1, 2, 3], "once");
        assert_eq!(rounds.due(late), Some(due + second * 5), "on the grid that it stood on");
        rounds.first(vec![7]);
        assert_eq!((rounds.due(late), read(late, &mut rounds)), (Some(late), vec![7]));
    }
}
