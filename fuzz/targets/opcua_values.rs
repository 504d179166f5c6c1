//! Values and messages of anybody.
#![no_main]

use interlex_opcua::{Binary, DataValue, DiagnosticInfo, Limits, Request, Response, Variant};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    if let Ok(value) = Variant::from_bytes(data) {
        let bytes = value.to_bytes();
        let again = Variant::from_bytes(&bytes).expect("a value of our own");
        // Bytes tell NaNs apart, too.
        assert_eq!(again.to_bytes(), bytes);
    }
    _ = DataValue::from_bytes(data);
    _ = DiagnosticInfo::from_bytes(data);
    if let Ok(request) = Request::from_bytes(data, Limits::default()) {
        let bytes = request.to_bytes();
        let again = Request::from_bytes(&bytes, Limits::default()).expect("a request of our own");
        assert_eq!(again.to_bytes(), bytes);
    }
    if let Ok(response) = Response::from_bytes(data, Limits::default()) {
        let bytes = response.to_bytes();
        let again = Response::from_bytes(&bytes, Limits::default()).expect("a response of our own");
        assert_eq!(again.to_bytes(), bytes);
    }
});
