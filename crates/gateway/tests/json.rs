//! Messages from templates over plain MQTT, of both versions, through outages, and commands with replies.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::{Files, read};
use interlex_faults::{BreakableLine, CountingPlant};
use interlex_gateway::{Gateway, GatewayOptions, UplinkState, UplinkStatus};
use interlex_modbus::{ReadData, Refusal, Request, Response, Units, Written, serve};
use interlex_sidecar::{Broker, Database, own_address, own_socket};
use interlex_store::{AuditFilter, Store};
use rumqttc::{AsyncClient, Event, MqttOptions, Packet, QoS};
use serde_json::{Value, json};
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

async fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let waiting = async {
        while !holds() {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    };
    assert!(tokio::time::timeout(Duration::from_secs(40), waiting).await.is_ok(), "waited in vain: {what}");
}

/// Somebody who listens to everything, and writes it down.
struct Listener {
    heard: Arc<Mutex<Vec<(String, String, bool)>>>,
    client: AsyncClient,
}

impl Listener {
    async fn start(broker: SocketAddr) -> Self {
        let mut options = MqttOptions::new("listener", broker.ip().to_string(), broker.port());
        options.set_max_packet_size(1 << 20, 1 << 20);
        let (client, mut eventloop) = AsyncClient::new(options, 16);
        let heard = Arc::new(Mutex::new(Vec::new()));
        let (into, again) = (Arc::clone(&heard), client.clone());
        let (sender, subscribed) = tokio::sync::oneshot::channel();
        tokio::spawn(async move {
            let mut sender = Some(sender);
            loop {
                match eventloop.poll().await {
                    Ok(Event::Incoming(Packet::ConnAck(_))) => again.try_subscribe("#", QoS::ExactlyOnce).unwrap(),
                    Ok(Event::Incoming(Packet::SubAck(_))) => {
                        sender.take().into_iter().for_each(|sender| sender.send(()).unwrap())
                    }
                    Ok(Event::Incoming(Packet::Publish(told))) => {
                        let text = String::from_utf8_lossy(&told.payload).into_owned();
                        into.lock().unwrap().push((told.topic, text, told.retain));
                    }
                    Ok(_) => {}
                    Err(_) => tokio::time::sleep(Duration::from_millis(2)).await,
                }
            }
        });
        subscribed.await.unwrap();
        Self { heard, client }
    }

    fn of(&self, topic: &str) -> Vec<Value> {
        let heard = self.heard.lock().unwrap();
        heard
            .iter()
            .filter(|(known, ..)| known == topic)
            .map(|(_, text, _)| serde_json::from_str(text).unwrap())
            .collect()
    }
}

fn files(plant: SocketAddr, broker: SocketAddr, points: &str, uplink: &str) -> Files {
    let (plant_ip, plant_port) = (plant.ip(), plant.port());
    let main = format!(
        "[gateway]\nname = \"alderfen-1\"\n[rates]\nfast = \"20ms\"\n[[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost = \
         \"{plant_ip}\"\nport = {plant_port}\n[[device]]\nname = \"meter-1\"\ntitle = \"Meter\"\nlink = \"bus\"\nunit = 1\npoints = \
         \"p.csv\"\n[[uplink]]\nname = \"notices\"\nkind = \"json\"\nurl = \"mqtt://{broker}\"\nkeep-alive = \
         \"1s\"\njournal-flush = \"50ms\"\n{uplink}"
    );
    [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), points.to_owned())].into()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_sample_is_in_a_message_and_every_message_arrives_through_outages() {
    let directory = tempfile::tempdir().unwrap();
    let mut broker = Broker::start(&directory.path().join("broker"), own_socket().unwrap()).await.unwrap();
    let mut database = Database::start(&directory.path().join("database"), own_socket().unwrap()).await.unwrap();
    let store = Store::new(&database.url("interlex")).unwrap();
    store.migrate().await.unwrap();
    let points = "name,address,type,rate,unit\ncount,holding:0,uint32,fast,kWh\n";
    let listener = Listener::start(broker.address()).await;
    for (mqtt, qos) in [("3.1.1", 0), ("3.1.1", 1), ("5", 2)] {
        let (plant, line) =
            (CountingPlant::start().await.unwrap(), BreakableLine::start(broker.address()).await.unwrap());
        let topic = format!("alderfen/{mqtt}/{qos}/meter-1");
        let uplink = format!(
            "mqtt = \"{mqtt}\"\nqos = {qos}\ntopic = \"alderfen/{mqtt}/{qos}/{{{{ device.name }}}}\"\npayload = '{{\"counts\": \
             [{{% for sample in samples %}}{{{{ sample.value }}}}{{{{ \",\" if not loop.last }}}}{{% endfor %}}], \"title\": \
             {{{{ device.title | tojson }}}}}}'\ngather = \"50ms\"\n"
        );
        let files = files(plant.address(), line.address(), points, &uplink);
        let start = async || {
            let options = GatewayOptions { revision: 1, store: Some(store.clone()), ..GatewayOptions::default() };
            Gateway::start(Arc::new(read(&files).unwrap()), options).await
        };
        let of = |gateway: &Gateway| -> UplinkStatus { gateway.status().uplinks[0].clone() };
        let gateway = start().await;
        until("messages arrive", || listener.of(&topic).len() > 5).await;
        line.cut();
        let arrived = listener.of(&topic).len();
        until("they go on", || listener.of(&topic).len() > arrived + 5).await;
        line.freeze(true);
        until("it is offline", || of(&gateway).state == UplinkState::Offline).await;
        until("messages are kept", || of(&gateway).buffer.durable > 5).await;
        // An orderly restart in the outage: what is read while it ends is in no message.
        gateway.stop().await;
        let read_by_then = u64::from(plant.reads(1));
        let gateway = start().await;
        until("more are kept", || of(&gateway).buffer.waiting > 8).await;
        line.freeze(false);
        until("nothing waits", || of(&gateway).state == UplinkState::Online && of(&gateway).buffer.waiting < 3).await;
        let heard = listener.of(&topic);
        assert_eq!(heard[0]["title"], "Meter");
        let counts = heard.iter().flat_map(|message| message["counts"].as_array().unwrap());
        let counts: Vec<u64> = counts.map(|count| count.as_u64().unwrap()).collect();
        let missing = (counts[0]..=*counts.iter().max().unwrap()).filter(|count| !counts.contains(count));
        let missing: Vec<_> = missing.filter(|count| !(read_by_then - 3..=read_by_then).contains(count)).collect();
        assert!(
            missing.is_empty(),
            "MQTT {mqtt}, QoS {qos}: {missing:?} are missing in {counts:?}; restart at {read_by_then}"
        );
        let messages = gateway.running().messages("notices").await.unwrap();
        assert!(messages.last().unwrap().is_json && messages.last().unwrap().topic == topic);
        gateway.stop().await;
    }
    store.close().await;
    database.stop().await;
    broker.stop().await;
}

/// Four holding registers.
#[derive(Debug, Default)]
struct Field(Mutex<[u16; 4]>);

impl Units for Field {
    fn answer(&self, _: u8, request: &Request) -> Result<Response, Refusal> {
        let mut registers = self.0.lock().unwrap();
        match request {
            Request::Read(read) => {
                let first = usize::from(read.address());
                let told = registers[first..first + usize::from(read.quantity())].to_vec();
                Ok(Response::Data(ReadData::Registers(told)))
            }
            Request::Write(write) => {
                let Written::Register(value) = write.written() else { return Err(Refusal::Silence) };
                registers[usize::from(write.address())] = *value;
                Ok(Response::Written)
            }
            _ => Err(Refusal::Silence),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn commands_are_answered_and_messages_follow_periods_labels_and_retain() {
    let directory = tempfile::tempdir().unwrap();
    let mut broker = Broker::start(&directory.path().join("broker"), own_socket().unwrap()).await.unwrap();
    let mut database = Database::start(&directory.path().join("database"), own_socket().unwrap()).await.unwrap();
    let store = Store::new(&database.url("interlex")).unwrap();
    store.migrate().await.unwrap();
    let field = Arc::new(Field::default());
    let (socket, stop) = (TcpListener::bind((own_address(), 0)).await.unwrap(), CancellationToken::new());
    let plant = socket.local_addr().unwrap();
    tokio::spawn(serve(socket, Arc::clone(&field) as Arc<dyn Units>, stop.clone()));
    let points = "name,address,type,rate,access,low,high,labels\nspeed,holding:0,uint16,fast,read-write,0,100,control;energy\n\
                  key,holding:1,uint16,fast,read-write-local,,,control\nlevel,holding:2,uint16,fast,read,,,\n";
    let uplink = "topic = \"alderfen/{{ label }}\"\nmessage-per = \"label\"\nsend = \"every 100ms\"\nretain = true\ncommands = \
                  true\ncommand-topic = \"set/+/+\"\nreply-topic = \"answers\"\ncommand-device = \"topic:1\"\ncommand-point = \
                  \"topic:2\"\nselect = \"name:speed,key\"\n";
    let description = read(&files(plant, broker.address(), points, uplink)).unwrap();
    let options = GatewayOptions { revision: 1, store: Some(store.clone()), ..GatewayOptions::default() };
    let gateway = Gateway::start(Arc::new(description), options).await;
    let listener = Listener::start(broker.address()).await;
    until("messages of both labels", || {
        ["control", "energy"].iter().all(|label| listener.of(&format!("alderfen/{label}")).len() > 3)
    })
    .await;
    let values = |label: &str| listener.of(&format!("alderfen/{label}")).last().unwrap()["values"].clone();
    assert_eq!(values("control"), json!({ "meter-1/key": 0, "meter-1/speed": 0 }));
    assert_eq!(values("energy"), json!({ "meter-1/speed": 0 }));

    let tell = async |topic: &str, text: &str| {
        let before = listener.of("answers").len();
        listener.client.publish(topic, QoS::AtLeastOnce, false, text).await.unwrap();
        until("an answer", || listener.of("answers").len() > before).await;
        listener.of("answers").last().unwrap().clone()
    };
    let answer = tell("set/meter-1/speed", "{\"value\": 42, \"id\": 7}").await;
    assert_eq!(answer, json!({ "id": 7, "result": "confirmed", "reason": "meter-1/speed = 42: confirmed" }));
    assert_eq!(field.0.lock().unwrap()[0], 42);
    until("the new value goes up", || values("energy") == json!({ "meter-1/speed": 42 })).await;
    for (topic, text, why) in [
        (
            "set/meter-1/speed",
            "{\"value\": 101, \"id\": 8}",
            "meter-1/speed = 101: refused: 101 is above its high limit 100",
        ),
        ("set/meter-1/key", "{\"value\": 1, \"id\": 8}", "key takes no commands"),
        ("set/meter-1/colour", "{\"value\": 1, \"id\": 8}", "there is no point meter-1/colour"),
        ("set/meter-1/speed", "{\"id\": 8}", "there is no value at /value"),
    ] {
        assert_eq!(tell(topic, text).await, json!({ "id": 8, "result": "refused", "reason": why }));
    }
    assert_eq!(*field.0.lock().unwrap(), [42, 0, 0, 0]);
    let audited = async || {
        let audit = store.audit(&AuditFilter { limit: 10, ..AuditFilter::default() }).await.unwrap();
        audit.iter().filter(|entry| entry.person == "(host)" && entry.action == "command").count()
    };
    // An answer goes out before its entry is written.
    let all_written = async {
        while audited().await < 5 {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    };
    tokio::time::timeout(Duration::from_secs(40), all_written).await.unwrap();
    assert_eq!(audited().await, 5);
    let late = Listener::start(broker.address()).await;
    until("a kept message", || {
        late.heard.lock().unwrap().iter().any(|(topic, _, kept)| topic == "alderfen/control" && *kept)
    })
    .await;
    gateway.stop().await;
    stop.cancel();
    store.close().await;
    database.stop().await;
    broker.stop().await;
}

/// A broker that takes messages, answers questions, and acknowledges no message until it is told to.
#[derive(Debug, Default)]
struct Withholding {
    is_willing: AtomicBool,
    questions: AtomicUsize,
    messages: AtomicUsize,
}

impl Withholding {
    async fn serve(self: Arc<Self>, listener: TcpListener) {
        let (mut socket, _) = listener.accept().await.unwrap();
        let mut owed = Vec::new();
        loop {
            let kind = match tokio::time::timeout(Duration::from_millis(20), socket.read_u8()).await {
                Ok(Ok(kind)) => kind,
                Ok(Err(_)) => return,
                Err(_) => {
                    if self.is_willing.load(Ordering::SeqCst) {
                        for id in owed.drain(..) {
                            let [high, low] = u16::to_be_bytes(id);
                            socket.write_all(&[0x40, 2, high, low]).await.unwrap();
                        }
                    }
                    continue;
                }
            };
            let (mut length, mut shift) = (0, 0);
            loop {
                let byte = socket.read_u8().await.unwrap();
                length |= usize::from(byte & 0x7F) << shift;
                shift += 7;
                if byte & 0x80 == 0 {
                    break;
                }
            }
            let mut body = vec![0; length];
            socket.read_exact(&mut body).await.unwrap();
            let id = |at: usize| u16::from_be_bytes([body[at], body[at + 1]]);
            match kind >> 4 {
                1 => socket.write_all(&[0x20, 2, 0, 0]).await.unwrap(),
                3 => {
                    owed.push(id(2 + usize::from(id(0))));
                    self.messages.fetch_add(1, Ordering::SeqCst);
                }
                10 => {
                    self.questions.fetch_add(1, Ordering::SeqCst);
                    socket.write_all(&[0xB0, 2, body[0], body[1]]).await.unwrap();
                }
                _ => {}
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn at_qos_1_only_what_is_acknowledged_counts_as_delivered() {
    let (socket, broker) = (TcpListener::bind((own_address(), 0)).await.unwrap(), Arc::new(Withholding::default()));
    let address = socket.local_addr().unwrap();
    tokio::spawn(Arc::clone(&broker).serve(socket));
    let plant = CountingPlant::start().await.unwrap();
    let points = "name,address,type,rate\ncount,holding:0,uint32,fast\n";
    let mut files = files(plant.address(), address, points, "topic = \"t\"\nqos = 1\ngather = \"20ms\"\n");
    let main = files.get_mut("gateway.toml").unwrap();
    *main = main.replace("keep-alive = \"1s\"", "keep-alive = \"60s\"");
    let gateway = Gateway::start(Arc::new(read(&files).unwrap()), GatewayOptions::default()).await;
    let uplink = || -> UplinkStatus { gateway.status().uplinks[0].clone() };
    until("messages went and a question was answered", || {
        broker.messages.load(Ordering::SeqCst) > 0 && broker.questions.load(Ordering::SeqCst) > 0
    })
    .await;
    until("more wait", || uplink().buffer.waiting > 5).await;
    assert_eq!(uplink().samples_delivered, 0, "an answer to the question is no acknowledgement");
    broker.is_willing.store(true, Ordering::SeqCst);
    until("they count", || uplink().samples_delivered > 5).await;
    gateway.stop().await;
}
