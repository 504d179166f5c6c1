//! A Sparkplug uplink from what the field side tells to what a host hears at a real broker.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::{Files, Uplink, read};
use interlex_core::{
    Clock, DataType, FieldEvent, Inventory, LatestTable, ManualClock, PointTable, Quality, Reason, Sample, SampleKind,
    Shared, Timestamp, UplinkState, UplinkStatus, Value,
};
use interlex_sidecar::{Broker, Database, own_socket};
use interlex_sparkplug::proto::Metric;
use interlex_sparkplug::{DataType as MetricType, Topic, decode_payload, decode_value};
use interlex_store::Store;
use interlex_uplink::{BrokerCommands, EVENT_QUEUE, LinkHealth, UplinkStart, initial_status, start};
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

fn at(millis: i64) -> Timestamp {
    Timestamp::from_millis(BEGIN + millis)
}

/// A host that writes down what it hears of devices, a line a message: `DDATA tank level=7 @40 historical`.
struct Host {
    heard: Arc<Mutex<Vec<String>>>,
}

impl Host {
    async fn start(broker: SocketAddr) -> Self {
        let options = MqttOptions::new("host", broker.ip().to_string(), broker.port());
        let (client, mut eventloop) = AsyncClient::new(options, 16);
        let heard: Arc<Mutex<Vec<String>>> = Arc::default();
        let into = Arc::clone(&heard);
        let (sender, subscribed) = tokio::sync::oneshot::channel();
        tokio::spawn(async move {
            let (mut sender, mut types) = (Some(sender), HashMap::new());
            loop {
                match eventloop.poll().await {
                    Ok(Event::Incoming(Packet::ConnAck(_))) => {
                        client.try_subscribe("spBv1.0/#", QoS::AtMostOnce).unwrap();
                    }
                    Ok(Event::Incoming(Packet::SubAck(_))) => {
                        sender.take().into_iter().for_each(|sender| sender.send(()).unwrap());
                    }
                    Ok(Event::Incoming(Packet::Publish(told))) => {
                        let topic: Topic = told.topic.parse().unwrap();
                        let payload = decode_payload(&told.payload).unwrap();
                        let Some(device) = &topic.device else { continue };
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
        Self { heard }
    }

    /// Waits for a line, and gives those since the one that was waited for last.
    async fn until(&self, line: &str) -> Vec<String> {
        let waiting = async {
            loop {
                {
                    let mut heard = self.heard.lock().unwrap();
                    if let Some(place) = heard.iter().position(|known| known == line) {
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
struct Rig {
    directory: tempfile::TempDir,
    broker: Broker,
    points: Arc<PointTable>,
    latest: Arc<LatestTable>,
    inventory: Inventory,
    uplink: Uplink,
    store: Option<Store>,
}

/// A running uplink.
struct Run {
    events: mpsc::Sender<FieldEvent>,
    status: Arc<Shared<UplinkStatus>>,
    stop: CancellationToken,
    task: JoinHandle<()>,
}

impl Rig {
    /// Points of one device; those of type `auto` tell theirs later.
    async fn new(rows: &str, store: Option<Store>) -> Self {
        let directory = tempfile::tempdir().unwrap();
        let broker = Broker::start(directory.path(), own_socket().unwrap()).await.unwrap();
        let main = format!(
            "[gateway]\nname = \"alderfen-1\"\n[rates]\nr = \"1s\"\n[[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost = \
             \"127.0.0.1\"\n[[device]]\nname = \"tank\"\nlink = \"bus\"\nunit = 1\npoints = \"p.csv\"\n[[uplink]]\nname = \
             \"cloud\"\nkind = \"sparkplug\"\nurl = \"mqtt://{}\"\ngroup = \"alderfen\"\nnode = \"works-1\"\nhealth = \"1h\"\n",
            broker.address()
        );
        let is_auto = |row: &&str| row.ends_with(",auto");
        let list: String = rows.lines().map(|row| format!("{},r\n", row.replace(",auto", ",uint16"))).collect();
        let list = format!("name,address,type,rate\n{list}");
        let files: Files = [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), list)].into();
        let mut description = read(&files).unwrap();
        // Registers never say what they are; points of other protocols do.
        for (place, _) in rows.lines().enumerate().filter(|(_, row)| is_auto(row)) {
            Arc::make_mut(&mut description.devices[0].points[place]).settings.data_type = DataType::Auto;
        }
        let points = Arc::new(PointTable::new(&description, &PointTable::default()));
        let latest = Arc::new(LatestTable::new(points.indices()));
        let inventory = Inventory::new(&description, Arc::clone(&points), Arc::clone(&latest));
        let uplink = description.uplinks[0].clone();
        Self { directory, broker, points, latest, inventory, uplink, store }
    }

    async fn run(&self) -> Run {
        let clock: Arc<dyn Clock> = Arc::new(ManualClock::new(at(1000)));
        let status = Arc::new(Shared::new(initial_status(&self.uplink, clock.now()).await));
        let ((events, taken), (_, requests)) = (mpsc::channel(EVENT_QUEUE), mpsc::channel(1));
        let (commands, _) = BrokerCommands::channel();
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
            commands,
            requests,
        };
        let task = start(start_with, taken, stop.clone()).await;
        Run { events, status, stop, task }
    }

    fn sample(&self, point: &str, value: Option<Value>, millis: i64, kind: SampleKind) -> Sample {
        let quality = if value.is_some() { Quality::Good } else { Quality::Bad(Reason::Timeout) };
        let point = self.points.find("tank", point).unwrap().index;
        if kind != SampleKind::Past {
            self.latest.store(point, value.as_ref().map(|value| (value, value)), quality, at(millis), at(millis));
        }
        Sample { point, value, quality, source_time: at(millis), gateway_time: at(millis), kind }
    }

    /// Points are of these types from now on, as the floor of a link has it done.
    fn retype(&self, types: &[(&str, DataType)]) -> FieldEvent {
        for (name, data_type) in types {
            let info = self.points.find("tank", name).unwrap();
            info.set_found(*data_type);
            self.latest.forget(info.index);
        }
        FieldEvent::Retyped(0)
    }
}

impl Run {
    async fn tell(&self, samples: impl IntoIterator<Item = Sample>) {
        self.events.send(FieldEvent::Samples(samples.into_iter().collect())).await.unwrap();
    }

    async fn until(&self, what: &str, holds: impl Fn(&UplinkStatus) -> bool) {
        let status = || self.status.read(at(1000)).0;
        let waiting = async {
            while !holds(&status()) {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        };
        let waited = tokio::time::timeout(Duration::from_secs(40), waiting).await;
        assert!(waited.is_ok(), "waited in vain: {what}\n{:#?}", status());
    }

    async fn end(self) {
        self.stop.cancel();
        self.task.await.unwrap();
    }
}

const UP: FieldEvent = FieldEvent::DeviceUp(0);

#[tokio::test(flavor = "multi_thread")]
async fn before_its_birth_events_and_the_newest_usable_value_of_a_device_are_kept_and_follow() {
    let mut rig = Rig::new("level,holding:0,uint16\nfeed,holding:1,uint16\nbreaker,holding:2,uint16", None).await;
    let host = Host::start(rig.broker.address()).await;
    let run = rig.run().await;
    run.until("it is online", |status| status.state == UplinkState::Online).await;
    let (current, event) = (SampleKind::Current, SampleKind::Event);
    let value = |value| Some(Value::Uint(value));
    // A breaker tells two changes of the past hour; the level is read twice, and a third time in vain.
    run.tell([rig.sample("breaker", value(1), 10, event), rig.sample("breaker", value(0), 20, event)]).await;
    run.tell([rig.sample("level", value(7), 30, current), rig.sample("level", value(8), 40, current)]).await;
    run.tell([rig.sample("level", None, 50, current), rig.sample("feed", value(3), 60, current)]).await;
    run.events.send(UP).await.unwrap();
    let told = host.until("DBIRTH tank level:UInt16=null feed:UInt16=Uint(3) @60 breaker:UInt16=Uint(0) @20").await;
    assert_eq!(told.len(), 1, "nothing comes before the birth: {told:?}");
    // What the birth told is not told again, but for events: each change of a breaker counts.
    let follows =
        "DDATA tank breaker=Uint(1) @10 historical breaker=Uint(0) @20 historical level=Uint(8) @40 historical";
    assert_eq!(host.until(follows).await.len(), 1);
    // Had back from a memory of the device: never the newest.
    run.tell([rig.sample("feed", value(2), 35, SampleKind::Past), rig.sample("level", value(9), 70, current)]).await;
    let told = host.until("DDATA tank feed=Uint(2) @35 historical").await;
    assert_eq!(told, ["DDATA tank level=Uint(9) @70", "DDATA tank feed=Uint(2) @35 historical"]);
    // The clock of the breaker was set back: its newest change is historical, and follows as its state when it came.
    let mut late = rig.sample("breaker", value(1), 15, event);
    late.gateway_time = at(90);
    run.tell([late]).await;
    assert_eq!(host.until("DDATA tank breaker=Uint(1) @15 historical breaker=Uint(1) @90").await.len(), 1);
    run.end().await;
    rig.broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_type_that_the_device_tells_is_announced_once_it_is_known_and_anew_when_it_changes() {
    let mut rig = Rig::new("level,holding:0,auto\nstate,holding:1,auto\nfeed,holding:2,uint16", None).await;
    let host = Host::start(rig.broker.address()).await;
    let run = rig.run().await;
    run.until("it is online", |status| status.state == UplinkState::Online).await;
    run.events.send(rig.retype(&[("level", DataType::Int32)])).await.unwrap();
    run.tell([rig.sample("level", Some(Value::Int(-4)), 10, SampleKind::Current)]).await;
    run.events.send(UP).await.unwrap();
    // Nobody knows the type of the state yet: it is announced as nothing rather than as something wrong.
    host.until("DBIRTH tank level:Int32=Int(-4) @10 feed:UInt16=null").await;
    run.events.send(rig.retype(&[("state", DataType::String(20))])).await.unwrap();
    host.until("DBIRTH tank level:Int32=Int(-4) @10 state:String=null feed:UInt16=null").await;
    run.tell([rig.sample("state", Some(Value::Text("auto".into())), 20, SampleKind::Current)]).await;
    host.until("DDATA tank state=Text(\"auto\") @20").await;
    // The programme of the controller is another one: its level is a float now.
    run.events.send(rig.retype(&[("level", DataType::Float32)])).await.unwrap();
    host.until("DBIRTH tank level:Float=null state:String=Text(\"auto\") @20 feed:UInt16=null").await;
    run.tell([rig.sample("level", Some(Value::Float32(2.5)), 30, SampleKind::Current)]).await;
    assert_eq!(host.until("DDATA tank level=Float(2.5) @30").await.len(), 1);
    // What waits through an outage and is of a type that the point has no more is lost, and counted; the rest arrives.
    rig.broker.stop().await;
    run.until("it is offline", |status| status.state == UplinkState::Offline).await;
    run.tell([rig.sample("level", Some(Value::Float32(3.5)), 40, SampleKind::Current)]).await;
    run.tell([rig.sample("feed", Some(Value::Uint(6)), 50, SampleKind::Current)]).await;
    run.events.send(rig.retype(&[("level", DataType::Bool)])).await.unwrap();
    run.tell([rig.sample("level", Some(Value::Bool(true)), 60, SampleKind::Current)]).await;
    run.until("one is lost", |status| status.buffer.lost == 1).await;
    rig.broker.restart().await.unwrap();
    let told = host.until("DDATA tank feed=Uint(6) @50 historical level=Bool(true) @60 historical").await;
    assert!(told[0].starts_with("DBIRTH tank level:Boolean=Bool(true) @60 "), "{told:?}");
    run.end().await;
    rig.broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_waits_of_a_type_that_the_device_told_outlives_a_restart() {
    let databases = tempfile::tempdir().unwrap();
    let mut database = Database::start(databases.path(), own_socket().unwrap()).await.unwrap();
    let store = Store::new(&database.url("interlex")).unwrap();
    store.migrate().await.unwrap();
    let mut rig = Rig::new("level,holding:0,auto", Some(store.clone())).await;
    rig.broker.stop().await;
    let run = rig.run().await;
    run.events.send(rig.retype(&[("level", DataType::Int16)])).await.unwrap();
    run.tell((1..=3).map(|value| rig.sample("level", Some(Value::Int(value)), value * 10, SampleKind::Event))).await;
    run.until("all are on disk", |status| status.buffer.durable == 3).await;
    run.end().await;
    // Another start: what the device told is forgotten, and the device is away.
    let again = Rig::new("level,holding:0,auto", Some(store.clone())).await;
    let Rig { directory, broker, .. } = again;
    rig = Rig { uplink: again.uplink, points: again.points, latest: again.latest, inventory: again.inventory, ..rig };
    (rig.directory, rig.broker) = (directory, broker);
    let host = Host::start(rig.broker.address()).await;
    let run = rig.run().await;
    run.until("three wait", |status| status.buffer.waiting == 3 && status.state == UplinkState::Online).await;
    run.events.send(rig.retype(&[("level", DataType::Int16)])).await.unwrap();
    run.events.send(UP).await.unwrap();
    let told = host
        .until("DDATA tank level=Int(1) @10 historical level=Int(2) @20 historical level=Int(3) @30 historical")
        .await;
    assert_eq!(told[0], "DBIRTH tank level:Int16=null");
    run.until("none is lost", |status| (status.buffer.waiting, status.buffer.lost) == (0, 0)).await;
    run.end().await;
    rig.broker.stop().await;
    store.close().await;
    database.stop().await;
}
