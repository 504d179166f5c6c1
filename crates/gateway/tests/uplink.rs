//! An uplink against a real broker that goes away at the worst moments.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::LinkState;
use interlex_core::description::{Files, read};
use interlex_gateway::{Gateway, GatewayOptions, SystemClock, Tap, UplinkState};
use interlex_modbus::{ReadData, Refusal, Request, Response, Units, serve};
use interlex_sidecar::{Broker, Database, own_address, own_socket};
use interlex_store::Store;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::Duration;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

/// A register that counts how often it was read: every poll brings a new value, so that none may be missing.
#[derive(Debug, Default)]
struct Counter(AtomicU16);

impl Units for Counter {
    fn answer(&self, _: u8, _: &Request) -> Result<Response, Refusal> {
        Ok(Response::Data(ReadData::Registers(vec![self.0.fetch_add(1, Ordering::SeqCst)])))
    }
}

struct Bench {
    _directory: tempfile::TempDir,
    broker: Broker,
    files: Files,
    stop_field: CancellationToken,
    plant: Arc<Counter>,
    plant_address: SocketAddr,
}

impl Bench {
    async fn start() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let broker = Broker::start(directory.path(), own_socket().unwrap()).await.unwrap();
        let listener = TcpListener::bind((own_address(), 0)).await.unwrap();
        let plant = listener.local_addr().unwrap();
        let (plant_ip, plant_port) = (plant.ip(), plant.port());
        let stop_field = CancellationToken::new();
        let counter = Arc::new(Counter::default());
        tokio::spawn(serve(listener, Arc::clone(&counter) as Arc<dyn Units>, stop_field.clone()));
        let broker_address = broker.address();
        let main = format!(
            "[gateway]\nname = \"alderfen-1\"\n[rates]\nfast = \"10ms\"\n[[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost \
             = \"{plant_ip}\"\nport = {plant_port}\n[[device]]\nname = \"meter\"\nlink = \"bus\"\nunit = 1\npoints = \"p.csv\"\n\
             [[uplink]]\nname = \"cloud\"\nkind = \"sparkplug\"\nurl = \"mqtt://{broker_address}\"\ngroup = \"alderfen\"\nnode = \
             \"works-1\"\nkeep-alive = \"5s\"\n"
        );
        let points = "name,address,type,rate,unit\ncount,holding:0,uint16,fast,kWh\n".to_owned();
        let files = [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), points)].into();
        Self { _directory: directory, broker, files, stop_field, plant: counter, plant_address: plant }
    }

    async fn gateway(&self, store: Option<Store>) -> Gateway {
        let options = GatewayOptions { revision: 1, store, ..GatewayOptions::default() };
        Gateway::start(Arc::new(read(&self.files).unwrap()), options).await
    }
}

async fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let waiting = async {
        while !holds() {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    };
    assert!(tokio::time::timeout(Duration::from_secs(40), waiting).await.is_ok(), "waited in vain: {what}");
}

/// Everything that a tap hears of the counter: the values, and whether they were historical. While the broker is away
/// it tries again at once, so that it listens long before the node is back.
async fn heard(bench: &Files, gateway: &Gateway, most: usize) -> Vec<(u64, bool)> {
    let description = read(bench).unwrap();
    let tap = async || {
        let running = gateway.running();
        Tap::start(
            &description.uplinks[0],
            running.points(),
            &running.inventory().links,
            ("test", None),
            Arc::new(SystemClock),
        )
        .await
        .unwrap()
    };
    let mut values = Vec::new();
    let listening = async {
        let mut listener = tap().await;
        while values.len() < most {
            let Ok(message) = listener.next().await else {
                tokio::time::sleep(Duration::from_millis(2)).await;
                listener = tap().await;
                continue;
            };
            assert_eq!(message.error, None, "{message:?}");
            let counts = message.metrics.iter().filter(|metric| metric.name == "count");
            values.extend(counts.filter_map(|metric| Some((metric.value.as_u64()?, metric.historical))));
        }
    };
    assert!(tokio::time::timeout(Duration::from_secs(40), listening).await.is_ok(), "too few values: {values:?}");
    values
}

#[tokio::test(flavor = "multi_thread")]
async fn after_an_outage_every_value_arrives_in_order_and_none_is_missing() {
    let mut bench = Bench::start().await;
    let gateway = bench.gateway(None).await;
    let uplink = || gateway.status().uplinks[0].clone();
    until("some are delivered", || uplink().samples_delivered > 20).await;
    bench.broker.stop().await;
    until("it is offline", || uplink().state == UplinkState::Offline).await;
    until("samples are kept", || uplink().buffer.waiting > 50).await;
    let first_kept = uplink().samples_delivered;
    let (values, restarted) = tokio::join!(heard(&bench.files, &gateway, 150), bench.broker.restart());
    restarted.unwrap();
    let kept: Vec<u64> = values.iter().filter(|(_, is_historical)| *is_historical).map(|(value, _)| *value).collect();
    assert!(kept.len() >= 50, "{values:?}");
    assert!(kept[0] >= first_kept.saturating_sub(5), "what was proven is not sent again: {kept:?} after {first_kept}");
    assert!(kept.windows(2).all(|pair| pair[1] == pair[0] + 1), "in order, none missing: {kept:?}");
    until("all are delivered", || uplink().buffer.waiting < 20).await;
    assert_eq!(uplink().buffer.lost, 0);
    gateway.stop().await;
    bench.stop_field.cancel();
    bench.broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_orderly_stop_during_an_outage_keeps_the_journal_and_bd_seq_for_the_next_run() {
    let mut bench = Bench::start().await;
    let directory = tempfile::tempdir().unwrap();
    let mut database = Database::start(directory.path(), own_socket().unwrap()).await.unwrap();
    let store = Store::new(&database.url("interlex")).unwrap();
    store.migrate().await.unwrap();

    let gateway = bench.gateway(Some(store.clone())).await;
    until("it is online", || gateway.status().uplinks[0].state == UplinkState::Online).await;
    bench.broker.stop().await;
    until("samples are kept", || gateway.status().uplinks[0].buffer.waiting > 30).await;
    gateway.stop().await;
    let bd_seq = store.bd_seq("alderfen-1", "cloud").await.unwrap().unwrap();
    let kept = gateway.status().uplinks[0].buffer.durable;
    assert!(kept > 30, "{kept}");
    assert!(!store.journal_entries("alderfen-1", "cloud").await.unwrap().is_empty());

    let again = bench.gateway(Some(store.clone())).await;
    let (values, restarted) =
        tokio::join!(heard(&bench.files, &again, usize::try_from(kept).unwrap()), bench.broker.restart());
    restarted.unwrap();
    let of_the_journal = values.iter().filter(|(_, is_historical)| *is_historical).count();
    assert!(of_the_journal >= 20.min(usize::try_from(kept).unwrap()), "{values:?}");
    until("the journal was delivered", || again.status().uplinks[0].samples_delivered >= kept).await;
    assert!(again.status().uplinks[0].bd_seq.unwrap() > bd_seq, "bdSeq goes on");
    again.stop().await;
    assert!(again.status().uplinks[0].buffer.durable < 20, "only what came last may be left");
    store.close().await;
    database.stop().await;
    bench.stop_field.cancel();
    bench.broker.stop().await;
}

/// A gateway in a runtime of its own, so that it can die without a word.
struct Mortal {
    runtime: tokio::runtime::Runtime,
    gateway: Arc<Gateway>,
}

impl Mortal {
    async fn start(files: Files, url: String) -> Self {
        let starting = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
            let gateway = runtime.block_on(async {
                let options =
                    GatewayOptions { revision: 1, store: Some(Store::new(&url).unwrap()), ..GatewayOptions::default() };
                Gateway::start(Arc::new(read(&files).unwrap()), options).await
            });
            Self { runtime, gateway: Arc::new(gateway) }
        });
        tokio::task::spawn_blocking(|| starting.join().unwrap()).await.unwrap()
    }

    fn kill(self) {
        self.runtime.shutdown_background();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_sudden_death_in_an_outage_only_the_last_moment_is_missing() {
    let mut bench = Bench::start().await;
    let directory = tempfile::tempdir().unwrap();
    let mut database = Database::start(directory.path(), own_socket().unwrap()).await.unwrap();
    let (url, store) = (database.url("interlex"), Store::new(&database.url("interlex")).unwrap());
    store.migrate().await.unwrap();
    let main = bench.files.get_mut("gateway.toml").unwrap();
    main.push_str("journal-flush = \"100ms\"\n");

    let mortal = Mortal::start(bench.files.clone(), url.clone()).await;
    let uplink = || mortal.gateway.status().uplinks[0].clone();
    until("some are delivered", || uplink().samples_delivered > 20).await;
    bench.broker.stop().await;
    until("samples are kept", || uplink().buffer.durable > 100).await;
    // The database goes away for a while, and nothing that came meanwhile is lost.
    database.kill().await;
    until("it says so", || uplink().buffer.journal_error.is_some()).await;
    database.restart().await.unwrap();
    until("the journal has caught up", || {
        let uplink = uplink();
        uplink.buffer.journal_error.is_none()
            && uplink.buffer.durable > 150
            && uplink.buffer.waiting < uplink.buffer.durable + 30
    })
    .await;
    let delivered = uplink().samples_delivered;
    let read_at_death = u64::from(bench.plant.0.load(Ordering::SeqCst));
    mortal.kill();

    let again = bench.gateway(Some(store.clone())).await;
    let most = usize::try_from(read_at_death - delivered).unwrap() + 100;
    let (values, restarted) = tokio::join!(heard(&bench.files, &again, most), bench.broker.restart());
    restarted.unwrap();
    let mut kept: Vec<u64> =
        values.iter().filter(|(_, is_historical)| *is_historical).map(|(value, _)| *value).collect();
    kept.sort_unstable();
    kept.dedup();
    let before_death: Vec<u64> = kept.iter().copied().filter(|value| *value < read_at_death).collect();
    assert!(before_death[0] <= delivered + 5, "from where the broker had it: {} after {delivered}", before_death[0]);
    assert!(before_death.windows(2).all(|pair| pair[1] == pair[0] + 1), "none missing: {before_death:?}");
    // What a crash may cost is what came within the flush, and while it was written.
    let last = *before_death.last().unwrap();
    assert!(last + 60 >= read_at_death, "{last} of {read_at_death}");
    until("the journal was delivered", || again.status().uplinks[0].buffer.durable < 20).await;
    again.stop().await;
    store.close().await;
    database.stop().await;
    bench.stop_field.cancel();
    bench.broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_value_that_stands_still_arrives_when_births_are_asked_for() {
    let mut bench = Bench::start().await;
    // The value is read, and reported never again.
    let still = "name,address,type,rate,report\ncount,holding:0,uint16,fast,never\n";
    bench.files.insert("p.csv".to_owned(), still.to_owned());
    let gateway = bench.gateway(None).await;
    until("it is online", || gateway.status().uplinks[0].state == UplinkState::Online).await;
    let running = gateway.running();
    assert_eq!(running.published("cloud", "meter", "count").await, Some(None), "nothing since somebody asks");
    let description = read(&bench.files).unwrap();
    let mut tap = Tap::start(
        &description.uplinks[0],
        running.points(),
        &running.inventory().links,
        ("test", None),
        Arc::new(SystemClock),
    )
    .await
    .unwrap();
    assert_eq!(running.ask_births("nowhere").await, None);
    let asking = async {
        loop {
            tokio::select! {
                message = tap.next() => {
                    let message = message.unwrap();
                    let count = message.metrics.iter().find(|metric| metric.name == "count");
                    // What the tap hears may have been on its way before somebody asked.
                    if let Some((count, published)) = count.zip(running.published("cloud", "meter", "count").await.flatten()) {
                        return (message.at, count.value.as_u64(), published);
                    }
                }
                // Births of a moment ago have just told everything, perhaps before the tap heard anything.
                () = tokio::time::sleep(Duration::from_millis(100)) => {
                    running.ask_births("cloud").await;
                }
            }
        }
    };
    let (at, arrived, published) = tokio::time::timeout(Duration::from_secs(40), asking).await.unwrap();
    assert!(
        arrived.is_some() && (published.at - at).abs() < 20_000 && !published.historical,
        "{arrived:?} {published:?}"
    );
    assert_eq!(running.ask_births("cloud").await, Some(false), "not again at once");

    // The device goes and comes back: its own birth publishes the value, too.
    bench.stop_field.cancel();
    until("the link is down", || gateway.status().links[0].state == LinkState::Down).await;
    let (listener, again) = (TcpListener::bind(bench.plant_address).await.unwrap(), CancellationToken::new());
    tokio::spawn(serve(listener, Arc::clone(&bench.plant) as Arc<dyn Units>, again.clone()));
    let born = async {
        loop {
            let now = running.published("cloud", "meter", "count").await.flatten();
            if now.is_some_and(|now| now.at > published.at && now.value != published.value) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    assert!(tokio::time::timeout(Duration::from_secs(40), born).await.is_ok(), "it is told that it was published");
    again.cancel();
    gateway.stop().await;
    bench.stop_field.cancel();
    bench.broker.stop().await;
}
