use smallvec::SmallVec;
use std::fmt;

/// Some bits, the first one first.
///
/// Source: ASHRAE 135-2016, clause 20.2.10.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
pub struct BitString {
    octets: SmallVec<[u8; 8]>,
    unused: u8,
}

impl BitString {
    /// These bits.
    #[must_use]
    pub fn of(bits: &[bool]) -> Self {
        let octet =
            |bits: &[bool]| bits.iter().enumerate().fold(0, |octet, (at, bit)| octet | u8::from(*bit) << (7 - at));
        let octets: SmallVec<_> = bits.chunks(8).map(octet).collect();
        let unused = u8::try_from(octets.len() * 8 - bits.len()).unwrap_or_default();
        Self { octets, unused }
    }

    /// From the content of its value: how many bits of the last octet mean nothing, then the octets.
    pub(crate) fn of_content(content: &[u8]) -> Option<Self> {
        let (unused, octets) = content.split_first()?;
        let is_right = *unused < 8 && (*unused == 0 || !octets.is_empty());
        is_right.then(|| Self { octets: SmallVec::from_slice(octets), unused: *unused })
    }

    pub(crate) const fn unused(&self) -> u8 {
        self.unused
    }

    pub(crate) fn octets(&self) -> &[u8] {
        &self.octets
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.octets.len() * 8 - usize::from(self.unused)
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.octets.is_empty()
    }

    /// One of them, by its place; off where there is none.
    #[must_use]
    pub fn has(&self, at: usize) -> bool {
        at < self.len() && self.octets.get(at / 8).is_some_and(|octet| octet & 0x80 >> (at % 8) != 0)
    }

    /// All of them.
    pub fn bits(&self) -> impl Iterator<Item = bool> + '_ {
        (0..self.len()).map(|at| self.has(at))
    }
}

/// `0100`, the first one first.
impl fmt::Display for BitString {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.bits().try_for_each(|bit| f.write_str(if bit { "1" } else { "0" }))
    }
}
