//! The transport function: fragments of the application in segments that fit frames.
//!
//! Source: IEEE 1815-2012, section 8.

mod assembler;
mod splitter;

pub use assembler::{Assembler, TransportError};
pub use splitter::Splitter;

/// No segment follows this one.
const FINAL: u8 = 0x80;
/// No segment came before this one.
const FIRST: u8 = 0x40;
/// Numbers go from 0 to 63, and begin anew.
const SEQUENCE: u8 = 0x3F;
