//! The points of an outstation: their columns, and what is wrong with them.

use super::{Dnp3Address, Dnp3Kind};
use crate::DataType;
use crate::description::problem::Fault;
use crate::description::{Access, Address, Point, PointProtocol, PointSettings};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The columns that only points of outstations have.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Dnp3Point {
    /// What true and false do to an output with two states.
    #[serde(default, skip_serializing_if = "Dnp3ControlForm::is_latch")]
    #[schemars(extend("x-advanced" = true, "default" = "latch"))]
    pub control: Dnp3ControlForm,
    /// Whether an output is selected before it is operated.
    #[serde(default, skip_serializing_if = "Dnp3ControlMode::is_select")]
    #[schemars(extend("x-advanced" = true, "default" = "select"))]
    pub operate: Dnp3ControlMode,
    /// How long a pulse is, in milliseconds.
    #[serde(default = "default_pulse", skip_serializing_if = "is_default_pulse")]
    #[schemars(extend("x-advanced" = true, "x-unit" = "ms", "default" = 100))]
    pub pulse: u32,
    /// How long the pause between two pulses is, in milliseconds.
    #[serde(default, skip_serializing_if = "is_zero")]
    #[schemars(extend("x-advanced" = true, "x-unit" = "ms", "default" = 0))]
    pub pause: u32,
    /// How many pulses there are.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    #[schemars(range(min = 1), extend("x-advanced" = true, "default" = 1))]
    pub pulses: u8,
    /// The index of the output that trips, where a breaker has another one for that than for closing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub trip_index: Option<u16>,
    /// The point of the device that shows what a command came to: it is confirmed when that follows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1), extend("x-advanced" = true))]
    pub feedback: Option<String>,
    /// The class of its events, 0 for none: the outstation is told so at each beginning. It decides itself when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(max = 3), extend("x-advanced" = true))]
    pub class: Option<u8>,
    /// By how much an analog input has to change before the outstation tells it, in raw values: it is told so at each beginning.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 0.0), extend("x-advanced" = true))]
    pub device_deadband: Option<f64>,
    /// The variation that it is read with, where that of the outstation will not do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 1), extend("x-advanced" = true))]
    pub variation: Option<u8>,
}

impl Default for Dnp3Point {
    fn default() -> Self {
        Self {
            control: Dnp3ControlForm::Latch,
            operate: Dnp3ControlMode::Select,
            pulse: default_pulse(),
            pause: 0,
            pulses: one(),
            trip_index: None,
            feedback: None,
            class: None,
            device_deadband: None,
            variation: None,
        }
    }
}

/// What true and false do to an output with two states.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Dnp3ControlForm {
    /// It is on, or off, and stays so.
    #[default]
    Latch,
    /// True is a pulse; false is refused.
    Pulse,
    /// True closes, and false trips, as pulses: for breakers, whose two coils have one index.
    TripClose,
}

/// Whether an output is selected before it is operated.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Dnp3ControlMode {
    /// It is.
    #[default]
    Select,
    /// It is operated at once.
    Direct,
}

impl Dnp3ControlForm {
    #[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
    fn is_latch(&self) -> bool {
        *self == Self::Latch
    }
}

impl Dnp3ControlMode {
    #[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
    fn is_select(&self) -> bool {
        *self == Self::Select
    }
}

const fn one() -> u8 {
    1
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_one(count: &u8) -> bool {
    *count == one()
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_zero(millis: &u32) -> bool {
    *millis == 0
}

const fn default_pulse() -> u32 {
    100
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_default_pulse(pulse: &u32) -> bool {
    *pulse == default_pulse()
}

/// Understands a row of a list as a point of an outstation; what is wrong with it is added to the faults.
pub(in crate::description) fn point(
    settings: &PointSettings,
    own: Dnp3Point,
    faults: &mut Vec<Fault>,
) -> Option<Point> {
    let Ok(address) = settings.address.parse::<Dnp3Address>() else {
        let message = format!("address is {:?}", settings.address);
        faults.push(Fault::new("address", message, Dnp3Address::FORM));
        return None;
    };
    if let Some(expected) = unfitting(address.kind, settings.data_type) {
        let message = format!("type {} does not fit {address}", settings.data_type);
        faults.push(Fault::new("type", message, expected));
    }
    if settings.access != Access::Read && !address.kind.is_output() {
        let message = format!("{address} cannot be commanded");
        faults.push(Fault::new("access", message, "read, or an address in binary-output: or analog-output:"));
    }
    if own.control != Dnp3ControlForm::Latch && address.kind != Dnp3Kind::BinaryOutput {
        let message = format!("{address} is no output with two states");
        faults.push(Fault::new("control", message, "nothing, or an address in binary-output:"));
    }
    if own.trip_index.is_some() && own.control != Dnp3ControlForm::TripClose {
        faults.push(Fault::new("trip-index", "nothing trips by it", "nothing, or trip-close in control"));
    }
    if own.feedback.is_some() && !address.kind.is_output() {
        let expected = "nothing, or an address in binary-output: or analog-output:";
        faults.push(Fault::new("feedback", format!("{address} cannot be commanded"), expected));
    }
    let has_deadband = address.kind == Dnp3Kind::Analog;
    if own.device_deadband.is_some() && !has_deadband {
        let message = format!("{address} is no analog input");
        faults.push(Fault::new("device-deadband", message, "nothing, or an address in analog:"));
    }
    Some(Point {
        shaping: settings.shaping(1.0).into(),
        settings: PointSettings { address: address.to_string().into(), ..settings.clone() },
        protocol: PointProtocol::Dnp3(own).into(),
        address: Address::Dnp3(address),
    })
}

/// What would be right in place of a type that points of a kind cannot have.
fn unfitting(kind: Dnp3Kind, data_type: DataType) -> Option<&'static str> {
    let is_number = data_type.is_numeric() && data_type != DataType::Bool;
    let of_registers = [DataType::Bcd16, DataType::Bcd32, DataType::Bcd64, DataType::Float16];
    let (is_fitting, expected) = match kind {
        Dnp3Kind::Binary | Dnp3Kind::BinaryOutput => (data_type == DataType::Bool, "nothing, or bool"),
        // Four states are no truth value.
        Dnp3Kind::DoubleBit => (is_number && !data_type.is_float(), "nothing, or uint8; words stand in enumeration"),
        Dnp3Kind::Octets => (matches!(data_type, DataType::String(_) | DataType::Bytes), "nothing, string(N) or bytes"),
        _ => (is_number && !of_registers.contains(&data_type), "nothing, int16 to uint64, float32 or float64"),
    };
    (!is_fitting && data_type != DataType::Auto).then_some(expected)
}

#[cfg(test)]
mod tests {
    use crate::description::{Files, read};

    #[test]
    fn points_are_what_their_kind_allows() {
        let main = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"dnp3-tcp\"\nhost = \
                    \"relay\"\n[[device]]\nname = \"d\"\nlink = \"l\"\naddress = 10\npoints = \"p.csv\"\n";
        let of = |row: &str| {
            let list = format!("name,address,type,access,control,pulses,rate\nx,{row},fast\n");
            let files: Files = [("gateway.toml".into(), main.into()), ("p.csv".into(), list)].into();
            match read(&files) {
                Ok(description) => {
                    let point = &description.devices[0].points[0];
                    format!("{} {}", point.address, point.raw_type())
                }
                Err(problems) => problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"),
            }
        };
        assert_eq!(of(" analog:100,,,,"), "analog:100 float64");
        assert_eq!(of("double-bit:0,,,,"), "double-bit:0 uint8");
        assert_eq!(of("counter:2,uint16,,,"), "counter:2 uint16");
        assert_eq!(of("binary-output:0,,read-write,trip-close,3"), "binary-output:0 bool");
        for (row, said) in [
            ("analog:70000,,,,", "N the index from 0 to 65535"),
            ("relay:1,,,,", "address is \"relay:1\""),
            ("double-bit:0,bool,,,", "type bool does not fit double-bit:0"),
            ("binary:0,int16,,,", "type int16 does not fit binary:0"),
            ("binary:0,,read-write,,", "binary:0 cannot be commanded"),
            ("analog-output:0,,read-write,pulse,", "analog-output:0 is no output with two states"),
            ("binary-output:0,,read-write,pulse,2.0", "pulses is 2.0; expected a whole number, without a point"),
            ("binary-output:0,,read-write,pulse,many", "pulses is \"many\""),
        ] {
            assert!(of(row).contains(said), "{row}: {}", of(row));
        }
    }

    #[test]
    fn outstations_of_a_link_have_addresses_of_their_own() {
        let main = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"dnp3-tcp\"\nhost = \
                    \"relay\"\n[[device]]\nname = \"one\"\nlink = \"l\"\naddress = 10\n[[device]]\nname = \"two\"\nlink = \"l\"\naddress = 10\n";
        let files: Files = [("gateway.toml".into(), main.into())].into();
        let said: Vec<_> = read(&files).unwrap_err().iter().map(ToString::to_string).collect();
        assert!(said.iter().any(|said| said.contains("address 10 is taken by \"one\"")), "{said:?}");
    }
}
