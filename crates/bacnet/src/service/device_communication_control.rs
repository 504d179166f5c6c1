use super::reference::{number, optional_number};
use crate::codec::{DecodeError, Fault, Reader};
use crate::primitive::value::{character_string, put_text, put_unsigned};

/// Asks a device to be quiet for a while, or to speak again.
///
/// Source: ASHRAE 135-2016, clause 16.1.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceCommunicationControl {
    /// For how many minutes; for ever when left out.
    pub minutes: Option<u32>,
    /// What it is to do.
    pub mode: CommunicationMode,
    /// The password, where one is set.
    pub password: Option<String>,
}

/// What a device is to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CommunicationMode {
    /// It speaks.
    Enable,
    /// It neither asks nor answers.
    Disable,
    /// It answers, and begins nothing itself.
    DisableInitiation,
}

impl DeviceCommunicationControl {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let minutes = optional_number(&mut reader, 0, "the minutes")?;
        let at = reader.at();
        let mode = match number(&mut reader, 1, "what it is to do")? {
            0 => CommunicationMode::Enable,
            1 => CommunicationMode::Disable,
            2 => CommunicationMode::DisableInitiation,
            _ => return Err(Fault::Value("what it is to do").at(at)),
        };
        let at = reader.at();
        let password = reader.optional(2, "the password")?.map(character_string).transpose();
        let password = password.map_err(|fault| fault.at(at))?;
        reader.finish("DeviceCommunicationControl")?;
        Ok(Self { minutes, mode, password })
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        if let Some(minutes) = self.minutes {
            put_unsigned(out, 0, minutes.into());
        }
        put_unsigned(
            out,
            1,
            match self.mode {
                CommunicationMode::Enable => 0,
                CommunicationMode::Disable => 1,
                CommunicationMode::DisableInitiation => 2,
            },
        );
        if let Some(password) = &self.password {
            put_text(out, 2, password);
        }
    }
}
