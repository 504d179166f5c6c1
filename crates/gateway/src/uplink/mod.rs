//! Uplinks: what becomes of reported samples on their way to a broker.

mod backlog;
mod block;
mod brokers;
mod buffer;
mod fill;
mod groups;
mod health;
mod item;
mod journal;
mod json;
mod ledger;
mod message;
mod metric;
mod mqtt;
mod pace;
mod past;
mod ranges;
mod sparkplug;
mod tls;

pub use fill::{fill_templates_in, fill_templates_with};
pub(crate) use health::own_names;
pub(crate) use json::JsonTask;
pub(crate) use message::titles;
pub use message::{SentMessage, preview};
pub(crate) use metric::{FIRST_OWN_ALIAS, data_type_of};
pub(crate) use mqtt::{Connection, Intake, Message, MqttEvent};
pub(crate) use sparkplug::{SparkplugTask, UplinkStart};
pub(crate) use tls::{client_config, tls_words, with_files};

use crate::clock::wall_clock;
use crate::points::PointTable;
use crate::status::{BufferState, BufferView, UplinkState, UplinkStatus};
use arc_swap::ArcSwap;
use interlex_core::description::{Uplink, UplinkKind};
use interlex_core::{LatestTable, PointIndex, Sample, Value};
use serde::Serialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use tokio::sync::{mpsc, oneshot};

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
    Points(Shape),
}

/// What the points are, and the links behind which they are.
#[derive(Debug, Clone)]
pub(crate) struct Shape {
    pub(crate) points: Arc<PointTable>,
    pub(crate) latest: Arc<LatestTable>,
    /// The names of the links.
    pub(crate) links: Arc<[String]>,
    /// The titles of devices, by their names.
    pub(crate) titles: Arc<BTreeMap<String, String>>,
}

/// What people want of an uplink.
#[derive(Debug)]
pub(crate) enum UplinkRequest {
    /// To see its buffer.
    Buffer(oneshot::Sender<BufferView>),
    /// To throw away what waits; tells how many samples that were.
    Purge(oneshot::Sender<u64>),
    /// To see how many of the samples that wait would be lost with these points.
    WouldLose(Arc<PointTable>, oneshot::Sender<WouldLose>),
    /// To see what was published last of a point; from the first time on it is remembered.
    Published(PointIndex, oneshot::Sender<Option<Published>>),
    /// To tell everything anew; whether that is done.
    Births(oneshot::Sender<bool>),
    /// To see the last messages that were made from templates.
    Messages(oneshot::Sender<Vec<SentMessage>>),
}

/// Samples that another description would lose.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct WouldLose {
    pub(crate) certainly: u64,
    /// Of so many in the database only it is not known.
    pub(crate) perhaps: u64,
}

/// What was published of a point.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct Published {
    /// When it was handed to the connection, in milliseconds since 1970 UTC.
    pub at: i64,
    /// The value; null when it has none.
    #[schema(value_type = serde_json::Value)]
    pub value: Option<Value>,
    /// When the value arose.
    pub timestamp: i64,
    /// Whether it had waited.
    pub historical: bool,
}

/// Requests that may wait for an uplink that is busy.
pub(crate) const REQUEST_QUEUE: usize = 16;

/// The status of an uplink before it ran.
pub(crate) async fn initial_status(uplink: &Uplink) -> UplinkStatus {
    let whole = with_files(uplink).await.ok();
    UplinkStatus {
        name: uplink.settings.name.to_string(),
        kind: uplink.word(),
        url: uplink.settings.url.to_string(),
        node: match &uplink.kind {
            UplinkKind::Sparkplug(own) => format!("{}/{}", own.group, own.node),
            UplinkKind::Json(_) => String::new(),
        },
        state: UplinkState::Connecting,
        since: wall_clock().as_millis(),
        last_error: None,
        last_error_at: None,
        messages: 0,
        samples_delivered: 0,
        samples_per_second: 0.0,
        buffer: BufferState::default(),
        bd_seq: None,
        host_in_doubt: false,
        certificate_until: whole.and_then(|uplink| tls::valid_until(uplink.broker.certificate.as_deref()?)),
    }
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
