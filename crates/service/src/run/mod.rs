//! The service itself: its connections, and its life.

pub(crate) mod connections;
pub(crate) mod serve;
pub(crate) mod tls;
