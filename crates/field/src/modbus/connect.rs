use interlex_core::description::{Link, ModbusLink, ModbusTcpLink, SerialParity};
use interlex_modbus::{ClientConfig, Connection, Framing, Parity, SerialSettings};
use std::sync::LazyLock;
use std::time::Duration;

/// Converters send what is doubled as two packets: the second one shows before the next request goes out.
const STREAM_SILENCE: Duration = Duration::from_millis(5);

/// What a link has as one of Modbus.
///
/// Others are driven by other drivers: here they would lead nowhere.
pub(crate) fn own(link: &Link) -> &ModbusLink {
    static NOWHERE: LazyLock<ModbusLink> = LazyLock::new(|| ModbusLink::Tcp(ModbusTcpLink::to("")));
    link.protocol.modbus().unwrap_or(&NOWHERE)
}

/// How a connection to a link is set up.
pub(crate) fn client_config(link: &ModbusLink) -> ClientConfig {
    let timing = link.timing();
    let mut config = ClientConfig::default();
    config.response_timeout = timing.timeout.into();
    config.late_limit = timing.late_limit.into();
    if matches!(link, ModbusLink::RtuTcp(_) | ModbusLink::AsciiTcp(_)) {
        config.silence = STREAM_SILENCE;
    }
    config.in_flight = timing.in_flight.into();
    config.trace = true;
    config.framing = framing(link);
    if let ModbusLink::Rtu(link) | ModbusLink::Ascii(link) = link {
        config.turnaround = link.turnaround.into();
    }
    config
}

/// Connects to a link, or opens its port.
pub(crate) async fn connect(link: &ModbusLink, config: ClientConfig) -> std::io::Result<Connection> {
    match link {
        ModbusLink::Tcp(link) | ModbusLink::RtuTcp(link) | ModbusLink::AsciiTcp(link) => {
            Connection::tcp(&link.host, link.port, link.connect_timeout.into(), config).await
        }
        ModbusLink::Rtu(link) | ModbusLink::Ascii(link) => {
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
pub(crate) const fn framing(link: &ModbusLink) -> Framing {
    match link {
        ModbusLink::Tcp(_) => Framing::Tcp,
        ModbusLink::Rtu(_) | ModbusLink::RtuTcp(_) => Framing::Rtu,
        ModbusLink::Ascii(_) | ModbusLink::AsciiTcp(_) => Framing::Ascii,
    }
}
