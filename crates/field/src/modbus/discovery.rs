use super::errand::{Errand, Identify, Scan, ScanEvent, Scanning, SunSpec};
use crate::error::TrialError;
use crate::link::Answer;
use std::any::Any;
use std::time::Duration;
use tokio::sync::mpsc;

/// What can be found out about Modbus devices.
pub(super) enum Discovery {
    /// Who a unit is.
    Identify(u8),
    /// The SunSpec models of a unit.
    SunSpec { unit: u8, base: u16, rate: String },
    /// Units, or addresses.
    Scan { scan: Scan, pace: Duration, events: mpsc::Sender<ScanEvent> },
}

impl Discovery {
    pub(super) fn errand(self) -> Box<dyn Errand> {
        match self {
            Self::Identify(unit) => Box::new(Identify::new(unit)),
            Self::SunSpec { unit, base, rate } => Box::new(SunSpec::new(unit, base, rate)),
            Self::Scan { scan, pace, events } => Box::new(Scanning::new(scan, pace, events)),
        }
    }
}

/// What was found, in the form that its asker knows.
pub(super) fn found<T: 'static>(answer: Answer) -> Result<T, TrialError> {
    let other = || TrialError::Request("the link speaks another protocol".to_owned());
    let Answer::Found(found) = answer else { return Err(other()) };
    let found: Box<dyn Any> = found?;
    found.downcast().map(|found| *found).map_err(|_| other())
}
