//! The link layer: frames with checks, between two addresses.

mod address;
mod crc;
mod frame;
mod function;
mod reader;

pub use address::LinkAddress;
pub use crc::crc;
pub use frame::{Checked, Frame, FrameError, MOST_USER_DATA, Sender};
pub use function::LinkFunction;
pub use reader::FrameReader;
