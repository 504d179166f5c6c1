//! Messages of the application layer, without what their services mean.

mod limits;
mod pdu;
mod reason;
mod service_choice;

pub use limits::{MaxApdu, MaxSegments, Segmentation};
pub use pdu::{Apdu, RequestHeader, Segment, SegmentAck};
pub use reason::{AbortReason, Error, RejectReason};
pub use service_choice::{ConfirmedService, UnconfirmedService};
