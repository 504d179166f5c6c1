use super::{ByteString, NodeId, XmlElement};
use crate::codec::{Binary, DecodeError, Fault, Reader, encode_bytes};

/// A structure, as bytes, with the node that tells how it is to be read.
///
/// What is not known stays as it came.
///
/// Source: OPC 10000-6, section 5.2.2.15.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ExtensionObject {
    /// The encoding of the data type: not the type itself.
    pub type_id: NodeId,
    /// The structure.
    pub body: Body,
}

/// The bytes of a structure.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum Body {
    /// There is none.
    #[default]
    None,
    /// In OPC UA Binary.
    Binary(Vec<u8>),
    /// As XML.
    Xml(XmlElement),
}

const NONE: u8 = 0;
const BYTES: u8 = 1;
const XML: u8 = 2;

impl Binary for ExtensionObject {
    fn encode(&self, out: &mut Vec<u8>) {
        self.type_id.encode(out);
        match &self.body {
            Body::None => out.push(NONE),
            Body::Binary(bytes) => {
                out.push(BYTES);
                encode_bytes(Some(bytes), out);
            }
            Body::Xml(xml) => {
                out.push(XML);
                xml.encode(out);
            }
        }
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let type_id = NodeId::decode(from)?;
        let before = from.fault(Fault::Length(0));
        let body = match u8::decode(from)? {
            NONE => Body::None,
            BYTES => Body::Binary(ByteString::decode(from)?.0.unwrap_or_default()),
            XML => Body::Xml(XmlElement::decode(from)?),
            byte => {
                return Err(DecodeError { fault: Fault::Unknown { what: "form of a structure", byte }, ..before });
            }
        };
        Ok(Self { type_id, body })
    }
}
