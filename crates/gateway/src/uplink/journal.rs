//! What survives the process: samples that the broker has not proved to have read.

use super::block;
use super::ledger::{Due, Ledger};
use super::sparkplug::{GOODBYE, SparkplugTask};
use interlex_store::{JournalBlock, Store};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::{Instant, sleep, timeout_at};

/// Blocks on their way to the database. When it is slower than the samples, they go on waiting in the ledger.
const ORDERS: usize = 8;
/// How long to wait before the database is tried again.
const AGAIN: Duration = Duration::from_secs(1);

/// The journal of one uplink: who knows where each sample is, and who writes.
#[derive(Debug)]
pub(super) struct Journal {
    pub(super) ledger: Ledger,
    orders: mpsc::Sender<Order>,
    news: mpsc::Receiver<News>,
    /// Why the database did not take the last block, while it does not.
    pub(super) error: Option<String>,
}

#[derive(Debug)]
enum Order {
    Write { first: u64, samples: Vec<u8> },
    Remove(Vec<u64>),
}

/// What became of an order.
#[derive(Debug)]
pub(super) enum News {
    Written { first: u64, id: u64 },
    Failed(String),
}

impl Journal {
    /// A journal that writes to the database, where there is one.
    pub(super) fn new(store: Option<&Store>, gateway: &str, uplink: &str, flush: Duration) -> Self {
        let ((orders, receiver), (sender, news)) = (mpsc::channel(ORDERS), mpsc::channel(ORDERS));
        if let Some(store) = store.cloned() {
            let writer = Writer { store, gateway: gateway.to_owned(), uplink: uplink.to_owned(), news: sender };
            tokio::spawn(writer.run(receiver));
        }
        Self { ledger: Ledger::new(flush), orders, news, error: None }
    }

    /// What the writer has to tell; never ready without a database.
    pub(super) async fn next(&mut self) -> News {
        match self.news.recv().await {
            Some(news) => news,
            None => std::future::pending().await,
        }
    }

    pub(super) fn heard(&mut self, news: News) {
        match news {
            News::Written { first, id } => {
                self.error = None;
                self.ledger.written(first, id);
            }
            News::Failed(error) => self.error = Some(error),
        }
    }

    /// Whether another block can be handed over.
    fn has_room(&self) -> bool {
        self.orders.capacity() > 1
    }
}

/// Writes blocks one after the other, each until the database has taken it.
struct Writer {
    store: Store,
    gateway: String,
    uplink: String,
    news: mpsc::Sender<News>,
}

impl Writer {
    async fn run(self, mut orders: mpsc::Receiver<Order>) {
        while let Some(order) = orders.recv().await {
            while let Err(error) = self.carry_out(&order).await {
                tracing::warn!(uplink = self.uplink, error, "the journal waits for the database");
                // An error means that the uplink has ended: nobody waits for the journal any more.
                if self.news.send(News::Failed(error)).await.is_err() {
                    return;
                }
                sleep(AGAIN).await;
            }
        }
    }

    async fn carry_out(&self, order: &Order) -> Result<(), String> {
        match order {
            Order::Write { first, samples } => {
                let written = self.store.add_journal_block(&self.gateway, &self.uplink, samples).await;
                let id = written.map_err(|error| error.to_string())?;
                // An error means that the uplink has ended; what is in the database is found at the next start.
                let _ = self.news.send(News::Written { first: *first, id }).await;
                Ok(())
            }
            Order::Remove(blocks) => self.store.remove_journal_blocks(blocks).await.map_err(|error| error.to_string()),
        }
    }
}

impl SparkplugTask {
    /// Hands over what is due: blocks to write, and blocks that are needed no more.
    pub(super) fn keep_journal(&mut self, all: bool) {
        for number in self.buffer.take_settled() {
            self.journal.ledger.settle(number);
        }
        if self.store.is_none() {
            return;
        }
        while self.journal.has_room() {
            let Some(Due { first, samples }) = self.journal.ledger.due(Instant::now().into_std(), all) else { break };
            let samples = block::encode(samples.iter(), &self.points);
            let sent = self.journal.orders.try_send(Order::Write { first, samples });
            debug_assert!(sent.is_ok(), "there was room");
        }
        let removable = self.journal.ledger.take_removable();
        if !removable.is_empty() && self.journal.orders.try_send(Order::Remove(removable.clone())).is_err() {
            removable.into_iter().for_each(|id| self.journal.ledger.give_back(id));
        }
        self.show_buffer();
    }

    /// At the end: everything that is not proven goes into the database, and what is proven out of it.
    pub(super) async fn close_journal(&mut self) {
        let name = self.settings.name.to_string();
        if self.store.is_none() {
            return;
        }
        let deadline = Instant::now() + GOODBYE;
        loop {
            self.keep_journal(true);
            if self.journal.ledger.is_at_rest() && self.journal.orders.capacity() == self.journal.orders.max_capacity()
            {
                let kept = self.journal.ledger.durable();
                tracing::info!(uplink = name, samples = kept, "journal kept");
                return;
            }
            // The writer tells nothing of what it removes: a moment later the queue is looked at again.
            let moment = deadline.min(Instant::now() + Duration::from_millis(20));
            match timeout_at(moment, self.journal.next()).await {
                Ok(news) => self.journal.heard(news),
                Err(_) if Instant::now() < deadline => {}
                Err(_) => {
                    let samples = self.buffer.waiting() - self.journal.ledger.durable();
                    tracing::error!(uplink = name, samples, error = self.journal.error, "samples lost: no database");
                    return;
                }
            }
        }
    }

    /// Takes the journal of an earlier run in; samples of points that are gone are counted out in the log.
    pub(super) fn restore(&mut self, blocks: Vec<JournalBlock>) {
        let (mut restored, mut unknown) = (0, 0);
        for JournalBlock { id, samples } in blocks {
            let samples = match block::decode(&samples, &self.points) {
                Ok(samples) => samples,
                Err(error) => {
                    // It stays: perhaps a later version can read it.
                    tracing::error!(uplink = self.settings.name.as_str(), block = id, %error, "a block of the journal");
                    continue;
                }
            };
            let first = self.journal.ledger.restore(id, samples.len());
            for (number, sample) in (first..).zip(samples) {
                let device = sample.as_ref().ok().and_then(|sample| self.points.get(sample.point));
                match (device.map(|info| info.device_slot), sample) {
                    (Some(device), Ok(sample)) => {
                        self.buffer.push_history(device, number, sample);
                        restored += 1;
                    }
                    _ => {
                        self.journal.ledger.settle(number);
                        unknown += 1;
                    }
                }
            }
        }
        if restored + unknown > 0 {
            tracing::info!(uplink = self.settings.name.as_str(), restored, unknown, "journal read");
            self.show_buffer();
        }
    }
}
