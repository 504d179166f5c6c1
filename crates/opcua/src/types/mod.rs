//! The built-in types.
//!
//! Source: OPC 10000-6, section 5.1.2.

mod byte_string;
mod data_value;
mod date_time;
mod diagnostic_info;
mod expanded_node_id;
mod extension_object;
mod guid;
mod node_id;
mod status_code;
mod status_names;
mod text;
mod variant;

pub use byte_string::{ByteString, XmlElement};
pub use data_value::DataValue;
pub use date_time::DateTime;
pub use diagnostic_info::DiagnosticInfo;
pub use expanded_node_id::{ExpandedNodeId, Namespace};
pub use extension_object::{Body, ExtensionObject};
pub use guid::{Guid, ParseGuidError};
pub use node_id::{Identifier, NodeId, ParseNodeIdError};
pub use status_code::StatusCode;
pub use text::{LocalizedText, QualifiedName};
pub use variant::{Array, Scalar, Variant};
