//! What people write to say which value they mean.

mod numeric_range;
mod relative_path;

pub use numeric_range::{NumericRange, ParseNumericRangeError};
pub use relative_path::{ParsePathError, PathName, PathReference, PathStep, PathText};
