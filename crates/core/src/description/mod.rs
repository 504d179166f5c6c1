//! The description of a gateway: its settings as types, its files, and the checks that find every mistake.
//!
//! Each setting is written once, as a field of a Rust type with its doc, default and range. From that type come
//! the JSON Schema, the checks of files and of the API, and what the files look like when written back.
//!
//! ```text
//! gateway.toml ─┐            ┌─ schema: keys, types, ranges, forms
//! points/*.csv ─┴▶ Draft ────┤ rules: clashes, access                  ──▶ Description, or all Problems
//!  edited in the database ▶  └─ check: references, load of the line
//! Description ──▶ Draft ──▶ the same files, byte by byte
//! Draft, Draft ──▶ Difference: what activation would change
//! ```

mod check;
mod difference;
mod draft;
mod footprint;
mod import;
mod modbus;
mod names;
mod object;
mod points_file;
mod problem;
mod published;
mod read;
mod rules;
mod schema;
mod secret;
mod selection;
mod settings;
mod span;
mod toml_file;
mod update;
mod uplink;
mod write;

pub use check::{Checked, check};
pub use difference::{Change, Difference, FieldChange, ObjectChange, PartChange, PartFate, difference};
pub use draft::{Draft, list_of};
pub use import::{Others, PointChange, PointsImport, import_points};
pub use modbus::{
    BitWrites, Holes, LineLoad, ModbusAddress, ModbusDevice, ModbusSerialLink, ModbusTable, ModbusTcpLink,
    ParseHolesError, ParseModbusAddressError, PlannedRequest, SerialParity, WriteFunctions, line_load, planned, units,
};
pub use names::{Name, PointName, name_form};
pub use object::{ObjectClass, ObjectRef};
pub use problem::{Problem, Severity};
pub use published::file_schema;
pub use read::{check_files, parse, read};
pub use schema::{ObjectKind, schema, secret_fields};
pub use secret::SecretText;
pub use selection::{ParseSelectionError, Selection};
pub use settings::{Access, DeviceSettings, GatewaySettings, LinkSettings, PointSettings, RateSettings};
pub use span::{ParseSpanError, Span};
pub use update::update;
pub use uplink::{
    BrokerSettings, BrokerUrl, BrokerUrls, JournalSettings, JsonUplink, MessagePer, MqttVersion, ParseBrokerUrlError,
    SparkplugUplink, Uplink, UplinkKind, UplinkSettings, WhenFull,
};
pub use write::{points_csv, write};

use crate::Shaping;
use std::collections::BTreeMap;
use std::sync::Arc;

/// The files of a description: path relative to `gateway.toml`, and text.
pub type Files = BTreeMap<String, String>;

/// The name of the file that every description starts from.
pub const MAIN_FILE: &str = "gateway.toml";

/// One gateway, described: checked, and ready to run.
#[derive(Debug, Clone, PartialEq)]
pub struct Description {
    /// The gateway itself.
    pub gateway: GatewaySettings,
    /// Named sampling periods.
    pub rates: BTreeMap<Name, Span>,
    /// Transports to the field.
    pub links: Vec<Link>,
    /// Field devices behind the links.
    pub devices: Vec<Device>,
    /// Connections to brokers.
    pub uplinks: Vec<Uplink>,
}

impl Description {
    /// The same gateway with nothing in it.
    #[must_use]
    pub fn empty(of: &Self) -> Self {
        let gateway = of.gateway.clone();
        Self { gateway, rates: BTreeMap::new(), links: Vec::new(), devices: Vec::new(), uplinks: Vec::new() }
    }
}

/// One link: what every link has, and what only its protocol has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// What every link has.
    pub settings: LinkSettings,
    /// What only its protocol has.
    pub protocol: LinkProtocol,
}

/// The protocol of a link with its settings.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LinkProtocol {
    /// `modbus-tcp`
    ModbusTcp(ModbusTcpLink),
    /// `modbus-rtu`
    ModbusRtu(ModbusSerialLink),
    /// `modbus-rtu-tcp`
    ModbusRtuTcp(ModbusTcpLink),
    /// `modbus-ascii`
    ModbusAscii(ModbusSerialLink),
    /// `modbus-ascii-tcp`
    ModbusAsciiTcp(ModbusTcpLink),
}

/// What limits the traffic of a link, whatever its protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LinkTiming {
    /// How long an answer may take.
    pub timeout: Span,
    /// How long after a timeout an answer may still come, where nothing but the order pairs it with its request.
    pub late_limit: Span,
    /// The wait between an answer and the next request.
    pub pause: Option<Span>,
    /// The longest wait between two attempts to connect.
    pub reconnect_limit: Span,
    /// Speed of the serial line behind it, where there is one and it is known.
    pub baud: Option<u32>,
    /// How many bits one character takes on that line.
    pub bits_per_character: u8,
    /// How many requests may be outstanding at a time.
    pub in_flight: u8,
}

/// Converters and slow devices are late by a few timeouts, and rarely by more.
fn late_limit(timeout: Span) -> Span {
    Span::from_millis(timeout.as_millis().saturating_mul(5))
}

impl LinkProtocol {
    /// The word in the files.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::ModbusTcp(_) => "modbus-tcp",
            Self::ModbusRtu(_) => "modbus-rtu",
            Self::ModbusRtuTcp(_) => "modbus-rtu-tcp",
            Self::ModbusAscii(_) => "modbus-ascii",
            Self::ModbusAsciiTcp(_) => "modbus-ascii-tcp",
        }
    }

    /// What limits its traffic.
    #[must_use]
    pub fn timing(&self) -> LinkTiming {
        match self {
            Self::ModbusTcp(link) | Self::ModbusRtuTcp(link) | Self::ModbusAsciiTcp(link) => LinkTiming {
                timeout: link.timeout,
                late_limit: link.late_limit.unwrap_or_else(|| late_limit(link.timeout)),
                pause: link.pause,
                reconnect_limit: link.reconnect_limit,
                baud: link.serial_baud,
                // A start bit, eight data bits, parity or a second stop bit, a stop bit: MODBUS over Serial Line
                // V1.02, section 2.5.1.
                bits_per_character: 11,
                in_flight: link.in_flight,
            },
            Self::ModbusRtu(link) | Self::ModbusAscii(link) => LinkTiming {
                timeout: link.timeout,
                late_limit: link.late_limit.unwrap_or_else(|| late_limit(link.timeout)),
                pause: link.pause,
                reconnect_limit: link.reconnect_limit,
                baud: Some(link.baud),
                bits_per_character: 1
                    + link.data_bits.unwrap_or(8)
                    + u8::from(link.parity != SerialParity::None)
                    + link.stop_bits(),
                in_flight: 1,
            },
        }
    }

    /// The settings of a link over TCP, to be changed.
    pub const fn tcp_mut(&mut self) -> Option<&mut ModbusTcpLink> {
        match self {
            Self::ModbusTcp(link) | Self::ModbusRtuTcp(link) | Self::ModbusAsciiTcp(link) => Some(link),
            Self::ModbusRtu(_) | Self::ModbusAscii(_) => None,
        }
    }

    /// The settings of a serial line, to be changed.
    pub const fn serial_mut(&mut self) -> Option<&mut ModbusSerialLink> {
        match self {
            Self::ModbusRtu(link) | Self::ModbusAscii(link) => Some(link),
            Self::ModbusTcp(_) | Self::ModbusRtuTcp(_) | Self::ModbusAsciiTcp(_) => None,
        }
    }

    /// Where it leads, for people: host and port, or the path of a serial port.
    #[must_use]
    pub fn target(&self) -> String {
        match self {
            Self::ModbusTcp(link) | Self::ModbusRtuTcp(link) | Self::ModbusAsciiTcp(link) => {
                format!("{}:{}", link.host, link.port)
            }
            Self::ModbusRtu(link) | Self::ModbusAscii(link) => link.device_path.clone(),
        }
    }
}

/// One device with its points.
#[derive(Debug, Clone, PartialEq)]
pub struct Device {
    /// What every device has.
    pub settings: DeviceSettings,
    /// What only its protocol has.
    pub protocol: DeviceProtocol,
    /// Its points, in the order of the list.
    pub points: Vec<Arc<Point>>,
}

/// The protocol of a device with its settings.
#[derive(Debug, Clone, PartialEq)]
pub enum DeviceProtocol {
    /// A Modbus unit, on any Modbus link.
    Modbus(ModbusDevice),
}

/// One named signal of a device.
#[derive(Debug, Clone, PartialEq)]
pub struct Point {
    /// Its row in the list, with the address as the list has it.
    pub settings: PointSettings,
    /// Where it lives in its device.
    pub address: Address,
    /// From its raw to its engineering value in its device.
    pub shaping: Shaping,
}

/// Where a point lives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Address {
    /// In a Modbus unit.
    Modbus(ModbusAddress),
}

impl std::fmt::Display for Address {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Modbus(address) => address.fmt(f),
        }
    }
}

#[cfg(test)]
mod tests;
