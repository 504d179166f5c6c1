use crate::report::{header, now, quantile, row};
use anyhow::Context;
use interlex_core::description::{Files, read};
use interlex_gateway::{Gateway, GatewayOptions};
use interlex_modbus::{ReadData, Refusal, Request, Response, Units, serve};
use interlex_sidecar::{Broker, own_socket};
use interlex_sparkplug::{decode_payload, proto::metric::Value};
use rumqttc::{AsyncClient, Event, MqttOptions, NetworkOptions, Packet, QoS};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::mpsc;
use tokio::time::{sleep, timeout};
use tokio_util::sync::CancellationToken;

const PERIOD: Duration = Duration::from_millis(100);
const CHANGES: u16 = 300;

/// A plant of one register.
#[derive(Debug, Default)]
struct Register(AtomicU16);

impl Units for Register {
    fn answer(&self, _: u8, _: &Request) -> Result<Response, Refusal> {
        Ok(Response::Data(ReadData::Registers(vec![self.0.load(Ordering::SeqCst)])))
    }
}

/// What a subscriber hears: payloads of a topic.
fn subscriber(broker: SocketAddr, name: &str, topic: &'static str) -> (AsyncClient, mpsc::Receiver<Vec<u8>>) {
    let mut options = MqttOptions::new(name, broker.ip().to_string(), broker.port());
    options.set_max_packet_size(1 << 20, 1 << 20);
    let (client, mut eventloop) = AsyncClient::new(options, 64);
    let mut network = NetworkOptions::new();
    network.set_tcp_nodelay(true);
    eventloop.set_network_options(network);
    let (sender, receiver) = mpsc::channel(1024);
    let again = client.clone();
    tokio::spawn(async move {
        while let Ok(event) = eventloop.poll().await {
            let heard = match event {
                Event::Incoming(Packet::ConnAck(_)) => {
                    if again.try_subscribe(topic, QoS::AtMostOnce).is_err() {
                        return;
                    }
                    continue;
                }
                // An empty message tells that the subscription is in force.
                Event::Incoming(Packet::SubAck(_)) => Vec::new(),
                Event::Incoming(Packet::Publish(message)) => message.payload.to_vec(),
                _ => continue,
            };
            if sender.send(heard).await.is_err() {
                return;
            }
        }
    });
    (client, receiver)
}

fn files(plant: SocketAddr, broker: SocketAddr) -> Files {
    let (plant_ip, plant_port) = (plant.ip(), plant.port());
    let gateway = format!(
        "[gateway]\nname = \"alderfen-1\"\n[rates]\nfast = \"100ms\"\n\
         [[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost = \"{plant_ip}\"\nport = {plant_port}\n\
         [[device]]\nname = \"meter\"\nlink = \"bus\"\nunit = 1\npoints = \"p.csv\"\n\
         [[uplink]]\nname = \"cloud\"\nkind = \"sparkplug\"\nurl = \"mqtt://{broker}\"\ngroup = \"alderfen\"\nnode = \"works-1\"\n"
    );
    let points = "name,address,type,rate\nvalue,holding:0,uint16,fast\n".to_owned();
    [("gateway.toml".to_owned(), gateway), ("p.csv".to_owned(), points)].into()
}

/// Waits for a payload that fulfils a condition.
async fn heard(receiver: &mut mpsc::Receiver<Vec<u8>>, holds: impl Fn(&[u8]) -> bool) -> anyhow::Result<()> {
    let waiting = async {
        while let Some(payload) = receiver.recv().await {
            if holds(&payload) {
                return true;
            }
        }
        false
    };
    anyhow::ensure!(
        timeout(Duration::from_secs(20), waiting).await.context("nothing arrived")?,
        "the subscriber ended"
    );
    Ok(())
}

fn carries(payload: &[u8], wanted: u16) -> bool {
    let metrics = decode_payload(payload).map(|payload| payload.metrics).unwrap_or_default();
    metrics.iter().any(|metric| metric.value == Some(Value::IntValue(wanted.into())))
}

pub(crate) async fn run() -> anyhow::Result<()> {
    let directory = tempfile::tempdir()?;
    let mut broker = Broker::start(directory.path(), own_socket()?).await?;
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let plant = listener.local_addr()?;
    let (register, stop) = (Arc::new(Register::default()), CancellationToken::new());
    tokio::spawn(serve(listener, Arc::clone(&register) as Arc<dyn Units>, stop.clone()));
    let (client, mut receiver) = subscriber(broker.address(), "subscriber", "spBv1.0/alderfen/+/works-1/#");
    heard(&mut receiver, <[u8]>::is_empty).await?;
    let description = read(&files(plant, broker.address())).map_err(|problems| anyhow::anyhow!("{problems:?}"))?;
    let gateway = Gateway::start(Arc::new(description), GatewayOptions::default()).await;
    heard(&mut receiver, |payload| carries(payload, 0)).await?;

    let mut ours = Vec::new();
    for value in 1..=CHANGES {
        // Spread over the period, so that the waits for the next poll are those of a plant.
        sleep(PERIOD + Duration::from_millis(u64::from(value * 37 % 100))).await;
        let changed = now();
        register.0.store(value, Ordering::SeqCst);
        heard(&mut receiver, |payload| carries(payload, value)).await?;
        ours.push(changed.elapsed());
    }
    gateway.stop().await;
    drop(client);

    let (client, mut receiver) = subscriber(broker.address(), "raw", "raw");
    heard(&mut receiver, <[u8]>::is_empty).await?;
    let mut raw = Vec::new();
    for _ in 0..CHANGES {
        sleep(Duration::from_millis(2)).await;
        let sent = now();
        client.publish("raw", QoS::AtMostOnce, false, vec![7; 24]).await?;
        heard(&mut receiver, |payload| !payload.is_empty()).await?;
        raw.push(sent.elapsed());
    }
    stop.cancel();
    broker.stop().await;

    ours.sort_unstable();
    raw.sort_unstable();
    header("latency: register changed -> decoded at a subscriber; raw: one publish through the same broker");
    for (what, part) in [("p50", 0.5), ("p99", 0.99)] {
        let millis = |times: &[Duration]| format!("{:.2} ms", quantile(times, part).as_secs_f64() * 1000.0);
        row(what, &millis(&ours), &millis(&raw), None);
    }
    row("poll period", &format!("{} ms", PERIOD.as_millis()), "-", None);
    Ok(())
}
