//! Values and the tags before them, objects, properties, and the standard's names.

mod bit_string;
mod content;
mod datetime;
mod object;
mod property;
mod reliability;
pub(crate) mod tag;
mod text;
mod units;
pub(crate) mod value;

pub use bit_string::BitString;
pub use content::{Content, Element};
pub use datetime::{ANY, Date, DateTime, Time};
pub use object::{ObjectIdentifier, ObjectType, UnknownName};
pub use property::PropertyIdentifier;
pub use reliability::reliability;
pub use tag::Tag;
pub use units::{unit, unit_name, unit_number};
pub use value::Value;
