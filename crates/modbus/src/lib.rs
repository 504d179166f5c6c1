//! Modbus, client and server: a codec, state machines without I/O, and thin tokio drivers on top.
//!
//! ```text
//!             request()           poll_transmit()
//!   caller ─────────────▶ Client ────────────────▶ bytes to the device
//!          ◀───────────── (machine) ◀───────────── bytes from the device
//!            poll_event()           handle_input()
//! ```
//!
//! Follows the *MODBUS Application Protocol Specification V1.1b3*, the *MODBUS Messaging on TCP/IP Implementation Guide
//! V1.0b* and *MODBUS over Serial Line V1.02*. Framings: TCP, RTU (on a serial port, or over a stream as serial device
//! servers carry it) and ASCII. Functions: 01 to 06, 08, 15, 16, 22, 23 and 43/14. Addresses are the zero-based ones of
//! the protocol, never the one-based reference numbers of device manuals.
//!
//! What it leaves out: points, types and word order. It reads bits and 16-bit registers.
//!
//! ```
//! use interlex_modbus::{Client, ClientConfig, ReadRequest, Table};
//! use std::time::Instant;
//!
//! # #[allow(clippy::disallowed_methods)]
//! let now = Instant::now();
//! let mut client = Client::new(ClientConfig::default());
//! let id = client.request(3, ReadRequest::new(Table::InputRegister, 0, 4)?)?;
//! let mut bytes = Vec::new();
//! assert!(client.poll_transmit(now, &mut bytes));
//! assert_eq!(bytes, [0, 1, 0, 0, 0, 6, 3, 4, 0, 0, 0, 4]);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod ascii;
mod client;
mod connection;
mod describe;
mod diagnostic;
mod error;
mod exception;
mod framing;
mod identify;
mod mbap;
mod owed;
mod pdu;
mod read;
mod read_write;
mod request;
mod rtu;
mod serial;
mod serve;
mod server;
mod sunspec;
mod trace;
mod write;

pub use ascii::lrc;
pub use client::{Busy, Client, ClientConfig, ClientStats, Event, RequestError, RequestId};
pub use connection::{Connection, ConnectionError, Done, Wire};
pub use describe::{describe_request, describe_response};
pub use diagnostic::DiagnosticRequest;
pub use error::{InvalidRequest, ResponseError};
pub use exception::ExceptionCode;
pub use framing::Framing;
pub use identify::{Identification, IdentifyAccess, IdentifyRequest};
pub use mbap::{Frame, FrameDecoder, FrameError, MAX_PDU, encode_frame};
pub use owed::OwedAnswers;
pub use read::{ReadData, ReadRequest, Table};
pub use read_write::ReadWriteRequest;
pub use request::{Request, Response};
pub use rtu::crc;
pub use serial::{Parity, SerialSettings};
pub use serve::{serve, serve_framed, serve_wire};
pub use server::{Refusal, Server, Units};
pub use sunspec::{SunSpecDevice, SunSpecModel, SunSpecPoint, SunSpecWalk};
pub use trace::{Direction, Fate, TracedFrame};
pub use write::{WriteRequest, Written};
