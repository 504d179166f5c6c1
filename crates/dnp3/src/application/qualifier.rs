use crate::codec::Fault;

/// How the objects of a header are told: which ones, and what stands before each.
///
/// Source: IEEE 1815-2012, section 4.2.2.7.3.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Qualifier {
    /// What stands before each.
    pub prefix: Prefix,
    /// Which ones.
    pub range: RangeForm,
}

/// What stands before each object.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Prefix {
    /// Nothing.
    None,
    /// Its index, of so many octets.
    Index(Width),
    /// Its size, of so many octets.
    Size(Width),
}

/// Which objects are told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum RangeForm {
    /// From a first to a last one, each of so many octets.
    StartStop(Width),
    /// All.
    All,
    /// So many, a number of so many octets.
    Count(Width),
    /// So many of a size of their own each, a number of one octet.
    FreeFormat,
}

/// How many octets a number has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Width {
    /// One.
    One,
    /// Two.
    Two,
    /// Four.
    Four,
}

const WIDTHS: [Width; 3] = [Width::One, Width::Two, Width::Four];

impl Width {
    const fn code(self) -> u8 {
        match self {
            Self::One => 0,
            Self::Two => 1,
            Self::Four => 2,
        }
    }

    /// The least one in which a number fits.
    #[must_use]
    pub const fn of(number: u32) -> Self {
        match number {
            0..=0xFF => Self::One,
            0x100..=0xFFFF => Self::Two,
            _ => Self::Four,
        }
    }

    pub(super) fn put(self, number: u32, out: &mut Vec<u8>) {
        let [a, b, c, d] = number.to_le_bytes();
        match self {
            Self::One => out.push(a),
            Self::Two => out.extend_from_slice(&[a, b]),
            Self::Four => out.extend_from_slice(&[a, b, c, d]),
        }
    }
}

impl Qualifier {
    /// All objects.
    pub const ALL: Self = Self { prefix: Prefix::None, range: RangeForm::All };

    pub(super) const fn octet(self) -> u8 {
        let prefix = match self.prefix {
            Prefix::None => 0,
            Prefix::Index(width) => 1 + width.code(),
            Prefix::Size(width) => 4 + width.code(),
        };
        let range = match self.range {
            RangeForm::StartStop(width) => width.code(),
            RangeForm::All => 6,
            RangeForm::Count(width) => 7 + width.code(),
            RangeForm::FreeFormat => 0xB,
        };
        prefix << 4 | range
    }

    pub(super) fn of(octet: u8) -> Result<Self, Fault> {
        let error = Fault::Qualifier(octet);
        let width = |code: u8| WIDTHS.get(usize::from(code)).copied().ok_or(error);
        let prefix = match octet >> 4 {
            0 => Prefix::None,
            code @ 1..=3 => Prefix::Index(width(code - 1)?),
            code @ 4..=6 => Prefix::Size(width(code - 4)?),
            _ => return Err(error),
        };
        let range = match octet & 0xF {
            code @ 0..=2 => RangeForm::StartStop(width(code)?),
            6 => RangeForm::All,
            code @ 7..=9 => RangeForm::Count(width(code - 7)?),
            0xB => RangeForm::FreeFormat,
            _ => return Err(error),
        };
        let qualifier = Self { prefix, range };
        let goes_together = match range {
            RangeForm::StartStop(_) | RangeForm::All => prefix == Prefix::None,
            RangeForm::Count(_) => !matches!(prefix, Prefix::Size(_)),
            RangeForm::FreeFormat => matches!(prefix, Prefix::Size(_)),
        };
        goes_together.then_some(qualifier).ok_or(error)
    }
}
