use serial2_tokio::rs4xx::{Rs485Config, TransceiverMode};
use serial2_tokio::{CharSize, Parity as PortParity, SerialPort, Settings, StopBits};
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The parity bit of a serial line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Parity {
    /// None; the standard asks for a second stop bit in its place.
    None,
    /// The default of the standard.
    #[default]
    Even,
    /// Odd.
    Odd,
}

/// How a serial port is opened.
///
/// Source: MODBUS over Serial Line V1.02, sections 2.5.1, 2.5.2 and 3.2.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SerialSettings {
    /// Path of the port, such as /dev/ttyUSB0.
    pub path: PathBuf,
    /// Bits a second.
    pub baud: u32,
    /// 7 or 8; RTU takes 8.
    pub data_bits: u8,
    /// The parity bit.
    pub parity: Parity,
    /// 1 or 2.
    pub stop_bits: u8,
    /// Whether the kernel is asked to switch the direction of an RS-485 transceiver.
    pub rs485: bool,
}

impl SerialSettings {
    /// Opens the port, and throws away what waits in it.
    ///
    /// # Errors
    /// What the operating system says; `InvalidInput` when the port does not take the settings.
    pub(crate) fn open(&self) -> io::Result<SerialPort> {
        let port = SerialPort::open(&self.path, |mut settings: Settings| {
            settings.set_raw();
            settings.set_baud_rate(self.baud)?;
            settings.set_char_size(if self.data_bits == 7 { CharSize::Bits7 } else { CharSize::Bits8 });
            settings.set_stop_bits(if self.stop_bits == 2 { StopBits::Two } else { StopBits::One });
            settings.set_parity(match self.parity {
                Parity::None => PortParity::None,
                Parity::Even => PortParity::Even,
                Parity::Odd => PortParity::Odd,
            });
            Ok(settings)
        })?;
        if self.rs485 {
            port.set_rs4xx_mode(TransceiverMode::Rs485(Rs485Config::new())).map_err(|error| {
                io::Error::new(error.kind(), format!("the driver does not switch an RS-485 transceiver: {error}"))
            })?;
        }
        port.discard_buffers()?;
        Ok(port)
    }

    /// The time that one character takes on the line: start bit, data bits, parity, stop bits.
    ///
    /// ```
    /// use interlex_modbus::{Parity, SerialSettings};
    ///
    /// let usual = SerialSettings {
    ///     path: "/dev/ttyUSB0".into(),
    ///     baud: 9600,
    ///     data_bits: 8,
    ///     parity: Parity::Even,
    ///     stop_bits: 1,
    ///     rs485: false,
    /// };
    /// assert_eq!(usual.character_time().as_micros(), 1145, "eleven bits");
    /// ```
    #[must_use]
    pub fn character_time(&self) -> Duration {
        let parity = u32::from(self.parity != Parity::None);
        let bits = 1 + u32::from(self.data_bits) + parity + u32::from(self.stop_bits);
        Duration::from_secs(bits.into()) / self.baud.max(1)
    }

    /// Where the port is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }
}
