//! Fragments of anybody.
#![no_main]

use interlex_dnp3::{Request, Response};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    if let Ok(request) = Request::decode(data) {
        let octets = request.encode().expect("what was read can be written");
        let again = Request::decode(&octets).expect("a request of our own");
        assert_eq!(again.encode().expect("the same"), octets);
    }
    if let Ok(response) = Response::decode(data) {
        assert!(response.measurements().count() <= 8 * data.len());
        let octets = response.encode().expect("what was read can be written");
        let again = Response::decode(&octets).expect("a response of our own");
        assert_eq!(again.encode().expect("the same"), octets);
    }
});
