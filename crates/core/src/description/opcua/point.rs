//! The points of an OPC UA server: their columns, and what is wrong with them.

use super::OpcUaAddress;
use crate::DataType;
use crate::description::problem::Fault;
use crate::description::settings::{text_schema, text_type};
use crate::description::{Address, Point, PointProtocol, PointSettings};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

/// The columns that only points of OPC UA servers have.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct OpcUaPoint {
    /// The field of a structure, with points between the names of nested ones: Limits.High.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1), extend("x-advanced" = true))]
    pub field: Option<Box<str>>,
    /// The element of an array, counted from 0: 3, or 1,2 of a matrix.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub element: Option<ElementRange>,
    /// How its values come: told by the server as they change, or read again and again.
    #[serde(default, skip_serializing_if = "Watching::is_subscribed")]
    #[schemars(extend("x-advanced" = true, "default" = "subscribe"))]
    pub watch: Watching,
}

/// How values come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Watching {
    /// The server looks at it as often as the rate says, and tells every change; read where it does not.
    #[default]
    Subscribe,
    /// It is read as often as the rate says.
    Poll,
}

impl Watching {
    #[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
    fn is_subscribed(&self) -> bool {
        *self == Self::Subscribe
    }
}

/// One element of an array or a matrix, in the standard's text of a numeric range.
///
/// Source: OPC 10000-4, section 7.27.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ElementRange(Box<str>);

/// A text that is no [`ElementRange`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no element of an array")]
pub struct ParseElementRangeError(String);

impl ElementRange {
    /// What a file should say, for messages.
    pub const FORM: &str = "an element counted from 0, such as 3, or 1,2 of a matrix";

    /// The text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl FromStr for ElementRange {
    type Err = ParseElementRangeError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let is_number = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit()) && part.parse::<u32>().is_ok();
        let is_range = text.split(',').all(is_number);
        is_range.then(|| Self(text.into())).ok_or_else(|| ParseElementRangeError(text.to_owned()))
    }
}

impl fmt::Display for ElementRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

text_type!(ElementRange, "ElementRange", "array-element");

/// Understands a row of a list as a point of a server; what is wrong with it is added to the faults.
pub(in crate::description) fn point(
    settings: &PointSettings,
    own: OpcUaPoint,
    faults: &mut Vec<Fault>,
) -> Option<Point> {
    let address = match settings.address.parse::<OpcUaAddress>() {
        Ok(address) => address,
        Err(error) => {
            let message = format!("address is {:?}: {}", settings.address, error.why);
            faults.push(Fault::new("address", message, OpcUaAddress::FORM));
            return None;
        }
    };
    let of_registers = [DataType::Bcd16, DataType::Bcd32, DataType::Bcd64, DataType::Float16];
    if of_registers.contains(&settings.data_type) || matches!(settings.data_type, DataType::Latin1(_)) {
        let message = format!("{} is a type of registers; nodes say their own", settings.data_type);
        faults.push(Fault::new("type", message, "no type, or bool, int8 to uint64, float32, float64 or string(N)"));
    }
    Some(Point {
        shaping: settings.shaping(1.0),
        settings: PointSettings { address: address.to_string(), ..settings.clone() },
        protocol: PointProtocol::OpcUa(own),
        address: Address::OpcUa(address),
    })
}
