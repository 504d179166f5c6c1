use interlex_core::description::{LinkProtocol, SerialParity};
use interlex_modbus::{ClientConfig, Connection, Framing, Parity, SerialSettings};
use std::time::Duration;

/// Converters send what is doubled as two packets: the second one shows before the next request goes out.
const STREAM_SILENCE: Duration = Duration::from_millis(5);

/// How a connection to a link is set up.
pub(crate) fn client_config(protocol: &LinkProtocol) -> ClientConfig {
    let timing = protocol.timing();
    let mut config = ClientConfig::default();
    config.response_timeout = timing.timeout.into();
    config.late_limit = timing.late_limit.into();
    if matches!(protocol, LinkProtocol::ModbusRtuTcp(_) | LinkProtocol::ModbusAsciiTcp(_)) {
        config.silence = STREAM_SILENCE;
    }
    config.in_flight = timing.in_flight.into();
    config.trace = true;
    config.framing = framing(protocol);
    if let LinkProtocol::ModbusRtu(link) | LinkProtocol::ModbusAscii(link) = protocol {
        config.turnaround = link.turnaround.into();
    }
    config
}

/// Connects to a link, or opens its port.
pub(crate) async fn connect(protocol: &LinkProtocol, config: ClientConfig) -> std::io::Result<Connection> {
    match protocol {
        LinkProtocol::ModbusTcp(link) | LinkProtocol::ModbusRtuTcp(link) | LinkProtocol::ModbusAsciiTcp(link) => {
            Connection::tcp(&link.host, link.port, link.connect_timeout.into(), config).await
        }
        LinkProtocol::ModbusRtu(link) | LinkProtocol::ModbusAscii(link) => {
            let parity = match link.parity {
                SerialParity::Even => Parity::Even,
                SerialParity::Odd => Parity::Odd,
                SerialParity::None => Parity::None,
            };
            let settings = SerialSettings {
                path: link.device_path.clone().into(),
                baud: link.baud,
                data_bits: link.data_bits.unwrap_or(8),
                parity,
                stop_bits: link.stop_bits(),
                rs485: link.rs485_direction,
            };
            Connection::serial(&settings, config)
        }
    }
}

/// How the messages of a link are put on its stream.
pub(crate) const fn framing(protocol: &LinkProtocol) -> Framing {
    match protocol {
        LinkProtocol::ModbusTcp(_) => Framing::Tcp,
        LinkProtocol::ModbusRtu(_) | LinkProtocol::ModbusRtuTcp(_) => Framing::Rtu,
        LinkProtocol::ModbusAscii(_) | LinkProtocol::ModbusAsciiTcp(_) => Framing::Ascii,
    }
}
