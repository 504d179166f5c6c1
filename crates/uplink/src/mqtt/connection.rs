//! One MQTT connection, from CONNECT to its end, of either version.

use super::tls;
use interlex_busy::watched;
use interlex_core::description::{MqttVersion, SecretText, Uplink};
use rumqttc::v5;
use rumqttc::v5::mqttbytes::v5 as packets;
use rumqttc::{Event, NetworkOptions, Packet, QoS, SubscribeFilter, SubscribeReasonCode};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

/// What happens on a connection.
#[derive(Debug)]
pub enum MqttEvent {
    /// CONNACK: the broker took the connection.
    ConnAck,
    /// SUBACK: the subscriptions are in force.
    SubAck,
    /// UNSUBACK: the broker has read everything that was written before the question.
    UnsubAck,
    /// PUBACK or PUBCOMP: the broker has taken a message of QoS 1 or 2.
    PubAck,
    /// A message of a subscribed topic.
    Publish {
        /// Its topic.
        topic: String,
        /// What it says.
        payload: bytes::Bytes,
        /// Whether the broker had kept it.
        is_retained: bool,
    },
    /// The connection ended; nothing follows.
    Lost(String),
}

/// A connection and the task that drives it. It ends when this is dropped.
pub struct Connection {
    client: Client,
    events: mpsc::Receiver<MqttEvent>,
    driver: JoinHandle<()>,
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Connection").finish_non_exhaustive()
    }
}

enum Client {
    V3(rumqttc::AsyncClient),
    V5(v5::AsyncClient),
}

/// What the broker publishes when the connection breaks: at QoS 1, not retained.
#[derive(Debug, Clone)]
pub struct Will {
    /// Its topic.
    pub topic: String,
    /// What it says.
    pub payload: Vec<u8>,
}

/// A message to publish.
#[derive(Debug, Clone, Copy)]
pub struct Message<'a> {
    /// Its topic.
    pub topic: &'a str,
    /// 0, 1 or 2.
    pub qos: u8,
    /// Whether the broker keeps it.
    pub retain: bool,
}

/// There is no more room in the queue to the broker for now.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NoRoom;

/// Messages on their way to the socket. When it is full, samples wait in the buffer.
const REQUEST_QUEUE: usize = 256;
/// A birth of fifty thousand points with long names takes a few megabytes.
const LARGEST_OUTGOING: usize = 64 << 20;

/// How much a broker may send before it is taken: the largest message, and how many of them.
#[derive(Debug, Clone, Copy)]
pub struct Intake {
    largest: u32,
    waiting: usize,
}

impl Intake {
    /// Commands and the STATE of a host.
    pub const COMMANDS: Self = Self { largest: 256 << 10, waiting: 64 };
    /// Everything that others publish, births with all their points included.
    pub const ALL: Self = Self { largest: 8 << 20, waiting: 2 };
}

const CONNECT_SECONDS: u64 = 5;
/// Nothing is ever published here, and nobody subscribes to it: leaving it is only a question to the broker.
const PROOF_TOPIC: &str = "interlex/proof";
const NOT_SUBSCRIBED: &str = "the broker does not let this client subscribe to what it must";

impl Connection {
    /// Starts to connect.
    ///
    /// # Errors
    /// What is wrong with certificates or key.
    pub async fn start(uplink: &Uplink, client_id: &str, will: Option<Will>, intake: Intake) -> Result<Self, String> {
        let uplink = &*tls::with_files(uplink).await?;
        let (sender, events) = mpsc::channel(intake.waiting);
        let host = uplink.server_name().to_owned();
        // In a task of its own: `poll` must not be dropped half way.
        let (client, driver) = match uplink.broker.mqtt {
            MqttVersion::V3 => {
                let (client, mut eventloop) =
                    rumqttc::AsyncClient::new(v3_options(uplink, client_id, will, intake.largest)?, REQUEST_QUEUE);
                eventloop.set_network_options(network());
                (Client::V3(client), tokio::spawn(watched("broker", client_id, drive_v3(eventloop, sender, host))))
            }
            MqttVersion::V5 => {
                let (client, eventloop) =
                    v5::AsyncClient::new(v5_options(uplink, client_id, will, intake.largest)?, REQUEST_QUEUE);
                (Client::V5(client), tokio::spawn(watched("broker", client_id, drive_v5(eventloop, sender, host))))
            }
        };
        Ok(Self { client, events, driver })
    }

    /// Hands a message over.
    ///
    /// # Errors
    /// [`NoRoom`] when the queue to the broker is full.
    pub fn publish(&self, message: Message<'_>, payload: Vec<u8>) -> Result<(), NoRoom> {
        let Message { topic, qos, retain } = message;
        match &self.client {
            Client::V3(client) => {
                let qos = rumqttc::qos(qos).unwrap_or(QoS::ExactlyOnce);
                client.try_publish(topic, qos, retain, payload).map_err(|_| NoRoom)
            }
            Client::V5(client) => {
                let qos = v5::mqttbytes::qos(qos).unwrap_or(v5::mqttbytes::QoS::ExactlyOnce);
                client.try_publish(topic, qos, retain, payload).map_err(|_| NoRoom)
            }
        }
    }

    /// Subscribes at QoS 1 to all topics at once: one answer tells that all are in force. To be called before anything is
    /// published, when there is room; where the connection has ended, its next event says why.
    pub fn subscribe(&self, topics: &[String]) {
        match &self.client {
            Client::V3(client) => {
                let filters = topics.iter().map(|topic| SubscribeFilter::new(topic.clone(), QoS::AtLeastOnce));
                _ = client.try_subscribe_many(filters);
            }
            Client::V5(client) => {
                let qos = v5::mqttbytes::QoS::AtLeastOnce;
                let filters = topics.iter().map(|topic| packets::Filter::new(topic.clone(), qos));
                _ = client.try_subscribe_many(filters);
            }
        }
    }

    /// Waits for what happens next.
    pub async fn next(&mut self) -> MqttEvent {
        self.events.recv().await.unwrap_or_else(|| MqttEvent::Lost("the connection ended".to_owned()))
    }

    /// Asks the broker for an answer that proves what it has read.
    pub fn ask(&self) -> bool {
        match &self.client {
            Client::V3(client) => client.try_unsubscribe(PROOF_TOPIC).is_ok(),
            Client::V5(client) => client.try_unsubscribe(PROOF_TOPIC).is_ok(),
        }
    }

    /// Sends DISCONNECT and waits until it is gone, `within` at most.
    pub async fn disconnect(mut self, within: Duration) {
        let is_sent = match &self.client {
            Client::V3(client) => client.try_disconnect().is_ok(),
            Client::V5(client) => client.try_disconnect().is_ok(),
        };
        if is_sent {
            let ended = async { while self.events.recv().await.is_some() {} };
            // The broker closes after DISCONNECT; if it does not, dropping the connection does.
            let _ = tokio::time::timeout(within, ended).await;
        }
    }
}

impl Drop for Connection {
    fn drop(&mut self) {
        self.driver.abort();
    }
}

fn network() -> NetworkOptions {
    let mut network = NetworkOptions::new();
    // Held-back packets delay acknowledgements by 40 ms.
    network.set_tcp_nodelay(true);
    network.set_connection_timeout(CONNECT_SECONDS);
    network
}

/// MQTT counts whole seconds; rumqttc wants so many at least.
fn keep_alive(uplink: &Uplink, least: u64) -> Duration {
    Duration::from_secs(Duration::from(uplink.broker.keep_alive).as_secs().max(least))
}

fn credentials(uplink: &Uplink) -> Option<(&str, &str)> {
    let user = uplink.broker.user.as_deref()?;
    Some((user, uplink.broker.password.as_ref().map_or("", SecretText::reveal)))
}

fn v3_options(
    uplink: &Uplink,
    client_id: &str,
    will: Option<Will>,
    largest: u32,
) -> Result<rumqttc::MqttOptions, String> {
    let url = &uplink.settings.url;
    let mut options = rumqttc::MqttOptions::new(client_id, url.bare_host(), url.port);
    options.set_clean_session(true);
    options.set_keep_alive(keep_alive(uplink, 1));
    if let Some((user, password)) = credentials(uplink) {
        options.set_credentials(user, password);
    }
    options.set_max_packet_size(largest as usize, LARGEST_OUTGOING);
    options.set_transport(tls::transport(uplink)?);
    if let Some(Will { topic, payload }) = will {
        options.set_last_will(rumqttc::LastWill::new(topic, payload, QoS::AtLeastOnce, false));
    }
    Ok(options)
}

/// Source: Sparkplug 3.0.0, tck-id-principles-persistence-clean-session-50: clean start, and no session that outlives the
/// connection.
fn v5_options(uplink: &Uplink, client_id: &str, will: Option<Will>, largest: u32) -> Result<v5::MqttOptions, String> {
    let url = &uplink.settings.url;
    let mut options = v5::MqttOptions::new(client_id, url.bare_host(), url.port);
    options.set_clean_start(true);
    options.set_session_expiry_interval(Some(0));
    options.set_keep_alive(keep_alive(uplink, 5));
    if let Some((user, password)) = credentials(uplink) {
        options.set_credentials(user, password);
    }
    options.set_max_packet_size(Some(largest));
    options.set_transport(tls::transport(uplink)?);
    options.set_network_options(network());
    options.set_connection_timeout(CONNECT_SECONDS);
    if let Some(Will { topic, payload }) = will {
        let qos = v5::mqttbytes::QoS::AtLeastOnce;
        options.set_last_will(packets::LastWill::new(topic, payload, qos, false, None));
    }
    Ok(options)
}

async fn drive_v3(mut eventloop: rumqttc::EventLoop, sender: mpsc::Sender<MqttEvent>, host: String) {
    loop {
        let event = match eventloop.poll().await {
            Ok(Event::Incoming(Packet::ConnAck(_))) => MqttEvent::ConnAck,
            Ok(Event::Incoming(Packet::SubAck(answer))) => {
                if answer.return_codes.contains(&SubscribeReasonCode::Failure) {
                    MqttEvent::Lost(NOT_SUBSCRIBED.to_owned())
                } else {
                    MqttEvent::SubAck
                }
            }
            Ok(Event::Incoming(Packet::UnsubAck(_))) => MqttEvent::UnsubAck,
            Ok(Event::Incoming(Packet::PubAck(_) | Packet::PubComp(_))) => MqttEvent::PubAck,
            Ok(Event::Incoming(Packet::Publish(publish))) => {
                let rumqttc::Publish { topic, payload, retain: is_retained, .. } = publish;
                MqttEvent::Publish { topic, payload, is_retained }
            }
            Ok(_) => continue,
            Err(error) => MqttEvent::Lost(tls::words(&error, &host)),
        };
        let is_over = matches!(event, MqttEvent::Lost(_));
        // Nobody listens any more when the uplink ended first.
        if sender.send(event).await.is_err() || is_over {
            return;
        }
    }
}

async fn drive_v5(mut eventloop: v5::EventLoop, sender: mpsc::Sender<MqttEvent>, host: String) {
    use packets::{Packet, PubAckReason, PubCompReason, PubRecReason, SubscribeReasonCode};
    let refused = |why: &dyn std::fmt::Debug| {
        MqttEvent::Lost(format!("the broker refuses what is published: {}", tls::spaced(why)))
    };
    loop {
        let event = match eventloop.poll().await {
            Ok(v5::Event::Incoming(packet)) => match packet {
                Packet::ConnAck(_) => MqttEvent::ConnAck,
                Packet::SubAck(answer) => {
                    let is_granted = |code: &SubscribeReasonCode| matches!(code, SubscribeReasonCode::Success(_));
                    match answer.return_codes.iter().all(is_granted) {
                        true => MqttEvent::SubAck,
                        false => {
                            let refused = answer.return_codes.iter().find(|code| !is_granted(code));
                            let why = refused.map(|code| tls::spaced(code)).unwrap_or_default();
                            MqttEvent::Lost(format!("{NOT_SUBSCRIBED}: {why}"))
                        }
                    }
                }
                Packet::UnsubAck(_) => MqttEvent::UnsubAck,
                Packet::PubAck(answer) => match answer.reason {
                    PubAckReason::Success | PubAckReason::NoMatchingSubscribers => MqttEvent::PubAck,
                    why => refused(&why),
                },
                Packet::PubRec(answer) => match answer.reason {
                    PubRecReason::Success | PubRecReason::NoMatchingSubscribers => continue,
                    why => refused(&why),
                },
                Packet::PubComp(answer) => match answer.reason {
                    PubCompReason::Success => MqttEvent::PubAck,
                    why @ PubCompReason::PacketIdentifierNotFound => refused(&why),
                },
                Packet::Publish(publish) => {
                    let packets::Publish { topic, payload, retain: is_retained, .. } = publish;
                    let topic = String::from_utf8_lossy(&topic).into_owned();
                    MqttEvent::Publish { topic, payload, is_retained }
                }
                Packet::Disconnect(packet) => {
                    MqttEvent::Lost(format!("the broker ended the connection: {}", tls::spaced(&packet.reason_code)))
                }
                _ => continue,
            },
            Ok(v5::Event::Outgoing(_)) => continue,
            Err(error) => MqttEvent::Lost(tls::words_v5(&error, &host)),
        };
        let is_over = matches!(event, MqttEvent::Lost(_));
        if sender.send(event).await.is_err() || is_over {
            return;
        }
    }
}
