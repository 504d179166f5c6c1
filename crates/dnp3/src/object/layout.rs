//! What the objects of each group and variation are made of.

use super::number::NumberForm::{self, Float32, Float64, Int16, Int32, Uint16, Uint32};
use super::{PointKind, Variation};

/// What an object is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Layout {
    /// A bit each, packed into octets.
    Bits(Packed),
    /// Two bits each, packed into octets.
    DoubleBits,
    /// The state of a point with two states, or two bits of state, in its flags.
    State { kind: PointKind, time: TimeForm },
    /// A number, with flags before it where it has some.
    Measured { kind: PointKind, has_flags: bool, number: NumberForm, time: TimeForm },
    /// A control relay output block, or the pattern that several share.
    Control,
    /// What an analog output is set to.
    Setting(NumberForm),
    /// How a command to an output with two states ended.
    ControlEvent(TimeForm),
    /// How the setting of an analog output ended.
    SettingEvent(NumberForm, TimeForm),
    /// By how much an analog input has to move to be told.
    Deadband(NumberForm),
    /// A moment.
    Time,
    /// A moment and a span.
    TimeAndInterval,
    /// A moment, a span and its unit.
    IndexedTime,
    /// A span in seconds, or in milliseconds.
    Delay { is_coarse: bool },
    /// So many octets.
    Octets(u8),
    /// An octet of type, one of length, and as many octets.
    Attribute,
    /// A class: it only names.
    Class,
    /// Octets whose number stands before them.
    Sized,
}

/// What bits in a row are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Packed {
    Point(PointKind),
    /// Which outputs a pattern is for.
    Pattern,
    /// Internal indications.
    Indications,
}

/// How the moment of an event is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum TimeForm {
    None,
    /// 48 bits.
    Absolute,
    /// 16 bits, since a moment that stands before it.
    Relative,
}

/// Source: IEEE 1815-2012, annex A. Differences of counters (variations 3, 4, 7, 8 and the like) are obsolete, and not known here.
pub(crate) const fn layout(Variation { group, variation }: Variation) -> Option<Layout> {
    use PointKind::{Analog, AnalogOutput, Binary, BinaryOutput, Counter, DoubleBit, FrozenAnalog, FrozenCounter};
    use TimeForm::{Absolute, None as NoTime, Relative};
    const fn state(kind: PointKind, time: TimeForm) -> Layout {
        Layout::State { kind, time }
    }
    const fn flagged(kind: PointKind, number: NumberForm, time: TimeForm) -> Layout {
        Layout::Measured { kind, has_flags: true, number, time }
    }
    const fn bare(kind: PointKind, number: NumberForm) -> Layout {
        Layout::Measured { kind, has_flags: false, number, time: TimeForm::None }
    }
    /// The eight variations that analog events of every kind have.
    const fn analog_event(variation: u8) -> Option<(NumberForm, TimeForm)> {
        Some(match variation {
            1 => (Int32, TimeForm::None),
            2 => (Int16, TimeForm::None),
            3 => (Int32, Absolute),
            4 => (Int16, Absolute),
            5 => (Float32, TimeForm::None),
            6 => (Float64, TimeForm::None),
            7 => (Float32, Absolute),
            8 => (Float64, Absolute),
            _ => return None,
        })
    }
    Some(match (group, variation) {
        (0, 1..) => Layout::Attribute,
        (1, 1) => Layout::Bits(Packed::Point(Binary)),
        (1, 2) | (2, 1) => state(Binary, NoTime),
        (2, 2) => state(Binary, Absolute),
        (2, 3) => state(Binary, Relative),
        (3, 1) => Layout::DoubleBits,
        (3, 2) | (4, 1) => state(DoubleBit, NoTime),
        (4, 2) => state(DoubleBit, Absolute),
        (4, 3) => state(DoubleBit, Relative),
        (10, 1) => Layout::Bits(Packed::Point(BinaryOutput)),
        (10, 2) | (11, 1) => state(BinaryOutput, NoTime),
        (11, 2) => state(BinaryOutput, Absolute),
        (12, 1 | 2) => Layout::Control,
        (12, 3) => Layout::Bits(Packed::Pattern),
        (13, 1) => Layout::ControlEvent(NoTime),
        (13, 2) => Layout::ControlEvent(Absolute),
        (20, 1) | (22, 1) => flagged(Counter, Uint32, NoTime),
        (20, 2) | (22, 2) => flagged(Counter, Uint16, NoTime),
        (20, 5) => bare(Counter, Uint32),
        (20, 6) => bare(Counter, Uint16),
        (21, 1) | (23, 1) => flagged(FrozenCounter, Uint32, NoTime),
        (21, 2) | (23, 2) => flagged(FrozenCounter, Uint16, NoTime),
        (21, 5) | (23, 5) => flagged(FrozenCounter, Uint32, Absolute),
        (21, 6) | (23, 6) => flagged(FrozenCounter, Uint16, Absolute),
        (21, 9) => bare(FrozenCounter, Uint32),
        (21, 10) => bare(FrozenCounter, Uint16),
        (22, 5) => flagged(Counter, Uint32, Absolute),
        (22, 6) => flagged(Counter, Uint16, Absolute),
        (30, 1) => flagged(Analog, Int32, NoTime),
        (30, 2) => flagged(Analog, Int16, NoTime),
        (30, 3) => bare(Analog, Int32),
        (30, 4) => bare(Analog, Int16),
        (30, 5) => flagged(Analog, Float32, NoTime),
        (30, 6) => flagged(Analog, Float64, NoTime),
        (31, 1) => flagged(FrozenAnalog, Int32, NoTime),
        (31, 2) => flagged(FrozenAnalog, Int16, NoTime),
        (31, 3) => flagged(FrozenAnalog, Int32, Absolute),
        (31, 4) => flagged(FrozenAnalog, Int16, Absolute),
        (31, 5) => bare(FrozenAnalog, Int32),
        (31, 6) => bare(FrozenAnalog, Int16),
        (31, 7) => flagged(FrozenAnalog, Float32, NoTime),
        (31, 8) => flagged(FrozenAnalog, Float64, NoTime),
        (32 | 33 | 42, _) => {
            let Some((number, time)) = analog_event(variation) else { return None };
            let kind = match group {
                32 => Analog,
                33 => FrozenAnalog,
                _ => AnalogOutput,
            };
            flagged(kind, number, time)
        }
        (34, 1) => Layout::Deadband(Uint16),
        (34, 2) => Layout::Deadband(Uint32),
        (34, 3) => Layout::Deadband(Float32),
        (40, 1) => flagged(AnalogOutput, Int32, NoTime),
        (40, 2) => flagged(AnalogOutput, Int16, NoTime),
        (40, 3) => flagged(AnalogOutput, Float32, NoTime),
        (40, 4) => flagged(AnalogOutput, Float64, NoTime),
        (41, 1) => Layout::Setting(Int32),
        (41, 2) => Layout::Setting(Int16),
        (41, 3) => Layout::Setting(Float32),
        (41, 4) => Layout::Setting(Float64),
        (43, _) => {
            let Some((number, time)) = analog_event(variation) else { return None };
            Layout::SettingEvent(number, time)
        }
        (50, 1 | 3) | (51, 1 | 2) => Layout::Time,
        (50, 2) => Layout::TimeAndInterval,
        (50, 4) => Layout::IndexedTime,
        (52, 1) => Layout::Delay { is_coarse: true },
        (52, 2) => Layout::Delay { is_coarse: false },
        (60, 1..=4) => Layout::Class,
        (70 | 120, 1..) => Layout::Sized,
        (80, 1) => Layout::Bits(Packed::Indications),
        (110..=113, 1..) => Layout::Octets(variation),
        _ => return None,
    })
}

/// Whether there are objects of a group at all.
pub(crate) const fn is_group(group: u8) -> bool {
    matches!(
        group,
        0..=4 | 10..=13 | 20..=23 | 30..=34 | 40..=43 | 50..=52 | 60 | 70 | 80 | 110..=113 | 120
    )
}
