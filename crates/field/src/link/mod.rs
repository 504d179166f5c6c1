//! What every link has, whatever it speaks: its task, the contract of its driver, what it shows, counts and records.

mod capture;
mod command;
mod counts;
mod driver;
mod floor;
mod frames;
mod handle;
mod histogram;
mod memory;
mod offers;
mod one_off;
mod outcomes;
mod statistics;
mod task;
mod traffic;
mod trial;
mod view;
mod write;

pub(crate) use command::{Action, Answer, Command, CommandId, DEVICE_COMMANDS};
pub(crate) use counts::Counted;
pub use counts::{CountsView, DeviceCounts, RefusalCount};
pub(crate) use driver::{DriverContext, FieldDriver, Full, LinkPlan, Lost, PlannedDevice};
pub use frames::{FrameFilter, FrameView};
pub(crate) use frames::{FrameLog, FrameRing, FrameText, FrameWords};
pub use handle::{LinkHandle, Surroundings};
pub use histogram::{Bar, HistogramView};
pub use memory::Memories;
pub use offers::{OfferRequest, OfferSource};
pub use one_off::Via;
pub(crate) use outcomes::{DeviceEvent, Outcome, Outcomes};
pub use statistics::{LinkStatistics, RateView};
pub(crate) use task::LinkTask;
pub(crate) use traffic::Traffic;
pub use trial::{TrialAlternative, TrialRead, TrialReading};
pub use view::RequestView;
pub use write::{PointWrite, WriteError, WriteOutcome};
