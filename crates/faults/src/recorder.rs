use interlex_sparkplug::proto::{Metric, metric};
use interlex_sparkplug::{MessageType, Topic, decode_payload};
use parking_lot::Mutex;
use rumqttc::{AsyncClient, Event, LastWill, MqttOptions, Packet, QoS};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::task::JoinHandle;

/// A value as it arrived at the host.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Arrival {
    /// The number of the node's session, counted by its births.
    pub session: u32,
    /// The whole number that it says.
    pub value: u64,
    /// The metric's own time.
    pub timestamp: u64,
    /// Whether it comes from an outage.
    pub is_historical: bool,
    /// Whether it stood in a birth.
    pub is_birth: bool,
    /// When it arrived, in milliseconds since 1970.
    pub at: u64,
}

/// What has arrived, by `DEVICE/METRIC`, in the order of arrival.
type Ledger = Arc<Mutex<HashMap<String, Vec<Arrival>>>>;

/// A host application that writes down every value, and that tells its STATE, so that nodes may wait for it.
#[derive(Debug)]
pub struct Recorder {
    broker: SocketAddr,
    host: String,
    ledger: Ledger,
    /// The time of its last STATE.
    born: Arc<AtomicU64>,
    keep_alive: Duration,
    /// Whether it does nothing, as a process that is stopped.
    is_frozen: Arc<AtomicBool>,
    listening: Option<JoinHandle<()>>,
}

impl Recorder {
    /// A host that is not there yet.
    #[must_use]
    pub fn new(broker: SocketAddr, host: &str) -> Self {
        Self {
            broker,
            host: host.to_owned(),
            ledger: Ledger::default(),
            born: Arc::default(),
            keep_alive: Duration::from_secs(5),
            is_frozen: Arc::default(),
            listening: None,
        }
    }

    /// The keep-alive of its own connection, in whole seconds; 5 without this.
    #[must_use]
    pub const fn with_keep_alive(mut self, keep_alive: Duration) -> Self {
        self.keep_alive = keep_alive;
        self
    }

    /// Stops it from doing anything, or lets it go on.
    pub fn freeze(&self, is_frozen: bool) {
        self.is_frozen.store(is_frozen, Ordering::SeqCst);
    }

    /// Comes: connects again and again, listens, and tells that it is online.
    pub fn come(&mut self) {
        let (broker, host) = (self.broker, self.host.clone());
        let (ledger, born) = (Arc::clone(&self.ledger), Arc::clone(&self.born));
        let (keep_alive, frozen) = (self.keep_alive, Arc::clone(&self.is_frozen));
        self.listening.get_or_insert_with(|| tokio::spawn(listen(broker, host, (ledger, born), keep_alive, frozen)));
    }

    /// Is gone without a word: its broker tells so, if there is one.
    pub fn vanish(&mut self) {
        self.listening.take().into_iter().for_each(|task| task.abort());
    }

    /// The time of the last STATE that it told.
    #[must_use]
    pub fn said_online_at(&self) -> u64 {
        self.born.load(Ordering::SeqCst)
    }

    /// What has arrived of a metric so far.
    #[must_use]
    pub fn arrivals(&self, metric: &str) -> Vec<Arrival> {
        self.ledger.lock().get(metric).cloned().unwrap_or_default()
    }

    /// How many values have arrived in all.
    #[must_use]
    pub fn count(&self) -> usize {
        self.ledger.lock().values().map(Vec::len).sum()
    }

    /// The metrics of which something has arrived.
    #[must_use]
    pub fn metrics(&self) -> Vec<String> {
        self.ledger.lock().keys().cloned().collect()
    }
}

impl Drop for Recorder {
    fn drop(&mut self) {
        self.vanish();
    }
}

#[expect(clippy::disallowed_methods, reason = "a host has a clock of its own")]
fn now() -> u64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    u64::try_from(since.as_millis()).unwrap_or(0)
}

async fn listen(
    broker: SocketAddr,
    host: String,
    (ledger, said): (Ledger, Arc<AtomicU64>),
    keep_alive: Duration,
    is_frozen: Arc<AtomicBool>,
) {
    let (state_topic, mut births) = (format!("spBv1.0/STATE/{host}"), 0);
    let mut names = HashMap::new();
    loop {
        let born = now();
        let state = |online: bool| format!("{{\"online\":{online},\"timestamp\":{born}}}");
        let mut options = MqttOptions::new(format!("recorder-{host}"), broker.ip().to_string(), broker.port());
        options.set_keep_alive(keep_alive);
        options.set_max_packet_size(64 << 20, 1 << 20);
        options.set_last_will(LastWill::new(&state_topic, state(false), QoS::AtLeastOnce, true));
        let (client, mut eventloop) = AsyncClient::new(options, 64);
        let mut network = rumqttc::NetworkOptions::new();
        network.set_tcp_nodelay(true);
        eventloop.set_network_options(network);
        while let Ok(event) = eventloop.poll().await {
            while is_frozen.load(Ordering::SeqCst) {
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
            // The queue has room: nothing else is sent here.
            match event {
                Event::Incoming(Packet::ConnAck(_)) => {
                    let _ = client.try_subscribe("spBv1.0/#", QoS::AtMostOnce);
                }
                Event::Incoming(Packet::SubAck(_)) => {
                    said.store(born, Ordering::SeqCst);
                    let _ = client.try_publish(&state_topic, QoS::AtLeastOnce, true, state(true));
                }
                Event::Incoming(Packet::Publish(message)) => {
                    take_down(&message.topic, &message.payload, &mut births, &mut names, &ledger);
                }
                _ => {}
            }
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

fn take_down(topic: &str, payload: &[u8], births: &mut u32, names: &mut HashMap<u64, String>, ledger: &Ledger) {
    let (Ok(topic), Ok(payload)) = (topic.parse::<Topic>(), decode_payload(payload)) else { return };
    if topic.message == MessageType::NBirth {
        *births += 1;
    }
    let Some(device) = topic.device else { return };
    let is_birth = topic.message == MessageType::DBirth;
    if !is_birth && topic.message != MessageType::DData {
        return;
    }
    let (at, mut ledger) = (now(), ledger.lock());
    for metric in payload.metrics {
        if let (Some(alias), Some(name)) = (metric.alias, &metric.name) {
            names.insert(alias, format!("{device}/{name}"));
        }
        let Some(value) = whole(&metric) else { continue };
        let Some(name) = metric.alias.and_then(|alias| names.get(&alias)) else { continue };
        let arrival = Arrival {
            session: *births,
            value,
            timestamp: metric.timestamp.unwrap_or(0),
            is_historical: metric.is_historical.unwrap_or(false),
            is_birth,
            at,
        };
        match ledger.get_mut(name) {
            Some(arrivals) => arrivals.push(arrival),
            None => {
                ledger.insert(name.clone(), vec![arrival]);
            }
        }
    }
}

fn whole(metric: &Metric) -> Option<u64> {
    match metric.value.as_ref()? {
        metric::Value::IntValue(value) => Some((*value).into()),
        metric::Value::LongValue(value) => Some(*value),
        _ => None,
    }
}
