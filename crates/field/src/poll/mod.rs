//! When to ask what, for protocols that poll.

mod device;
mod schedule;

#[cfg(test)]
pub(crate) use schedule::Which;
pub(crate) use schedule::{Due, PlanView, Refused, Schedule, Silence};

use interlex_core::PointIndex;
use std::fmt::Debug;
use std::ops::RangeInclusive;
use std::time::Duration;

/// One request of a device that is sent again and again.
pub(crate) trait Poll: Debug + Sized {
    /// Where something is in the device: what a request reads lies from one of them to another.
    type Place: Copy + Debug + Ord;

    /// How often it is sent.
    fn period(&self) -> Duration;

    /// Two requests in place of one that was refused; `None` when it asks for a single point.
    fn split(&self) -> Option<[Self; 2]>;

    /// Two requests, of which the second begins at a place; `None` when one of them would read nothing.
    fn split_at(&self, place: Self::Place) -> Option<[Self; 2]>;

    /// One request in place of two.
    fn joined(&self, other: &Self) -> Option<Self>;

    /// A request for one of its points alone.
    fn narrowed(&self, number: usize) -> Option<Self>;

    /// The places that it reads.
    fn range(&self) -> &RangeInclusive<Self::Place>;

    /// Whether it reads a point.
    fn reads(&self, point: PointIndex) -> bool;
}
