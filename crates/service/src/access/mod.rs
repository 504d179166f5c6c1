//! Who asks, whether they may, and how often.

pub(crate) mod attempts;
pub(crate) mod auth;
pub(crate) mod openings;
pub(crate) mod password;
pub(crate) mod proxy;
