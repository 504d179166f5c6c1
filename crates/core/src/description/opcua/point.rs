//! The points of an OPC UA server: their columns, and what is wrong with them.

use super::OpcUaAddress;
use crate::description::problem::Fault;
use crate::description::settings::{text_schema, text_type};
use crate::description::{Access, Address, Point, PointProtocol, PointSettings};
use crate::{AutoParts, DataType, Shaping, Value};
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
    /// What a method is given each time, as a list in JSON, [] for nothing: true calls it. It shows false while it may be called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub arguments: Option<MethodArguments>,
    /// What is taken from the node as it runs, in place of the columns for it: unit, range (low and high), words (enumeration),
    /// title, with ; between several.
    #[serde(default, skip_serializing_if = "AutoParts::is_empty")]
    #[schemars(extend("x-advanced" = true, "default" = ""))]
    pub auto: AutoParts,
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
    pub(in crate::description) fn is_subscribed(&self) -> bool {
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

/// What a method is given: a list in JSON of truth values, numbers and texts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MethodArguments(Vec<Scalar>);

/// A text that is no [`MethodArguments`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no list of arguments")]
pub struct ParseMethodArgumentsError(String);

impl MethodArguments {
    /// What a file should say, for messages.
    pub const FORM: &str = "a list in JSON such as [], [350.5] or [3, \"slow\", true]";

    /// The arguments, in their order.
    pub fn values(&self) -> impl ExactSizeIterator<Item = Value> {
        self.0.iter().map(|argument| match argument {
            Scalar::Bool(bit) => Value::Bool(*bit),
            Scalar::Text(text) => Value::Text(text.as_str().into()),
            Scalar::Number(number) => {
                let whole = number.as_u64().map(Value::Uint).or_else(|| number.as_i64().map(Value::Int));
                whole.unwrap_or_else(|| Value::Float64(number.as_f64().unwrap_or(f64::NAN)))
            }
        })
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
enum Scalar {
    Bool(bool),
    Number(serde_json::Number),
    Text(String),
}

impl FromStr for MethodArguments {
    type Err = ParseMethodArgumentsError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        serde_json::from_str(text).map(Self).map_err(|_| ParseMethodArgumentsError(text.to_owned()))
    }
}

impl fmt::Display for MethodArguments {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&serde_json::to_string(&self.0).map_err(|_| fmt::Error)?)
    }
}

text_type!(MethodArguments, "MethodArguments", "method-arguments");

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
    faults.extend(auto_faults(settings, own.auto));
    if own.arguments.is_some() {
        faults.extend(method_faults(settings, &own));
    }
    Some(Point {
        shaping: settings.shaping(1.0).into(),
        settings: PointSettings { address: address.to_string().into(), ..settings.clone() },
        protocol: PointProtocol::OpcUa(own).into(),
        address: Address::OpcUa(address),
    })
}

/// What is taken from the node is not described, too.
fn auto_faults(settings: &PointSettings, auto: AutoParts) -> Vec<Fault> {
    let is_shaped = settings.span.is_some()
        || settings.invert
        || settings.data_type.is_float()
        || !Shaping::linear(settings.scale, settings.offset).is_none();
    let both = [
        ("unit", auto.unit && !settings.unit.is_empty(), "unit"),
        ("range", auto.range && (settings.low.is_some() || settings.high.is_some()), "low and high"),
        (
            "words",
            auto.words && (settings.enumeration.is_some() || is_shaped),
            "enumeration, scale, span or float type",
        ),
        ("title", auto.title && !settings.title.is_empty(), "title"),
    ];
    let of_one = |(word, _, columns): (&str, bool, &str)| {
        let message = format!("auto takes {word} from the node, and the list says {columns}, too");
        Fault::new("auto", message, "one of the two")
    };
    both.into_iter().filter(|(_, is_there, _)| *is_there).map(of_one).collect()
}

/// What a point that calls a method cannot have.
fn method_faults(settings: &PointSettings, own: &OpcUaPoint) -> Vec<Fault> {
    let mut faults = Vec::new();
    if settings.access == Access::Read {
        let message = "access is read, and arguments are there: a method is called by writing".to_owned();
        faults.push(Fault::new("access", message, "read-write"));
    }
    if !matches!(settings.data_type, DataType::Auto | DataType::Bool) {
        let message = format!("type is {}, and a method is called by writing true", settings.data_type);
        faults.push(Fault::new("type", message, "no type, or bool"));
    }
    let is_there = [
        ("field", own.field.is_some()),
        ("element", own.element.is_some()),
        ("lifetime", settings.lifetime.is_some()),
        ("auto", !own.auto.is_empty()),
    ];
    for (column, _) in is_there.into_iter().filter(|(_, is_there)| *is_there) {
        faults.push(Fault::new(column, format!("{column} is of a value, and a method has none"), "nothing"));
    }
    faults
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::{Files, read};

    #[test]
    fn a_point_that_calls_a_method_is_a_command_and_nothing_else() {
        let main = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"opcua\"\nurl = \
                    \"opc.tcp://engine\"\n[[device]]\nname = \"d\"\nlink = \"l\"\npoints = \"p.csv\"\n";
        let problems = |row: &str| {
            let list = format!("name,address,arguments,access,type,element,rate\nstart,/2:Engine/2:Start,{row},fast\n");
            let files: Files = [("gateway.toml".into(), main.into()), ("p.csv".into(), list)].into();
            match read(&files) {
                Ok(description) => vec![description.devices[0].points[0].raw_type().to_string()],
                Err(problems) => problems.iter().map(ToString::to_string).collect(),
            }
        };
        assert_eq!(problems("\"[3, \"\"slow\"\", true]\",read-write,,"), ["bool"]);
        for wrong in ["350", "[null]", "[[1]]", "[1"] {
            let said = problems(&format!("\"{wrong}\",read-write,,"));
            assert!(said.len() == 1 && said[0].contains(MethodArguments::FORM), "{wrong}: {said:?}");
        }
        let said = problems("[],read,int32,0").join("\n");
        for part in ["access is read", "expected read-write", "type is int32", "element is of a value"] {
            assert!(said.contains(part), "{part}: {said}");
        }
        let values: Vec<_> = "[-3, 4, 0.5]".parse::<MethodArguments>().unwrap().values().collect();
        assert_eq!(values, [Value::Int(-3), Value::Uint(4), Value::Float64(0.5)]);
    }

    #[test]
    fn what_a_node_says_is_not_described_too() {
        let main = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"opcua\"\nurl = \
                    \"opc.tcp://engine\"\n[[device]]\nname = \"d\"\nlink = \"l\"\npoints = \"p.csv\"\n";
        let of = |row: &str| {
            let list = format!("name,address,auto,unit,low,scale,deadband-percent,rate\nx,ns=2;s=X,{row},fast\n");
            let files: Files = [("gateway.toml".into(), main.into()), ("p.csv".into(), list)].into();
            match read(&files) {
                Ok(description) => description.devices[0].points[0].auto().to_string(),
                Err(problems) => problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"),
            }
        };
        assert_eq!(of("range; unit,,,,2"), "unit;range", "a percentage of the range that the node tells");
        assert_eq!(of("words,kW,,,"), "words");
        for (row, said) in [
            ("unit,kW,,,", "auto takes unit from the node, and the list says unit, too"),
            ("range,,5,,", "auto takes range from the node, and the list says low and high, too"),
            ("words,,,0.1,", "auto takes words from the node"),
            ("units,,,,", AutoParts::FORM),
        ] {
            assert!(of(row).contains(said), "{row}: {}", of(row));
        }
    }

    #[test]
    fn the_object_of_a_method_stands_before_the_last_step_of_its_path() {
        let parent = |text: &str| text.parse::<OpcUaAddress>().unwrap().parent().map(|parent| parent.to_string());
        assert_eq!(parent("/2:Engine/2:Start").as_deref(), Some("/2:Engine"));
        assert_eq!(parent("/2:Engine<0:HasComponent>2:Oil&/Pump&.1").as_deref(), Some("/2:Engine"));
        assert_eq!((parent("/2:Start"), parent("ns=2;s=Engine/Start")), (None, None));
    }
}
