//! DNP3, master and outstation: a codec, state machines without I/O, and a thin tokio driver.
//!
//! ```text
//!   octets ──FrameReader──▶ frames ──Assembler──▶ fragments ──decode──▶ requests, responses: blocks of objects
//!          ◀──encode──             ◀──Splitter──           ◀──encode──
//! ```
//!
//! Follows IEEE 1815-2012. Secure authentication (group 120) is not there.
//!
//! ```
//! use interlex_dnp3::{Block, FunctionCode, Object, Request, Response};
//!
//! let request = Request::new(0, FunctionCode::READ, vec![Block::all(60, 1)]);
//! assert_eq!(request.encode()?, [0xC0, 0x01, 60, 1, 0x06]);
//! let response = Response::decode(&[0xC0, 0x81, 0, 0, 30, 3, 0, 4, 4, 42, 0, 0, 0]).unwrap();
//! assert!(matches!(response.blocks[0].entries[0].object, Object::Measured { number, .. } if number.as_f64() == 42.0));
//! # Ok::<(), interlex_dnp3::Mismatch>(())
//! ```

mod application;
mod codec;
mod describe;
mod link;
mod master;
mod measurement;
mod net;
mod object;
mod outstation;
mod transport;

pub use application::{
    Block, Control, Entry, FunctionCode, Indications, Prefix, Qualifier, RangeForm, Request, Response, ResponseHeader,
    Selection, Width,
};
pub use codec::{DecodeError, Fault, Part};
pub use describe::describe;
pub use link::{
    Checked, Frame, FrameError, FrameReader, LinkAddress, LinkConfirms, LinkFunction, MOST_USER_DATA, Sender, crc,
};
pub use master::{
    Assignments, Classes, Command, CommandAnswer, CommandId, Doubt, LinkEvent, Master, MasterConfig, MasterEvent,
    MasterLink, Now, Refusal, Sharing, TimeSync, Told, ToldId, TracedFrame, WayId,
};
pub use measurement::{EventTime, MeasuredValue, Measurement};
pub use net::OutstationHost;
pub use object::{
    CommandStatus, ControlRelayOutputBlock, DoubleBit, Flags, Mismatch, Number, NumberForm, Object, ObjectTime,
    Operation, PointKind, TripClose, Variation,
};
pub use outstation::{EventClass, Outstation, OutstationConfig, Point, PointUpdate, Process};
pub use transport::{Assembler, Splitter, TransportError};
