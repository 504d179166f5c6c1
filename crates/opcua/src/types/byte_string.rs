use crate::codec::{Binary, DecodeError, Reader, encode_bytes};

/// Bytes; null is not the same as none.
///
/// Source: OPC 10000-6, section 5.2.2.7.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct ByteString(pub Option<Vec<u8>>);

impl ByteString {
    /// The bytes; none for null.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8] {
        self.0.as_deref().unwrap_or_default()
    }
}

impl From<Vec<u8>> for ByteString {
    fn from(bytes: Vec<u8>) -> Self {
        Self(Some(bytes))
    }
}

impl Binary for ByteString {
    fn encode(&self, out: &mut Vec<u8>) {
        encode_bytes(self.0.as_deref(), out);
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        from.take_string().map(|bytes| Self(bytes.map(<[u8]>::to_vec)))
    }
}

/// A piece of XML, as text.
///
/// Source: OPC 10000-6, section 5.2.2.8.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct XmlElement(pub Option<String>);

impl Binary for XmlElement {
    fn encode(&self, out: &mut Vec<u8>) {
        self.0.encode(out);
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        Option::decode(from).map(Self)
    }
}
