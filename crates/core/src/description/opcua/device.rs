use super::OpcUaAddress;
use crate::description::settings::{is_false, text_schema, text_type};
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
    /// Whether fields of structures are written: the whole is read, and written with the field changed. What others change in it
    /// meanwhile is lost.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true))]
    pub read_modify_write: bool,
}

text_type!(OpcUaAddress, "OpcUaAddress", "node-address");
