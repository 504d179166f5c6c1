use crate::{bacnet, dnp3, modbus, opcua};
use interlex_core::Reason;

/// A reason in the words of its protocol: `device exception 02, illegal data address`.
#[must_use]
pub fn reason_words(reason: Reason) -> String {
    match reason {
        Reason::Modbus(_) => modbus::words(reason),
        Reason::OpcUa(_) => opcua::words(reason),
        Reason::Dnp3 { .. } => dnp3::words(reason),
        Reason::Bacnet { .. } | Reason::BacnetError { .. } => bacnet::words(reason),
        other => other.to_string(),
    }
}
