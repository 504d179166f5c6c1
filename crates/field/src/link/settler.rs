use super::memory::Keeper;
use super::told::{TICKETS, Ticket, ToldEvent, ToldState};
use crate::listeners::Keeping;
use interlex_core::{PointTable, SequenceEntry, TimeQuality, Timestamp, Value};
use std::sync::Arc;
use tokio::sync::mpsc;

/// What was told at one moment.
#[derive(Debug)]
pub(super) struct Told {
    /// Whether somebody waits until it is safe.
    pub(super) ticket: Option<Ticket>,
    /// Under which name its source keeps it.
    pub(super) source: Arc<str>,
    /// When the listeners have what was told before.
    pub(super) kept: Keeping,
    pub(super) device: Arc<str>,
    pub(super) points: Arc<PointTable>,
    pub(super) arrived: Timestamp,
    /// What belongs into the sequence of events, with what it means where its point says so.
    pub(super) events: Vec<(ToldEvent, Option<Value>)>,
}

impl Told {
    /// In words.
    fn entries(self) -> Vec<SequenceEntry> {
        let Self { device, points, arrived, events, .. } = self;
        let entry = |(told, value): (ToldEvent, Option<Value>)| {
            let ToldEvent { point, place: (word, index), value: raw_value, raw, flags, at, time_quality, mark } = told;
            let info = point.and_then(|point| points.get(point));
            let (words, is_number) = match raw {
                ToldState::State(word) => (word.to_owned(), false),
                ToldState::Text(text) => (text, false),
                ToldState::Number(number) => (number.to_string(), true),
            };
            let state = match value {
                Some(Value::Bool(_)) | None => words,
                // What is not shaped has as many digits as it was told with.
                Some(value) if Some(&value) == raw_value.as_ref() => words,
                Some(value) => value.to_string(),
            };
            let unit = info.map(|info| info.settings().unit.as_str()).filter(|unit| !unit.is_empty());
            let (flags, meant) = flags;
            SequenceEntry {
                device: Arc::clone(&device),
                point: info.map(|info| info.name().into()),
                address: index.map_or_else(|| word.to_owned(), |index| format!("{word}:{index}")),
                state: unit.map_or_else(|| state.clone(), |unit| format!("{state} {unit}")),
                is_number,
                flags: meant(flags, word),
                at: at.unwrap_or(arrived),
                time_quality: if at.is_none() { TimeQuality::Arrival } else { time_quality },
                arrived,
                mark,
            }
        };
        events.into_iter().map(entry).collect()
    }
}

/// Sees to it that what devices told is safe, one after the other: with all listeners first, in the sequence of events then, with
/// which it is known again should the device repeat it. Gives each ticket back with whether it is.
///
/// It ends with its link, after what it was given.
pub(super) fn settler(keeper: Option<Arc<dyn Keeper>>) -> (mpsc::Sender<Told>, mpsc::Receiver<(Ticket, bool)>) {
    let ((sender, mut told), (settled, receiver)) = (mpsc::channel::<Told>(2 * TICKETS), mpsc::channel(2 * TICKETS));
    tokio::spawn(async move {
        while let Some(mut told) = told.recv().await {
            let (ticket, source) = (told.ticket, Arc::clone(&told.source));
            let is_safe = std::mem::take(&mut told.kept).until_safe().await;
            if is_safe
                && !told.events.is_empty()
                && let Some(keeper) = &keeper
            {
                keeper.keep_events(&source, told.entries()).await;
            }
            if let Some(ticket) = ticket {
                // An error means that the link has ended: its device tells it again.
                _ = settled.send((ticket, is_safe)).await;
            }
        }
    });
    (sender, receiver)
}
