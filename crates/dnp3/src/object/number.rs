use crate::codec::{DecodeError, Reader};

/// How a number is sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum NumberForm {
    /// 16 bits, from 0.
    Uint16,
    /// 32 bits, from 0.
    Uint32,
    /// 16 bits with a sign.
    Int16,
    /// 32 bits with a sign.
    Int32,
    /// Single precision.
    Float32,
    /// Double precision.
    Float64,
}

/// A number as it was sent.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Number {
    /// 16 bits, from 0.
    Uint16(u16),
    /// 32 bits, from 0.
    Uint32(u32),
    /// 16 bits with a sign.
    Int16(i16),
    /// 32 bits with a sign.
    Int32(i32),
    /// Single precision.
    Float32(f32),
    /// Double precision.
    Float64(f64),
}

impl Number {
    /// The same as a double.
    #[must_use]
    pub fn as_f64(self) -> f64 {
        match self {
            Self::Uint16(number) => number.into(),
            Self::Uint32(number) => number.into(),
            Self::Int16(number) => number.into(),
            Self::Int32(number) => number.into(),
            Self::Float32(number) => number.into(),
            Self::Float64(number) => number,
        }
    }

    /// How it is sent.
    #[must_use]
    pub const fn form(self) -> NumberForm {
        match self {
            Self::Uint16(_) => NumberForm::Uint16,
            Self::Uint32(_) => NumberForm::Uint32,
            Self::Int16(_) => NumberForm::Int16,
            Self::Int32(_) => NumberForm::Int32,
            Self::Float32(_) => NumberForm::Float32,
            Self::Float64(_) => NumberForm::Float64,
        }
    }

    pub(super) fn put(self, out: &mut Vec<u8>) {
        match self {
            Self::Uint16(number) => out.extend_from_slice(&number.to_le_bytes()),
            Self::Uint32(number) => out.extend_from_slice(&number.to_le_bytes()),
            Self::Int16(number) => out.extend_from_slice(&number.to_le_bytes()),
            Self::Int32(number) => out.extend_from_slice(&number.to_le_bytes()),
            Self::Float32(number) => out.extend_from_slice(&number.to_le_bytes()),
            Self::Float64(number) => out.extend_from_slice(&number.to_le_bytes()),
        }
    }
}

impl NumberForm {
    pub(super) fn read(self, from: &mut Reader<'_>) -> Result<Number, DecodeError> {
        Ok(match self {
            Self::Uint16 => Number::Uint16(from.u16()?),
            Self::Uint32 => Number::Uint32(from.u32()?),
            Self::Int16 => Number::Int16(i16::from_le_bytes(from.array()?)),
            Self::Int32 => Number::Int32(i32::from_le_bytes(from.array()?)),
            Self::Float32 => Number::Float32(f32::from_le_bytes(from.array()?)),
            Self::Float64 => Number::Float64(f64::from_le_bytes(from.array()?)),
        })
    }
}
