use interlex_bacnet_names::OBJECT_TYPES;
use std::fmt;
use std::str::FromStr;

/// What an object is: a number of ten bits, of which those from 128 on are the maker's.
///
/// Source: ASHRAE 135-2016, clause 21 (BACnetObjectType).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ObjectType(u16);

impl ObjectType {
    /// A measured number.
    pub const ANALOG_INPUT: Self = Self(0);
    /// A commanded number.
    pub const ANALOG_OUTPUT: Self = Self(1);
    /// A number of the program.
    pub const ANALOG_VALUE: Self = Self(2);
    /// A measured state.
    pub const BINARY_INPUT: Self = Self(3);
    /// A commanded state.
    pub const BINARY_OUTPUT: Self = Self(4);
    /// A state of the program.
    pub const BINARY_VALUE: Self = Self(5);
    /// The device itself.
    pub const DEVICE: Self = Self(8);
    /// One of several measured states.
    pub const MULTI_STATE_INPUT: Self = Self(13);
    /// One of several commanded states.
    pub const MULTI_STATE_OUTPUT: Self = Self(14);
    /// One of several states of the program.
    pub const MULTI_STATE_VALUE: Self = Self(19);
    /// What a property was over time.
    pub const TREND_LOG: Self = Self(20);

    /// The type of a number, of ten bits.
    #[must_use]
    pub const fn new(number: u16) -> Option<Self> {
        if number < 1024 { Some(Self(number)) } else { None }
    }

    /// Its number.
    #[must_use]
    pub const fn number(self) -> u16 {
        self.0
    }

    /// Whether its objects have a present value with two states, told as inactive and active.
    #[must_use]
    pub const fn is_binary(self) -> bool {
        matches!(self.0, 3..=5)
    }

    /// Whether its objects have a present value with several numbered states, from 1.
    #[must_use]
    pub const fn is_multi_state(self) -> bool {
        matches!(self.0, 13 | 14 | 19)
    }

    /// Whether its objects are outputs, which always have a priority array.
    #[must_use]
    pub const fn is_output(self) -> bool {
        matches!(self.0, 1 | 4 | 14)
    }

    /// Whether its objects are inputs, which can be written while they are out of service.
    #[must_use]
    pub const fn is_input(self) -> bool {
        matches!(self.0, 0 | 3 | 13)
    }
}

/// `analog-input`; the number where the standard has no name.
impl fmt::Display for ObjectType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match OBJECT_TYPES.of(self.0.into()) {
            Some(name) => f.write_str(name),
            None => write!(f, "{}", self.0),
        }
    }
}

impl FromStr for ObjectType {
    type Err = UnknownName;

    fn from_str(text: &str) -> Result<Self, UnknownName> {
        let number = OBJECT_TYPES.number(text).ok_or(UnknownName)?;
        u16::try_from(number).ok().and_then(Self::new).ok_or(UnknownName)
    }
}

/// A name that the standard does not have, and no number either.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("neither a name of the standard nor a number")]
pub struct UnknownName;

/// An object of a device: its type, and its instance among those.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ObjectIdentifier(u32);

impl ObjectIdentifier {
    /// The highest instance; no object has it: it stands for whichever there is.
    pub const MOST: u32 = 0x003F_FFFF;

    /// An object; none where the instance needs more than 22 bits.
    #[must_use]
    pub fn new(object_type: ObjectType, instance: u32) -> Option<Self> {
        (instance <= Self::MOST).then_some(Self(u32::from(object_type.0) << 22 | instance))
    }

    /// The device object of an instance.
    #[must_use]
    pub fn device(instance: u32) -> Option<Self> {
        Self::new(ObjectType::DEVICE, instance)
    }

    /// From the 32 bits that go over the wire.
    #[must_use]
    pub const fn from_bits(bits: u32) -> Self {
        Self(bits)
    }

    /// The 32 bits that go over the wire.
    #[must_use]
    pub const fn bits(self) -> u32 {
        self.0
    }

    /// What it is.
    #[must_use]
    pub const fn object_type(self) -> ObjectType {
        let [high, low, ..] = self.0.to_be_bytes();
        ObjectType(u16::from_be_bytes([high, low]) >> 6)
    }

    /// Its number among those of its type, 0 to 4194303.
    #[must_use]
    pub const fn instance(self) -> u32 {
        self.0 & Self::MOST
    }
}

/// `analog-input:3`
impl fmt::Display for ObjectIdentifier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.object_type(), self.instance())
    }
}
