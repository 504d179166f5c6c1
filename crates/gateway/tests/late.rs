//! A converter whose answers come late: no point gets the value of another, also over reconnects and activations.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::{Description, Files, read};
use interlex_core::{Quality, Value};
use interlex_gateway::{Gateway, GatewayOptions};
use interlex_modbus::{Framing, ReadData, Refusal, Request, Response, Server, Units};
use interlex_sidecar::own_address;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;

/// Each register holds a hundred times its unit and its own address.
struct Plain;

impl Units for Plain {
    fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal> {
        let Request::Read(read) = request else { return Err(Refusal::Silence) };
        let value = |address| u16::from(unit) * 100 + address;
        Ok(Response::Data(ReadData::Registers((read.address()..read.address() + read.quantity()).map(value).collect())))
    }
}

/// A converter that gives each answer of unit 1 after `delay` milliseconds, to whoever is connected then, and others at once.
async fn converter(listener: TcpListener, delay: Arc<AtomicU64>) {
    let (answers, mut ready) = mpsc::channel::<Vec<u8>>(100);
    let mut connection: Option<TcpStream> = None;
    let mut server = Server::new(Framing::Rtu);
    let mut bytes = [0; 300];
    loop {
        let reading = async {
            match &mut connection {
                Some(stream) => stream.read(&mut bytes).await.unwrap_or(0),
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            Ok((stream, _)) = listener.accept() => connection = Some(stream),
            Some(answer) = ready.recv() => if let Some(stream) = &mut connection {
                let _ = stream.write_all(&answer).await;
            },
            count = reading => {
                if count == 0 {
                    connection = None;
                    continue;
                }
                let mut answer = Vec::new();
                server.handle_input(&bytes[..count], &Plain, &mut answer).unwrap();
                let wait = if answer.first() == Some(&1) { delay.load(Ordering::Relaxed) } else { 0 };
                let answers = answers.clone();
                tokio::spawn(async move {
                    tokio::time::sleep(Duration::from_millis(wait)).await;
                    let _ = answers.send(answer).await;
                });
            }
        }
    }
}

fn description(address: SocketAddr, title: &str) -> Arc<Description> {
    let (host, port) = (address.ip(), address.port());
    let mut main = format!(
        "[gateway]\nname = \"alderfen-1\"\n[rates]\nfast = \"20ms\"\n[[link]]\nname = \"converter\"\nprotocol = \
         \"modbus-rtu-tcp\"\nhost = \"{host}\"\nport = {port}\ntimeout = \"100ms\"\nreconnect-limit = \"50ms\"\n"
    );
    for unit in 1..=2 {
        main.push_str(&format!(
            "[[device]]\nname = \"unit-{unit}\"\nlink = \"converter\"\nunit = {unit}\nmax-registers = 1\npoints = \"p.csv\"\n"
        ));
    }
    let rows: String = (0..20).map(|n| format!("p{n},holding:{n},uint16,fast,{title}\n")).collect();
    let files: Files =
        [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), format!("name,address,type,rate,title\n{rows}"))]
            .into();
    Arc::new(read(&files).unwrap())
}

/// Looks at every point until `holds`; whatever is good must be right.
async fn watch(gateway: &Gateway, what: &str, holds: impl Fn(&Gateway) -> bool) {
    let watching = async {
        while !holds(gateway) {
            let running = gateway.running();
            for info in running.points().all() {
                let reading = running.latest().read(info.index).unwrap();
                let unit: u64 = info.device().trim_start_matches("unit-").parse().unwrap();
                let number: u64 = info.name()[1..].parse().unwrap();
                if reading.quality == Quality::Good {
                    assert_eq!(
                        reading.value,
                        Some(Value::Uint(unit * 100 + number)),
                        "{}/{}",
                        info.device(),
                        info.name()
                    );
                }
            }
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
    };
    let watched = tokio::time::timeout(Duration::from_secs(30), watching).await;
    assert!(watched.is_ok(), "waited in vain: {what}\n{:#?}", gateway.status());
}

#[tokio::test(flavor = "multi_thread")]
async fn late_answers_are_told_and_never_become_other_points() {
    let listener = TcpListener::bind((own_address(), 0)).await.unwrap();
    let address = listener.local_addr().unwrap();
    let delay = Arc::new(AtomicU64::new(0));
    tokio::spawn(converter(listener, Arc::clone(&delay)));
    let gateway = Gateway::start(description(address, "one"), GatewayOptions::default()).await;
    watch(&gateway, "all good", |gateway| gateway.status().points_good == 40).await;
    let good_of = |gateway: &Gateway, device: &str| {
        let running = gateway.running();
        let of_device = running.points().all().iter().filter(|info| info.device() == device);
        of_device.filter(|info| running.latest().read(info.index).unwrap().quality.is_good()).count()
    };
    let late = |gateway: &Gateway| gateway.running().statistics("converter").unwrap().late;

    delay.store(120, Ordering::Relaxed);
    watch(&gateway, "late answers are counted", |gateway| late(gateway) >= 2).await;
    let told = || gateway.status().links[0].devices[0].last_error.clone().unwrap_or_default();
    watch(&gateway, "the lateness is told", |_| told().contains("after the request: raise the timeout")).await;
    assert_eq!(good_of(&gateway, "unit-2"), 20, "the other unit goes on");

    // An activation starts the link anew while an answer is on its way.
    let before = late(&gateway);
    watch(&gateway, "one more is late", |gateway| late(gateway) > before).await;
    let mut other = Description::clone(&description(address, "one"));
    let mut points = other.devices[0].points.to_vec();
    Arc::make_mut(&mut points[0]).settings.deadband = 1.0;
    other.devices[0].points = points.into();
    gateway.activate(Arc::new(other), 2).await;
    watch(&gateway, "it goes on", |gateway| late(gateway) >= 2).await;

    delay.store(0, Ordering::Relaxed);
    watch(&gateway, "all good again", |gateway| gateway.status().points_good == 40).await;
    gateway.stop().await;
}
