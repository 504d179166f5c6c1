use super::{Brokers, Totals};
use crate::buffer::{Backlog, Item, Pace};
use crate::command::{BrokerCommands, CommandResult};
use crate::mqtt::Connection;
use crate::request::UplinkRequest;
use interlex_core::description::Uplink;
use interlex_core::{Clock, Shared, Timestamp, UplinkState, UplinkStatus};
use interlex_store::{Store, UplinkCount};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::Instant;

/// Results of commands on their way to the broker; one more is told in the audit trail only.
const RESULTS: usize = 64;

/// What every uplink has, of whatever kind it is.
pub(crate) struct Base<T: Item> {
    pub(crate) gateway: String,
    pub(crate) uplink: Uplink,
    pub(crate) status: Arc<Shared<UplinkStatus>>,
    pub(crate) clock: Arc<dyn Clock>,
    pub(crate) store: Option<Store>,
    pub(crate) backlog: Backlog<T>,
    /// How many samples count as delivered.
    pub(crate) delivered: u64,
    totals: Totals,
    pub(crate) pace: Pace,
    pub(crate) brokers: Brokers,
    pub(crate) commands: BrokerCommands,
    /// Where results of commands come back.
    pub(crate) results: (mpsc::Sender<CommandResult>, mpsc::Receiver<CommandResult>),
    pub(super) requests: mpsc::Receiver<UplinkRequest>,
    /// Since when the broker owes an answer.
    pub(crate) asked_at: Option<Instant>,
}

impl<T: Item> Base<T> {
    pub(crate) fn new(
        (gateway, uplink): (String, Uplink),
        (status, clock, store): (Arc<Shared<UplinkStatus>>, Arc<dyn Clock>, Option<Store>),
        backlog: Backlog<T>,
        history_share: u8,
        (commands, requests): (BrokerCommands, mpsc::Receiver<UplinkRequest>),
    ) -> Self {
        let now = Instant::now();
        Self {
            totals: Totals::new(store.clone(), (&gateway, uplink.settings.name.as_str())),
            brokers: Brokers::new(&uplink, now),
            gateway,
            uplink,
            status,
            clock,
            store,
            backlog,
            delivered: 0,
            pace: Pace::new(history_share, now),
            commands,
            results: mpsc::channel(RESULTS),
            requests,
            asked_at: None,
        }
    }

    pub(crate) fn name(&self) -> &str {
        self.uplink.settings.name.as_str()
    }

    pub(crate) fn now(&self) -> Timestamp {
        self.clock.now()
    }

    /// The uplink is in another state from now on.
    pub(crate) fn enter(&self, state: UplinkState) {
        self.status.enter(state, self.now());
    }

    /// The uplink is offline, and why; said in the log when that is news.
    pub(crate) fn is_offline(&self, error: &str) {
        if self.status.lost(error, self.now()) {
            tracing::warn!(uplink = self.name(), error, "uplink offline");
        }
        self.show_buffer();
    }

    /// So many samples count as delivered.
    pub(crate) fn has_delivered(&mut self, count: usize) {
        if count > 0 {
            self.delivered += count as u64;
            self.status.delivered(count, self.now());
        }
    }

    pub(crate) fn has_published(&self, messages: usize) {
        if messages > 0 {
            self.status.update(|status, _| status.messages += messages as u64);
        }
    }

    pub(crate) fn show_buffer(&self) {
        let buffer = self.backlog.state(self.delivered);
        self.status.update(|status, _| status.buffer = buffer);
    }

    /// Looks after the backlog: writes, gives up, and shows it.
    pub(crate) async fn maintain(&mut self, is_online: bool) {
        self.backlog.maintain(false);
        self.backlog.record_past(self.delivered, is_online);
        self.show_buffer();
        if let Some(before) = self.totals.step(self.counted()).await {
            self.backlog.was_lost_before(before.lost);
            self.status.update(|status, _| {
                status.counted_since = before.since;
                status.samples_delivered += before.delivered;
                status.messages += before.messages;
            });
        }
    }

    /// What is shown of what it has done.
    fn counted(&self) -> UplinkCount {
        let (status, _) = self.status.read(self.now());
        let (delivered, messages) = (status.samples_delivered, status.messages);
        UplinkCount { since: status.counted_since, delivered, messages, lost: self.backlog.lost() }
    }

    /// Keeps what is not kept yet.
    pub(super) async fn close(&mut self, limit: Duration) {
        self.backlog.close(limit).await;
        self.show_buffer();
        self.totals.close(self.counted(), limit).await;
    }

    /// Asks the broker what it has read, where something was sent since the last question.
    pub(crate) fn ask(&mut self, connection: &Connection) -> bool {
        if !self.backlog.queue.ask() {
            return false;
        }
        let is_asked = connection.ask();
        if is_asked {
            self.asked_at = Some(Instant::now());
        } else {
            // The queue is full: what was marked is asked about again with the next question.
            self.backlog.queue.proven_nothing();
        }
        is_asked
    }

    /// Whether the broker owes an answer for too long.
    pub(super) fn is_overdue(&self) -> bool {
        let limit = Duration::from(self.uplink.broker.keep_alive);
        self.asked_at.is_some_and(|asked| asked.elapsed() > limit)
    }
}
