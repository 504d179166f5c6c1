use crate::codec::{Binary, DecodeError, Reader};
use std::fmt;
use std::str::FromStr;

/// A globally unique identifier: 16 bytes, in the order in which they are written as text.
///
/// Source: OPC 10000-6, sections 5.1.3 and 5.2.2.6.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Guid(pub [u8; 16]);

/// A text that is no Guid.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a Guid is written like 72962b91-fa75-4ae6-8d28-b404dc7daf63")]
pub struct ParseGuidError;

impl Guid {
    /// The first three parts are numbers, which go over the wire with their lowest byte first.
    const fn swapped(self) -> [u8; 16] {
        let [a, b, c, d, e, f, g, h, rest @ ..] = self.0;
        let [i, j, k, l, m, n, o, p] = rest;
        [d, c, b, a, f, e, h, g, i, j, k, l, m, n, o, p]
    }
}

impl Binary for Guid {
    fn encode(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.swapped());
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        from.take_array().map(|bytes| Self(Self(bytes).swapped()))
    }
}

impl fmt::Display for Guid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (place, byte) in self.0.iter().enumerate() {
            if matches!(place, 4 | 6 | 8 | 10) {
                f.write_str("-")?;
            }
            write!(f, "{byte:02x}")?;
        }
        Ok(())
    }
}

impl FromStr for Guid {
    type Err = ParseGuidError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let lengths = text.split('-').map(str::len);
        if !lengths.eq([8, 4, 4, 4, 12]) || !text.is_ascii() {
            return Err(ParseGuidError);
        }
        let digits = text.chars().filter(|digit| *digit != '-').map(|digit| digit.to_digit(16));
        let digits: Vec<_> = digits.collect::<Option<_>>().ok_or(ParseGuidError)?;
        let mut bytes = [0; 16];
        for (byte, pair) in bytes.iter_mut().zip(digits.chunks(2)) {
            let number = pair.iter().fold(0, |number, digit| number << 4 | digit);
            *byte = u8::try_from(number).map_err(|_| ParseGuidError)?;
        }
        Ok(Self(bytes))
    }
}
