//! Objects: points, commands, times and what else stands in a fragment.

mod command;
mod flags;
mod layout;
mod number;

pub use command::{CommandStatus, ControlRelayOutputBlock, Operation, TripClose};
pub use flags::Flags;
pub(crate) use layout::{Layout, Packed, TimeForm, is_group, layout};
pub use number::{Number, NumberForm};

use crate::codec::{DecodeError, Reader, put_u48};

/// What an object is, and how it is told: its group and its variation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Variation {
    /// What it is.
    pub group: u8,
    /// How it is told; 0 leaves that to the outstation.
    pub variation: u8,
}

impl Variation {
    /// One by its numbers.
    #[must_use]
    pub const fn new(group: u8, variation: u8) -> Self {
        Self { group, variation }
    }
}

impl std::fmt::Display for Variation {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "g{}v{}", self.group, self.variation)
    }
}

/// What a point is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum PointKind {
    /// An input with two states.
    Binary,
    /// An input with two contacts, and so four states.
    DoubleBit,
    /// An output with two states, as it is now.
    BinaryOutput,
    /// A counter.
    Counter,
    /// A counter as it was when it was frozen.
    FrozenCounter,
    /// An analog input.
    Analog,
    /// An analog input as it was when it was frozen.
    FrozenAnalog,
    /// An analog output, as it is now.
    AnalogOutput,
    /// Some octets, often a text.
    Octets,
}

impl PointKind {
    /// The group of objects in which points of this kind are as they are now.
    ///
    /// Source: IEEE 1815-2012, annex A.
    #[must_use]
    pub const fn group(self) -> u8 {
        match self {
            Self::Binary => 1,
            Self::DoubleBit => 3,
            Self::BinaryOutput => 10,
            Self::Counter => 20,
            Self::FrozenCounter => 21,
            Self::Analog => 30,
            Self::FrozenAnalog => 31,
            Self::AnalogOutput => 40,
            Self::Octets => 110,
        }
    }
}

/// The state of an input with two contacts.
///
/// Source: IEEE 1815-2012, section 11.9.4.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub enum DoubleBit {
    /// It is on its way: neither contact is closed.
    #[default]
    Intermediate,
    /// Off.
    Off,
    /// On.
    On,
    /// Both contacts are closed, which cannot be.
    Indeterminate,
}

impl DoubleBit {
    pub(crate) const fn bits(self) -> u8 {
        match self {
            Self::Intermediate => 0,
            Self::Off => 1,
            Self::On => 2,
            Self::Indeterminate => 3,
        }
    }

    /// That of the two lowest bits.
    pub(crate) const fn of_bits(bits: u8) -> Self {
        match bits & 3 {
            0 => Self::Intermediate,
            1 => Self::Off,
            2 => Self::On,
            _ => Self::Indeterminate,
        }
    }
}

/// When something was, as an object tells it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum ObjectTime {
    /// It does not.
    #[default]
    None,
    /// In milliseconds since 1970 UTC.
    Absolute(u64),
    /// In milliseconds since the common time of occurrence that stands before it.
    Relative(u16),
}

/// An object.
#[derive(Debug, Clone, PartialEq)]
pub enum Object {
    /// It is only named.
    Named,
    /// A point with two states.
    State {
        /// Which of them.
        state: bool,
        /// How good it is, where that is told.
        flags: Option<Flags>,
        /// Since when.
        time: ObjectTime,
    },
    /// An input with two contacts.
    DoubleBit {
        /// How they are.
        state: DoubleBit,
        /// How good it is, where that is told.
        flags: Option<Flags>,
        /// Since when.
        time: ObjectTime,
    },
    /// A counter, an analog input or an analog output.
    Measured {
        /// Its value.
        number: Number,
        /// How good it is, where that is told.
        flags: Option<Flags>,
        /// Since when.
        time: ObjectTime,
    },
    /// A command to an output with two states.
    Control(ControlRelayOutputBlock),
    /// What an analog output is set to.
    Setting {
        /// The value.
        number: Number,
        /// What the outstation says to it.
        status: CommandStatus,
    },
    /// How a command to an output with two states ended.
    ControlEvent {
        /// What was commanded.
        state: bool,
        /// What the outstation said to it.
        status: CommandStatus,
        /// When.
        time: ObjectTime,
    },
    /// How the setting of an analog output ended.
    SettingEvent {
        /// What was commanded.
        number: Number,
        /// What the outstation said to it.
        status: CommandStatus,
        /// When.
        time: ObjectTime,
    },
    /// By how much an analog input has to move to be told.
    Deadband(Number),
    /// An internal indication, or a place in a pattern.
    Bit(bool),
    /// A moment, in milliseconds since 1970 UTC.
    Time(u64),
    /// A moment, and how often something is done from then on, in milliseconds.
    TimeAndInterval {
        /// In milliseconds since 1970 UTC.
        time: u64,
        /// In milliseconds.
        interval: u32,
    },
    /// A moment, and how often something is done from then on.
    IndexedTime {
        /// In milliseconds since 1970 UTC.
        time: u64,
        /// In its unit.
        interval: u32,
        /// The number of the unit.
        unit: u8,
    },
    /// A span, in milliseconds.
    Delay(u32),
    /// Octets that mean what the group says.
    Octets(Vec<u8>),
    /// Something that a device says of itself.
    Attribute {
        /// How it is told.
        code: u8,
        /// What is told.
        octets: Vec<u8>,
    },
}

/// An object that cannot be told in the way that was asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("an object of another kind than {0}")]
pub struct Mismatch(pub Variation);

const STATE: u8 = 0x80;
const STATE_FLAGS: u8 = 0x7F;
const DOUBLE_FLAGS: u8 = 0x3F;
/// The bit of a status that is none of its number.
const STATUS: u8 = 0x7F;

impl TimeForm {
    fn read(self, from: &mut Reader<'_>) -> Result<ObjectTime, DecodeError> {
        Ok(match self {
            Self::None => ObjectTime::None,
            Self::Absolute => ObjectTime::Absolute(from.u48()?),
            Self::Relative => ObjectTime::Relative(from.u16()?),
        })
    }

    fn put(self, time: ObjectTime, out: &mut Vec<u8>) -> bool {
        match (self, time) {
            (Self::None, ObjectTime::None) => {}
            (Self::Absolute, ObjectTime::Absolute(moment)) => put_u48(moment, out),
            (Self::Relative, ObjectTime::Relative(offset)) => out.extend_from_slice(&offset.to_le_bytes()),
            _ => return false,
        }
        true
    }
}

impl Object {
    /// Reads one; of those that are packed, and of those whose size stands before them, that is done by the block.
    pub(crate) fn read(layout: Layout, from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        Ok(match layout {
            Layout::State { kind: PointKind::DoubleBit, time } => {
                let octet = from.octet()?;
                let (state, flags) = (DoubleBit::of_bits(octet >> 6), Some(Flags(octet & DOUBLE_FLAGS)));
                Self::DoubleBit { state, flags, time: time.read(from)? }
            }
            Layout::State { time, .. } => {
                let octet = from.octet()?;
                let (state, flags) = (octet & STATE != 0, Some(Flags(octet & STATE_FLAGS)));
                Self::State { state, flags, time: time.read(from)? }
            }
            Layout::Measured { has_flags, number, time, .. } => {
                let flags = if has_flags { Some(Flags(from.octet()?)) } else { None };
                Self::Measured { number: number.read(from)?, flags, time: time.read(from)? }
            }
            Layout::Control => {
                let [code, count] = from.array()?;
                let (on_time, off_time) = (from.u32()?, from.u32()?);
                let status = CommandStatus(from.octet()? & STATUS);
                let block = ControlRelayOutputBlock { count, on_time, off_time, status, ..Default::default() };
                Self::Control(block.with_code(code))
            }
            Layout::Setting(number) => {
                Self::Setting { number: number.read(from)?, status: CommandStatus(from.octet()? & STATUS) }
            }
            Layout::ControlEvent(time) => {
                let octet = from.octet()?;
                let (state, status) = (octet & STATE != 0, CommandStatus(octet & STATUS));
                Self::ControlEvent { state, status, time: time.read(from)? }
            }
            Layout::SettingEvent(number, time) => {
                let status = CommandStatus(from.octet()? & STATUS);
                Self::SettingEvent { status, number: number.read(from)?, time: time.read(from)? }
            }
            Layout::Deadband(number) => Self::Deadband(number.read(from)?),
            Layout::Time => Self::Time(from.u48()?),
            Layout::TimeAndInterval => Self::TimeAndInterval { time: from.u48()?, interval: from.u32()? },
            Layout::IndexedTime => Self::IndexedTime { time: from.u48()?, interval: from.u32()?, unit: from.octet()? },
            Layout::Delay { is_coarse } => {
                let span = u32::from(from.u16()?);
                Self::Delay(if is_coarse { span * 1000 } else { span })
            }
            Layout::Octets(length) => Self::Octets(from.take(length.into())?.to_vec()),
            Layout::Attribute => {
                let [code, length] = from.array()?;
                Self::Attribute { code, octets: from.take(length.into())?.to_vec() }
            }
            Layout::Bits(_) | Layout::DoubleBits | Layout::Class | Layout::Sized => Self::Named,
        })
    }

    /// Appends it; tells whether it is of that layout.
    #[must_use]
    pub(crate) fn put(&self, layout: Layout, out: &mut Vec<u8>) -> bool {
        match (self, layout) {
            (Self::State { state, flags: Some(flags), time }, Layout::State { kind, time: form }) => {
                out.push(flags.0 & STATE_FLAGS | if *state { STATE } else { 0 });
                kind != PointKind::DoubleBit && form.put(*time, out)
            }
            (
                Self::DoubleBit { state, flags: Some(flags), time },
                Layout::State { kind: PointKind::DoubleBit, time: form },
            ) => {
                out.push(flags.0 & DOUBLE_FLAGS | state.bits() << 6);
                form.put(*time, out)
            }
            (
                Self::Measured { number, flags, time },
                Layout::Measured { has_flags, number: form, time: time_form, .. },
            ) => {
                out.extend(flags.iter().map(|flags| flags.0));
                number.put(out);
                flags.is_some() == has_flags && number.form() == form && time_form.put(*time, out)
            }
            (Self::Control(block), Layout::Control) => {
                out.extend_from_slice(&[block.code(), block.count]);
                out.extend_from_slice(&block.on_time.to_le_bytes());
                out.extend_from_slice(&block.off_time.to_le_bytes());
                out.push(block.status.0 & STATUS);
                true
            }
            (Self::Setting { number, status }, Layout::Setting(form)) => {
                number.put(out);
                out.push(status.0 & STATUS);
                number.form() == form
            }
            (Self::ControlEvent { state, status, time }, Layout::ControlEvent(form)) => {
                out.push(status.0 & STATUS | if *state { STATE } else { 0 });
                form.put(*time, out)
            }
            (Self::SettingEvent { number, status, time }, Layout::SettingEvent(form, time_form)) => {
                out.push(status.0 & STATUS);
                number.put(out);
                number.form() == form && time_form.put(*time, out)
            }
            (Self::Deadband(number), Layout::Deadband(form)) => {
                number.put(out);
                number.form() == form
            }
            (Self::Time(time), Layout::Time) => {
                put_u48(*time, out);
                true
            }
            (Self::TimeAndInterval { time, interval }, Layout::TimeAndInterval) => {
                put_u48(*time, out);
                out.extend_from_slice(&interval.to_le_bytes());
                true
            }
            (Self::IndexedTime { time, interval, unit }, Layout::IndexedTime) => {
                put_u48(*time, out);
                out.extend_from_slice(&interval.to_le_bytes());
                out.push(*unit);
                true
            }
            (Self::Delay(span), Layout::Delay { is_coarse }) => {
                let span = if is_coarse { span / 1000 } else { *span };
                let sent = u16::try_from(span);
                out.extend_from_slice(&sent.unwrap_or(u16::MAX).to_le_bytes());
                sent.is_ok()
            }
            (Self::Octets(octets), Layout::Octets(length)) => {
                out.extend_from_slice(octets);
                octets.len() == usize::from(length)
            }
            (Self::Attribute { code, octets }, Layout::Attribute) => {
                let length = u8::try_from(octets.len());
                out.extend_from_slice(&[*code, length.unwrap_or(0)]);
                out.extend_from_slice(octets);
                length.is_ok()
            }
            _ => false,
        }
    }
}
