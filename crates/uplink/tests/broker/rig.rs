//! An uplink, what the field side would tell it, and a host behind a real broker.

use interlex_core::description::{Files, Point, Uplink, read};
use interlex_core::{
    Clock, DataType, FieldEvent, Inventory, LatestTable, ManualClock, PointTable, Quality, Reason, Sample, SampleKind,
    Shared, TimeQuality, Timestamp, UplinkStatus, Value,
};
use interlex_sidecar::{Broker, Database, own_socket};
use interlex_sparkplug::proto::Metric;
use interlex_sparkplug::{DataType as MetricType, MessageType, Topic, decode_payload, decode_value};
use interlex_store::Store;
use interlex_uplink::{
    BrokerCommand, BrokerCommands, EVENT_QUEUE, FromBroker, LinkHealth, UplinkRequest, UplinkStart, initial_status,
    start,
};
use rumqttc::{AsyncClient, Event, MqttOptions, Packet, QoS};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// 2027-01-15 08:00:00 UTC.
const BEGIN: i64 = 1_800_000_000_000;

pub(crate) fn at(millis: i64) -> Timestamp {
    Timestamp::from_millis(BEGIN + millis)
}

/// A host that writes down what it hears of devices, a line a message: `DDATA tank level=7 @40 historical`. Messages that are not
/// Sparkplug stand as they are behind their topics.
pub(crate) struct Host {
    pub(crate) client: AsyncClient,
    heard: Arc<Mutex<Vec<String>>>,
    /// What it heard of the node itself: the kinds of the messages.
    pub(crate) node: Arc<Mutex<Vec<String>>>,
}

impl Host {
    pub(crate) async fn start(broker: SocketAddr) -> Self {
        let options = MqttOptions::new("host", broker.ip().to_string(), broker.port());
        let (client, mut eventloop) = AsyncClient::new(options, 16);
        let [heard, node]: [Arc<Mutex<Vec<String>>>; 2] = Default::default();
        let (into, of_node, again) = (Arc::clone(&heard), Arc::clone(&node), client.clone());
        let (sender, subscribed) = tokio::sync::oneshot::channel();
        tokio::spawn(async move {
            let (mut sender, mut types) = (Some(sender), HashMap::new());
            loop {
                match eventloop.poll().await {
                    Ok(Event::Incoming(Packet::ConnAck(_))) => {
                        again.try_subscribe("#", QoS::AtMostOnce).unwrap();
                    }
                    Ok(Event::Incoming(Packet::SubAck(_))) => {
                        sender.take().into_iter().for_each(|sender| sender.send(()).unwrap());
                    }
                    Ok(Event::Incoming(Packet::Publish(told))) => {
                        // Its own STATE is none of the node's messages.
                        let Ok(topic) = told.topic.parse::<Topic>() else {
                            let payload = String::from_utf8_lossy(&told.payload);
                            into.lock().unwrap().push(format!("{} {payload}", told.topic));
                            continue;
                        };
                        if matches!(topic.message, MessageType::NCmd | MessageType::DCmd) {
                            continue;
                        }
                        let payload = decode_payload(&told.payload).unwrap();
                        let Some(device) = &topic.device else {
                            of_node.lock().unwrap().push(format!("{:?}", topic.message).to_uppercase());
                            continue;
                        };
                        let metrics = payload.metrics.iter().map(|metric| words(metric, device, &mut types));
                        let line =
                            [format!("{:?}", topic.message).to_uppercase(), device.clone()].into_iter().chain(metrics);
                        into.lock().unwrap().push(line.collect::<Vec<_>>().join(" "));
                    }
                    Ok(_) => {}
                    Err(_) => tokio::time::sleep(Duration::from_millis(2)).await,
                }
            }
        });
        subscribed.await.unwrap();
        Self { client, heard, node }
    }

    /// Waits for a line, or for how it ends, and gives those since the one that was waited for last.
    pub(crate) async fn until(&self, line: &str) -> Vec<String> {
        let waiting = async {
            loop {
                {
                    let mut heard = self.heard.lock().unwrap();
                    if let Some(place) = heard.iter().position(|known| known.ends_with(line)) {
                        return heard.drain(..=place).collect();
                    }
                }
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        };
        let lines = tokio::time::timeout(Duration::from_secs(40), waiting).await;
        lines.unwrap_or_else(|_| panic!("waited in vain for {line:?} among {:#?}", self.heard.lock().unwrap()))
    }
}

/// A metric as people read it; births tell the names and types of what comes later.
fn words(metric: &Metric, device: &str, types: &mut HashMap<u64, (String, MetricType)>) -> String {
    let mut is_birth = false;
    if let (Some(name), Some(alias), Some(code)) = (&metric.name, metric.alias, metric.datatype) {
        is_birth = true;
        types.insert(alias, (name.clone(), MetricType::from_code(code).unwrap()));
    }
    let alias = metric.alias.unwrap_or_else(|| panic!("{device}: a metric without alias"));
    let (name, data_type) = types.get(&alias).unwrap_or_else(|| panic!("{device}: {alias} was never announced"));
    let value = metric.value.as_ref().map(|value| decode_value(*data_type, value).unwrap());
    let value = value.map_or_else(|| "null".to_owned(), |value| format!("{value:?}"));
    let time = i64::try_from(metric.timestamp.unwrap()).unwrap() - BEGIN;
    let mut words = if is_birth { format!("{name}:{data_type:?}={value}") } else { format!("{name}={value}") };
    if value != "null" {
        words += &format!(" @{time}");
    }
    if metric.is_historical == Some(true) {
        words += " historical";
    }
    words
}

/// What the field side would tell, and what an uplink makes of it.
pub(crate) struct Rig {
    pub(crate) directory: tempfile::TempDir,
    pub(crate) broker: Broker,
    pub(crate) points: Arc<PointTable>,
    pub(crate) latest: Arc<LatestTable>,
    pub(crate) inventory: Inventory,
    pub(crate) uplink: Uplink,
    pub(crate) store: Option<Store>,
}

/// A running uplink.
pub(crate) struct Run {
    pub(crate) events: mpsc::Sender<FieldEvent>,
    status: Arc<Shared<UplinkStatus>>,
    /// What hosts want of the field.
    commands: mpsc::Receiver<FromBroker>,
    requests: mpsc::Sender<UplinkRequest>,
    stop: CancellationToken,
    task: JoinHandle<()>,
}

impl Rig {
    /// Points of one device; those of type `auto` tell theirs later, those with `rw` behind can be written.
    pub(crate) async fn new(rows: &str, store: Option<Store>) -> Self {
        Self::with(rows, store, "").await
    }

    /// The same with more settings of the uplink.
    pub(crate) async fn with(rows: &str, store: Option<Store>, more: &str) -> Self {
        let sparkplug = "kind = \"sparkplug\"\ngroup = \"alderfen\"\nnode = \"works-1\"\nhealth = \"1h\"\n";
        Self::of_kind(rows, store, &format!("{sparkplug}{more}")).await
    }

    /// With an uplink that is described so; words behind `#` are labels of the point.
    pub(crate) async fn of_kind(rows: &str, store: Option<Store>, kind: &str) -> Self {
        let directory = tempfile::tempdir().unwrap();
        let broker = Broker::start(directory.path(), own_socket().unwrap()).await.unwrap();
        let main = format!(
            "[gateway]\nname = \"alderfen-1\"\n[rates]\nr = \"1s\"\n[[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost = \
             \"127.0.0.1\"\n[[device]]\nname = \"tank\"\nlink = \"bus\"\nunit = 1\npoints = \"p.csv\"\n[[uplink]]\nname = \
             \"cloud\"\nurl = \"mqtt://{}\"\n{kind}",
            broker.address()
        );
        let is_auto = |row: &&str| row.ends_with(",auto");
        let row = |row: &str| {
            let (row, labels) = row.split_once('#').unwrap_or((row, ""));
            let access = if row.ends_with(",rw") { "read-write" } else { "read" };
            format!("{},r,{access},{labels}\n", row.replace(",auto", ",uint16").replace(",rw", ""))
        };
        let list = format!("name,address,type,rate,access,labels\n{}", rows.lines().map(row).collect::<String>());
        let files: Files = [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), list)].into();
        let mut description = read(&files).unwrap();
        // Registers never say what they are; points of other protocols do.
        let points = &mut description.devices[0].points;
        let point = |(row, point): (&str, &Arc<Point>)| {
            let mut point = (**point).clone();
            point.settings.data_type = if is_auto(&row) { DataType::Auto } else { point.settings.data_type };
            Arc::new(point)
        };
        *points = rows.lines().zip(&**points).map(point).collect();
        let points = Arc::new(PointTable::new(&description, &PointTable::default()));
        let latest = Arc::new(LatestTable::new(points.indices()));
        let inventory = Inventory::new(&description, Arc::clone(&points), Arc::clone(&latest));
        let uplink = description.uplinks[0].clone();
        Self { directory, broker, points, latest, inventory, uplink, store }
    }

    pub(crate) async fn run(&self) -> Run {
        let clock: Arc<dyn Clock> = Arc::new(ManualClock::new(at(1000)));
        let status = Arc::new(Shared::new(initial_status(&self.uplink, clock.now()).await));
        let ((events, taken), (requests, asked)) = (mpsc::channel(EVENT_QUEUE), mpsc::channel(1));
        let (sender, commands) = BrokerCommands::channel();
        let stop = CancellationToken::new();
        let start_with = UplinkStart {
            gateway: "alderfen-1".to_owned(),
            title: String::new(),
            uplink: self.uplink.clone(),
            inventory: self.inventory.clone(),
            status: Arc::clone(&status),
            clock,
            links: LinkHealth::new(Vec::new),
            words: |reason| reason.to_string(),
            store: self.store.clone(),
            commands: sender,
            requests: asked,
        };
        let task = start(start_with, taken, stop.clone()).await;
        Run { events, status, commands, requests, stop, task }
    }

    pub(crate) fn sample(&self, point: &str, value: Option<Value>, millis: i64, kind: SampleKind) -> Sample {
        let quality = if value.is_some() { Quality::Good } else { Quality::Bad(Reason::Timeout) };
        let point = self.points.find("tank", point).unwrap().index;
        if kind != SampleKind::Past {
            self.latest.store(point, value.as_ref().map(|value| (value, value)), quality, at(millis), at(millis));
        }
        let time_quality = TimeQuality::Unsaid;
        Sample { point, value, quality, source_time: at(millis), gateway_time: at(millis), time_quality, kind }
    }

    /// Points are of these types from now on, as the floor of a link has it done.
    pub(crate) fn retype(&self, types: &[(&str, DataType)]) -> FieldEvent {
        for (name, data_type) in types {
            let info = self.points.find("tank", name).unwrap();
            info.set_found(*data_type);
            self.latest.forget(info.index);
        }
        FieldEvent::Retyped(0)
    }
}

impl Run {
    pub(crate) async fn tell(&self, samples: impl IntoIterator<Item = Sample>) {
        self.events.send(FieldEvent::Samples(samples.into_iter().collect())).await.unwrap();
    }

    /// What a host wants next of the field.
    pub(crate) async fn next(&mut self) -> FromBroker {
        tokio::time::timeout(Duration::from_secs(40), self.commands.recv()).await.unwrap().unwrap()
    }

    pub(crate) async fn command(&mut self) -> BrokerCommand {
        match self.next().await {
            FromBroker::Command(command) => command,
            FromBroker::Refused { why, .. } => panic!("{why}"),
        }
    }

    pub(crate) async fn ask(&self, request: UplinkRequest) {
        self.requests.send(request).await.unwrap();
    }

    pub(crate) async fn until(&self, what: &str, holds: impl Fn(&UplinkStatus) -> bool) {
        let status = || self.status.read(at(1000)).0;
        let waiting = async {
            while !holds(&status()) {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        };
        let waited = tokio::time::timeout(Duration::from_secs(40), waiting).await;
        assert!(waited.is_ok(), "waited in vain: {what}\n{:#?}", status());
    }

    pub(crate) async fn end(self) {
        self.stop.cancel();
        self.task.await.unwrap();
    }

    /// Ends it between two lines, as a power cut would.
    pub(crate) async fn kill(self) {
        self.task.abort();
        assert!(self.task.await.unwrap_err().is_cancelled());
    }
}

/// The device answers.
pub(crate) const UP: FieldEvent = FieldEvent::DeviceUp(0);

/// A change of the level, one millisecond later each.
pub(crate) fn level(rig: &Rig, value: u64) -> Sample {
    rig.sample("level", Some(Value::Uint(value)), i64::try_from(value).unwrap(), SampleKind::Event)
}

/// A database of its own.
pub(crate) async fn database() -> (tempfile::TempDir, Database, Store) {
    let directory = tempfile::tempdir().unwrap();
    let database = Database::start(directory.path(), own_socket().unwrap()).await.unwrap();
    let store = Store::new(&database.url("interlex")).unwrap();
    store.migrate().await.unwrap();
    (directory, database, store)
}
