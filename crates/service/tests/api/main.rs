//! The API on a real MariaDB.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod access;
mod drafts;
mod harness;
mod tls;
