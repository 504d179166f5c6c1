use interlex_core::Reason;
use interlex_modbus::ExceptionCode;

/// A reason in the words of the standard: `device exception 02, illegal data address`.
pub(crate) fn of(reason: Reason) -> String {
    match reason {
        Reason::Modbus(code) => format!("device {}", ExceptionCode(code)),
        other => other.to_string(),
    }
}
