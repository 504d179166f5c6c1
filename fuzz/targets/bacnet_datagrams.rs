//! Any octets where a datagram is expected, and any octets of services in it.
#![no_main]

use interlex_bacnet::{
    Apdu, Bvll, Content, CovNotification, EventNotification, GetEventInformationAck, LogRecord, Npdu, ReadPropertyAck,
    ReadPropertyMultiple, ReadPropertyMultipleAck, ReadRange, ReadRangeAck, SubscribeCov, WritePropertyMultiple, describe,
};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    _ = describe(data);
    _ = (Bvll::decode(data), Npdu::decode(data), Apdu::decode(data));
    _ = (ReadPropertyMultiple::decode(data), ReadRange::decode(data), EventNotification::decode(data));
    _ = (SubscribeCov::decode(data), SubscribeCov::decode_property(data), GetEventInformationAck::decode(data));
    _ = WritePropertyMultiple::decode(data);
    if let Ok(told) = ReadPropertyMultipleAck::decode(data) {
        let mut again = Vec::new();
        told.encode(&mut again);
        assert_eq!(ReadPropertyMultipleAck::decode(&again).as_ref(), Ok(&told));
    }
    if let Ok(told) = CovNotification::decode(data) {
        let mut again = Vec::new();
        told.encode(&mut again);
        assert_eq!(CovNotification::decode(&again).as_ref(), Ok(&told));
    }
    for content in [ReadPropertyAck::decode(data).map(|told| told.value), ReadRangeAck::decode(data).map(|told| told.items)] {
        let Ok(content) = content else { continue };
        assert_eq!(Content::decode(content.octets()).as_ref(), Ok(&content), "what was read is well formed");
        _ = (content.values(), LogRecord::decode_all(&content));
    }
});
