//! What is tried before it runs: points, brokers, messages, reports.

mod broker_trial;
mod report_preview;
mod trials;

pub use broker_trial::{BrokerTrial, BrokerTrialStep, TrialMessage, try_broker};
pub use report_preview::{ReportPreview, report_preview};
pub use trials::{act, ask_for_offers, identify, preview, try_read, try_write, via};
