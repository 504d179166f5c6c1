use crate::description::draft::object;
use crate::description::settings::part;
use crate::description::{SerialParity, Span};
use schemars::{JsonSchema, Schema};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// A DNP3 link, by the word of its protocol.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Dnp3Link {
    /// `dnp3-tcp`
    Tcp(Dnp3NetworkLink),
    /// `dnp3-udp`
    Udp(Dnp3NetworkLink),
    /// `dnp3-serial`
    Serial(Dnp3SerialLink),
}

/// An outstation in the network, or several behind one address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Dnp3NetworkLink {
    /// Host name or IP address.
    #[schemars(length(min = 1), extend("x-destination" = true))]
    pub host: String,
    /// Port.
    #[serde(default = "default_port")]
    #[schemars(range(min = 1), extend("x-destination" = true))]
    pub port: u16,
    /// How long an answer may take.
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
    /// How often everybody is asked for events at the least, so that one who has gone is missed.
    #[serde(default = "default_keep_alive")]
    #[schemars(extend("x-advanced" = true))]
    pub keep_alive: Span,
}

/// A serial port with an outstation or several on its line, one of which speaks at a time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Dnp3SerialLink {
    /// Path of the serial port, such as /dev/ttyUSB0. Paths under /dev/serial/by-id stay the same when other ports come
    /// and go.
    #[schemars(length(min = 1), extend("format" = "device-path", "x-destination" = true))]
    pub device_path: String,
    /// Speed of the line, the same for all its outstations.
    #[serde(default = "default_baud")]
    #[schemars(range(min = 300, max = 1_000_000), extend("x-unit" = "bit/s"))]
    pub baud: u32,
    /// Parity bit. The standard asks for none.
    #[serde(default = "no_parity")]
    pub parity: SerialParity,
    /// Stop bits.
    #[serde(default = "one")]
    #[schemars(range(min = 1, max = 2), extend("x-advanced" = true))]
    pub stop_bits: u8,
    /// Whether the kernel switches the direction of an RS-485 transceiver. Most converters do so themselves.
    #[serde(default)]
    #[schemars(extend("x-advanced" = true))]
    pub rs485_direction: bool,
    /// How long an answer may take. It holds up the others on the line.
    #[serde(default = "default_timeout")]
    pub timeout: Span,
    /// The longest wait between two attempts to open the port; it starts at half a second and doubles.
    #[serde(default = "default_reconnect_limit")]
    #[schemars(extend("x-advanced" = true))]
    pub reconnect_limit: Span,
    /// How often everybody is asked for events at the least, so that one who has gone is missed.
    #[serde(default = "default_keep_alive")]
    #[schemars(extend("x-advanced" = true))]
    pub keep_alive: Span,
}

impl Dnp3Link {
    /// The words in the files, and what people call them.
    pub(in crate::description) const KINDS: [(&str, &str); 3] =
        [("dnp3-tcp", "DNP3 over TCP"), ("dnp3-udp", "DNP3 over UDP"), ("dnp3-serial", "DNP3 on a serial port")];

    /// The keys of a kind.
    pub(in crate::description) fn keys(word: &str) -> Schema {
        match word {
            "dnp3-serial" => schemars::schema_for!(Dnp3SerialLink),
            _ => schemars::schema_for!(Dnp3NetworkLink),
        }
    }

    /// Reads what the schema of its kind has found right.
    pub(in crate::description) fn read(word: &str, object: &Value) -> Option<Self> {
        match word {
            "dnp3-tcp" => part(object).map(Self::Tcp),
            "dnp3-udp" => part(object).map(Self::Udp),
            "dnp3-serial" => part(object).map(Self::Serial),
            _ => None,
        }
    }

    /// Its own keys, as the files have them.
    pub(in crate::description) fn write(&self) -> Map<String, Value> {
        match self {
            Self::Tcp(link) | Self::Udp(link) => object(link),
            Self::Serial(link) => object(link),
        }
    }

    /// The word in the files.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Tcp(_) => "dnp3-tcp",
            Self::Udp(_) => "dnp3-udp",
            Self::Serial(_) => "dnp3-serial",
        }
    }

    /// Where it leads, for people: host and port, or the path of a serial port.
    #[must_use]
    pub fn target(&self) -> String {
        match self {
            Self::Tcp(link) | Self::Udp(link) if link.host.contains(':') => format!("[{}]:{}", link.host, link.port),
            Self::Tcp(link) | Self::Udp(link) => format!("{}:{}", link.host, link.port),
            Self::Serial(link) => link.device_path.clone(),
        }
    }

    /// The key that says where it leads.
    pub(in crate::description) const fn target_key(&self) -> &'static str {
        if matches!(self, Self::Serial(_)) { "device-path" } else { "host" }
    }

    /// How long an answer may take.
    #[must_use]
    pub const fn timeout(&self) -> Span {
        match self {
            Self::Tcp(link) | Self::Udp(link) => link.timeout,
            Self::Serial(link) => link.timeout,
        }
    }

    /// How often everybody is asked for events at the least.
    #[must_use]
    pub const fn keep_alive(&self) -> Span {
        match self {
            Self::Tcp(link) | Self::Udp(link) => link.keep_alive,
            Self::Serial(link) => link.keep_alive,
        }
    }

    /// The longest wait between two attempts to connect.
    #[must_use]
    pub const fn reconnect_limit(&self) -> Span {
        match self {
            Self::Tcp(link) | Self::Udp(link) => link.reconnect_limit,
            Self::Serial(link) => link.reconnect_limit,
        }
    }

    /// The settings of a link in the network, to be changed.
    pub const fn network_mut(&mut self) -> Option<&mut Dnp3NetworkLink> {
        match self {
            Self::Tcp(link) | Self::Udp(link) => Some(link),
            Self::Serial(_) => None,
        }
    }
}

const fn default_port() -> u16 {
    20_000
}

const fn default_timeout() -> Span {
    Span::from_millis(5000)
}

const fn default_connect_timeout() -> Span {
    Span::from_millis(5000)
}

const fn default_reconnect_limit() -> Span {
    Span::from_millis(30_000)
}

const fn default_keep_alive() -> Span {
    Span::from_millis(10_000)
}

const fn default_baud() -> u32 {
    9600
}

const fn no_parity() -> SerialParity {
    SerialParity::None
}

const fn one() -> u8 {
    1
}
