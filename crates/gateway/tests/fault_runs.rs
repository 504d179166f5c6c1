//! Everything between plant and host breaks, again and again; what the plant was read is compared with what the host has.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::{Files, read};
use interlex_faults::{BreakableLine, CountingPlant, Recorder, Verdict};
use interlex_gateway::{Gateway, GatewayOptions, UplinkState, UplinkStatus};
use interlex_sidecar::{Broker, Database, own_socket};
use interlex_store::Store;
use rumqttc::{AsyncClient, MqttOptions, Packet, QoS};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::runtime::Runtime;

const UNITS: [u8; 2] = [1, 2];

/// What is judged is the way from the gateway to the host: a plant that answers late on a busy machine is waited for.
fn files(plant: SocketAddr, broker: SocketAddr, more: &str) -> Files {
    let (plant_ip, plant_port) = (plant.ip(), plant.port());
    let device =
        |unit: &u8| format!("[[device]]\nname = \"meter-{unit}\"\nlink = \"bus\"\nunit = {unit}\npoints = \"p.csv\"\n");
    let devices: String = UNITS.iter().map(device).collect();
    let main = format!(
        "[gateway]\nname = \"alderfen-1\"\n[rates]\nfast = \"20ms\"\n[[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost = \
         \"{plant_ip}\"\nport = {plant_port}\ntimeout = \"20s\"\nstale-periods = 1000\n{devices}[[uplink]]\nname = \"cloud\"\nkind = \"sparkplug\"\nurl = \
         \"mqtt://{broker}\"\ngroup = \"alderfen\"\nnode = \"works-1\"\njournal-flush = \"100ms\"\nprimary-host = \
         \"control-room\"\n{more}"
    );
    let points = "name,address,type,rate,unit\ncount,holding:0,uint32,fast,kWh\n".to_owned();
    [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), points)].into()
}

async fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let waiting = async {
        while !holds() {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    };
    assert!(tokio::time::timeout(Duration::from_secs(60), waiting).await.is_ok(), "waited in vain: {what}");
}

fn newest(host: &Recorder, unit: u8) -> u64 {
    let arrivals = host.arrivals(&format!("meter-{unit}/count"));
    arrivals.iter().map(|arrival| arrival.value).max().unwrap_or(0)
}

fn of_outages(host: &Recorder, unit: u8) -> usize {
    host.arrivals(&format!("meter-{unit}/count")).iter().filter(|arrival| arrival.is_historical).count()
}

/// What a broker that keeps messages over a crash would still say of a host that is not back.
async fn say_old_state(broker: SocketAddr, timestamp: u64) {
    let (client, mut eventloop) =
        AsyncClient::new(MqttOptions::new("old-state", broker.ip().to_string(), broker.port()), 8);
    let state = format!("{{\"online\":true,\"timestamp\":{timestamp}}}");
    client.publish("spBv1.0/STATE/control-room", QoS::AtLeastOnce, true, state).await.unwrap();
    while !matches!(eventloop.poll().await, Ok(rumqttc::Event::Incoming(Packet::PubAck(_)))) {}
}

async fn gateway(files: Files, database: String) -> (Runtime, Arc<Gateway>) {
    let starting = std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let gateway = runtime.block_on(async {
            let options = GatewayOptions {
                revision: 1,
                store: Some(Store::new(&database).unwrap()),
                ..GatewayOptions::default()
            };
            Gateway::start(Arc::new(read(&files).unwrap()), options).await
        });
        (runtime, Arc::new(gateway))
    });
    tokio::task::spawn_blocking(|| starting.join().unwrap()).await.unwrap()
}

/// A gateway between a counting plant and a host, with everything that can break.
struct Run {
    _directory: tempfile::TempDir,
    broker: Broker,
    database: Database,
    store: Store,
    plant: CountingPlant,
    line: BreakableLine,
    host: Recorder,
    gateway: Arc<Gateway>,
    /// The gateway's own, so that it can die without a word.
    runtime: Option<Runtime>,
    more: String,
}

impl Drop for Run {
    fn drop(&mut self) {
        self.runtime.take().into_iter().for_each(Runtime::shutdown_background);
    }
}

impl Run {
    async fn start(more: &str) -> Self {
        let more = format!("keep-alive = \"1s\"\nhost-keep-alive = \"2s\"\n{more}");
        Self::start_with(&more, Duration::from_secs(2)).await
    }

    async fn start_with(more: &str, host_keep_alive: Duration) -> Self {
        let directory = tempfile::tempdir().unwrap();
        let broker = Broker::start(&directory.path().join("broker"), own_socket().unwrap()).await.unwrap();
        let database = Database::start(&directory.path().join("database"), own_socket().unwrap()).await.unwrap();
        let store = Store::new(&database.url("interlex")).unwrap();
        store.migrate().await.unwrap();
        let plant = CountingPlant::start().await.unwrap();
        let line = BreakableLine::start(broker.address()).await.unwrap();
        let host = Recorder::new(broker.address(), "control-room").with_keep_alive(host_keep_alive);
        let files = files(plant.address(), line.address(), more);
        let (runtime, gateway) = gateway(files, database.url("interlex")).await;
        let (runtime, more) = (Some(runtime), more.to_owned());
        Self { _directory: directory, broker, database, store, plant, line, host, gateway, runtime, more }
    }

    /// Kills the gateway wherever it is, and starts another one.
    async fn kill_and_start_again(&mut self) {
        self.runtime.take().into_iter().for_each(Runtime::shutdown_background);
        let files = files(self.plant.address(), self.line.address(), &self.more);
        let (runtime, gateway) = gateway(files, self.database.url("interlex")).await;
        (self.runtime, self.gateway) = (Some(runtime), gateway);
    }

    fn uplink(&self) -> UplinkStatus {
        self.gateway.status().uplinks[0].clone()
    }

    async fn until(&self, what: &str, holds: impl Fn(&UplinkStatus) -> bool) {
        until(what, || holds(&self.uplink())).await;
    }

    async fn is_back(&self) {
        self.until("it is back", |uplink| online(uplink) && uplink.buffer.waiting < 20).await;
    }

    /// Waits until everything that was read by now has arrived or waits no more, and judges it.
    async fn verdict(&self) -> Verdict {
        let last = UNITS.map(|unit| u64::from(self.plant.reads(unit)).saturating_sub(1));
        self.has_all(last).await;
        let judged = UNITS
            .iter()
            .zip(&last)
            .map(|(unit, last)| Verdict::of(&self.host.arrivals(&format!("meter-{unit}/count")), *last));
        judged.reduce(Verdict::and).unwrap()
    }

    /// Waits until everything up to these values has arrived or waits no more.
    async fn has_all(&self, last: [u64; 2]) {
        let has_newest = || UNITS.iter().zip(&last).all(|(unit, last)| newest(&self.host, *unit) >= *last);
        until("what is newest arrives", has_newest).await;
        // What waits is older than what is newest: once it is gone, too, everything has had its chance.
        self.is_back().await;
        let arrived = self.host.count();
        until("the last ones arrive", || self.host.count() > arrived + 20).await;
    }

    async fn stop(mut self) {
        let gateway = Arc::clone(&self.gateway);
        let stopping = self.runtime.as_ref().map(|runtime| runtime.spawn(async move { gateway.stop().await }));
        stopping.unwrap().await.unwrap();
        self.store.close().await;
        self.database.stop().await;
        self.broker.stop().await;
    }
}

fn online(uplink: &UplinkStatus) -> bool {
    uplink.state == UplinkState::Online
}

fn offline(uplink: &UplinkStatus) -> bool {
    uplink.state == UplinkState::Offline
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_breaks_between_plant_and_host_nothing_is_lost() {
    let mut run = Run::start("host-grace = \"300ms\"\n").await;
    run.until("it waits for its host", |uplink| uplink.state == UplinkState::Waiting).await;
    run.until("samples wait, too", |uplink| uplink.buffer.waiting > 50).await;
    assert_eq!(run.uplink().samples_delivered, 0, "nothing goes out without the host");
    run.host.come();
    run.is_back().await;
    assert!(of_outages(&run.host, 1) > 20, "what waited has arrived");

    for _ in 0..3 {
        let before = run.uplink().samples_delivered;
        run.line.cut();
        run.until("the cut is noticed", |uplink| uplink.last_error.is_some()).await;
        run.until("it goes on", |uplink| uplink.samples_delivered > before + 30).await;
    }
    run.line.freeze(true);
    run.until("the frozen line is noticed", offline).await;
    run.until("samples wait", |uplink| uplink.buffer.durable > 20).await;
    run.line.freeze(false);
    run.is_back().await;

    run.broker.freeze(true);
    run.until("the frozen broker is noticed", offline).await;
    run.broker.freeze(false);
    run.is_back().await;

    run.database.kill().await;
    run.broker.kill().await;
    run.until("the broker is missed", offline).await;
    run.until("the database is missed", |uplink| uplink.buffer.journal_error.is_some()).await;
    run.database.restart().await.unwrap();
    run.broker.restart().await.unwrap();
    run.is_back().await;
    let verdict = run.verdict().await;
    assert!(verdict.is_clean(), "{verdict}: {:?}", verdict.missing);
    assert_eq!(run.uplink().buffer.lost, 0);
    run.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_host_that_is_late_after_a_crash_of_the_broker_misses_nothing() {
    let mut run = Run::start("host-grace = \"1h\"\n").await;
    run.host.come();
    run.is_back().await;
    until("values arrive", || newest(&run.host, 1) > 20).await;
    run.broker.kill().await;
    run.host.vanish();
    run.until("the broker is missed", offline).await;
    run.broker.restart().await.unwrap();
    // Without the doubt, what has waited would be published now, and count as delivered.
    say_old_state(run.broker.address(), run.host.said_online_at()).await;
    run.until("births are out, to nobody", |uplink| online(uplink) && uplink.host_in_doubt).await;
    let delivered = run.uplink().samples_delivered;
    run.until("samples wait for the host", |uplink| uplink.buffer.waiting > 150).await;
    assert_eq!(run.uplink().samples_delivered, delivered, "nothing counts as delivered");
    run.host.come();
    run.is_back().await;
    let verdict = run.verdict().await;
    assert!(verdict.is_clean(), "{verdict}: {:?}", verdict.missing);
    run.stop().await;
}

/// The broker finds out late that the host is gone, and has read what the node said for nobody.
#[tokio::test(flavor = "multi_thread")]
async fn what_a_frozen_broker_reads_for_a_host_that_is_gone_comes_again() {
    // The host's keep-alive is shorter than the node's: after the freeze the broker drops the host, and not the node.
    let more = "keep-alive = \"60s\"\nhost-keep-alive = \"2s\"\nhost-grace = \"300ms\"\n";
    let mut run = Run::start_with(more, Duration::from_secs(2)).await;
    run.host.come();
    run.is_back().await;
    for _ in 0..2 {
        let reads = run.plant.reads(1);
        until("values arrive", || newest(&run.host, 1) + 20 > u64::from(run.plant.reads(1))).await;
        let said = run.host.said_online_at();
        run.broker.freeze(true);
        // One and a half of its keep-alive, and more.
        let frozen = tokio::time::Instant::now();
        until("the host is overdue", || frozen.elapsed() > Duration::from_secs(5)).await;
        run.broker.freeze(false);
        until("the host is there anew", || run.host.said_online_at() > said).await;
        run.is_back().await;
        assert!(run.plant.reads(1) > reads + 100);
    }
    // The host does nothing for a while: what its broker sends it meanwhile is lost with its connection.
    let said = run.host.said_online_at();
    run.host.freeze(true);
    run.until("the host is missed", |uplink| uplink.state == UplinkState::Waiting || offline(uplink)).await;
    run.host.freeze(false);
    until("the host is there anew", || run.host.said_online_at() > said).await;
    run.is_back().await;
    let verdict = run.verdict().await;
    assert_eq!((verdict.lost, verdict.unrecognisable), (0, 0), "{verdict}: {:?}", verdict.missing);
    assert!(verdict.repeats > 0, "{verdict}");
    run.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_is_killed_again_and_again_loses_the_last_moment_at_most() {
    let mut run = Run::start("host-grace = \"300ms\"\n").await;
    run.host.come();
    run.is_back().await;
    let mut rng = fastrand::Rng::with_seed(7);
    let mut kills = 0;
    for in_an_outage in [false, true, false, true] {
        if in_an_outage {
            run.line.freeze(true);
        }
        let reads = run.plant.reads(1) + rng.u32(10..80);
        until("a random moment", || run.plant.reads(1) >= reads).await;
        run.kill_and_start_again().await;
        kills += 1;
        run.line.freeze(false);
        run.is_back().await;
    }
    let verdict = run.verdict().await;
    // What came within the flush of 100 ms, what was being written then, and the request under way: of two meters.
    assert!(verdict.lost <= kills * 2 * 15, "{verdict}: {:?}", verdict.missing);
    assert_eq!((verdict.out_of_order, verdict.unrecognisable), (0, 0), "{verdict}");
    run.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_broker_takes_over_until_the_first_is_back() {
    let directory = tempfile::tempdir().unwrap();
    let mut second = Broker::start(directory.path(), own_socket().unwrap()).await.unwrap();
    let more = format!("mqtt = \"5\"\nfallbacks = \"mqtt://{}\"\nreturn-after = \"500ms\"\n", second.address());
    let mut run = Run::start(&more).await;
    let mut there = Recorder::new(second.address(), "control-room");
    run.host.come();
    run.until("it is at the first", |uplink| online(uplink) && uplink.url.ends_with(&run.line.address().to_string()))
        .await;
    run.broker.kill().await;
    // At the second one there is no host yet: it goes on looking.
    run.until("the first is missed", offline).await;
    there.come();
    run.until("it is at the second", |uplink| online(uplink) && uplink.url.ends_with(&second.address().to_string()))
        .await;
    until("values arrive there", || newest(&there, 1) > 10).await;
    run.broker.restart().await.unwrap();
    run.until("it is at the first again", |uplink| {
        online(uplink) && uplink.url.ends_with(&run.line.address().to_string())
    })
    .await;
    let last = UNITS.map(|unit| newest(&there, unit) + 10);
    run.has_all(last).await;
    let both: Vec<_> = run.host.arrivals("meter-1/count").into_iter().chain(there.arrivals("meter-1/count")).collect();
    let verdict = Verdict::of(&both, last[0]);
    assert_eq!((verdict.lost, verdict.unrecognisable), (0, 0), "{verdict}: {:?}", verdict.missing);
    run.stop().await;
    second.stop().await;
}
