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
//! V1.0b* and *MODBUS over Serial Line V1.02*. Implemented: TCP framing, RTU framing over a stream as serial device
//! servers carry it, and the four read functions 01 to 04. Addresses are the zero-based ones of the protocol, never the
//! one-based reference numbers of device manuals.
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
//! let id = client.request(now, 3, ReadRequest::new(Table::InputRegister, 0, 4)?)?;
//! let mut bytes = Vec::new();
//! client.poll_transmit(now, &mut bytes);
//! assert_eq!(bytes, [0, 1, 0, 0, 0, 6, 3, 4, 0, 0, 0, 4]);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod client;
mod exception;
mod mbap;
mod read;
mod rtu;
mod server;
mod tcp_client;
mod tcp_server;

pub use client::{Busy, Client, ClientConfig, ClientStats, Event, RequestError, RequestId};
pub use exception::ExceptionCode;
pub use mbap::{Frame, FrameDecoder, FrameError, MAX_PDU, encode_frame};
pub use read::{InvalidRead, ReadData, ReadRequest, ResponseError, Table};
pub use rtu::{Framing, crc};
pub use server::{Refusal, Server, Units};
pub use tcp_client::{TcpClient, TcpClientError};
pub use tcp_server::{serve, serve_framed};
