use super::node_id::{Identifier, NodeId};
use crate::codec::{Binary, DecodeError, Reader, encode_bytes};
use std::fmt;

/// A node of this server or another one, whose namespace may be told by its URI.
///
/// Source: OPC 10000-6, section 5.2.2.10.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct ExpandedNodeId {
    /// The place of the server in the server's list; 0 for itself.
    pub server: u32,
    /// The namespace.
    pub namespace: Namespace,
    /// The identifier in it.
    pub identifier: Identifier,
}

/// How a namespace is told.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Namespace {
    /// By its place in the server's list.
    Index(u16),
    /// By its URI.
    Uri(String),
}

const HAS_URI: u8 = 0x80;
const HAS_SERVER: u8 = 0x40;

impl ExpandedNodeId {
    /// The node, where it is one of this server and its namespace is told by its place.
    #[must_use]
    pub fn local(&self) -> Option<NodeId> {
        match (self.server, &self.namespace) {
            (0, Namespace::Index(namespace)) => {
                Some(NodeId { namespace: *namespace, identifier: self.identifier.clone() })
            }
            _ => None,
        }
    }
}

impl Default for Namespace {
    fn default() -> Self {
        Self::Index(0)
    }
}

impl Default for Identifier {
    fn default() -> Self {
        Self::Numeric(0)
    }
}

impl From<NodeId> for ExpandedNodeId {
    fn from(NodeId { namespace, identifier }: NodeId) -> Self {
        Self { server: 0, namespace: Namespace::Index(namespace), identifier }
    }
}

impl Binary for ExpandedNodeId {
    fn encode(&self, out: &mut Vec<u8>) {
        let (namespace, uri) = match &self.namespace {
            Namespace::Index(namespace) => (*namespace, None),
            Namespace::Uri(uri) => (0, Some(uri)),
        };
        let flags = uri.map_or(0, |_| HAS_URI) | if self.server == 0 { 0 } else { HAS_SERVER };
        NodeId { namespace, identifier: self.identifier.clone() }.encode_with(flags, out);
        if let Some(uri) = uri {
            encode_bytes(Some(uri.as_bytes()), out);
        }
        if self.server != 0 {
            self.server.encode(out);
        }
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let before = NodeId::unknown(from.rest().first().copied().unwrap_or_default(), from);
        let first = u8::decode(from)?;
        let flags = first & (HAS_URI | HAS_SERVER);
        let NodeId { namespace, identifier } = NodeId::decode_as(first & !flags, from, &before)?;
        let uri = if flags & HAS_URI == 0 { None } else { Option::decode(from)? };
        let server = if flags & HAS_SERVER == 0 { 0 } else { u32::decode(from)? };
        let namespace = uri.map_or(Namespace::Index(namespace), Namespace::Uri);
        Ok(Self { server, namespace, identifier })
    }
}

/// The standard's text.
///
/// Source: OPC 10000-6, section 5.1.12.
impl fmt::Display for ExpandedNodeId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.server != 0 {
            write!(f, "svr={};", self.server)?;
        }
        match &self.namespace {
            Namespace::Index(0) => {}
            Namespace::Index(namespace) => write!(f, "ns={namespace};")?,
            // What would end it is escaped.
            Namespace::Uri(uri) => write!(f, "nsu={};", uri.replace('%', "%25").replace(';', "%3B"))?,
        }
        self.identifier.fmt(f)
    }
}
