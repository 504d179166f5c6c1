//! What people write to say which value they mean.

mod namespaces;
mod numeric_range;
mod relative_path;

pub use namespaces::{AddressError, Namespaces};
pub use numeric_range::{NumericRange, ParseNumericRangeError};
pub use relative_path::{ParsePathError, PathName, PathReference, PathStep, PathText};
