//! Values as bytes and back: OPC UA Binary.
//!
//! Source: OPC 10000-6, section 5.2.

mod error;
mod primitive;
mod reader;

pub use error::{DecodeError, Fault};
pub(crate) use primitive::encode_bytes;
pub use reader::{Limits, Reader};

/// A value that has a form in OPC UA Binary.
pub trait Binary: Sized {
    /// Appends its bytes.
    fn encode(&self, out: &mut Vec<u8>);

    /// Reads it.
    ///
    /// # Errors
    /// When the bytes end too early, or are no such value.
    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError>;

    /// Its bytes alone.
    fn to_bytes(&self) -> Vec<u8> {
        let mut out = Vec::new();
        self.encode(&mut out);
        out
    }

    /// Reads it from all of some bytes.
    ///
    /// # Errors
    /// As [`Binary::decode`], and when bytes are left over.
    fn from_bytes(bytes: &[u8]) -> Result<Self, DecodeError> {
        let mut from = Reader::new(bytes, Limits::default());
        let value = Self::decode(&mut from)?;
        from.finish()?;
        Ok(value)
    }
}
