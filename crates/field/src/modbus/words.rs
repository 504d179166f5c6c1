use interlex_modbus::ExceptionCode;

/// What an exception is called: `device exception 02, illegal data address`.
pub(crate) fn exception(code: u8) -> String {
    format!("device {}", ExceptionCode(code))
}
