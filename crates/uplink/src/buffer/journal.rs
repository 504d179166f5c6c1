//! The journal's way to the database: blocks are written, read and removed one after the other.

use super::item::Item;
use super::numbers::PointNumbers;
use interlex_busy::watched;
use interlex_store::{GapRecord, JournalBlock, Store, StoreError};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::sleep;

/// Orders on their way to the database. When it is slower than the samples, they go on waiting in the ledger.
const ORDERS: usize = 8;
/// How long to wait before the database is tried again.
const AGAIN: Duration = Duration::from_secs(1);

/// The queue to whoever writes, and what it tells.
#[derive(Debug)]
pub(super) struct Journal<T: Item> {
    orders: mpsc::Sender<Order<T>>,
    news: mpsc::Receiver<News>,
}

#[derive(Debug)]
pub(super) enum Order<T: Item> {
    /// Items as one block, with what is needed to write them.
    Write {
        first: u64,
        items: Vec<T>,
        context: T::Context,
    },
    Read {
        first: u64,
        id: u64,
    },
    Remove(Vec<u64>),
    KeepGaps(Vec<GapRecord>),
}

/// What became of an order.
#[derive(Debug)]
pub(crate) enum News {
    Written {
        first: u64,
        id: u64,
        bytes: u64,
    },
    /// A block, with the numbers of points that are known.
    Read {
        first: u64,
        samples: Vec<u8>,
        numbers: Arc<PointNumbers>,
    },
    Failed(String),
}

impl<T: Item> Journal<T> {
    /// A journal that writes to the database, where there is one.
    pub(super) fn new(store: Option<&Store>, gateway: &str, uplink: &str) -> Self {
        let ((orders, receiver), (sender, news)) = (mpsc::channel(ORDERS), mpsc::channel(ORDERS));
        if let Some(store) = store.cloned() {
            let (gateway, uplink, numbers) = (gateway.to_owned(), uplink.to_owned(), Arc::default());
            let name = uplink.clone();
            let writer = Writer { store, gateway, uplink, numbers, are_numbers_loaded: false, news: sender };
            tokio::spawn(watched("journal", name, writer.run(receiver)));
        }
        Self { orders, news }
    }

    /// What the writer has to tell; never ready without a database.
    pub(super) async fn next(&mut self) -> News {
        match self.news.recv().await {
            Some(news) => news,
            None => std::future::pending().await,
        }
    }

    /// Whether another order can be handed over, beside one that removes.
    pub(super) fn has_room(&self) -> bool {
        self.orders.capacity() > 1
    }

    /// Whether every order has been taken up.
    pub(super) fn is_idle(&self) -> bool {
        self.orders.capacity() == self.orders.max_capacity()
    }

    /// Hands an order over; gives it back when there is no room.
    pub(super) fn order(&self, order: Order<T>) -> Result<(), Order<T>> {
        self.orders.try_send(order).map_err(mpsc::error::TrySendError::into_inner)
    }
}

/// Carries orders out one after the other, each until the database has done it.
struct Writer {
    store: Store,
    gateway: String,
    uplink: String,
    numbers: Arc<PointNumbers>,
    are_numbers_loaded: bool,
    news: mpsc::Sender<News>,
}

impl Writer {
    async fn run<T: Item>(mut self, mut orders: mpsc::Receiver<Order<T>>) {
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

    async fn carry_out<T: Item>(&mut self, order: &Order<T>) -> Result<(), String> {
        let words = |error: StoreError| error.to_string();
        let news = match order {
            Order::Write { first, items, context } => {
                let block = self.block(items, context).await.map_err(words)?;
                let id = self.store.add_journal_block(&self.gateway, &self.uplink, &block).await.map_err(words)?;
                News::Written { first: *first, id, bytes: block.samples.len() as u64 }
            }
            Order::Read { first, id } => {
                // One that is gone is given up for its number: it is told as having no samples.
                let samples = self.store.journal_block(*id).await.map_err(words)?.unwrap_or_default();
                self.load_numbers().await.map_err(words)?;
                News::Read { first: *first, samples, numbers: Arc::clone(&self.numbers) }
            }
            Order::KeepGaps(gaps) => {
                return self.store.set_uplink_gaps(&self.gateway, &self.uplink, gaps).await.map_err(words);
            }
            Order::Remove(blocks) => return self.store.remove_journal_blocks(blocks).await.map_err(words),
        };
        // An error means that the uplink has ended; what is in the database is found at the next start.
        let _ = self.news.send(news).await;
        Ok(())
    }

    /// Makes a block; its points have numbers in the database before it is written.
    async fn block<T: Item>(&mut self, items: &[T], context: &T::Context) -> Result<JournalBlock, StoreError> {
        self.load_numbers().await?;
        let lacking = self.numbers.lacking(T::points(items, context));
        if !lacking.is_empty() {
            // Whoever reads blocks meanwhile has them as they were.
            Arc::make_mut(&mut self.numbers).give(lacking, &self.store, &self.gateway).await?;
        }
        let times = || items.iter().map(|item| item.came().as_millis());
        Ok(JournalBlock {
            samples: T::encode(items, context, &self.numbers),
            count: u32::try_from(items.len()).unwrap_or(u32::MAX),
            oldest_at: times().min().unwrap_or(0),
            newest_at: times().max().unwrap_or(0),
        })
    }

    async fn load_numbers(&mut self) -> Result<(), StoreError> {
        if !self.are_numbers_loaded {
            Arc::make_mut(&mut self.numbers).load(&self.store, &self.gateway).await?;
            self.are_numbers_loaded = true;
        }
        Ok(())
    }
}
