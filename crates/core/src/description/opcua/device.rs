use super::OpcUaAddress;
use crate::description::settings::{text_schema, text_type};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// An OPC UA server, or a part of it.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct OpcUaDevice {
    /// The node that the browse paths of its points start from: a NodeId, or a browse path from the Objects folder, such as
    /// /2:Engines/2:Engine1. One list serves several machines of a kind, each with its own. The Objects folder when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<OpcUaAddress>,
}

text_type!(OpcUaAddress, "OpcUaAddress", "node-address");
