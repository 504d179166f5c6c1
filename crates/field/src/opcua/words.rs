use interlex_core::Reason;
use interlex_opcua::StatusCode;

/// A reason in the words of the standard: `BadSensorFailure`.
pub(crate) fn of(reason: Reason) -> String {
    match reason {
        Reason::OpcUa(code) => StatusCode(code).to_string(),
        other => other.to_string(),
    }
}
