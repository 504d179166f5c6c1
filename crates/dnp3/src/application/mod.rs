//! The application layer: what is asked, what is answered, and what is told unasked.

mod block;
mod control;
mod fragment;
mod function;
mod indications;
mod qualifier;

pub use block::{Block, Entry, Selection};
pub use control::Control;
pub use fragment::{Request, Response, ResponseHeader};
pub use function::FunctionCode;
pub use indications::Indications;
pub use qualifier::{Prefix, Qualifier, RangeForm, Width};
