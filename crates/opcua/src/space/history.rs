use crate::types::{DataValue, DateTime};
use std::collections::VecDeque;

/// The values that a variable had, in the order of their source times, of which the newest are kept.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct History {
    values: VecDeque<DataValue>,
    most: usize,
}

/// Values of a time, and where to go on where these are not all.
#[derive(Debug, Clone, PartialEq, Default)]
pub(crate) struct Stretch {
    pub(crate) values: Vec<DataValue>,
    /// So many of this time, and all before it, were given.
    pub(crate) next: Option<(DateTime, usize)>,
}

impl History {
    /// None yet; so many are kept.
    #[must_use]
    pub const fn new(most: usize) -> Self {
        Self { values: VecDeque::new(), most }
    }

    /// Keeps a value behind all that are not newer.
    pub fn keep(&mut self, value: DataValue) {
        let time = value.source_time;
        let at = self.values.partition_point(|known| known.source_time <= time);
        self.values.insert(at, value);
        while self.values.len() > self.most {
            self.values.pop_front();
        }
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.values.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.values.is_empty()
    }

    /// What lies from one time, included, to another, not included, in that order; the end or the start may be open. So many at a
    /// time, from where the last stretch ended.
    ///
    /// Source: OPC 10000-11, section 6.5.3.2.
    pub(crate) fn raw(
        &self,
        (start, end): (Option<DateTime>, Option<DateTime>),
        most: usize,
        behind: Option<(DateTime, usize)>,
    ) -> Stretch {
        let time = |value: &&DataValue| value.source_time.unwrap_or_default();
        let is_backwards = match (start, end) {
            (Some(start), Some(end)) => end < start,
            (None, Some(_)) => true,
            _ => false,
        };
        // An instant alone is itself.
        let is_instant = start.is_some() && start == end;
        let is_within = |value: &&DataValue| {
            let time = time(value);
            match (start, end) {
                (Some(start), Some(_)) if is_instant => time == start,
                (Some(start), Some(end)) if is_backwards => time <= start && time > end,
                (start, Some(end)) if is_backwards => start.is_none_or(|start| time <= start) && time <= end,
                (start, end) => start.is_none_or(|start| time >= start) && end.is_none_or(|end| time < end),
            }
        };
        let mut within: Vec<_> = self.values.iter().filter(is_within).collect();
        if is_backwards {
            within.reverse();
        }
        let from = behind.map_or(0, |(last, given)| {
            let before = |value: &&DataValue| if is_backwards { time(value) > last } else { time(value) < last };
            within.iter().take_while(|value| before(value)).count() + given
        });
        let most = if most == 0 { usize::MAX } else { most };
        let values: Vec<_> = within.iter().skip(from).take(most).map(|value| (*value).clone()).collect();
        let given = from.saturating_add(values.len());
        let next = (given < within.len()).then(|| within.get(given.saturating_sub(1)).map(time)).flatten();
        let next = next.map(|last| (last, within.iter().take(given).filter(|value| time(value) == last).count()));
        Stretch { values, next }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::types::Variant;

    fn history(times: &[i64]) -> History {
        let mut history = History::new(10);
        for (number, time) in (0_i32..).zip(times) {
            let value = Some(Variant::from(number));
            history.keep(DataValue { value, source_time: Some(DateTime(*time)), ..DataValue::default() });
        }
        history
    }

    fn times(stretch: &Stretch) -> Vec<i64> {
        stretch.values.iter().map(|value| value.source_time.unwrap().0).collect()
    }

    #[test]
    fn stretches_begin_with_their_start_and_go_on_behind_what_was_given() {
        let history = history(&[10, 30, 20, 20, 40]);
        let at = |time| Some(DateTime(time));
        for (start, end, expected) in [
            (at(20), at(40), vec![20, 20, 30]),
            (at(20), None, vec![20, 20, 30, 40]),
            (at(40), at(10), vec![40, 30, 20, 20]),
            (None, at(30), vec![30, 20, 20, 10]),
            (at(20), at(20), vec![20, 20]),
            (at(50), at(60), vec![]),
        ] {
            let whole = history.raw((start, end), 0, None);
            assert_eq!((times(&whole), whole.next), (expected.clone(), None), "{start:?} {end:?}");
            // The same in pieces, also where a piece ends between two of one time.
            for most in 1..4 {
                let (mut pieces, mut behind) = (Vec::new(), None);
                loop {
                    let piece = history.raw((start, end), most, behind);
                    assert!(piece.values.len() <= most);
                    pieces.extend(times(&piece));
                    behind = piece.next;
                    if behind.is_none() {
                        break;
                    }
                }
                assert_eq!(pieces, expected, "{start:?} {end:?} {most}");
            }
        }
    }

    #[test]
    fn the_newest_are_kept() {
        let history = history(&(0..25).collect::<Vec<_>>());
        assert_eq!((history.len(), times(&history.raw((Some(DateTime(0)), None), 1, None))), (10, vec![15]));
    }
}
