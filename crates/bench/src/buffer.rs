//! What the journal takes in an outage, and how fast it empties afterwards beside what is new.

use crate::report::{header, now, quantile, row};
use anyhow::Context;
use interlex_core::description::{Files, read};
use interlex_faults::CountingPlant;
use interlex_gateway::{Gateway, GatewayOptions, UplinkState, UplinkStatus, wall_clock};
use interlex_sidecar::{Broker, Database, own_socket};
use interlex_sparkplug::{MessageType, Topic, decode_payload};
use interlex_store::{JournalBlock, Store};
use parking_lot::Mutex;
use rumqttc::{AsyncClient, Event, EventLoop, MqttOptions, NetworkOptions, Packet, QoS};
use std::fmt::Write as _;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::{Instant, sleep, timeout};

const LINKS: usize = 4;
const UNITS_PER_LINK: usize = 25;
const POINTS_PER_UNIT: usize = 500;
/// All points change with every read: 100,000 samples a second.
const PERIOD: &str = "500ms";
const WARM_UP: Duration = Duration::from_secs(5);
const FILLED: Duration = Duration::from_secs(30);
/// The raw limits are taken over so long.
const RAW: Duration = Duration::from_secs(5);
/// Samples in a whole block, and metrics in a whole message.
const PER_BLOCK: u32 = 4000;
const PER_MESSAGE: u32 = 500;

pub(crate) struct Rig {
    _directory: tempfile::TempDir,
    pub(crate) broker: Broker,
    _database: Database,
    store: Store,
    pub(crate) gateway: Gateway,
    _plant: CountingPlant,
}

fn files(plant: SocketAddr, broker: SocketAddr, more: &str) -> Files {
    let (plant_ip, plant_port) = (plant.ip(), plant.port());
    let mut main = format!("[gateway]\nname = \"works\"\n[rates]\nfast = \"{PERIOD}\"\n");
    for link in 0..LINKS {
        // Writing into a string cannot fail.
        let _ = write!(
            main,
            "[[link]]\nname = \"bus-{link}\"\nprotocol = \"modbus-tcp\"\nhost = \"{plant_ip}\"\nport = {plant_port}\nin-flight = 4\n"
        );
        for unit in 1..=UNITS_PER_LINK {
            let number = link * UNITS_PER_LINK + unit;
            let _ = write!(
                main,
                "[[device]]\nname = \"unit-{number}\"\nlink = \"bus-{link}\"\nunit = {number}\npoints = \"p.csv\"\n"
            );
        }
    }
    let _ = write!(
        main,
        "[[uplink]]\nname = \"cloud\"\nkind = \"sparkplug\"\nurl = \"mqtt://{broker}\"\ngroup = \"bench\"\nnode = \
         \"works\"\nkeep-megabytes = 100000\n{more}"
    );
    let mut list = "name,address,type,rate\n".to_owned();
    for point in 0..POINTS_PER_UNIT {
        let _ = writeln!(list, "value-{point},holding:{},uint32,fast", point * 2);
    }
    [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), list)].into()
}

impl Rig {
    async fn start() -> anyhow::Result<Self> {
        Self::start_with("").await
    }

    /// With more lines for the uplink; the broker is away.
    pub(crate) async fn start_with(more: &str) -> anyhow::Result<Self> {
        let directory = tempfile::tempdir()?;
        let mut broker = Broker::start(&directory.path().join("broker"), own_socket()?).await?;
        let database = Database::start(&directory.path().join("database"), own_socket()?).await?;
        let store = Store::new(&database.url("interlex"))?;
        store.migrate().await?;
        let plant = CountingPlant::start().await?;
        let description =
            read(&files(plant.address(), broker.address(), more)).map_err(|p| anyhow::anyhow!("{p:?}"))?;
        broker.stop().await;
        let options = GatewayOptions { revision: 1, store: Some(store.clone()), ..GatewayOptions::default() };
        let gateway = Gateway::start(Arc::new(description), options).await;
        Ok(Self { _directory: directory, broker, _database: database, store, gateway, _plant: plant })
    }

    pub(crate) fn uplink(&self) -> anyhow::Result<UplinkStatus> {
        self.gateway.status().uplinks.into_iter().next().context("no uplink")
    }

    /// Lets the journal fill while the broker is away; gives samples a second, and the bytes of a sample.
    async fn fill(&self) -> anyhow::Result<(f64, f64)> {
        sleep(WARM_UP).await;
        let (before, started) = (self.uplink()?.buffer, Instant::now());
        sleep(FILLED).await;
        let (after, took) = (self.uplink()?.buffer, started.elapsed().as_secs_f64());
        anyhow::ensure!(after.lost == 0, "{} samples were lost", after.lost);
        #[expect(clippy::cast_precision_loss, reason = "far below 2^53")]
        Ok(((after.durable - before.durable) as f64 / took, after.bytes as f64 / after.durable as f64))
    }
}

/// What the database takes of blocks with so many bytes, in samples a second.
#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "some tens of kilobytes")]
async fn raw_write(store: &Store, bytes_per_sample: f64) -> anyhow::Result<f64> {
    let samples = vec![0xA5; (bytes_per_sample * f64::from(PER_BLOCK)) as usize];
    let block = JournalBlock { samples, count: PER_BLOCK, oldest_at: 0, newest_at: 0 };
    let (started, mut blocks) = (Instant::now(), 0);
    while started.elapsed() < RAW {
        store.add_journal_block("raw", "raw", &block).await?;
        blocks += 1;
    }
    Ok(f64::from(blocks * PER_BLOCK) / started.elapsed().as_secs_f64())
}

pub(crate) async fn write() -> anyhow::Result<()> {
    let rig = Rig::start().await?;
    let (ours, bytes) = rig.fill().await?;
    let waiting = rig.uplink()?.buffer;
    rig.gateway.stop().await;
    let raw = raw_write(&rig.store, bytes).await?;
    header(&format!(
        "buffer-write: {} points changing every {PERIOD}, the broker away; raw: as many bytes in as large blocks, nothing else",
        LINKS * UNITS_PER_LINK * POINTS_PER_UNIT
    ));
    row("samples/s into the database", &format!("{ours:.0}"), &format!("{raw:.0}"), Some(ours / raw));
    row("bytes per sample", &format!("{bytes:.2}"), "-", None);
    row("samples waiting at the end, not in the database", &(waiting.waiting - waiting.durable).to_string(), "-", None);
    Ok(())
}

/// What a host counts.
#[derive(Debug, Default)]
pub(crate) struct Counted {
    historical: u64,
    live: u64,
    /// From the sample's own time to its arrival.
    pub(crate) latencies: Vec<Duration>,
}

fn since_1970() -> Duration {
    Duration::from_millis(wall_clock().as_unsigned_millis())
}

fn client(broker: SocketAddr, name: &str) -> (AsyncClient, EventLoop) {
    let mut options = MqttOptions::new(name, broker.ip().to_string(), broker.port());
    options.set_max_packet_size(64 << 20, 1 << 20);
    let (client, mut eventloop) = AsyncClient::new(options, 64);
    let mut network = NetworkOptions::new();
    network.set_tcp_nodelay(true);
    eventloop.set_network_options(network);
    (client, eventloop)
}

/// The host, which is the primary one where a node waits for one.
pub(crate) const HOST: &str = "control-room";

/// Waits for a broker and counts what arrives.
pub(crate) async fn count(broker: SocketAddr, counted: Arc<Mutex<Counted>>) {
    loop {
        let (client, mut eventloop) = client(broker, "host");
        while let Ok(event) = eventloop.poll().await {
            match event {
                Event::Incoming(Packet::ConnAck(_)) => {
                    // The queue is empty.
                    let _ = client.try_subscribe("spBv1.0/#", QoS::AtMostOnce);
                }
                Event::Incoming(Packet::SubAck(_)) => {
                    let state = format!("{{\"online\":true,\"timestamp\":{}}}", since_1970().as_millis());
                    let _ = client.try_publish(format!("spBv1.0/STATE/{HOST}"), QoS::AtLeastOnce, true, state);
                }
                Event::Incoming(Packet::Publish(message)) => {
                    let is_data = message.topic.parse::<Topic>().is_ok_and(|topic| topic.message == MessageType::DData);
                    let Some(payload) = decode_payload(&message.payload).ok().filter(|_| is_data) else { continue };
                    let (at, mut counted) = (since_1970(), counted.lock());
                    for metric in payload.metrics {
                        if metric.is_historical == Some(true) {
                            counted.historical += 1;
                        } else {
                            counted.live += 1;
                            let arose = Duration::from_millis(metric.timestamp.unwrap_or(0));
                            counted.latencies.push(at.saturating_sub(arose));
                        }
                    }
                }
                _ => {}
            }
        }
        sleep(Duration::from_millis(2)).await;
    }
}

/// How many metrics a second pass the broker to one subscriber, in messages of the same size, read and not decoded.
async fn raw_drain(broker: SocketAddr, bytes: usize) -> anyhow::Result<f64> {
    let (listener, mut listening) = client(broker, "raw-listener");
    let (publisher, mut publishing) = client(broker, "raw-publisher");
    listener.try_subscribe("raw", QoS::AtMostOnce)?;
    while !matches!(listening.poll().await?, Event::Incoming(Packet::SubAck(_))) {}
    tokio::spawn(async move { while publishing.poll().await.is_ok() {} });
    let sending = tokio::spawn(async move {
        while publisher.publish("raw", QoS::AtMostOnce, false, vec![0xA5; bytes]).await.is_ok() {}
    });
    let (started, mut messages) = (Instant::now(), 0_u32);
    while started.elapsed() < RAW {
        if let Event::Incoming(Packet::Publish(_)) = listening.poll().await? {
            messages += 1;
        }
    }
    let took = started.elapsed().as_secs_f64();
    sending.abort();
    Ok(f64::from(messages) * f64::from(PER_MESSAGE) / took)
}

pub(crate) async fn drain() -> anyhow::Result<()> {
    let mut rig = Rig::start().await?;
    rig.fill().await?;
    let waited = rig.uplink()?.buffer.waiting;
    let counted = Arc::new(Mutex::new(Counted::default()));
    tokio::spawn(count(rig.broker.address(), Arc::clone(&counted)));
    rig.broker.restart().await?;
    let started = now();
    while rig.uplink()?.state != UplinkState::Online {
        anyhow::ensure!(started.elapsed() < Duration::from_secs(60), "the broker is not found again");
        sleep(Duration::from_millis(5)).await;
    }
    let online = now();
    while rig.uplink()?.buffer.durable > 0 {
        anyhow::ensure!(online.elapsed() < Duration::from_secs(600), "it does not empty");
        sleep(Duration::from_millis(20)).await;
    }
    let took = online.elapsed().as_secs_f64();
    let (historical, live, mut latencies) = {
        let mut counted = counted.lock();
        (counted.historical, counted.live, std::mem::take(&mut counted.latencies))
    };
    latencies.sort_unstable();
    // Without anything that waited.
    sleep(Duration::from_secs(5)).await;
    let mut alone = std::mem::take(&mut counted.lock().latencies);
    alone.sort_unstable();
    let lost = rig.uplink()?.buffer.lost;
    timeout(Duration::from_secs(30), rig.gateway.stop()).await?;
    let raw = raw_drain(rig.broker.address(), 21 * PER_MESSAGE as usize).await?;
    #[expect(clippy::cast_precision_loss, reason = "far below 2^53")]
    let (ours, beside) = (historical as f64 / took, live as f64 / took);
    header(&format!(
        "buffer-drain: {waited} samples that waited, history-share 50 %, and {beside:.0} live ones a second"
    ));
    row("historical samples/s", &format!("{ours:.0}"), &format!("{raw:.0}"), Some(ours / raw));
    row("all samples/s", &format!("{:.0}", ours + beside), &format!("{raw:.0}"), Some((ours + beside) / raw));
    let ms = |latency: Duration| format!("{:.0} ms", latency.as_secs_f64() * 1000.0);
    row("live, from read to host, p50", &ms(quantile(&latencies, 0.5)), &ms(quantile(&alone, 0.5)), None);
    row("live, from read to host, p99", &ms(quantile(&latencies, 0.99)), &ms(quantile(&alone, 0.99)), None);
    row("lost", &lost.to_string(), "-", None);
    anstream::println!("(at the latencies, beside: with nothing that waits)");
    Ok(())
}
