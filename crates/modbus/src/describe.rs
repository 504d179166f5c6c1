//! Frames in words, for people who read a recording.

use crate::write::Written;
use crate::{ExceptionCode, Identification, ReadData, Request, Response, Table};
use std::fmt::Write as _;

impl Table {
    /// What several of it are called.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Coil => "coils",
            Self::DiscreteInput => "discrete inputs",
            Self::HoldingRegister => "holding registers",
            Self::InputRegister => "input registers",
        }
    }
}

/// A request in words; what is wrong with it when it is none.
#[must_use]
pub fn describe_request(pdu: &[u8]) -> String {
    match Request::decode(pdu) {
        Ok(request) => request.to_string(),
        Err(error) => format!("not a request: {error}"),
    }
}

/// An answer in words. Without the request that it answers, only its function and length are known.
///
/// ```
/// use interlex_modbus::{describe_request, describe_response};
///
/// let request = [0x04, 0, 10, 0, 2];
/// println!("{}", describe_request(&request));
/// assert!(describe_response(&[0x84, 0x02], Some(&request)).contains("illegal data address"));
/// assert_ne!(describe_response(&[0x04, 4, 0, 1, 0, 2], Some(&request)), describe_response(&[0x04, 4, 0, 1, 0, 2], None));
/// ```
#[must_use]
pub fn describe_response(pdu: &[u8], request: Option<&[u8]>) -> String {
    match (pdu, request.map(Request::decode)) {
        ([function, code, ..], None) if function & 0x80 != 0 => {
            format!("{}, to function {}", ExceptionCode(*code), function & 0x7F)
        }
        ([function, code, ..], _) if function & 0x80 != 0 => ExceptionCode(*code).to_string(),
        (_, Some(Ok(request))) => match request.decode_response(pdu) {
            Ok(response) => response.to_string(),
            Err(error) => error.to_string(),
        },
        ([function, rest @ ..], _) => format!("answer to function {function}, {} bytes", rest.len()),
        ([], _) => "nothing".to_owned(),
    }
}

fn range(address: u16, quantity: u16) -> String {
    match quantity {
        0 | 1 => address.to_string(),
        _ => format!("{address} to {}", address.saturating_add(quantity - 1)),
    }
}

fn registers(registers: &[u16]) -> String {
    let mut text = String::new();
    for register in registers {
        let separator = if text.is_empty() { "" } else { " " };
        // Writing to a string cannot fail.
        let _ = write!(text, "{separator}{register:04X}");
    }
    text
}

fn bits(bits: &[bool]) -> String {
    bits.iter().map(|bit| if *bit { '1' } else { '0' }).collect()
}

impl std::fmt::Display for Request {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Read(read) => write!(f, "read {} {}", read.table().words(), range(read.address(), read.quantity())),
            Self::Write(request) => {
                let address = request.address();
                match request.written() {
                    Written::Coil(on) => write!(f, "write coil {address}: {}", u8::from(*on)),
                    Written::Register(value) => write!(f, "write register {address}: {value:04X}"),
                    Written::Coils(values) => {
                        let to = range(address, u16::try_from(values.len()).unwrap_or(u16::MAX));
                        write!(f, "write coils {to}: {}", bits(values))
                    }
                    Written::Registers(values) => {
                        let to = range(address, u16::try_from(values.len()).unwrap_or(u16::MAX));
                        write!(f, "write registers {to}: {}", registers(values))
                    }
                    Written::Mask { and, or } => write!(f, "mask register {address}: AND {and:04X} OR {or:04X}"),
                }
            }
            Self::ReadWrite(request) => {
                let (address, values) = request.written();
                let to = range(address, u16::try_from(values.len()).unwrap_or(u16::MAX));
                let from = range(request.read().address(), request.read().quantity());
                write!(f, "write registers {to}: {}, then read {from}", registers(values))
            }
            Self::Identify(request) => {
                write!(f, "identify, {} from object {:02X}", request.access.word(), request.object)
            }
            Self::Diagnostic(request) => {
                write!(f, "diagnostic {:02X}: {:04X}", request.sub_function, request.data)
            }
        }
    }
}

impl std::fmt::Display for Response {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Data(ReadData::Bits(values)) => f.write_str(&bits(values)),
            Self::Data(ReadData::Registers(values)) => f.write_str(&registers(values)),
            Self::Written => f.write_str("written"),
            Self::Identification(answer) => answer.fmt(f),
            Self::Diagnostic(data) => write!(f, "{data:04X}"),
        }
    }
}

impl std::fmt::Display for Identification {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        for (at, (id, value)) in self.objects.iter().enumerate() {
            let separator = if at == 0 { "" } else { ", " };
            write!(f, "{separator}{id:02X} {:?}", String::from_utf8_lossy(value))?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_are_told_in_words() {
        let asked = [3, 0, 100, 0, 2];
        assert_eq!(describe_request(&asked), "read holding registers 100 to 101");
        assert_eq!(describe_response(&[3, 4, 0x12, 0x34, 0, 7], Some(&asked)), "1234 0007");
        assert_eq!(describe_response(&[0x83, 2], None), "exception 02, illegal data address, to function 3");
        assert_eq!(describe_request(&[5, 0, 3, 0xFF, 0]), "write coil 3: 1");
        assert_eq!(describe_request(&[0x16, 0, 4, 0, 0xF2, 0, 0x25]), "mask register 4: AND 00F2 OR 0025");
        assert_eq!(describe_request(&[99]), "not a request: function 99 is not known");
    }
}
