//! The API on a real MariaDB.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod access;
mod contract;
mod drafts;
mod harness;
mod hostile;
mod tls;
mod watching;
