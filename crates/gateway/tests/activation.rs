//! One description takes the place of another: only what differs is touched.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::{Files, PartFate, read};
use interlex_gateway::{Gateway, GatewayOptions, Progress, SystemClock, Tap, TapMessage, TapMetric};
use interlex_modbus::{ExceptionCode, ReadData, Refusal, Request, Response, Units, serve};
use interlex_sidecar::{Broker, Database, own_address, own_socket};
use interlex_store::Store;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicU16, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio_util::sync::CancellationToken;

/// The plant's own log: every read of register 0 gives the next number, so that none may be missing at the broker.
#[derive(Debug, Default)]
struct Counter {
    reads: AtomicU16,
}

impl Units for Counter {
    fn answer(&self, _: u8, request: &Request) -> Result<Response, Refusal> {
        let Request::Read(request) = request else { return Err(ExceptionCode::ILLEGAL_FUNCTION.into()) };
        let registers = vec![self.reads.fetch_add(1, Ordering::SeqCst); request.quantity().into()];
        Ok(Response::Data(ReadData::Registers(registers)))
    }
}

/// A Modbus server that counts who connects.
struct Server {
    address: SocketAddr,
    counter: Arc<Counter>,
    connections: Arc<AtomicUsize>,
}

impl Server {
    async fn start(stop: &CancellationToken) -> Self {
        let (inner, outer) = (listener().await, listener().await);
        let (behind, address) = (inner.local_addr().unwrap(), outer.local_addr().unwrap());
        let (counter, connections) = (Arc::new(Counter::default()), Arc::new(AtomicUsize::new(0)));
        tokio::spawn(serve(inner, Arc::clone(&counter) as Arc<dyn Units>, stop.clone()));
        let counted = Arc::clone(&connections);
        tokio::spawn(async move {
            while let Ok((mut client, _)) = outer.accept().await {
                counted.fetch_add(1, Ordering::SeqCst);
                let mut server = TcpStream::connect(behind).await.unwrap();
                // Either side may hang up.
                tokio::spawn(async move { tokio::io::copy_bidirectional(&mut client, &mut server).await });
            }
        });
        Self { address, counter, connections }
    }
}

async fn listener() -> TcpListener {
    TcpListener::bind((own_address(), 0)).await.unwrap()
}

struct Bench {
    _directory: tempfile::TempDir,
    broker: Broker,
    database: Database,
    steady: Server,
    changing: Server,
    stop: CancellationToken,
}

impl Bench {
    async fn start() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let broker = Broker::start(&directory.path().join("broker"), own_socket().unwrap()).await.unwrap();
        let database = Database::start(&directory.path().join("database"), own_socket().unwrap()).await.unwrap();
        let stop = CancellationToken::new();
        let (steady, changing) = (Server::start(&stop).await, Server::start(&stop).await);
        Self { _directory: directory, broker, database, steady, changing, stop }
    }

    /// Two links; `more` stands at the end of gateway.toml, and the second link has the points of `list`.
    fn files(&self, list: &str, uplink: &str, more: &str) -> Files {
        let (steady, changing, broker) = (self.steady.address, self.changing.address, self.broker.address());
        let (steady_ip, steady_port) = (steady.ip(), steady.port());
        let (changing_ip, changing_port) = (changing.ip(), changing.port());
        let main = format!(
            r#"
[gateway]
name = "alderfen-1"
[rates]
fast = "10ms"
[[link]]
name = "steady"
protocol = "modbus-tcp"
host = "{steady_ip}"
port = {steady_port}
[[link]]
name = "changing"
protocol = "modbus-tcp"
host = "{changing_ip}"
port = {changing_port}
[[device]]
name = "meter"
link = "steady"
unit = 1
[[device]]
name = "pump"
link = "changing"
unit = 1
[[uplink]]
name = "cloud"
kind = "sparkplug"
url = "mqtt://{broker}"
group = "alderfen"
node = "works-1"
{uplink}
{more}"#
        );
        let head = "name,address,type,rate,unit\n";
        [
            ("gateway.toml".to_owned(), main),
            ("points/meter.csv".to_owned(), format!("{head}count,holding:0,uint16,fast,kWh\n")),
            ("points/pump.csv".to_owned(), format!("{head}{list}")),
            ("points/valve.csv".to_owned(), format!("{head}position,holding:9,uint16,fast,%\n")),
        ]
        .into()
    }
}

/// Everything that arrives at the broker.
fn listen(tap: Tap) -> Arc<Mutex<Vec<TapMessage>>> {
    let heard: Arc<Mutex<Vec<TapMessage>>> = Arc::default();
    let (into, mut tap) = (Arc::clone(&heard), tap);
    tokio::spawn(async move {
        while let Ok(message) = tap.next().await {
            into.lock().unwrap().push(message);
        }
    });
    heard
}

async fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let waiting = async {
        while !holds() {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    };
    assert!(tokio::time::timeout(Duration::from_secs(30), waiting).await.is_ok(), "waited in vain: {what}");
}

/// The numbers of the steady meter, as they arrived.
fn counts(heard: &Mutex<Vec<TapMessage>>) -> Vec<u64> {
    metrics(heard).iter().filter_map(|metric| metric.value.as_u64()).collect()
}

fn metrics(heard: &Mutex<Vec<TapMessage>>) -> Vec<TapMetric> {
    let heard = heard.lock().unwrap();
    let of_meter = heard.iter().filter(|message| message.message == "DDATA" && message.topic.ends_with("/meter"));
    of_meter.flat_map(|message| &message.metrics).cloned().collect()
}

fn kinds(heard: &Mutex<Vec<TapMessage>>, device: &str) -> Vec<String> {
    let heard = heard.lock().unwrap();
    let of_device = heard.iter().filter(|message| message.topic.ends_with(device) && message.message != "DDATA");
    of_device.map(|message| message.message.clone()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn links_and_uplinks_that_did_not_change_go_on_without_a_gap() {
    let bench = Bench::start().await;
    let store = Store::new(&bench.database.url("interlex")).unwrap();
    store.migrate().await.unwrap();
    const SPEED: &str = "speed,holding:3,uint16,fast,rpm\n";
    let described = |list: &str, uplink: &str, more: &str| Arc::new(read(&bench.files(list, uplink, more)).unwrap());
    let first = described(SPEED, "", "");
    let tap = Tap::start(
        &first.uplinks[0],
        &interlex_gateway::PointTable::default(),
        &[],
        ("test", None),
        Arc::new(SystemClock),
    )
    .await
    .unwrap();
    let heard = listen(tap);
    let gateway =
        Gateway::start(first, GatewayOptions { revision: 1, store: Some(store.clone()), ..GatewayOptions::default() })
            .await;
    let is_up = |gateway: &Gateway, points| {
        gateway.status().points_good == points && gateway.outcome().progress == Progress::Done
    };
    until("it runs", || is_up(&gateway, 2)).await;
    until("both are born", || kinds(&heard, "/pump") == ["DBIRTH"] && kinds(&heard, "/meter") == ["DBIRTH"]).await;
    let steady_index = gateway.running().points().find("meter", "count").unwrap().index;

    // A point more on the other link.
    let before = Arc::downgrade(gateway.running().points());
    gateway.activate(described(&format!("{SPEED}hours,holding:7,uint16,fast,h\n"), "", ""), 2).await;
    until("the new point is read", || is_up(&gateway, 3)).await;
    let fates: Vec<_> = gateway.outcome().links.iter().map(|link| (link.name.clone(), link.fate)).collect();
    assert!(fates.contains(&("steady".to_owned(), PartFate::Untouched)), "{fates:?}");
    assert!(fates.contains(&("changing".to_owned(), PartFate::Changed)), "{fates:?}");
    until("its device is born again", || kinds(&heard, "/pump") == ["DBIRTH", "DBIRTH"]).await;
    until("nobody has the points of before any more", || before.strong_count() == 0).await;

    // A device more, then both gone.
    let valve = "[[device]]\nname = \"valve\"\nlink = \"changing\"\nunit = 2\n";
    gateway.activate(described(SPEED, "", valve), 3).await;
    until("the valve is born", || kinds(&heard, "/valve") == ["DBIRTH"]).await;
    let without = {
        let mut files = bench.files(SPEED, "", "");
        let main = files["gateway.toml"].clone();
        let (head, tail) =
            (main.split("[[device]]\nname = \"pump\"").next().unwrap(), main.split("[[uplink]]").nth(1).unwrap());
        files.insert("gateway.toml".to_owned(), format!("{head}[[uplink]]{tail}"));
        Arc::new(read(&files).unwrap())
    };
    gateway.activate(without, 4).await;
    until("both died", || {
        kinds(&heard, "/valve").last().unwrap() == "DDEATH" && kinds(&heard, "/pump").last().unwrap() == "DDEATH"
    })
    .await;

    // All this time the meter was read and told over one connection, and one session at the broker.
    let seen = counts(&heard).len();
    until("it goes on", || counts(&heard).len() > seen + 20).await;
    assert_eq!(bench.steady.connections.load(Ordering::SeqCst), 1);
    assert_eq!(kinds(&heard, "/works-1"), ["NBIRTH"]);
    assert_eq!(kinds(&heard, "/meter"), ["DBIRTH"]);
    assert_eq!(gateway.running().points().find("meter", "count").unwrap().index, steady_index);
    // What was read before the meter was born comes as history, between what is new; nothing else does.
    let born =
        heard.lock().unwrap().iter().find(|message| message.topic.ends_with("DBIRTH/works-1/meter")).unwrap().timestamp;
    let (history, new): (Vec<_>, Vec<_>) = metrics(&heard).into_iter().partition(|metric| metric.historical);
    assert!(history.iter().all(|metric| metric.timestamp <= born), "born {born:?}, history {history:?}");
    let all: Vec<_> = history.iter().chain(&new).filter_map(|metric| metric.value.as_u64()).collect();
    assert!(all.windows(2).all(|pair| pair[1] == pair[0] + 1), "none missing, none twice: {all:?}");

    // Another keep-alive: the uplink restarts, and what was read meanwhile comes later.
    gateway.activate(described(SPEED, "keep-alive = \"9s\"", ""), 5).await;
    until("a second session", || kinds(&heard, "/works-1").iter().filter(|kind| *kind == "NBIRTH").count() == 2).await;
    let seen = counts(&heard).len();
    until("it goes on", || counts(&heard).len() > seen + 50).await;
    gateway.stop().await;
    until("the death arrived", || kinds(&heard, "/works-1").last().unwrap() == "NDEATH").await;
    assert_eq!(bench.steady.connections.load(Ordering::SeqCst), 1, "the link did not notice");
    let mut all = counts(&heard);
    let last = *all.iter().max().unwrap();
    all.sort_unstable();
    all.dedup();
    let first = all[0];
    // The birth after the restart told one of them, as the current value.
    assert!(u64::try_from(all.len()).unwrap() > last - first - 1, "{} of {}", all.len(), last - first + 1);
    assert!(bench.steady.counter.reads.load(Ordering::SeqCst) as u64 > last);
    bench.stop.cancel();
}
