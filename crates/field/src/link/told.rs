//! What a device told of changes, and has to forget only when it is safe here.

use interlex_core::{PointIndex, TimeQuality, Timestamp, Value};
use std::sync::Arc;

/// Names what was told at one moment, and is to be safe before the device forgets it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Ticket(pub(crate) u64);

/// So much may wait to become safe; a driver takes nothing more that has to.
pub(crate) const TICKETS: usize = 32;

/// Changes that a device told at one moment.
#[derive(Debug)]
pub(crate) struct ToldEvents {
    /// The device, by its place on the link.
    pub(crate) place: usize,
    /// By what the driver hears that they are safe, where it wants to.
    pub(crate) ticket: Option<Ticket>,
    /// Under which name they are kept, and known again.
    pub(crate) source: Arc<str>,
    pub(crate) events: Vec<ToldEvent>,
}

/// A change that a device told.
#[derive(Debug)]
pub(crate) struct ToldEvent {
    /// The point, where there is one.
    pub(crate) point: Option<PointIndex>,
    /// Where it lives: a word of the protocol, and a number where there is one.
    pub(crate) place: (&'static str, Option<u32>),
    /// What it became; none where that does not fit its point.
    pub(crate) value: Option<Value>,
    /// The same as the protocol tells it.
    pub(crate) raw: ToldState,
    /// What the device says of it, and what that means.
    pub(crate) flags: (u8, fn(u8, &'static str) -> String),
    /// When, where the device says so.
    pub(crate) at: Option<Timestamp>,
    pub(crate) time_quality: TimeQuality,
    /// The same content has the same.
    pub(crate) mark: u64,
}

/// What a change came to, as the protocol tells it. Words are made of it when somebody wants them.
#[derive(Debug)]
pub(crate) enum ToldState {
    State(&'static str),
    Number(Value),
    Text(String),
}
