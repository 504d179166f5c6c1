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

mod bacnet;
mod check;
mod difference;
mod dnp3;
mod draft;
mod edit;
mod footprint;
mod form;
mod formats;
mod import;
mod keeping;
mod key_rule;
mod memory;
mod merge;
mod modbus;
mod names;
mod object;
mod opcua;
mod points_file;
mod problem;
mod protocol;
mod published;
mod read;
mod row;
mod rules;
mod schema;
mod secret;
mod selection;
mod settings;
mod sheet;
mod span;
mod toml_file;
mod update;
mod uplink;
mod write;

pub use bacnet::{
    BacnetAddress, BacnetDevice, BacnetIpLink, BacnetPoint, BacnetTimeSync, HostPort, ObjectPriority,
    ParseBacnetAddressError, ZoneName,
};
pub use check::{Checked, check, check_since};
pub use difference::{Change, Difference, FieldChange, ObjectChange, PartChange, PartFate, difference};
pub use dnp3::{
    Dnp3Address, Dnp3Confirm, Dnp3ControlForm, Dnp3ControlMode, Dnp3Device, Dnp3Kind, Dnp3Link, Dnp3Point,
    Dnp3SerialLink, Dnp3TcpLink, Dnp3TimeSync, Dnp3Timing, Dnp3TlsLink, Dnp3UdpLink, ParseDnp3AddressError,
};
pub use draft::{Content, Draft, list_of};
pub use form::Form;
pub use import::{OffersImport, Others, PointChange, PointsImport, TakenOffers, import_offers, import_points};
pub use keeping::Keeping;
pub use memory::CheckMemory;
pub use merge::{Merged, merge};
pub use modbus::{
    BitWrites, Holes, LineLoad, ModbusAddress, ModbusDevice, ModbusLink, ModbusPoint, ModbusSerialLink, ModbusTable,
    ModbusTcpLink, ModbusTiming, ParseHolesError, ParseModbusAddressError, PlannedRequest, SerialParity,
    WriteFunctions, line_load, planned, units,
};
pub use names::{Name, PointName, name_form};
pub use object::{ObjectClass, ObjectRef};
use opcua::AuthoritiesText;
pub use opcua::{
    AcceptedFault, AcceptedFaults, ElementRange, Fingerprint, ListenAddress, MethodArguments, OpcUaAddress,
    OpcUaDevice, OpcUaLink, OpcUaPoint, OpcUaSecurity, ParseOpcUaAddressError, ServerUrl, Watching,
};
pub use problem::{Problem, Severity};
pub use protocol::{Address, DeviceProtocol, LinkProtocol, PointProtocol, Protocol};
pub use published::file_schema;
pub use read::{check_and_parse, check_files, parse, read};
pub use row::{Cell, Row};
pub use schema::{ObjectKind, schema};
pub use secret::{SecretFields, SecretText, destination, is_secured_now};
pub use selection::{ParseSelectionError, Selection, fits};
pub use settings::{
    Access, CommandConfirm, DeviceSettings, GatewaySettings, LinkSettings, PointSettings, PointTraits, RateSettings,
};
pub use sheet::{SheetColumn, SheetWishes};
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

/// One device with its points.
#[derive(Debug, Clone, PartialEq)]
pub struct Device {
    /// What every device has.
    pub settings: DeviceSettings,
    /// What only its protocol has.
    pub protocol: DeviceProtocol,
    /// Its points, in the order of the list.
    pub points: Arc<[Arc<Point>]>,
}

/// One named signal of a device.
#[derive(Debug, Clone, PartialEq)]
pub struct Point {
    /// Its row in the list, with the address as the list has it.
    pub settings: PointSettings,
    /// What only points of its protocol have; points in which it is the same share it.
    pub protocol: Arc<PointProtocol>,
    /// Where it lives in its device.
    pub address: Address,
    /// From its raw to its engineering value in its device; shared in the same way.
    pub shaping: Arc<Shaping>,
}

// There is one of each, beside two counts: 112 bytes.
const _: () = assert!(size_of::<Point>() <= 96);

#[cfg(test)]
mod tests;
