//! What those try who mean harm, and what the service feels of it.

use crate::{Host, Rig, double, named, wait_for};
use interlex_modbus::{ReadData, Refusal, Request, Response, Units, serve};
use interlex_sidecar::own_address;
use rumqttc::{AsyncClient, MqttOptions, QoS};
use serde_json::{Value, json};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU16, AtomicU64, Ordering};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use tokio::time::{Instant, sleep};
use tokio_util::sync::{CancellationToken, DropGuard};

/// What the service felt of an attack.
#[derive(Debug, Clone, Copy)]
pub struct Felt {
    /// Resident memory above the state before, with that of its children, in bytes: at the most.
    pub peak: u64,
    /// The same after ten seconds of rest at the most.
    pub left: u64,
    /// The slowest answer of /healthz meanwhile, and how many there were.
    pub slowest: Duration,
    pub healthy: u64,
    /// How late a poll was at the most, in milliseconds.
    pub late_ms: f64,
}

/// What memory may be above the state before after a rest.
pub const REST: u64 = 16 << 20;

/// What an attack may take at the most, above the state before.
pub const PEAK: u64 = 64 << 20;

/// Runs all attacks, one after the other, and tells of each what the service felt; first of a few seconds without one. The
/// last ones look at so many thousand points.
pub async fn all(rig: &Rig, thousands: u16, mut told: impl FnMut(&str, Felt)) {
    let flooded = rig.home().join("flooded");
    told("at rest", under(rig, sleep(Duration::from_secs(5))).await);
    told("100 templates", under(rig, templates(rig)).await);
    told("300 guesses", under(rig, guesses(rig)).await);
    // What is made once, such as the schemas, stays.
    descriptions(rig).await;
    told("100 descriptions", under(rig, descriptions(rig)).await);
    told("a description of 15,000 rows", under(rig, long_description(rig)).await);
    told("400 silent connections", under(rig, silence(rig)).await);
    told("100 listeners that do not read", under(rig, listeners(rig)).await);
    told("100 heads that do not end", under(rig, slow_heads(rig)).await);
    told("100 files that do not end", under(rig, endless_files(rig)).await);
    told("field devices that send without end", under(rig, floods(rig, &flooded)).await);
    told("a host that commands without end", under(rig, commands(rig)).await);
    let _field = many_points(rig, thousands).await;
    told(&format!("5 lists of {thousands},000 points"), under(rig, lists(rig)).await);
    told(&format!("30 streams of {thousands},000 points"), under(rig, streams(rig)).await);
}

/// Lets an attack run and watches the service from outside.
async fn under(rig: &Rig, attack: impl Future<Output = ()>) -> Felt {
    let pid = rig.service.pid();
    let (peak, stop) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
    let before = resident(pid);
    let (code, told) = rig.post("/api/v1/gateways/alderfen-1/links/process-bus/statistics/reset", &json!({})).await;
    assert_eq!(code, 204, "{told}");
    let sampling = tokio::spawn({
        let (peak, stop) = (Arc::clone(&peak), Arc::clone(&stop));
        async move {
            while !stop.load(Ordering::Relaxed) {
                peak.fetch_max(resident(pid), Ordering::Relaxed);
                sleep(Duration::from_millis(5)).await;
            }
        }
    });
    let probing = tokio::spawn({
        let (url, stop) = (format!("{}/healthz", rig.url), Arc::clone(&stop));
        async move {
            let http = reqwest::Client::new();
            let (mut slowest, mut healthy) = (Duration::ZERO, 0);
            while !stop.load(Ordering::Relaxed) {
                let asked = Instant::now();
                let answer = http.get(&url).send().await;
                assert!(answer.is_ok_and(|answer| answer.status() == 200), "/healthz fails");
                (slowest, healthy) = (slowest.max(asked.elapsed()), healthy + 1);
                sleep(Duration::from_millis(10)).await;
            }
            (slowest, healthy)
        }
    });
    attack.await;
    stop.store(true, Ordering::Relaxed);
    sampling.await.unwrap();
    let (slowest, healthy) = probing.await.unwrap();
    let statistics = rig.get("/api/v1/gateways/alderfen-1/links/process-bus/statistics").await;
    let rested = Instant::now();
    let mut left = resident(pid).saturating_sub(before);
    while left > REST && rested.elapsed() < Duration::from_secs(10) {
        sleep(Duration::from_millis(50)).await;
        left = left.min(resident(pid).saturating_sub(before));
    }
    Felt {
        peak: peak.load(Ordering::Relaxed).saturating_sub(before),
        left,
        slowest,
        healthy,
        late_ms: statistics["lateness"]["max_ms"].as_f64().unwrap(),
    }
}

/// The resident memory of a process and its children, in bytes, without the files that they share.
pub fn resident(pid: u32) -> u64 {
    let of = |pid: &str| {
        let text = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
        let kilobytes =
            text.lines().find_map(|line| line.strip_prefix("RssAnon:")?.trim().strip_suffix(" kB")?.parse().ok());
        kilobytes.unwrap_or(0_u64) << 10
    };
    let threads = std::fs::read_dir(format!("/proc/{pid}/task")).into_iter().flatten().flatten();
    let children = threads.map(|thread| std::fs::read_to_string(thread.path().join("children")).unwrap_or_default());
    let children: Vec<_> = children.collect();
    let children = children.iter().flat_map(|text| text.split_whitespace());
    of(&pid.to_string()) + children.map(of).sum::<u64>()
}

/// Posts the same many times at once; gives the status of each answer, 0 for none.
async fn post_all(rig: &Rig, path: &str, bodies: impl Iterator<Item = Value>) -> Vec<u16> {
    let http = reqwest::Client::new();
    let mut posting = JoinSet::new();
    for body in bodies {
        let request = http.post(format!("{}{path}", rig.url)).bearer_auth(&rig.token).json(&body);
        posting.spawn(async move { request.send().await.map_or(0, |answer| answer.status().as_u16()) });
    }
    posting.join_all().await
}

/// Templates that grow without end, run without end, or make much of little, from a hundred at once.
async fn templates(rig: &Rig) {
    let payloads = [
        "{% set ns = namespace(x=[1]) %}{% for a in range(40) %}{% set ns.x=[ns.x,ns.x] %}{% endfor %}{{ ns.x }}",
        "{% for a in range(100000) %}{% for b in range(100000) %}{% endfor %}{% endfor %}",
        "{{ 'x' * 2000000000 }}",
        "{% set ns = namespace(s='x') %}{% for a in range(60) %}{% set ns.s = ns.s ~ ns.s %}{% endfor %}{{ ns.s }}",
        "{% macro again() %}{{ again() }}{% endmacro %}{{ again() }}",
        "{% for a in range(10000) %}{% for b in range(10000) %}xxxxxxxxxxxxxxxx{% endfor %}{% endfor %}",
    ];
    let uplink = |payload: &str| {
        json!({ "uplink": { "kind": "json", "name": "x", "url": "mqtt://127.0.0.1:1", "gather": "1s", "topic": "x",
                            "payload": payload } })
    };
    let bodies = payloads.iter().cycle().take(100).map(|payload| uplink(payload));
    let told = post_all(rig, "/api/v1/gateways/alderfen-1/trials/messages", bodies).await;
    assert!(told.iter().all(|code| [200, 400, 422, 429, 503].contains(code)), "{told:?}");
}

/// Three hundred guesses at once.
async fn guesses(rig: &Rig) {
    let body = |number| json!({ "name": crate::PERSON, "password": format!("guess-{number:05}") });
    let told = post_all(rig, "/api/v1/session", (0..300).map(body)).await;
    assert!(told.iter().all(|code| [401, 429, 503].contains(code)), "{told:?}");
}

/// Descriptions that are deep, wide or wrong everywhere, from a hundred at once.
async fn descriptions(rig: &Rig) {
    let rows = format!("name,address,type,rate\n{}", "x,holding:0,uint16,y\n".repeat(2_000));
    let files = [
        json!({ "gateway.toml": format!("a = {}", "[".repeat(50_000)) }),
        json!({ "gateway.toml": "[[device]]\n".repeat(2_000) }),
        json!({ "gateway.toml": "[gateway]\nname = \"g\"\n", "p.csv": rows }),
        json!({ "gateway.toml": format!("x = \"\"\"\n{}", "y\n".repeat(100_000)) }),
    ];
    let bodies = files.iter().cycle().take(100).map(|files| json!({ "files": files }));
    let told = post_all(rig, "/api/v1/check", bodies).await;
    assert!(told.iter().all(|code| [200, 413, 422, 503].contains(code)), "{told:?}");
}

/// One that is long and right: what it takes while it is checked has to come back.
async fn long_description(rig: &Rig) {
    let rows: String = (0..15_000).map(|n| format!("p{n},holding:{n},uint16,normal,kW,Power {n}\n")).collect();
    let main = "[gateway]\nname = \"g\"\n[rates]\nnormal = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \
                \"127.0.0.1\"\n[[device]]\nname = \"d\"\nlink = \"l\"\nunit = 1\n";
    let files = json!({ "gateway.toml": main, "points/d.csv": format!("name,address,type,rate,unit,title\n{rows}") });
    let told = post_all(rig, "/api/v1/check", [json!({ "files": files })].into_iter()).await;
    assert_eq!(told, [200]);
}

/// Connections on which nothing is ever asked.
async fn silence(rig: &Rig) {
    let address = rig.url.strip_prefix("http://").unwrap().to_owned();
    let mut silent = Vec::new();
    for _ in 0..400 {
        silent.extend(TcpStream::connect(&address).await.ok());
    }
    sleep(Duration::from_secs(2)).await;
}

/// Everybody listens to everything, and reads nothing of it.
async fn listeners(rig: &Rig) {
    let address = rig.url.strip_prefix("http://").unwrap();
    let mut open = Vec::new();
    for path in ["/api/v1/live", "/api/v1/tap?gateway=alderfen-1"].iter().cycle().take(100) {
        let mut stream = TcpStream::connect(address).await.unwrap();
        let head = format!("GET {path} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {}\r\n\r\n", rig.token);
        stream.write_all(head.as_bytes()).await.unwrap();
        open.push(stream);
    }
    sleep(Duration::from_secs(3)).await;
}

/// Field devices that send without end: a gateway of their own polls them while they do.
async fn floods(rig: &Rig, directory: &Path) {
    let mut main = "[gateway]\nname = \"flooded\"\n[rates]\nfast = \"100ms\"\n".to_owned();
    let mut sending = JoinSet::new();
    for (name, protocol, piece) in
        [("zeros", "modbus-rtu-tcp", vec![0; 65_536]), ("strangers", "modbus-tcp", foreign_frames())]
    {
        let listener = TcpListener::bind((own_address(), 0)).await.unwrap();
        let (ip, port) = (listener.local_addr().unwrap().ip(), listener.local_addr().unwrap().port());
        main += &format!(
            "[[link]]\nname = \"{name}\"\nprotocol = \"{protocol}\"\nhost = \"{ip}\"\nport = {port}\n[[device]]\nname = \
             \"{name}-1\"\nlink = \"{name}\"\nunit = 1\npoints = \"p.csv\"\n"
        );
        sending.spawn(async move {
            loop {
                let Ok((mut stream, _)) = listener.accept().await else { continue };
                while stream.write_all(&piece).await.is_ok() {}
            }
        });
    }
    std::fs::create_dir_all(directory).unwrap();
    std::fs::write(directory.join("gateway.toml"), main).unwrap();
    std::fs::write(directory.join("p.csv"), "name,address,type,rate\na,holding:0,uint16,fast\n").unwrap();
    let out = rig.interlex(&["config", "apply", &directory.display().to_string(), "--activate", "--note", "x"]).await;
    assert!([0, 7].contains(&out.code), "{out:?}");
    sleep(Duration::from_secs(8)).await;
    let out = rig.interlex(&["gateways", "remove", "flooded", "--yes"]).await;
    assert_eq!(out.code, 0, "{out:?}");
}

/// Commands that are nonsense, that are very many in one message, or that grow when they are read.
async fn commands(rig: &Rig) {
    let broker = rig.broker.address();
    let mut options = MqttOptions::new("commander", broker.ip().to_string(), broker.port());
    options.set_max_packet_size(1 << 20, 1 << 20);
    let (client, mut eventloop) = AsyncClient::new(options, 16);
    let carrying = tokio::spawn(async move { while eventloop.poll().await.is_ok() {} });
    let payloads = [[0x12, 0x00].repeat(100_000), b"nonsense".to_vec(), vec![0x12, 0x02, 0x10, 0x01]];
    for (payload, times) in payloads.into_iter().zip([200, 20_000, 20_000]) {
        for _ in 0..times {
            let topic = "spBv1.0/alderfen/DCMD/works-1/digester-1";
            client.publish(topic, QoS::AtMostOnce, false, payload.clone()).await.unwrap();
        }
    }
    // One that means well comes through behind all of them.
    let host = Host::listen(broker).await;
    wait_for("a command is carried out", || async {
        host.command("digester-1", &[named("temperature-set-point"), double(43.0)]).await;
        sleep(Duration::from_millis(500)).await;
        let point = rig.get("/api/v1/points/alderfen-1/digester-1/temperature-set-point").await;
        (point["value"] == 43.0).then_some(())
    })
    .await;
    carrying.abort();
}

/// A field in which everything changes all the time.
#[derive(Debug, Default)]
struct Restless(AtomicU16);

impl Units for Restless {
    fn answer(&self, _: u8, request: &Request) -> Result<Response, Refusal> {
        let Request::Read(read) = request else { return Err(Refusal::Silence) };
        let value = self.0.fetch_add(1, Ordering::Relaxed);
        Ok(Response::Data(ReadData::Registers(vec![value; read.quantity().into()])))
    }
}

/// Another gateway with very many points, which change every second.
async fn many_points(rig: &Rig, thousands: u16) -> DropGuard {
    let listener = TcpListener::bind((own_address(), 0)).await.unwrap();
    let (address, stop) = (listener.local_addr().unwrap(), CancellationToken::new());
    tokio::spawn(serve(listener, Arc::new(Restless::default()), stop.clone()));
    let (host, port) = (address.ip(), address.port());
    let mut main = format!(
        "[gateway]\nname = \"many\"\n[rates]\nnormal = \"1s\"\n[[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost = \
         \"{host}\"\nport = {port}\nin-flight = 4\n"
    );
    for unit in 1..=thousands {
        main += &format!("[[device]]\nname = \"unit-{unit}\"\nlink = \"bus\"\nunit = {unit}\npoints = \"p.csv\"\n");
    }
    let rows: String = (0..1000).map(|n| format!("p{n},holding:{n},uint16,normal,Power {n}\n")).collect();
    let directory = rig.home().join("many");
    std::fs::create_dir_all(&directory).unwrap();
    std::fs::write(directory.join("gateway.toml"), main).unwrap();
    std::fs::write(directory.join("p.csv"), format!("name,address,type,rate,title\n{rows}")).unwrap();
    let out = rig.interlex(&["config", "apply", &directory.display().to_string(), "--activate", "--note", "x"]).await;
    assert_eq!(out.code, 0, "{out:?}");
    let good = u64::from(thousands) * 1000;
    rig.until("many points are good", |status| status["gateways"][1]["points_good"] == good).await;
    stop.drop_guard()
}

/// Everything is listed by several at once.
async fn lists(rig: &Rig) {
    let mut listing = JoinSet::new();
    for _ in 0..5 {
        let request = reqwest::Client::new().get(format!("{}/api/v1/points", rig.url)).bearer_auth(&rig.token);
        listing.spawn(async move {
            let mut answer = request.send().await.unwrap();
            let mut bytes = 0;
            while let Some(piece) = answer.chunk().await.unwrap() {
                bytes += piece.len();
            }
            bytes
        });
    }
    assert!(listing.join_all().await.into_iter().all(|bytes| bytes > 100_000));
}

/// Everything is followed by many at once, who read what comes; some look for a text.
async fn streams(rig: &Rig) {
    let mut following = JoinSet::new();
    for path in ["/api/v1/live", "/api/v1/live?q=power%207"].iter().cycle().take(30) {
        let request = reqwest::Client::new().get(format!("{}{path}", rig.url)).bearer_auth(&rig.token);
        following.spawn(async move {
            let mut answer = request.send().await.unwrap();
            assert_eq!(answer.status(), 200);
            while let Ok(Some(_)) = answer.chunk().await {}
        });
    }
    sleep(Duration::from_secs(5)).await;
}

/// Valid answers to requests that nobody sent.
fn foreign_frames() -> Vec<u8> {
    (0..2000_u16).flat_map(|id| [&id.to_be_bytes()[..], &[0, 0, 0, 5, 1, 3, 2, 0, 7]].concat()).collect()
}

/// A field device that never comes, and a broker's file that never ends.
async fn endless_files(rig: &Rig) {
    let uplink = |path: &str| {
        json!({ "uplink": { "name": "x", "kind": "sparkplug", "url": "mqtts://127.0.0.1:1", "group": "g", "node": "n",
                            "ca": format!("file:{path}") } })
    };
    let bodies = ["/dev/zero", "/dev/ptmx", "/proc/self/mem", "/dev/stdin"].iter().cycle().take(100);
    let told = post_all(rig, "/api/v1/gateways/alderfen-1/trials/broker", bodies.map(|path| uplink(path))).await;
    assert!(told.iter().all(|code| *code != 0), "{told:?}");
    wait_for("everything else goes on", || async { (rig.status().await["database"]["up"] == true).then_some(()) })
        .await;
}

/// Heads of requests that never end.
async fn slow_heads(rig: &Rig) {
    let address = rig.url.strip_prefix("http://").unwrap().to_owned();
    let mut dripping = JoinSet::new();
    for _ in 0..100 {
        let address = address.clone();
        dripping.spawn(async move {
            let Ok(mut stream) = TcpStream::connect(&address).await else { return };
            let _ = stream.write_all(b"GET /api/v1/status HTTP/1.1\r\n").await;
            for _ in 0..30 {
                if stream.write_all(format!("x: {}\r\n", "y".repeat(8000)).as_bytes()).await.is_err() {
                    return;
                }
                sleep(Duration::from_millis(50)).await;
            }
            let mut rest = Vec::new();
            let _ = stream.read_to_end(&mut rest).await;
        });
    }
    dripping.join_all().await;
}
