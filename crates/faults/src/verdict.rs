use crate::Arrival;
use std::collections::HashMap;
use std::fmt;

/// What became of the values that a counting point had.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Verdict {
    /// How many different values should have arrived.
    pub expected: u64,
    /// Those of them that did not, at most the first hundred of each metric.
    pub missing: Vec<u64>,
    /// How many did not.
    pub lost: u64,
    /// Live values that came after a newer one, and historical ones that came for the first time, after a newer historical one of
    /// the same session.
    pub out_of_order: u64,
    /// Values that came more than once.
    pub repeats: u64,
    /// Repeats that do not have the time and value of what they repeat, so that nobody could know them for such.
    pub unrecognisable: u64,
}

impl Verdict {
    /// Judges what arrived of a counting point, whose values from the first that arrived to `last` were read.
    #[must_use]
    pub fn of(arrivals: &[Arrival], last: u64) -> Self {
        let mut verdict = Self::default();
        let mut times: HashMap<u64, u64> = HashMap::new();
        let (mut live, mut history) = (None, HashMap::new());
        for arrival in arrivals {
            if let Some(time) = times.insert(arrival.value, arrival.timestamp) {
                verdict.repeats += 1;
                verdict.unrecognisable += u64::from(time != arrival.timestamp);
                if arrival.is_historical {
                    // What comes again is known, whatever came since.
                    continue;
                }
            }
            if arrival.is_historical {
                let before = history.insert(arrival.session, arrival.value);
                verdict.out_of_order += u64::from(before.is_some_and(|before| before >= arrival.value));
            } else {
                // A birth tells what is known.
                let is_late = live.is_some_and(|before| arrival.value < before);
                verdict.out_of_order += u64::from(is_late);
                live = Some(arrival.value);
            }
        }
        let Some(first) = times.keys().min().copied() else {
            verdict.lost = last + 1;
            return verdict;
        };
        verdict.expected = (last + 1).saturating_sub(first);
        for value in (first..=last).filter(|value| !times.contains_key(value)) {
            verdict.lost += 1;
            if verdict.missing.len() < 100 {
                verdict.missing.push(value);
            }
        }
        verdict
    }

    /// Both together.
    #[must_use]
    pub fn and(mut self, other: Self) -> Self {
        self.expected += other.expected;
        self.missing.extend(other.missing);
        self.lost += other.lost;
        self.out_of_order += other.out_of_order;
        self.repeats += other.repeats;
        self.unrecognisable += other.unrecognisable;
        self
    }

    /// Whether everything arrived, in order, and repeats can be known.
    #[must_use]
    pub fn is_clean(&self) -> bool {
        self.lost == 0 && self.out_of_order == 0 && self.unrecognisable == 0
    }
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { expected, lost, out_of_order, repeats, unrecognisable, .. } = self;
        write!(
            f,
            "{expected} values, {lost} lost, {out_of_order} out of order, {repeats} repeats, {unrecognisable} of them \
             unrecognisable"
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn arrival(session: u32, value: u64, is_historical: bool) -> Arrival {
        Arrival { session, value, timestamp: value * 10, is_historical, is_birth: false, at: 0 }
    }

    #[test]
    fn what_is_missing_late_or_repeated_is_found() {
        let clean = [arrival(1, 5, false), arrival(2, 8, false), arrival(2, 6, true), arrival(2, 7, true)];
        assert!(Verdict::of(&clean, 8).is_clean());
        let mut odd = clean.to_vec();
        odd.extend([arrival(2, 7, true), arrival(2, 6, true), arrival(2, 10, false), arrival(2, 9, false)]);
        odd.push(Arrival { timestamp: 1, ..arrival(3, 10, true) });
        // Older than what came before it of the same session, and new.
        odd.push(arrival(2, 4, true));
        let verdict = Verdict::of(&odd, 12);
        assert_eq!((verdict.lost, verdict.missing.as_slice()), (2, &[11, 12][..]));
        assert_eq!((verdict.out_of_order, verdict.repeats, verdict.unrecognisable), (2, 3, 1));
        assert_eq!(Verdict::of(&[], 4).lost, 5);
    }
}
