//! The ground floor of Interlex: what a point is, what its value means, and when it is worth telling.
//!
//! Everything here is computation. Nothing opens a socket, reads a clock or waits: time comes in as a
//! [`Timestamp`], bytes and text come in as slices, and what comes out is plain data.
//!
//! ```text
//!   raw value + quality ──▶ Shaping ──▶ Pipeline ──┬──▶ LatestTable (one slot a point)
//!                                                  └──▶ samples worth reporting
//!   gateway.toml + CSV  ──▶ description::read ──▶ Description  (or every Problem at once)
//! ```
//!
//! What it leaves out: protocols (one crate each), storage, and the running gateway.
//!
//! ```
//! use interlex_core::{ByteOrder, DataType, Shaping, Value, decode_registers};
//!
//! let raw = decode_registers(&[0x0000, 0x1538], DataType::Uint32, ByteOrder::Abcd).unwrap();
//! let value = Shaping::linear(0.01, 0.0).apply(&raw);
//! assert_eq!(value, Value::Float64(54.32));
//! ```

mod array_type;
mod backoff;
mod beginning;
mod cell;
mod clock;
mod command;
pub mod description;
mod enumeration;
mod field_event;
mod interpretation;
mod message;
mod offer;
mod pipeline;
mod plan;
mod quality;
mod receipt;
mod registers;
mod sample;
mod semantics;
mod sequence;
mod shaping;
mod status;
mod tables;
mod timestamp;
mod two_ended_span;
mod value;

pub use array_type::{ArrayType, ElementType};
pub use backoff::Backoff;
pub use beginning::beginning;
pub use cell::cell;
pub use clock::{Clock, ManualClock};
pub use command::{
    CommandOutcome, CommandRefusal, CommandValue, OutcomeWord, check_command, raw_to_write, raw_to_write_as,
    value_from_words, value_from_words_as,
};
pub use enumeration::{Enumeration, ParseEnumerationError};
pub use field_event::FieldEvent;
pub use interpretation::{Interpretation, interpretations};
pub use message::{
    CommandMapping, MessageCommand, MessageContext, MessageTemplates, NamedThing, PointContext, RenderedMessage,
    TemplateFault, TemplatePart, iso_time, json_of, milliseconds_of,
};
pub use offer::{NameCase, NameRule, Offer, OfferDifference, OfferEvent, differences, offers_of};
pub use pipeline::{DueAgain, ParseReportError, Pipeline, PointPlan, Report, ReportPolicy, ReportState, Tick};
pub use plan::{Block, PlanLimits, plan, split};
pub use quality::{Quality, Reason};
pub use receipt::Receipt;
pub use registers::{ByteOrder, RegisterError, decode_registers, encode_registers};
pub use sample::{Moment, PointIndex, RawSample, Sample, SampleKind, TimeQuality};
pub use semantics::{AutoParts, ParseAutoPartsError, Semantics};
pub use sequence::SequenceEntry;
pub use shaping::{Shaping, UnapplyError};
pub use status::{
    BufferState, BufferView, DeviceState, DeviceStatus, Gap, LinkState, LinkStatus, PastMoment, RateMeter, Shared,
    UplinkState, UplinkStatus,
};
pub use tables::{Inventory, LatestTable, PointInfo, PointTable, Reading, RecentValue, RecentValues, RecentWriter};
pub use timestamp::Timestamp;
pub use two_ended_span::{ParseTwoEndedSpanError, TwoEndedSpan};
pub use value::{DataType, ParseDataTypeError, Value};
