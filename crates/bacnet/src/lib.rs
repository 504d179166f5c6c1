//! BACnet/IP, client and device: a codec, state machines without I/O, and a thin tokio driver.
//!
//! ```text
//!   datagrams ──Bvll──▶ ──Npdu──▶ ──Apdu──▶ Node ──▶ services: ReadPropertyMultiple, CovNotification, ...
//!             ◀──────── ◀──────── ◀────────      ◀──
//! ```
//!
//! Follows ASHRAE 135-2016 (ISO 16484-5), annex J for BACnet/IP. BACnet/SC, MS/TP as a data link, files, virtual terminals and
//! network security are not there.
//!
//! ```
//! use interlex_bacnet::{ObjectIdentifier, ObjectType, PropertyIdentifier, ReadProperty};
//!
//! let object = ObjectIdentifier::new(ObjectType::ANALOG_INPUT, 1).unwrap();
//! let mut octets = Vec::new();
//! ReadProperty { object, reference: PropertyIdentifier::PRESENT_VALUE.into() }.encode(&mut octets);
//! assert_eq!(octets, [0x0C, 0, 0, 0, 1, 0x19, 85]);
//! ```

mod apdu;
mod codec;
mod describe;
mod device;
mod net;
mod network;
mod node;
mod primitive;
mod service;

pub use apdu::{
    AbortReason, Apdu, ConfirmedService, Error, MaxApdu, MaxSegments, RejectReason, RequestHeader, Segment, SegmentAck,
    Segmentation, UnconfirmedService,
};
pub use codec::{DecodeError, Fault};
pub use describe::describe;
pub use device::{Device, DeviceConfig, DeviceFaults, Now, Object, TrendLog, Writes};
pub use net::{BindError, DeviceHost, Sockets};
pub use network::{
    Bvll, BvllResult, Destination, MacAddress, NetworkMessage, Npdu, NpduContent, Peer, Station, TableMessage,
};
pub use node::{
    Answer, AskedId, Audience, Failure, ForeignDevice, Node, NodeConfig, NodeEvent, NotSent, RequestId, Target, Terms,
    Via,
};
pub use primitive::{
    ANY, BitString, Content, Date, DateTime, Element, ObjectIdentifier, ObjectType, PropertyIdentifier, Tag, Time,
    UnknownName, Value, reliability, unit, unit_name, unit_number,
};
pub use service::{
    CommunicationMode, CovNotification, CovTerms, DeviceCommunicationControl, EachResult, EventNotification,
    EventState, EventSummary, GetEventInformation, GetEventInformationAck, IAm, IHave, LogDatum, LogRecord, Priority,
    PropertyReference, PropertyResult, Range, ReadAccess, ReadProperty, ReadPropertyAck, ReadPropertyMultiple,
    ReadPropertyMultipleAck, ReadRange, ReadRangeAck, ReadResult, SubscribeCov, TimeSynchronization, Wanted, WhoHas,
    WhoIs, WriteProperty, WritePropertyMultiple,
};
