//! Numbers, strings and arrays.
//!
//! Source: OPC 10000-6, sections 5.2.2.1 to 5.2.2.4 and 5.2.5.

use super::{Binary, DecodeError, Fault, Reader};

macro_rules! number {
    ($($number:ty)*) => {$(
        impl Binary for $number {
            #[inline]
            fn encode(&self, out: &mut Vec<u8>) {
                out.extend_from_slice(&self.to_le_bytes());
            }

            #[inline]
            fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
                from.take_array().map(Self::from_le_bytes)
            }
        }
    )*};
}

number!(i8 u8 i16 u16 i32 u32 i64 u64 f32 f64);

impl Binary for bool {
    fn encode(&self, out: &mut Vec<u8>) {
        out.push(u8::from(*self));
    }

    /// Whatever is not zero is true.
    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        u8::decode(from).map(|byte| byte != 0)
    }
}

/// A string that may be null, which is not the same as an empty one.
impl Binary for Option<String> {
    fn encode(&self, out: &mut Vec<u8>) {
        encode_bytes(self.as_deref().map(str::as_bytes), out);
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let at = from.at();
        let Some(bytes) = from.take_string()? else { return Ok(None) };
        std::str::from_utf8(bytes).map(|text| Some(text.to_owned())).map_err(|_| DecodeError {
            field: None,
            at,
            fault: Fault::Text,
        })
    }
}

/// A length and so many bytes; -1 for null.
#[inline]
pub(crate) fn encode_bytes(bytes: Option<&[u8]>, out: &mut Vec<u8>) {
    encode_length(bytes.map(<[u8]>::len), out);
    out.extend_from_slice(bytes.unwrap_or_default());
}

/// What is longer than a length can tell fits no message.
#[inline]
fn encode_length(length: Option<usize>, out: &mut Vec<u8>) {
    length.map_or(-1, |length| i32::try_from(length).unwrap_or(i32::MAX)).encode(out);
}

/// An array; null is taken for an empty one, as the standard asks for.
impl<T: Binary> Binary for Vec<T> {
    fn encode(&self, out: &mut Vec<u8>) {
        encode_length(Some(self.len()), out);
        self.iter().for_each(|element| element.encode(out));
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        from.take_elements().map(Option::unwrap_or_default)
    }
}
