use crate::wire::{Field, fields, text, varint};
use rumqttc::{AsyncClient, Event, MqttOptions, Packet, QoS};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// A host application's ears: everything that arrives in the group, in order, with the values of every metric.
#[derive(Clone)]
pub struct Host {
    arrived: Arc<Mutex<Vec<Arrived>>>,
    client: AsyncClient,
}

/// One message as it arrived, decoded by hand.
#[derive(Debug, Clone)]
pub struct Arrived {
    /// NBIRTH, DDATA, …
    pub kind: String,
    pub device: Option<String>,
    pub seq: Option<u64>,
    pub retained: bool,
    pub metrics: Vec<Heard>,
}

#[derive(Debug, Clone)]
pub struct Heard {
    pub name: Option<String>,
    pub alias: Option<u64>,
    pub datatype: Option<u64>,
    pub is_null: bool,
    pub is_historical: bool,
    /// The value, numbers as doubles; booleans as 0 and 1.
    pub value: Option<f64>,
    /// The value of a text.
    pub text: Option<String>,
    pub properties: HashMap<String, String>,
}

impl Host {
    /// Subscribes to everything of Sparkplug B at QoS 2, as a host does.
    pub async fn listen(broker: SocketAddr) -> Self {
        let mut options = MqttOptions::new("host", broker.ip().to_string(), broker.port());
        options.set_keep_alive(Duration::from_secs(30));
        options.set_max_packet_size(1 << 20, 1 << 20);
        let (client, mut eventloop) = AsyncClient::new(options, 64);
        let arrived = Arc::new(Mutex::new(Vec::new()));
        let (sender, subscribed) = tokio::sync::oneshot::channel();
        let (into, again) = (Arc::clone(&arrived), client.clone());
        tokio::spawn(async move {
            let mut sender = Some(sender);
            loop {
                match eventloop.poll().await {
                    Ok(Event::Incoming(Packet::ConnAck(_))) => {
                        again.try_subscribe("spBv1.0/#", QoS::ExactlyOnce).unwrap()
                    }
                    Ok(Event::Incoming(Packet::SubAck(_))) => {
                        sender.take().map(|sender| sender.send(()));
                    }
                    Ok(Event::Incoming(Packet::Publish(message))) => {
                        into.lock().unwrap().push(decode(&message.topic, &message.payload, message.retain));
                    }
                    Ok(_) => {}
                    Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
                }
            }
        });
        subscribed.await.unwrap();
        Self { arrived, client }
    }

    pub fn all(&self) -> Vec<Arrived> {
        self.arrived.lock().unwrap().clone()
    }

    /// Waits until a message after the first `skip` ones fulfils a condition; gives its position.
    pub async fn hears(&self, what: &str, skip: usize, holds: impl Fn(&Arrived) -> bool) -> usize {
        crate::wait_for(what, || async { self.all().iter().skip(skip).position(&holds).map(|at| at + skip) }).await
    }

    /// Asks the node for a rebirth.
    pub async fn ask_rebirth(&self) {
        self.publish("spBv1.0/alderfen/NCMD/works-1", &[named("Node Control/Rebirth"), boolean(true)]).await;
    }

    /// Commands a device, with a metric made of [`named`] or [`aliased`] and a value.
    pub async fn command(&self, device: &str, metric: &[Vec<u8>]) {
        self.publish(&format!("spBv1.0/alderfen/DCMD/works-1/{device}"), metric).await;
    }

    /// Publishes a payload of one metric.
    async fn publish(&self, topic: &str, metric: &[Vec<u8>]) {
        let payload = bytes_field(0x12, &metric.concat());
        self.client.publish(topic, QoS::AtMostOnce, false, payload).await.unwrap();
    }
}

/// The name of a metric, in bytes written by hand.
pub fn named(name: &str) -> Vec<u8> {
    bytes_field(0x0A, name.as_bytes())
}

/// The alias of a metric.
pub fn aliased(alias: u64) -> Vec<u8> {
    vec![0x10, u8::try_from(alias).ok().filter(|alias| *alias < 0x80).unwrap()]
}

/// A metric's boolean value.
pub fn boolean(value: bool) -> Vec<u8> {
    vec![0x70, value.into()]
}

/// A metric's double value.
pub fn double(value: f64) -> Vec<u8> {
    [&[0x69][..], &value.to_le_bytes()].concat()
}

/// A metric's value in single precision.
pub fn float(value: f32) -> Vec<u8> {
    [&[0x65][..], &value.to_le_bytes()].concat()
}

/// No value: whoever takes commands is to give back what was commanded before.
pub fn null() -> Vec<u8> {
    vec![0x38, 1]
}

fn bytes_field(key: u8, bytes: &[u8]) -> Vec<u8> {
    [&[key, u8::try_from(bytes.len()).unwrap()][..], bytes].concat()
}

fn decode(topic: &str, payload: &[u8], retained: bool) -> Arrived {
    let levels: Vec<_> = topic.split('/').collect();
    assert!(levels.len() >= 4 && levels[0] == "spBv1.0", "{topic}");
    let message = fields(payload).unwrap_or_else(|| panic!("{topic}: no protobuf"));
    let metrics = message.iter().filter_map(|(number, field)| match field {
        Field::Bytes(bytes) if *number == 2 => Some(heard(&fields(bytes).unwrap())),
        _ => None,
    });
    Arrived {
        kind: levels[2].to_owned(),
        device: levels.get(4).map(|device| (*device).to_owned()),
        seq: varint(&message, 3),
        retained,
        metrics: metrics.collect(),
    }
}

fn heard(metric: &[(u64, Field)]) -> Heard {
    let datatype = varint(metric, 4);
    let value = metric.iter().find_map(|(number, field)| match (number, field) {
        (10, Field::Varint(bits)) if matches!(datatype, Some(1..=3)) => Some(f64::from(*bits as u32 as i32)),
        (10 | 11 | 14, Field::Varint(bits)) => Some(*bits as f64),
        (12, Field::Fixed32(bytes)) => Some(f64::from(f32::from_le_bytes(*bytes))),
        (13, Field::Fixed64(bytes)) => Some(f64::from_le_bytes(*bytes)),
        _ => None,
    });
    Heard {
        name: text(metric, 1),
        alias: varint(metric, 2),
        datatype,
        is_historical: varint(metric, 5) == Some(1),
        is_null: varint(metric, 7) == Some(1),
        value,
        text: text(metric, 15),
        properties: properties(metric),
    }
}

/// Text and whole numbers among the properties.
fn properties(metric: &[(u64, Field)]) -> HashMap<String, String> {
    let Some(Field::Bytes(set)) = metric.iter().find(|(number, _)| *number == 9).map(|(_, field)| field) else {
        return HashMap::new();
    };
    let set = fields(set).unwrap();
    let of = |wanted: u64| set.iter().filter(move |(number, _)| *number == wanted).map(|(_, field)| field);
    let keys = of(1).map(|field| match field {
        Field::Bytes(bytes) => String::from_utf8(bytes.clone()).unwrap(),
        other => panic!("a key is {other:?}"),
    });
    let values = of(2).map(|field| match field {
        Field::Bytes(bytes) => {
            let value = fields(bytes).unwrap();
            text(&value, 8).or_else(|| varint(&value, 3).map(|number| number.to_string())).unwrap_or_default()
        }
        other => panic!("a value is {other:?}"),
    });
    keys.zip(values).collect()
}
