//! The service itself: its connections, and its life.

pub(crate) mod connections;
mod outages;
pub(crate) mod serve;
pub(crate) mod tls;
