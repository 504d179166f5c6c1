//! Uplinks: what becomes of reported samples on their way to a broker.

mod block;
mod buffer;
mod journal;
mod ledger;
mod metric;
mod mqtt;
mod sparkplug;
mod tls;

pub(crate) use metric::{data_type_of, snapshot_of};
pub(crate) use mqtt::{Connection, MqttEvent, options};
pub(crate) use sparkplug::{SparkplugTask, initial_status};
pub(crate) use tls::{client_config, tls_words};

use crate::points::PointTable;
use arc_swap::ArcSwap;
use interlex_core::{LatestTable, Sample};
use std::sync::Arc;
use tokio::sync::mpsc;

/// What uplinks are told.
#[derive(Debug, Clone)]
pub(crate) enum UplinkInput {
    /// Samples worth reporting, of one link, in time order.
    Samples(Arc<[Sample]>),
    /// A device answers; by its slot.
    DeviceUp(usize),
    /// A device is lost.
    DeviceDown(usize),
    /// A new revision runs: these are its points from now on.
    Points(Arc<PointTable>, Arc<LatestTable>),
}

/// How many messages from links may wait for an uplink that is busy. Uplinks only compute and hand over, so a few
/// hundred cover a moment without the processor; when it is full, links wait.
pub(crate) const INPUT_QUEUE: usize = 512;

/// Where links send what they have to tell. Uplinks come and go while links run on.
#[derive(Debug, Clone, Default)]
pub(crate) struct Uplinks {
    senders: Arc<ArcSwap<Vec<mpsc::Sender<UplinkInput>>>>,
}

impl Uplinks {
    pub(crate) fn set(&self, senders: Vec<mpsc::Sender<UplinkInput>>) {
        self.senders.store(Arc::new(senders));
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.senders.load().is_empty()
    }

    /// Tells every uplink. They always take in what they are told, sooner or later to their buffer; here a full
    /// queue waits for that.
    pub(crate) async fn tell(&self, input: UplinkInput) {
        for uplink in self.senders.load_full().iter() {
            // An error means that the uplink has ended, at shutdown; there is nobody to tell.
            let _ = uplink.send(input.clone()).await;
        }
    }
}
