//! What every link has, whatever it speaks: its handle, what it shows, counts and records.

mod capture;
mod command;
mod counts;
mod frames;
mod handle;
mod histogram;
mod statistics;
mod view;

pub(crate) use command::{Answer, COMMAND_QUEUE, Claim, LinkCommand, Undone};
pub(crate) use counts::Counted;
pub use counts::{CountsView, DeviceCounts, ExceptionCount};
pub use frames::{FrameFilter, FrameView};
pub(crate) use frames::{FrameLog, FrameRing, FrameText, FrameWords};
pub(crate) use handle::LinkShown;
pub use handle::{LinkHandle, Surroundings};
pub use histogram::{Bar, HistogramView};
pub(crate) use statistics::Statistics;
pub use statistics::{LinkStatistics, RateView};
pub use view::RequestView;
