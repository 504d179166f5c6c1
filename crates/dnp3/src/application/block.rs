use super::qualifier::{Prefix, Qualifier, RangeForm, Width};
use crate::codec::{DecodeError, Fault, Part, Reader};
use crate::object::{DoubleBit, Layout, Mismatch, Object, ObjectTime, Packed, Variation, is_group, layout};

/// Some objects of one variation, with the header before them.
///
/// ```text
///   group | variation | qualifier | range | objects, each behind its index or its size where the qualifier says so
/// ```
///
/// Source: IEEE 1815-2012, section 4.2.2.7.
#[derive(Debug, Clone, PartialEq)]
pub struct Block {
    /// What they are.
    pub variation: Variation,
    /// How they are told.
    pub qualifier: Qualifier,
    /// Which ones.
    pub selection: Selection,
    /// The objects; of those that are only named, the ones that have their index here.
    pub entries: Vec<Entry>,
}

/// Which objects a header is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Selection {
    /// All that there are.
    All,
    /// From one index to another one.
    Range {
        /// The first one.
        start: u32,
        /// The last one.
        stop: u32,
    },
    /// So many.
    Count(u32),
}

/// An object with its index.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// Its index; none where the object has none.
    pub index: Option<u32>,
    /// The object.
    pub object: Object,
}

/// Whether the objects of a fragment are there, or only named.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Presence {
    Named,
    Told,
    /// Only those of a group are there.
    ToldOf(u8),
}

impl Width {
    fn read(self, from: &mut Reader<'_>) -> Result<u32, DecodeError> {
        Ok(match self {
            Self::One => from.octet()?.into(),
            Self::Two => from.u16()?.into(),
            Self::Four => from.u32()?,
        })
    }
}

impl Block {
    /// All objects of a variation, named.
    #[must_use]
    pub const fn all(group: u8, variation: u8) -> Self {
        let variation = Variation::new(group, variation);
        Self { variation, qualifier: Qualifier::ALL, selection: Selection::All, entries: Vec::new() }
    }

    /// Some objects in a row, named.
    #[must_use]
    pub fn range(variation: Variation, start: u32, stop: u32) -> Self {
        let range = RangeForm::StartStop(Width::of(stop));
        let qualifier = Qualifier { prefix: Prefix::None, range };
        Self { variation, qualifier, selection: Selection::Range { start, stop }, entries: Vec::new() }
    }

    /// As many objects as there are up to a number, named.
    #[must_use]
    pub const fn limited(variation: Variation, most: u32) -> Self {
        let qualifier = Qualifier { prefix: Prefix::None, range: RangeForm::Count(Width::of(most)) };
        Self { variation, qualifier, selection: Selection::Count(most), entries: Vec::new() }
    }

    /// Objects that have no index.
    #[must_use]
    pub fn plain(variation: Variation, objects: impl IntoIterator<Item = Object>) -> Self {
        let entries: Vec<_> = objects.into_iter().map(|object| Entry { index: None, object }).collect();
        let count = count(&entries);
        let qualifier = Qualifier { prefix: Prefix::None, range: RangeForm::Count(Width::of(count)) };
        Self { variation, qualifier, selection: Selection::Count(count), entries }
    }

    /// Objects, each behind its index.
    #[must_use]
    pub fn indexed(variation: Variation, objects: impl IntoIterator<Item = (u32, Object)>) -> Self {
        let entries: Vec<_> = objects.into_iter().map(|(index, object)| Entry { index: Some(index), object }).collect();
        let largest = entries.iter().filter_map(|entry| entry.index).max().unwrap_or_default();
        let count = count(&entries);
        let width = Width::of(largest.max(count));
        let qualifier = Qualifier { prefix: Prefix::Index(width), range: RangeForm::Count(width) };
        Self { variation, qualifier, selection: Selection::Count(count), entries }
    }

    /// Objects in a row.
    #[must_use]
    pub fn in_a_row(variation: Variation, start: u32, objects: impl IntoIterator<Item = Object>) -> Self {
        let entries: Vec<_> =
            (start..).zip(objects).map(|(index, object)| Entry { index: Some(index), object }).collect();
        let stop = entries.last().and_then(|entry| entry.index).unwrap_or(start);
        Self { entries, ..Self::range(variation, start, stop) }
    }

    /// Whether there are objects of its group at all.
    #[must_use]
    pub const fn is_known(&self) -> bool {
        is_group(self.variation.group)
    }

    /// Whether its objects are points as they are or were, and nothing else.
    #[must_use]
    pub fn is_of_points(&self) -> bool {
        matches!(self.variation.group, 1..=4 | 10 | 11 | 20..=23 | 30..=33 | 40 | 42 | 51 | 110 | 111)
    }

    /// Appends it.
    ///
    /// # Errors
    /// When an object is of another kind than its variation.
    pub fn encode(&self, out: &mut Vec<u8>) -> Result<(), Mismatch> {
        let Self { variation, qualifier, selection, entries } = self;
        let mismatch = Mismatch(*variation);
        out.extend_from_slice(&[variation.group, variation.variation, qualifier.octet()]);
        match (qualifier.range, *selection) {
            (RangeForm::All, Selection::All) => {}
            (RangeForm::StartStop(width), Selection::Range { start, stop }) => {
                width.put(start, out);
                width.put(stop, out);
            }
            (RangeForm::Count(width), Selection::Count(count)) => width.put(count, out),
            (RangeForm::FreeFormat, Selection::Count(count)) => out.push(u8::try_from(count).map_err(|_| mismatch)?),
            _ => return Err(mismatch),
        }
        let is_sized = matches!(qualifier.prefix, Prefix::Size(_));
        let is_named = entries.iter().all(|entry| entry.object == Object::Named);
        if let Some(packed) = layout(*variation).filter(|_| !is_named && !is_sized).and_then(bits_of) {
            return pack(entries, packed, out).ok_or(mismatch);
        }
        for Entry { index, object } in entries {
            match qualifier.prefix {
                Prefix::Index(width) => width.put(index.ok_or(mismatch)?, out),
                Prefix::Size(width) => {
                    let Object::Octets(octets) = object else { return Err(mismatch) };
                    width.put(u32::try_from(octets.len()).map_err(|_| mismatch)?, out);
                    out.extend_from_slice(octets);
                    continue;
                }
                Prefix::None => {}
            }
            let is_fitting =
                *object == Object::Named || layout(*variation).is_some_and(|layout| object.put(layout, out));
            if !is_fitting {
                return Err(mismatch);
            }
        }
        Ok(())
    }

    pub(super) fn decode(from: &mut Reader<'_>, presence: Presence) -> Result<Self, DecodeError> {
        from.part = Part::ObjectHeader;
        let before = from.clone();
        let [group, variation, octet] = from.array()?;
        let qualifier = Qualifier::of(octet).map_err(|fault| before.fault(fault))?;
        let selection = match qualifier.range {
            RangeForm::All => Selection::All,
            RangeForm::StartStop(width) => {
                let (start, stop) = (width.read(from)?, width.read(from)?);
                if stop < start {
                    return Err(before.fault(Fault::Range { start, stop }));
                }
                Selection::Range { start, stop }
            }
            RangeForm::Count(width) => Selection::Count(width.read(from)?),
            RangeForm::FreeFormat => Selection::Count(from.octet()?.into()),
        };
        from.part = Part::Objects(group, variation);
        let mut block = Self { variation: Variation::new(group, variation), qualifier, selection, entries: Vec::new() };
        let is_told = match presence {
            Presence::Named => false,
            Presence::Told => true,
            Presence::ToldOf(told) => group == told,
        };
        if let Prefix::Size(width) = qualifier.prefix {
            block.read_sized(from, width)?;
        } else if !is_told {
            block.read_names(from)?;
        } else {
            block.read_objects(from).map_err(|error| match error.fault {
                // What is wrong with the header is told where that begins.
                Fault::Unknown { .. } | Fault::OnlyAsked { .. } | Fault::Unfitting { .. } => before.fault(error.fault),
                _ => error,
            })?;
        }
        Ok(block)
    }

    /// How many objects its selection says.
    fn told(&self) -> Option<u64> {
        match self.selection {
            Selection::All => None,
            Selection::Range { start, stop } => Some(u64::from(stop - start) + 1),
            Selection::Count(count) => Some(count.into()),
        }
    }

    /// Objects that have their size before them, whatever they are.
    fn read_sized(&mut self, from: &mut Reader<'_>, width: Width) -> Result<(), DecodeError> {
        for _ in 0..self.told().unwrap_or_default() {
            let size = usize::try_from(width.read(from)?).unwrap_or(usize::MAX);
            let object = Object::Octets(from.take(size)?.to_vec());
            self.entries.push(Entry { index: None, object });
        }
        Ok(())
    }

    fn read_names(&mut self, from: &mut Reader<'_>) -> Result<(), DecodeError> {
        let Prefix::Index(width) = self.qualifier.prefix else { return Ok(()) };
        for _ in 0..self.told().unwrap_or_default() {
            self.entries.push(Entry { index: Some(width.read(from)?), object: Object::Named });
        }
        Ok(())
    }

    fn read_objects(&mut self, from: &mut Reader<'_>) -> Result<(), DecodeError> {
        let Variation { group, variation } = self.variation;
        if is_group(group) && variation == 0 {
            return Err(from.fault(Fault::OnlyAsked { group, variation }));
        }
        let layout = layout(self.variation).ok_or_else(|| from.fault(Fault::Unknown { group, variation }))?;
        let unfitting = Fault::Unfitting { qualifier: self.qualifier.octet(), group, variation };
        if layout == Layout::Class {
            return Err(from.fault(Fault::OnlyAsked { group, variation }));
        }
        let start = match self.selection {
            Selection::Range { start, .. } => Some(start),
            Selection::All | Selection::Count(_) => None,
        };
        let Some(count) = self.told() else { return Err(from.fault(unfitting)) };
        if let Some(packed) = bits_of(layout) {
            let start = start.ok_or_else(|| from.fault(unfitting))?;
            return self.unpack(from, packed, (start, count));
        }
        if layout == Layout::Sized {
            return Err(from.fault(unfitting));
        }
        for number in 0..count {
            let index = match (self.qualifier.prefix, start) {
                (Prefix::Index(width), _) => Some(width.read(from)?),
                (_, Some(start)) => Some(start.saturating_add(u32::try_from(number).unwrap_or(u32::MAX))),
                _ => None,
            };
            let object = Object::read(layout, from)?;
            self.entries.push(Entry { index, object });
        }
        Ok(())
    }

    fn unpack(&mut self, from: &mut Reader<'_>, bits: Bits, (start, count): (u32, u64)) -> Result<(), DecodeError> {
        let octets = (count * u64::from(bits.width())).div_ceil(8);
        let octets = from.take(usize::try_from(octets).unwrap_or(usize::MAX))?;
        let per_octet = 8 / bits.width();
        let all = octets.iter().flat_map(|octet| (0..per_octet).map(move |at| octet >> (at * bits.width())));
        let entry = |(index, told): (u32, u8)| Entry { index: Some(index), object: bits.object(told) };
        self.entries.extend((start..=u32::MAX).zip(all).map(entry).take(usize::try_from(count).unwrap_or(usize::MAX)));
        Ok(())
    }
}

/// What is packed into octets.
#[derive(Debug, Clone, Copy)]
enum Bits {
    State,
    DoubleBit,
    Plain,
}

const fn bits_of(layout: Layout) -> Option<Bits> {
    Some(match layout {
        Layout::Bits(Packed::Point(_)) => Bits::State,
        Layout::Bits(Packed::Pattern | Packed::Indications) => Bits::Plain,
        Layout::DoubleBits => Bits::DoubleBit,
        _ => return None,
    })
}

impl Bits {
    const fn width(self) -> u8 {
        if matches!(self, Self::DoubleBit) { 2 } else { 1 }
    }

    /// The object of the lowest bits of an octet.
    fn object(self, octet: u8) -> Object {
        let (flags, time) = (None, ObjectTime::None);
        match self {
            Self::State => Object::State { state: octet & 1 == 1, flags, time },
            Self::DoubleBit => Object::DoubleBit { state: DoubleBit::of_bits(octet), flags, time },
            Self::Plain => Object::Bit(octet & 1 == 1),
        }
    }

    fn of(self, object: &Object) -> Option<u8> {
        Some(match (self, object) {
            (Self::State, Object::State { state, flags: None, .. }) => u8::from(*state),
            (Self::Plain, Object::Bit(bit)) => u8::from(*bit),
            (Self::DoubleBit, Object::DoubleBit { state, flags: None, .. }) => state.bits(),
            _ => return None,
        })
    }
}

fn pack(entries: &[Entry], bits: Bits, out: &mut Vec<u8>) -> Option<()> {
    for part in entries.chunks(usize::from(8 / bits.width())) {
        let mut octet = 0;
        for (at, entry) in (0_u8..).zip(part) {
            octet |= bits.of(&entry.object)? << (at * bits.width());
        }
        out.push(octet);
    }
    Some(())
}

fn count(entries: &[Entry]) -> u32 {
    u32::try_from(entries.len()).unwrap_or(u32::MAX)
}
