//! The points of a BACnet device: their columns, and what is wrong with them.

use super::{BacnetAddress, ObjectPriority};
use crate::description::problem::Fault;
use crate::description::{Access, Address, Point, PointProtocol, PointSettings, Watching};
use crate::{AutoParts, DataType};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The columns that only points of BACnet devices have.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct BacnetPoint {
    /// The priority at which it is commanded, in place of that of its device: 1 to 16, and not 6.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub priority: Option<ObjectPriority>,
    /// How its values come: told by the device as they change, or read again and again.
    #[serde(default, skip_serializing_if = "Watching::is_subscribed")]
    #[schemars(extend("x-advanced" = true, "default" = "subscribe"))]
    pub watch: Watching,
    /// The instance of the trend log in the device that records it. It is looked for when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(max = 4_194_302), extend("x-advanced" = true))]
    pub trend_log: Option<u32>,
    /// What is taken from the object as it runs, in place of the columns for it: unit, range (low and high), words (enumeration),
    /// title, with ; between several.
    #[serde(default, skip_serializing_if = "AutoParts::is_empty")]
    #[schemars(extend("x-advanced" = true, "default" = ""))]
    pub auto: AutoParts,
}

/// Understands a row of a list as a point of a device; what is wrong with it is added to the faults.
pub(in crate::description) fn point(
    settings: &PointSettings,
    own: BacnetPoint,
    faults: &mut Vec<Fault>,
) -> Option<Point> {
    let Ok(address) = settings.address.parse::<BacnetAddress>() else {
        let message = format!("address is {:?}", settings.address);
        faults.push(Fault::new("address", message, BacnetAddress::FORM));
        return None;
    };
    let of_registers = [DataType::Bcd16, DataType::Bcd32, DataType::Bcd64, DataType::Float16];
    if of_registers.contains(&settings.data_type) {
        let message = format!("type {} does not fit {address}", settings.data_type);
        faults.push(Fault::new("type", message, "nothing, bool, int16 to uint64, float32, float64 or string(N)"));
    }
    if address.is_binary() && settings.data_type != DataType::Auto && settings.data_type != DataType::Bool {
        let message = format!("type {} does not fit {address}", settings.data_type);
        faults.push(Fault::new("type", message, "nothing, or bool"));
    }
    if own.priority.is_some() && (settings.access == Access::Read || !address.is_present_value()) {
        let expected = "nothing, or the present value of an object, and read-write in access";
        faults.push(Fault::new("priority", format!("{address} is not commanded"), expected));
    }
    faults.extend(own.priority.and_then(ObjectPriority::fault));
    if own.trend_log.is_some() && address.index.is_some() {
        faults.push(Fault::new(
            "trend-log",
            format!("{address} is an element"),
            "nothing, or an address without [INDEX]",
        ));
    }
    Some(Point {
        shaping: settings.shaping(1.0).into(),
        settings: PointSettings { address: address.to_string().into(), ..settings.clone() },
        protocol: PointProtocol::Bacnet(own).into(),
        address: Address::Bacnet(address),
    })
}

#[cfg(test)]
mod tests {
    use crate::description::{Files, read};

    /// What becomes of a point, and of its device with some more keys.
    fn of(keys: &str, row: &str) -> String {
        let main = format!(
            "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"bacnet-ip\"\ninterface = \
             \"eth0\"\n[[device]]\nname = \"d\"\nlink = \"l\"\ninstance = 4001\npoints = \"p.csv\"\n{keys}"
        );
        let list = format!("name,address,type,access,priority,watch,rate\nx,{row},fast\n");
        let files: Files = [("gateway.toml".into(), main), ("p.csv".into(), list)].into();
        match read(&files) {
            Ok(description) => {
                let point = &description.devices[0].points[0];
                format!("{} {}", point.address, point.raw_type())
            }
            Err(problems) => problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"),
        }
    }

    #[test]
    fn points_are_of_the_type_that_the_standard_gives_their_objects() {
        for (row, expected) in [
            ("analog-input:3,,,,", "analog-input:3 float32"),
            ("binary-value:1,,,,", "binary-value:1 bool"),
            ("multi-state-value:1.present-value,,,,", "multi-state-value:1 uint32"),
            ("large-analog-value:1,,,,", "large-analog-value:1 float64"),
            ("analog-value:1.out-of-service,,read-write,,poll", "analog-value:1.out-of-service bool"),
            ("200:1.5000,,,,", "200:1.5000 auto"),
            ("analog-output:1,float64,read-write,8,", "analog-output:1 float64"),
        ] {
            assert_eq!(of("", row), expected, "{row}");
        }
    }

    #[test]
    fn what_cannot_be_is_said_with_what_would_be_right() {
        for (keys, row, said) in [
            ("", "analog-inptu:3,,,,", "address is \"analog-inptu:3\""),
            ("", "binary-input:3,uint16,,,", "type uint16 does not fit binary-input:3; expected nothing, or bool"),
            ("", "analog-output:3,,read-write,6,", "it is 6; expected 1 to 5, or 7 to 16"),
            ("", "analog-output:3,,read-write,17,", "priority is 17; expected 16 or less"),
            ("", "analog-output:3,,,8,", "analog-output:3 is not commanded"),
            ("host = \"10.0.0.5.6\"\n", "analog-output:3,,,,", "an IP address as 10.20.0.40"),
            ("station = \"0x\"\n", "analog-output:3,,,,", "pairs of hexadecimal digits"),
            ("station = \"0c\"\n", "analog-output:3,,,,", "the number of its network"),
            ("timezone = \"Europe/Berlim\"\n", "analog-output:3,,,,", "a time zone as Europe/Berlin"),
            ("time-sync = \"local\"\n", "analog-output:3,,,,", "the local time is to be told"),
        ] {
            assert!(of(keys, row).contains(said), "{row} {keys}: {}", of(keys, row));
        }
    }
}
