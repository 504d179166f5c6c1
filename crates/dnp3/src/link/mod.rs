//! The link layer: frames with checks, between two addresses.

mod address;
mod confirmer;
mod crc;
mod frame;
mod function;
mod reader;

pub use address::LinkAddress;
pub(crate) use confirmer::Confirmer;
pub use confirmer::LinkConfirms;
pub use crc::crc;
pub use frame::{Checked, Frame, FrameError, MOST_USER_DATA, Sender};
pub use function::LinkFunction;
pub use reader::FrameReader;
