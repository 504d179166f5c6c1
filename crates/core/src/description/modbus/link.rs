use crate::description::Span;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A TCP connection to a Modbus server or to a gateway with several units behind it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ModbusTcpLink {
    /// Host name or IP address of the device.
    #[schemars(length(min = 1))]
    pub host: String,
    /// TCP port. 502 is the port registered for Modbus.
    #[serde(default = "default_port")]
    #[schemars(range(min = 1))]
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
    #[schemars(length(min = 1), extend("format" = "device-path"))]
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
