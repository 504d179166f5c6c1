use crate::command::BrokerCommands;
use crate::json::JsonMessages;
use crate::mqtt::{valid_until, with_files};
use crate::request::UplinkRequest;
use crate::session::UplinkTask;
use crate::sparkplug::SparkplugNode;
use interlex_busy::watched;
use interlex_core::description::{Uplink, UplinkKind};
use interlex_core::{
    BufferState, Clock, FieldEvent, Inventory, LinkStatus, Reason, Shared, Timestamp, UplinkState, UplinkStatus,
};
use interlex_store::Store;
use std::fmt;
use std::ops::Deref;
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// How many events of the field side may wait for an uplink that is busy. Uplinks only compute and hand over, so a few
/// hundred cover a moment without the processor; when it is full, links wait.
pub const EVENT_QUEUE: usize = 512;

/// What a reason for a quality is called, in the words of its protocol.
pub type ReasonWords = fn(Reason) -> String;

/// Tells how the links of the gateway are.
#[derive(Clone)]
pub struct LinkHealth(Arc<dyn Fn() -> Vec<LinkStatus> + Send + Sync>);

impl LinkHealth {
    /// Links that are looked at in this way.
    pub fn new(look: impl Fn() -> Vec<LinkStatus> + Send + Sync + 'static) -> Self {
        Self(Arc::new(look))
    }
}

impl Deref for LinkHealth {
    type Target = dyn Fn() -> Vec<LinkStatus> + Send + Sync;

    fn deref(&self) -> &Self::Target {
        &*self.0
    }
}

impl fmt::Debug for LinkHealth {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("LinkHealth")
    }
}

/// What an uplink starts with.
#[derive(Debug)]
pub struct UplinkStart {
    /// The name of the gateway.
    pub gateway: String,
    /// What people call the gateway.
    pub title: String,
    /// What is described.
    pub uplink: Uplink,
    /// The points.
    pub inventory: Inventory,
    /// Where it shows how it is.
    pub status: Arc<Shared<UplinkStatus>>,
    /// The time of day.
    pub clock: Arc<dyn Clock>,
    /// How the links are, for the metrics of a node.
    pub links: LinkHealth,
    /// What reasons for qualities are called.
    pub words: ReasonWords,
    /// Where the journal is; without it what waits is in memory only.
    pub store: Option<Store>,
    /// The way of commands to the field.
    pub commands: BrokerCommands,
    /// What people want of it.
    pub requests: mpsc::Receiver<UplinkRequest>,
}

/// Starts an uplink. When it is back, what an earlier run has left is known, and the uplink takes in events; it ends with
/// `stop`, in order.
pub async fn start(start: UplinkStart, events: mpsc::Receiver<FieldEvent>, stop: CancellationToken) -> JoinHandle<()> {
    let name = start.uplink.settings.name.to_string();
    match start.uplink.kind.clone() {
        UplinkKind::Sparkplug(own) => {
            let (base, node) = SparkplugNode::new(start, own).await;
            tokio::spawn(watched("uplink", name, UplinkTask::new(base, node).run(events, stop)))
        }
        UplinkKind::Json(own) => {
            let (base, messages) = JsonMessages::new(start, own).await;
            tokio::spawn(watched("uplink", name, UplinkTask::new(base, messages).run(events, stop)))
        }
    }
}

/// The status of an uplink before it ran.
pub async fn initial_status(uplink: &Uplink, now: Timestamp) -> UplinkStatus {
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
        since: now.as_millis(),
        last_error: None,
        last_error_at: None,
        messages: 0,
        samples_delivered: 0,
        counted_since: now.as_millis(),
        samples_per_second: 0.0,
        buffer: BufferState::default(),
        bd_seq: None,
        host_in_doubt: false,
        certificate_until: whole.and_then(|uplink| valid_until(uplink.broker.certificate.as_deref()?)),
    }
}
