use crate::DataType;
use std::fmt;
use std::str::FromStr;

/// What a point of an outstation is.
///
/// Source: IEEE 1815-2012, section 11.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Dnp3Kind {
    /// An input with two states.
    Binary,
    /// An input with two contacts, and so four states.
    DoubleBit,
    /// An output with two states.
    BinaryOutput,
    /// A counter.
    Counter,
    /// A counter as it was when it was frozen.
    FrozenCounter,
    /// An analog input.
    Analog,
    /// An analog input as it was when it was frozen.
    FrozenAnalog,
    /// An analog output.
    AnalogOutput,
    /// Some octets, often a text.
    Octets,
}

impl Dnp3Kind {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Binary,
        Self::DoubleBit,
        Self::BinaryOutput,
        Self::Counter,
        Self::FrozenCounter,
        Self::Analog,
        Self::FrozenAnalog,
        Self::AnalogOutput,
        Self::Octets,
    ];

    /// The word in addresses.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Binary => "binary",
            Self::DoubleBit => "double-bit",
            Self::BinaryOutput => "binary-output",
            Self::Counter => "counter",
            Self::FrozenCounter => "frozen-counter",
            Self::Analog => "analog",
            Self::FrozenAnalog => "frozen-analog",
            Self::AnalogOutput => "analog-output",
            Self::Octets => "octets",
        }
    }

    /// The type of its values, where the list does not say one: an outstation may tell one point in several.
    #[must_use]
    pub const fn data_type(self) -> DataType {
        match self {
            Self::Binary | Self::BinaryOutput => DataType::Bool,
            // 0 on its way, 1 off, 2 on, 3 both at once, which cannot be.
            Self::DoubleBit => DataType::Uint8,
            Self::Counter | Self::FrozenCounter => DataType::Uint32,
            Self::Analog | Self::FrozenAnalog | Self::AnalogOutput => DataType::Float64,
            Self::Octets => DataType::String(250),
        }
    }

    /// Whether it can be commanded.
    #[must_use]
    pub const fn is_output(self) -> bool {
        matches!(self, Self::BinaryOutput | Self::AnalogOutput)
    }
}

/// Where a point lives in an outstation: what it is, and its index among those: `binary:1`, `analog:100`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Dnp3Address {
    /// What it is.
    pub kind: Dnp3Kind,
    /// Its index among those, from 0.
    pub index: u16,
}

/// A text that is no [`Dnp3Address`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no DNP3 address")]
pub struct ParseDnp3AddressError(String);

impl Dnp3Address {
    /// What a file should say, for messages.
    pub const FORM: &str = "binary:N, double-bit:N, binary-output:N, counter:N, frozen-counter:N, analog:N, frozen-analog:N, \
                            analog-output:N or octets:N, N the index from 0 to 65535";
}

impl FromStr for Dnp3Address {
    type Err = ParseDnp3AddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let error = || ParseDnp3AddressError(text.to_owned());
        let (word, index) = text.trim().split_once(':').ok_or_else(error)?;
        let kind = Dnp3Kind::ALL.into_iter().find(|kind| kind.word() == word.trim()).ok_or_else(error)?;
        let index = index.trim();
        let is_number = !index.is_empty() && index.bytes().all(|byte| byte.is_ascii_digit());
        let index = index.parse().ok().filter(|_| is_number).ok_or_else(error)?;
        Ok(Self { kind, index })
    }
}

impl fmt::Display for Dnp3Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.kind.word(), self.index)
    }
}
