//! The protocols of links: each has a folder here with its keys, columns and checks, and its line in every match of this
//! file, in place of which nothing else here knows one from the other.

use super::bacnet::{self, BacnetAddress, BacnetDevice, BacnetIpLink, BacnetPoint};
use super::dnp3::{self, Dnp3Address, Dnp3Device, Dnp3Link, Dnp3Point};
use super::draft::object;
use super::draft::{Content, Draft, name_of};
use super::modbus::{self, ModbusAddress, ModbusDevice, ModbusLink, ModbusPoint};
use super::opcua::{self, OpcUaAddress, OpcUaDevice, OpcUaLink, OpcUaPoint, OpcUaSecurity};
use super::problem::Fault;
use super::row::Row;
use super::schema::ObjectKind;
use super::settings::part;
use super::{Description, Device, Link, ObjectClass, Point, PointSettings, Span};
use crate::{AutoParts, DataType};
use schemars::Schema;
use serde_json::{Map, Value};
use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;

/// What links, and the devices and points behind them, speak.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Protocol {
    /// Modbus over TCP and serial lines.
    Modbus,
    /// OPC UA over TCP.
    OpcUa,
    /// DNP3 over TCP, UDP and serial lines.
    Dnp3,
    /// BACnet/IP.
    Bacnet,
}

/// The protocol of a link with its settings.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LinkProtocol {
    /// A Modbus link.
    Modbus(ModbusLink),
    /// A session with an OPC UA server.
    OpcUa(Box<OpcUaLink>),
    /// A connection to DNP3 outstations.
    Dnp3(Dnp3Link),
    /// A port at which BACnet/IP is spoken.
    Bacnet(Box<BacnetIpLink>),
}

/// The protocol of a device with its settings.
#[derive(Debug, Clone, PartialEq)]
pub enum DeviceProtocol {
    /// A Modbus unit, on any Modbus link.
    Modbus(ModbusDevice),
    /// An OPC UA server, or a part of it.
    OpcUa(OpcUaDevice),
    /// A DNP3 outstation.
    Dnp3(Dnp3Device),
    /// A BACnet device.
    Bacnet(Box<BacnetDevice>),
}

/// What points depend on beside their list.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum PointsOf {
    /// A Modbus unit, whatever its number.
    Modbus(ModbusDevice),
    /// Any device of the protocol.
    Any(Protocol),
}

/// What only points of one protocol have.
#[derive(Debug, Clone, PartialEq)]
pub enum PointProtocol {
    /// In a Modbus unit.
    Modbus(ModbusPoint),
    /// In an OPC UA server.
    OpcUa(OpcUaPoint),
    /// In a DNP3 outstation.
    Dnp3(Dnp3Point),
    /// In a BACnet device.
    Bacnet(BacnetPoint),
}

/// Where a point lives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Address {
    /// In a Modbus unit.
    Modbus(ModbusAddress),
    /// In an OPC UA server.
    OpcUa(OpcUaAddress),
    /// In a DNP3 outstation.
    Dnp3(Dnp3Address),
    /// In a BACnet device.
    Bacnet(BacnetAddress),
}

impl Protocol {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Modbus, Self::OpcUa, Self::Dnp3, Self::Bacnet];

    /// What people call it.
    #[must_use]
    pub const fn title(self) -> &'static str {
        match self {
            Self::Modbus => "Modbus",
            Self::OpcUa => "OPC UA",
            Self::Dnp3 => "DNP3",
            Self::Bacnet => "BACnet",
        }
    }

    /// The kinds of its links: the word in the files, and what people call it.
    #[must_use]
    pub const fn links(self) -> &'static [(&'static str, &'static str)] {
        match self {
            Self::Modbus => &ModbusLink::KINDS,
            Self::OpcUa => &OpcUaLink::KINDS,
            Self::Dnp3 => &Dnp3Link::KINDS,
            Self::Bacnet => &BacnetIpLink::KINDS,
        }
    }

    /// How addresses of its points are written.
    #[must_use]
    pub const fn address_form(self) -> &'static str {
        match self {
            Self::Modbus => ModbusAddress::FORM,
            Self::OpcUa => OpcUaAddress::FORM,
            Self::Dnp3 => Dnp3Address::FORM,
            Self::Bacnet => BacnetAddress::FORM,
        }
    }

    /// The type of what lives at an address, for whoever does not know it yet; none where it says its own.
    #[must_use]
    pub fn plain_type(self, address: &str) -> Option<DataType> {
        match self {
            Self::Modbus => {
                let address = address.parse::<ModbusAddress>().ok()?;
                (!address.is_bit()).then_some(DataType::Uint16)
            }
            // What lives there says it by its kind.
            Self::OpcUa | Self::Dnp3 | Self::Bacnet => None,
        }
    }

    /// The protocol of a link with this word.
    #[must_use]
    pub fn of_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|protocol| protocol.links().iter().any(|(known, _)| *known == word))
    }

    /// The keys of its links of one kind.
    pub(super) fn link_keys(self, word: &str) -> Schema {
        match self {
            Self::Modbus => ModbusLink::keys(word),
            Self::OpcUa => schemars::schema_for!(OpcUaLink),
            Self::Dnp3 => Dnp3Link::keys(word),
            Self::Bacnet => schemars::schema_for!(BacnetIpLink),
        }
    }

    /// The keys of its devices.
    pub(super) fn device_keys(self) -> Schema {
        match self {
            Self::Modbus => schemars::schema_for!(ModbusDevice),
            Self::OpcUa => schemars::schema_for!(OpcUaDevice),
            Self::Dnp3 => schemars::schema_for!(Dnp3Device),
            Self::Bacnet => schemars::schema_for!(BacnetDevice),
        }
    }

    /// The columns of its points.
    pub(super) fn columns(self) -> Schema {
        match self {
            Self::Modbus => schemars::schema_for!(ModbusPoint),
            Self::OpcUa => schemars::schema_for!(OpcUaPoint),
            Self::Dnp3 => schemars::schema_for!(Dnp3Point),
            Self::Bacnet => schemars::schema_for!(BacnetPoint),
        }
    }

    /// Reads a device that the schema has found right.
    pub(super) fn device(self, object: &Value) -> Option<DeviceProtocol> {
        match self {
            Self::Modbus => part(object).map(DeviceProtocol::Modbus),
            Self::OpcUa => part(object).map(DeviceProtocol::OpcUa),
            Self::Dnp3 => part(object).map(DeviceProtocol::Dnp3),
            Self::Bacnet => part(object).map(Box::new).map(DeviceProtocol::Bacnet),
        }
    }

    /// What is wrong between its devices; the places of these in the draft stand beside them.
    pub(super) fn among(self, devices: &[(usize, Device)]) -> Vec<(usize, Fault)> {
        match self {
            Self::Modbus => modbus::shared_units(devices),
            Self::OpcUa => Vec::new(),
            Self::Dnp3 => dnp3::shared_addresses(devices),
            Self::Bacnet => bacnet::shared_instances(devices),
        }
    }
}

impl LinkProtocol {
    /// Its settings, where it speaks Modbus.
    #[must_use]
    pub const fn modbus(&self) -> Option<&ModbusLink> {
        match self {
            Self::Modbus(link) => Some(link),
            Self::OpcUa(_) | Self::Dnp3(_) | Self::Bacnet(_) => None,
        }
    }

    /// Its settings, where it speaks OPC UA.
    #[must_use]
    pub const fn opcua(&self) -> Option<&OpcUaLink> {
        match self {
            Self::OpcUa(link) => Some(link),
            Self::Modbus(_) | Self::Dnp3(_) | Self::Bacnet(_) => None,
        }
    }

    /// Its settings, where it speaks DNP3.
    #[must_use]
    pub const fn dnp3(&self) -> Option<&Dnp3Link> {
        match self {
            Self::Dnp3(link) => Some(link),
            Self::Modbus(_) | Self::OpcUa(_) | Self::Bacnet(_) => None,
        }
    }

    /// Its settings, where it speaks BACnet.
    #[must_use]
    pub const fn bacnet(&self) -> Option<&BacnetIpLink> {
        match self {
            Self::Bacnet(link) => Some(link),
            Self::Modbus(_) | Self::OpcUa(_) | Self::Dnp3(_) => None,
        }
    }

    /// Whether nobody on the way can read or change what is said.
    #[must_use]
    pub fn is_secured(&self) -> bool {
        self.opcua().is_some_and(|link| link.security != OpcUaSecurity::None)
    }

    /// Reads a link that the schema has found right.
    pub(super) fn read(word: &str, object: &Value) -> Option<Self> {
        match Protocol::of_word(word)? {
            Protocol::Modbus => ModbusLink::read(word, object).map(Self::Modbus),
            Protocol::OpcUa => part(object).map(Box::new).map(Self::OpcUa),
            Protocol::Dnp3 => Dnp3Link::read(word, object).map(Self::Dnp3),
            Protocol::Bacnet => part(object).map(Box::new).map(Self::Bacnet),
        }
    }

    /// Its own keys, as the files have them.
    pub(super) fn write(&self) -> Map<String, Value> {
        match self {
            Self::Modbus(link) => link.write(),
            Self::OpcUa(link) => object(link),
            Self::Dnp3(link) => link.write(),
            Self::Bacnet(link) => object(link),
        }
    }

    /// The word in the files.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Modbus(link) => link.word(),
            Self::OpcUa(_) => "opcua",
            Self::Dnp3(link) => link.word(),
            Self::Bacnet(_) => "bacnet-ip",
        }
    }

    /// Where it leads, for people: host and port, or the path of a serial port.
    #[must_use]
    pub fn target(&self) -> String {
        match self {
            Self::Modbus(link) => link.target(),
            Self::OpcUa(link) => link.url.to_string(),
            Self::Dnp3(link) => link.target(),
            Self::Bacnet(link) => link.target(),
        }
    }

    /// Whether what is asked over one may as well be asked over the other: it leads to the same place, as the same user.
    #[must_use]
    pub fn shares(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Modbus(_), Self::Modbus(_)) => self.target() == other.target(),
            (Self::OpcUa(own), Self::OpcUa(other)) => own == other,
            (Self::Bacnet(own), Self::Bacnet(other)) => own.target() == other.target(),
            (Self::Dnp3(own), Self::Dnp3(other)) => own.word() == other.word() && own.target() == other.target(),
            _ => false,
        }
    }

    /// The longest wait between two attempts to connect.
    #[must_use]
    pub const fn reconnect_limit(&self) -> Span {
        match self {
            Self::Modbus(link) => link.reconnect_limit(),
            Self::OpcUa(link) => link.reconnect_limit,
            Self::Dnp3(link) => link.reconnect_limit(),
            // An interface comes back as it went: at once.
            Self::Bacnet(_) => Span::from_millis(5000),
        }
    }

    /// The key that says where it leads.
    pub(super) const fn target_key(&self) -> &'static str {
        match self {
            Self::Modbus(link) => link.target_key(),
            Self::OpcUa(_) => "url",
            Self::Dnp3(link) => link.target_key(),
            Self::Bacnet(_) => "interface",
        }
    }

    /// What its keys have against each other.
    pub(super) fn fault(&self) -> Option<Fault> {
        match self {
            Self::Modbus(link) => link.fault(),
            Self::OpcUa(link) => link.fault(),
            Self::Dnp3(link) => link.fault(),
            Self::Bacnet(link) => link.fault(),
        }
    }
}

impl DeviceProtocol {
    /// Its settings, where it speaks Modbus.
    #[must_use]
    pub const fn modbus(&self) -> Option<&ModbusDevice> {
        match self {
            Self::Modbus(device) => Some(device),
            Self::OpcUa(_) | Self::Dnp3(_) | Self::Bacnet(_) => None,
        }
    }

    /// Its settings, where it speaks OPC UA.
    #[must_use]
    pub const fn opcua(&self) -> Option<&OpcUaDevice> {
        match self {
            Self::OpcUa(device) => Some(device),
            Self::Modbus(_) | Self::Dnp3(_) | Self::Bacnet(_) => None,
        }
    }

    /// Its settings, where it speaks DNP3.
    #[must_use]
    pub const fn dnp3(&self) -> Option<&Dnp3Device> {
        match self {
            Self::Dnp3(device) => Some(device),
            Self::Modbus(_) | Self::OpcUa(_) | Self::Bacnet(_) => None,
        }
    }

    /// Its settings, where it speaks BACnet.
    #[must_use]
    pub const fn bacnet(&self) -> Option<&BacnetDevice> {
        match self {
            Self::Bacnet(device) => Some(device),
            Self::Modbus(_) | Self::OpcUa(_) | Self::Dnp3(_) => None,
        }
    }

    /// Which one it is.
    #[must_use]
    pub const fn protocol(&self) -> Protocol {
        match self {
            Self::Modbus(_) => Protocol::Modbus,
            Self::OpcUa(_) => Protocol::OpcUa,
            Self::Dnp3(_) => Protocol::Dnp3,
            Self::Bacnet(_) => Protocol::Bacnet,
        }
    }

    /// Who it is on its link, for people: `unit 3`.
    #[must_use]
    pub fn place(&self) -> String {
        match self {
            Self::Modbus(device) => format!("unit {}", device.unit),
            Self::OpcUa(device) => device.start.as_ref().map_or_else(|| "server".to_owned(), ToString::to_string),
            Self::Dnp3(device) => format!("outstation {}", device.address),
            Self::Bacnet(device) => format!("device {}", device.instance),
        }
    }

    /// Its own keys, as the files have them.
    pub(super) fn write(&self) -> Map<String, Value> {
        match self {
            Self::Modbus(device) => object(device),
            Self::OpcUa(device) => object(device),
            Self::Dnp3(device) => object(device),
            Self::Bacnet(device) => object(device),
        }
    }

    /// What its keys have against each other.
    pub(super) fn fault(&self) -> Option<Fault> {
        match self {
            Self::Modbus(device) => device.fault(),
            Self::Bacnet(device) => device.fault(),
            Self::OpcUa(_) | Self::Dnp3(_) => None,
        }
    }

    /// Understands a row of its list; what is wrong with it is added to the faults.
    pub(super) fn point(&self, settings: &PointSettings, row: &Row, faults: &mut Vec<Fault>) -> Option<Point> {
        match self {
            Self::Modbus(device) => modbus::point(settings, row.read()?, device, faults),
            Self::OpcUa(_) => opcua::point(settings, row.read()?, faults),
            Self::Dnp3(_) => dnp3::point(settings, row.read()?, faults),
            Self::Bacnet(_) => bacnet::point(settings, row.read()?, faults),
        }
    }

    /// What of it its points depend on: devices of which that is the same have the same points of one list.
    pub(super) fn for_points(&self) -> PointsOf {
        match self {
            Self::Modbus(device) => PointsOf::Modbus(ModbusDevice { unit: 0, ..device.clone() }),
            Self::OpcUa(_) | Self::Dnp3(_) | Self::Bacnet(_) => PointsOf::Any(self.protocol()),
        }
    }

    /// What is wrong between its points.
    pub(super) fn clashes(&self, points: &[Arc<Point>]) -> Vec<(usize, Fault)> {
        match self {
            Self::Modbus(_) => modbus::clashes(points),
            // The same node as several points is several views of it.
            Self::OpcUa(_) | Self::Dnp3(_) | Self::Bacnet(_) => Vec::new(),
        }
    }
}

impl PointProtocol {
    /// Which one.
    pub(super) const fn protocol(&self) -> Protocol {
        match self {
            Self::Modbus(_) => Protocol::Modbus,
            Self::OpcUa(_) => Protocol::OpcUa,
            Self::Dnp3(_) => Protocol::Dnp3,
            Self::Bacnet(_) => Protocol::Bacnet,
        }
    }

    /// Its own columns, as the lists have them.
    pub(super) fn write(&self) -> Map<String, Value> {
        match self {
            Self::Modbus(own) => object(own),
            Self::OpcUa(own) => object(own),
            Self::Dnp3(own) => object(own),
            Self::Bacnet(own) => object(own),
        }
    }
}

impl Point {
    /// What is taken from its device in place of what its list could say.
    #[must_use]
    pub fn auto(&self) -> AutoParts {
        match &*self.protocol {
            PointProtocol::OpcUa(own) => own.auto,
            PointProtocol::Bacnet(own) => own.auto,
            PointProtocol::Modbus(_) | PointProtocol::Dnp3(_) => AutoParts::NONE,
        }
    }

    /// Where it lives in a Modbus unit, and what it has as a point there.
    #[must_use]
    pub fn modbus(&self) -> Option<(ModbusAddress, ModbusPoint)> {
        match (&self.address, &*self.protocol) {
            (Address::Modbus(address), PointProtocol::Modbus(own)) => Some((*address, *own)),
            _ => None,
        }
    }

    /// Where it lives in an OPC UA server, and what it has as a point there.
    #[must_use]
    pub fn opcua(&self) -> Option<(&OpcUaAddress, &OpcUaPoint)> {
        match (&self.address, &*self.protocol) {
            (Address::OpcUa(address), PointProtocol::OpcUa(own)) => Some((address, own)),
            _ => None,
        }
    }

    /// Where it lives in an outstation, and what it has as a point there.
    #[must_use]
    pub fn dnp3(&self) -> Option<(Dnp3Address, &Dnp3Point)> {
        match (&self.address, &*self.protocol) {
            (Address::Dnp3(address), PointProtocol::Dnp3(own)) => Some((*address, own)),
            _ => None,
        }
    }

    /// Where it lives in a BACnet device, and what it has as a point there.
    #[must_use]
    pub fn bacnet(&self) -> Option<(BacnetAddress, &BacnetPoint)> {
        match (&self.address, &*self.protocol) {
            (Address::Bacnet(address), PointProtocol::Bacnet(own)) => Some((*address, own)),
            _ => None,
        }
    }

    /// Whether a command to it can be given back, so that the device goes on by itself.
    #[must_use]
    pub fn can_be_relinquished(&self) -> bool {
        self.bacnet().is_some_and(|(address, _)| address.is_present_value())
    }

    /// The type that stands in the device: an address of one bit, or a method, says so by itself.
    #[must_use]
    pub fn raw_type(&self) -> DataType {
        match (&self.address, &*self.protocol) {
            (Address::Modbus(address), _) if address.is_bit() => DataType::Bool,
            (_, PointProtocol::OpcUa(own)) if own.arguments.is_some() => DataType::Bool,
            (Address::Dnp3(address), _) if self.settings.data_type == DataType::Auto => address.kind.data_type(),
            (Address::Bacnet(address), _) if self.settings.data_type == DataType::Auto => {
                address.data_type().unwrap_or(DataType::Auto)
            }
            _ => self.settings.data_type,
        }
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Modbus(address) => address.fmt(f),
            Self::OpcUa(address) => address.fmt(f),
            Self::Dnp3(address) => address.fmt(f),
            Self::Bacnet(address) => address.fmt(f),
        }
    }
}

/// What is wrong with the load of a link.
pub(super) fn load_fault(description: &Description, link: &Link) -> Option<Fault> {
    match &link.protocol {
        LinkProtocol::Modbus(own) => modbus::load_fault(description, link, own),
        LinkProtocol::OpcUa(_) | LinkProtocol::Dnp3(_) | LinkProtocol::Bacnet(_) => None,
    }
}

/// The protocols of the links of a draft, by their names.
pub(super) struct Protocols<'a>(HashMap<&'a str, Protocol>);

impl Protocols<'_> {
    /// The protocol of a device, where it names a link that speaks one.
    pub(super) fn of(&self, device: &Value) -> Option<Protocol> {
        self.0.get(device.get("link").and_then(Value::as_str)?).copied()
    }

    /// The schema that an object follows; that of what its class mostly is where it does not say which.
    pub(super) fn kind(&self, class: ObjectClass, content: &Content<'_>) -> ObjectKind {
        let word = |key: &str| content.text(key).unwrap_or_default();
        match class {
            ObjectClass::Gateway => ObjectKind::Gateway,
            ObjectClass::Rate => ObjectKind::Rate,
            ObjectClass::Link => ObjectKind::of_link(word("protocol")),
            ObjectClass::Device => ObjectKind::of_device(self.0.get(word("link")).copied()),
            ObjectClass::Uplink => ObjectKind::of_uplink(word("kind")),
            ObjectClass::Point => ObjectKind::Row,
        }
    }
}

impl Draft {
    pub(super) fn protocols(&self) -> Protocols<'_> {
        let known = |link| Some((name_of(link), Protocol::of_word(link.get("protocol").and_then(Value::as_str)?)?));
        // Of two links with one name, the first is meant.
        Protocols(self.links.iter().rev().filter_map(known).collect())
    }
}
