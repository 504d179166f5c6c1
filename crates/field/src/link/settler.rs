use super::memory::Keeper;
use crate::listeners::Keeping;
use interlex_core::SequenceEntry;
use std::sync::Arc;
use tokio::sync::mpsc;

/// Names what was told at one moment, and is to be safe before the device forgets it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Ticket(pub(crate) u64);

/// So much may wait to become safe; a driver takes nothing more that has to.
pub(crate) const TICKETS: usize = 32;

/// What was told at one moment.
#[derive(Debug)]
pub(super) struct Told {
    /// Whether somebody waits until it is safe.
    pub(super) ticket: Option<Ticket>,
    /// Under which name its source keeps it.
    pub(super) source: Arc<str>,
    /// When the listeners have what was told before.
    pub(super) kept: Keeping,
    /// What belongs into the sequence of events.
    pub(super) entries: Vec<SequenceEntry>,
}

/// Sees to it that what devices told is safe, one after the other: with all listeners first, in the sequence of events then, with
/// which it is known again should the device repeat it. Gives each ticket back with whether it is.
///
/// It ends with its link, after what it was given.
pub(super) fn settler(keeper: Option<Arc<dyn Keeper>>) -> (mpsc::Sender<Told>, mpsc::Receiver<(Ticket, bool)>) {
    let ((sender, mut told), (settled, receiver)) = (mpsc::channel::<Told>(2 * TICKETS), mpsc::channel(2 * TICKETS));
    tokio::spawn(async move {
        while let Some(Told { ticket, source, kept, entries }) = told.recv().await {
            let is_safe = kept.until_safe().await;
            if is_safe
                && !entries.is_empty()
                && let Some(keeper) = &keeper
            {
                keeper.keep_events(&source, entries).await;
            }
            if let Some(ticket) = ticket {
                // An error means that the link has ended: its device tells it again.
                _ = settled.send((ticket, is_safe)).await;
            }
        }
    });
    (sender, receiver)
}
