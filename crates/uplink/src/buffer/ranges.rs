/// Numbers of samples, ascending: a few stretches without a hole, as a rule one.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Ranges(Vec<(u64, u64)>);

impl Ranges {
    /// Adds a number above all others.
    pub(super) fn push(&mut self, number: u64) {
        match self.0.last_mut() {
            Some((_, last)) if *last + 1 == number => *last = number,
            _ => self.0.push((number, number)),
        }
    }

    /// So many numbers from `first` on.
    pub(super) fn stretch(first: u64, count: u64) -> Self {
        Self(if count == 0 { Vec::new() } else { vec![(first, first + count - 1)] })
    }

    pub(super) fn first(&self) -> Option<u64> {
        self.0.first().map(|(first, _)| *first)
    }

    pub(super) fn len(&self) -> u64 {
        self.0.iter().map(|(first, last)| last - first + 1).sum()
    }

    pub(super) fn contains(&self, number: u64) -> bool {
        let at = self.0.partition_point(|(_, last)| *last < number);
        self.0.get(at).is_some_and(|(first, _)| *first <= number)
    }

    pub(super) fn stretches(&self) -> &[(u64, u64)] {
        &self.0
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = u64> {
        self.0.iter().flat_map(|(first, last)| *first..=*last)
    }
}

impl FromIterator<u64> for Ranges {
    /// Of ascending numbers.
    fn from_iter<I: IntoIterator<Item = u64>>(numbers: I) -> Self {
        let mut ranges = Self::default();
        numbers.into_iter().for_each(|number| ranges.push(number));
        ranges
    }
}
