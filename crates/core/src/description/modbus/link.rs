use crate::description::Span;
use crate::description::problem::Fault;
use crate::description::settings::part;
use schemars::{JsonSchema, Schema};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// A Modbus link, by the word of its protocol.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ModbusLink {
    /// `modbus-tcp`
    Tcp(ModbusTcpLink),
    /// `modbus-rtu`
    Rtu(ModbusSerialLink),
    /// `modbus-rtu-tcp`
    RtuTcp(ModbusTcpLink),
    /// `modbus-ascii`
    Ascii(ModbusSerialLink),
    /// `modbus-ascii-tcp`
    AsciiTcp(ModbusTcpLink),
}

/// What limits the traffic of a Modbus link.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ModbusTiming {
    /// How long an answer may take.
    pub timeout: Span,
    /// How long after a timeout an answer may still come, where nothing but the order pairs it with its request.
    pub late_limit: Span,
    /// The wait between an answer and the next request.
    pub pause: Option<Span>,
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

impl ModbusLink {
    /// The words in the files, and what people call them.
    pub(in crate::description) const KINDS: [(&str, &str); 5] = [
        ("modbus-tcp", "Modbus TCP"),
        ("modbus-rtu", "Modbus RTU on a serial port"),
        ("modbus-rtu-tcp", "Modbus RTU over TCP"),
        ("modbus-ascii", "Modbus ASCII on a serial port"),
        ("modbus-ascii-tcp", "Modbus ASCII over TCP"),
    ];

    /// The keys of a kind.
    pub(in crate::description) fn keys(word: &str) -> Schema {
        match word {
            "modbus-rtu" | "modbus-ascii" => schemars::schema_for!(ModbusSerialLink),
            _ => schemars::schema_for!(ModbusTcpLink),
        }
    }

    /// Reads what the schema of its kind has found right.
    pub(in crate::description) fn read(word: &str, object: &Value) -> Option<Self> {
        match word {
            "modbus-tcp" => part(object).map(Self::Tcp),
            "modbus-rtu" => part(object).map(Self::Rtu),
            "modbus-rtu-tcp" => part(object).map(Self::RtuTcp),
            "modbus-ascii" => part(object).map(Self::Ascii),
            "modbus-ascii-tcp" => part(object).map(Self::AsciiTcp),
            _ => None,
        }
    }

    /// Its own keys, as the files have them.
    pub(in crate::description) fn write(&self) -> Map<String, Value> {
        match self {
            Self::Tcp(link) | Self::RtuTcp(link) | Self::AsciiTcp(link) => crate::description::draft::object(link),
            Self::Rtu(link) | Self::Ascii(link) => crate::description::draft::object(link),
        }
    }

    /// The word in the files.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Tcp(_) => "modbus-tcp",
            Self::Rtu(_) => "modbus-rtu",
            Self::RtuTcp(_) => "modbus-rtu-tcp",
            Self::Ascii(_) => "modbus-ascii",
            Self::AsciiTcp(_) => "modbus-ascii-tcp",
        }
    }

    /// Whether it is a serial port of the gateway.
    #[must_use]
    pub const fn is_serial(&self) -> bool {
        matches!(self, Self::Rtu(_) | Self::Ascii(_))
    }

    /// What limits its traffic.
    #[must_use]
    pub fn timing(&self) -> ModbusTiming {
        match self {
            Self::Tcp(link) | Self::RtuTcp(link) | Self::AsciiTcp(link) => ModbusTiming {
                timeout: link.timeout,
                late_limit: link.late_limit.unwrap_or_else(|| late_limit(link.timeout)),
                pause: link.pause,
                baud: link.serial_baud,
                // A start bit, eight data bits, parity or a second stop bit, a stop bit: MODBUS over Serial Line
                // V1.02, section 2.5.1.
                bits_per_character: 11,
                in_flight: link.in_flight,
            },
            Self::Rtu(link) | Self::Ascii(link) => ModbusTiming {
                timeout: link.timeout,
                late_limit: link.late_limit.unwrap_or_else(|| late_limit(link.timeout)),
                pause: link.pause,
                baud: Some(link.baud),
                bits_per_character: 1
                    + link.data_bits.unwrap_or(8)
                    + u8::from(link.parity != SerialParity::None)
                    + link.stop_bits(),
                in_flight: 1,
            },
        }
    }

    /// The longest wait between two attempts to connect.
    #[must_use]
    pub const fn reconnect_limit(&self) -> Span {
        match self {
            Self::Tcp(link) | Self::RtuTcp(link) | Self::AsciiTcp(link) => link.reconnect_limit,
            Self::Rtu(link) | Self::Ascii(link) => link.reconnect_limit,
        }
    }

    /// The settings of a link over TCP, to be changed.
    pub const fn tcp_mut(&mut self) -> Option<&mut ModbusTcpLink> {
        match self {
            Self::Tcp(link) | Self::RtuTcp(link) | Self::AsciiTcp(link) => Some(link),
            Self::Rtu(_) | Self::Ascii(_) => None,
        }
    }

    /// The settings of a serial line, to be changed.
    pub const fn serial_mut(&mut self) -> Option<&mut ModbusSerialLink> {
        match self {
            Self::Rtu(link) | Self::Ascii(link) => Some(link),
            Self::Tcp(_) | Self::RtuTcp(_) | Self::AsciiTcp(_) => None,
        }
    }

    /// Where it leads, for people: host and port, or the path of a serial port.
    #[must_use]
    pub fn target(&self) -> String {
        match self {
            Self::Tcp(link) | Self::RtuTcp(link) | Self::AsciiTcp(link) => format!("{}:{}", link.host, link.port),
            Self::Rtu(link) | Self::Ascii(link) => link.device_path.clone(),
        }
    }

    /// The key that says where it leads.
    pub(in crate::description) const fn target_key(&self) -> &'static str {
        if self.is_serial() { "device-path" } else { "host" }
    }

    /// What its framing does not take.
    pub(in crate::description) fn fault(&self) -> Option<Fault> {
        match self {
            Self::RtuTcp(link) | Self::AsciiTcp(link) if link.in_flight > 1 => {
                let framing = if matches!(self, Self::RtuTcp(_)) { "RTU" } else { "ASCII" };
                let message = format!(
                    "in-flight is {}, and {framing} frames do not say which answer is to which request",
                    link.in_flight
                );
                Some(Fault::new("in-flight", message, "1, or protocol = \"modbus-tcp\""))
            }
            Self::Tcp(link) if link.late_limit.is_some() => {
                let message = "late-limit is of no use with modbus-tcp, whose answers say which request they belong to";
                Some(Fault::new("late-limit", message, "no late-limit, or protocol = \"modbus-rtu-tcp\""))
            }
            Self::Rtu(link) if link.data_bits == Some(7) => {
                Some(Fault::new("data-bits", "RTU frames take 8 data bits", "8, or protocol = \"modbus-ascii\""))
            }
            _ => None,
        }
    }
}

/// A TCP connection to a Modbus server or to a gateway with several units behind it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ModbusTcpLink {
    /// Host name or IP address of the device.
    #[schemars(length(min = 1), extend("x-destination" = true))]
    pub host: String,
    /// TCP port. 502 is the port registered for Modbus.
    #[serde(default = "default_port")]
    #[schemars(range(min = 1), extend("x-destination" = true))]
    pub port: u16,
    /// How long an answer may take. Too short turns a slow device bad; too long holds up its neighbours.
    #[serde(default = "default_timeout")]
    pub timeout: Span,
    /// How long the connection may take to come up.
    #[serde(default = "default_connect_timeout")]
    #[schemars(extend("x-advanced" = true))]
    pub connect_timeout: Span,
    /// The longest wait between two attempts to connect; it starts at half a second and doubles.
    #[serde(default = "default_reconnect_limit")]
    #[schemars(extend("x-advanced" = true))]
    pub reconnect_limit: Span,
    /// How long to wait between an answer and the next request. Some devices lose requests that follow at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub pause: Option<Span>,
    /// Baud rate of the serial line, when the address is that of a converter with RTU devices behind it: the
    /// checks then tell whether the line carries what is asked of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 300, max = 1_000_000), extend("x-advanced" = true, "x-unit" = "bit/s"))]
    pub serial_baud: Option<u32>,
    /// How long after a timeout an answer may still come over modbus-rtu-tcp and modbus-ascii-tcp; five timeouts where it
    /// is left out. So long nothing is asked that it could be taken for: no request of the same function to the same unit. Too short lets an answer that is later
    /// still become the value of another point; too long leaves these points alone after each lost frame.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub late_limit: Option<Span>,
    /// How many requests may wait for their answers at the same time. Many devices take one, and lose the rest.
    #[serde(default = "default_in_flight", skip_serializing_if = "is_one")]
    #[schemars(range(min = 1, max = 32), extend("x-advanced" = true, "default" = 1))]
    pub in_flight: u8,
}

fn default_in_flight() -> u8 {
    1
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_one(count: &u8) -> bool {
    *count == 1
}

/// A serial port of the gateway with one or more Modbus units behind it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ModbusSerialLink {
    /// Path of the serial port, such as /dev/ttyUSB0. Paths under /dev/serial/by-id stay the same when other ports come
    /// and go.
    #[schemars(length(min = 1), extend("format" = "device-path", "x-destination" = true))]
    pub device_path: String,
    /// Speed of the line, the same for all its units.
    #[serde(default = "default_baud")]
    #[schemars(range(min = 300, max = 1_000_000), extend("x-unit" = "bit/s"))]
    pub baud: u32,
    /// Parity bit, the same for all units. The standard asks for even.
    #[serde(default)]
    pub parity: SerialParity,
    /// Stop bits: 1, or 2 where there is no parity. Left out, it is the one that the standard asks for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 1, max = 2), extend("x-advanced" = true))]
    pub stop_bits: Option<u8>,
    /// Data bits: 8, or 7 for ASCII.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 7, max = 8), extend("x-advanced" = true))]
    pub data_bits: Option<u8>,
    /// Whether the kernel switches the direction of an RS-485 transceiver. Most converters do so themselves.
    #[serde(default, skip_serializing_if = "is_off")]
    #[schemars(extend("x-advanced" = true, "default" = false))]
    pub rs485_direction: bool,
    /// How long an answer may take. Too short turns a slow device bad; too long holds up its neighbours.
    #[serde(default = "default_timeout")]
    pub timeout: Span,
    /// How long after a timeout an answer may still come; five timeouts where it is left out. So long nothing is asked that
    /// it could be taken for: no request of the same function to the same unit. Too short lets an answer that is later
    /// still become the value of another point; too long leaves these points alone after each lost frame.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub late_limit: Option<Span>,
    /// How long to wait between an answer and the next request, beside the silence that the standard asks for. Some
    /// devices lose requests that follow at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true))]
    pub pause: Option<Span>,
    /// How long all units are given to carry out what was sent to unit 0.
    #[serde(default = "default_turnaround")]
    #[schemars(extend("x-advanced" = true))]
    pub turnaround: Span,
    /// The longest wait between two attempts to open the port; it starts at half a second and doubles.
    #[serde(default = "default_reconnect_limit")]
    #[schemars(extend("x-advanced" = true))]
    pub reconnect_limit: Span,
}

/// The parity bit of a serial line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SerialParity {
    /// The default of the standard.
    #[default]
    Even,
    /// Odd.
    Odd,
    /// No parity bit, and two stop bits in its place.
    None,
}

impl ModbusSerialLink {
    /// Stop bits, by the standard where they are not set.
    ///
    /// Source: MODBUS over Serial Line V1.02, section 2.5.1: without parity, two stop bits.
    #[must_use]
    pub fn stop_bits(&self) -> u8 {
        self.stop_bits.unwrap_or(if self.parity == SerialParity::None { 2 } else { 1 })
    }
}

fn default_baud() -> u32 {
    19_200
}

fn default_turnaround() -> Span {
    Span::from_millis(100)
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands out references")]
const fn is_off(bit: &bool) -> bool {
    !*bit
}

impl ModbusTcpLink {
    /// One to a host, with all else as it is where nothing is said.
    #[must_use]
    pub fn to(host: &str) -> Self {
        Self {
            host: host.to_owned(),
            port: default_port(),
            timeout: default_timeout(),
            connect_timeout: default_connect_timeout(),
            reconnect_limit: default_reconnect_limit(),
            pause: None,
            serial_baud: None,
            late_limit: None,
            in_flight: default_in_flight(),
        }
    }
}

fn default_port() -> u16 {
    502
}

fn default_timeout() -> Span {
    Span::from_millis(1000)
}

fn default_connect_timeout() -> Span {
    Span::from_millis(3000)
}

fn default_reconnect_limit() -> Span {
    Span::from_millis(30_000)
}
