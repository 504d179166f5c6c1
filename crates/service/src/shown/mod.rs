//! What somebody looks at, of points of which there may be very many.

pub(crate) mod filter;
pub(crate) mod orders;
pub(crate) mod views;
