use super::{ByteString, Guid};
use crate::codec::{Binary, DecodeError, Fault, Reader, encode_bytes};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use std::fmt;
use std::str::FromStr;

/// What names a node in the address space of a server: a namespace by its index there, and an identifier in it.
///
/// Source: OPC 10000-3, section 8.2; OPC 10000-6, sections 5.1.12 and 5.2.2.9.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct NodeId {
    /// The place of the namespace in the server's list.
    pub namespace: u16,
    /// The identifier in that namespace.
    pub identifier: Identifier,
}

/// What names a node in its namespace.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Identifier {
    /// A number.
    Numeric(u32),
    /// A text.
    Text(String),
    /// A Guid.
    Guid(Guid),
    /// Bytes.
    Opaque(Vec<u8>),
}

const TWO_BYTE: u8 = 0;
const FOUR_BYTE: u8 = 1;
const NUMERIC: u8 = 2;
const STRING: u8 = 3;
const GUID: u8 = 4;
const BYTE_STRING: u8 = 5;

impl NodeId {
    /// No node.
    pub const NULL: Self = Self::numeric(0, 0);

    /// One with a number.
    #[must_use]
    pub const fn numeric(namespace: u16, number: u32) -> Self {
        Self { namespace, identifier: Identifier::Numeric(number) }
    }

    /// One with a text.
    #[must_use]
    pub fn text(namespace: u16, text: impl Into<String>) -> Self {
        Self { namespace, identifier: Identifier::Text(text.into()) }
    }

    /// Whether it names no node: the identifier is zero or empty, and the namespace is the first.
    #[must_use]
    pub fn is_null(&self) -> bool {
        self.namespace == 0
            && match &self.identifier {
                Identifier::Numeric(number) => *number == 0,
                Identifier::Text(text) => text.is_empty(),
                Identifier::Guid(guid) => *guid == Guid::default(),
                Identifier::Opaque(bytes) => bytes.is_empty(),
            }
    }

    /// Its shortest form, with more bits in the first byte.
    pub(super) fn encode_with(&self, flags: u8, out: &mut Vec<u8>) {
        match &self.identifier {
            Identifier::Numeric(number) => match (u8::try_from(self.namespace), u16::try_from(*number)) {
                (Ok(0), Ok(number)) if number < 256 => {
                    let [low, _] = number.to_le_bytes();
                    out.extend_from_slice(&[TWO_BYTE | flags, low]);
                }
                (Ok(namespace), Ok(number)) => {
                    out.extend_from_slice(&[FOUR_BYTE | flags, namespace]);
                    number.encode(out);
                }
                _ => {
                    self.begin(NUMERIC | flags, out);
                    number.encode(out);
                }
            },
            Identifier::Text(text) => {
                self.begin(STRING | flags, out);
                encode_bytes(Some(text.as_bytes()), out);
            }
            Identifier::Guid(guid) => {
                self.begin(GUID | flags, out);
                guid.encode(out);
            }
            Identifier::Opaque(bytes) => {
                self.begin(BYTE_STRING | flags, out);
                encode_bytes(Some(bytes), out);
            }
        }
    }

    fn begin(&self, encoding: u8, out: &mut Vec<u8>) {
        out.push(encoding);
        self.namespace.encode(out);
    }

    /// What follows a first byte that says how.
    pub(super) fn decode_as(encoding: u8, from: &mut Reader<'_>, before: &DecodeError) -> Result<Self, DecodeError> {
        let (namespace, identifier) = match encoding {
            TWO_BYTE => (0, Identifier::Numeric(u8::decode(from)?.into())),
            FOUR_BYTE => (u8::decode(from)?.into(), Identifier::Numeric(u16::decode(from)?.into())),
            NUMERIC => (u16::decode(from)?, Identifier::Numeric(u32::decode(from)?)),
            STRING => (u16::decode(from)?, Identifier::Text(Option::decode(from)?.unwrap_or_default())),
            GUID => (u16::decode(from)?, Identifier::Guid(Guid::decode(from)?)),
            BYTE_STRING => (u16::decode(from)?, Identifier::Opaque(ByteString::decode(from)?.0.unwrap_or_default())),
            _ => return Err(before.clone()),
        };
        Ok(Self { namespace, identifier })
    }

    /// An error about a first byte.
    pub(super) const fn unknown(byte: u8, from: &Reader<'_>) -> DecodeError {
        from.fault(Fault::Unknown { what: "form of a NodeId", byte })
    }
}

impl Default for NodeId {
    fn default() -> Self {
        Self::NULL
    }
}

impl Binary for NodeId {
    fn encode(&self, out: &mut Vec<u8>) {
        self.encode_with(0, out);
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let before = Self::unknown(from.rest().first().copied().unwrap_or_default(), from);
        Self::decode_as(u8::decode(from)?, from, &before)
    }
}

/// A text that is no NodeId.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "{text:?} is no NodeId: it is written like i=2258, ns=2;s=Engine.Speed, ns=3;g=72962b91-fa75-4ae6-8d28-b404dc7daf63 or ns=3;b=AAEC"
)]
pub struct ParseNodeIdError {
    text: String,
}

/// The standard's text.
///
/// Source: OPC 10000-6, section 5.1.12.
impl fmt::Display for NodeId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.namespace != 0 {
            write!(f, "ns={};", self.namespace)?;
        }
        self.identifier.fmt(f)
    }
}

impl fmt::Display for Identifier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Numeric(number) => write!(f, "i={number}"),
            Self::Text(text) => write!(f, "s={text}"),
            Self::Guid(guid) => write!(f, "g={guid}"),
            Self::Opaque(bytes) => write!(f, "b={}", BASE64.encode(bytes)),
        }
    }
}

impl FromStr for Identifier {
    type Err = ParseNodeIdError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let fail = || ParseNodeIdError { text: text.to_owned() };
        let (kind, identifier) = text.split_once('=').ok_or_else(fail)?;
        Ok(match kind {
            "i" => Self::Numeric(number(identifier).ok_or_else(fail)?),
            "s" => Self::Text(identifier.to_owned()),
            "g" => Self::Guid(identifier.parse().map_err(|_| fail())?),
            "b" => Self::Opaque(BASE64.decode(identifier).map_err(|_| fail())?),
            _ => return Err(fail()),
        })
    }
}

impl FromStr for NodeId {
    type Err = ParseNodeIdError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let fail = || ParseNodeIdError { text: text.to_owned() };
        let (namespace, identifier) = match text.strip_prefix("ns=") {
            Some(rest) => {
                let (namespace, identifier) = rest.split_once(';').ok_or_else(fail)?;
                (number(namespace).ok_or_else(fail)?, identifier)
            }
            None => (0, text),
        };
        Ok(Self { namespace, identifier: identifier.parse().map_err(|_| fail())? })
    }
}

/// Digits and nothing else.
fn number<T: FromStr>(digits: &str) -> Option<T> {
    digits.parse().ok().filter(|_| digits.bytes().all(|byte| byte.is_ascii_digit()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_that_are_no_node_id_say_how_one_is_written() {
        for text in [
            "",
            "i=",
            "i=-1",
            "i=+1",
            "i=4294967296",
            "ns=70000;i=1",
            "ns=1i=1",
            "x=1",
            "g=12",
            "b=*",
            "ns=;i=1",
            " i=1",
        ] {
            let error = text.parse::<NodeId>().unwrap_err().to_string();
            assert!(error.contains("ns=2;s=Engine.Speed"), "{text}: {error}");
        }
        for text in ["s=", "s=a=b;c", "ns=4;s=ns=2;i=5", "i=0"] {
            assert_eq!(text.parse::<NodeId>().unwrap().to_string(), text);
        }
        assert!("i=0".parse::<NodeId>().unwrap().is_null() && !"ns=1;i=0".parse::<NodeId>().unwrap().is_null());
    }
}
