//! The session that every uplink has: with one broker after the other, from connecting to the goodbye.

mod base;
mod brokers;
mod kind;
mod task;
mod totals;

pub(crate) use base::Base;
pub(crate) use brokers::Brokers;
pub(crate) use kind::Kind;
pub(crate) use task::{GOODBYE, UplinkTask};
use totals::Totals;
