//! One MQTT connection, from CONNECT to its end.

use super::tls;
use interlex_core::description::{SecretText, Uplink};
use rumqttc::{
    AsyncClient, ClientError, Event, MqttOptions, NetworkOptions, Packet, Publish, QoS, SubscribeFilter,
    SubscribeReasonCode,
};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

/// What happens on a connection.
#[derive(Debug)]
pub(crate) enum MqttEvent {
    /// CONNACK: the broker took the connection.
    Connected,
    /// SUBACK: the subscriptions are in force.
    Subscribed,
    /// UNSUBACK: the broker has read everything that was written before the question.
    Answered,
    /// A message of a subscribed topic.
    Message { topic: String, payload: bytes::Bytes, is_retained: bool },
    /// The connection ended; nothing follows.
    Lost(String),
}

/// A connection and the task that drives it. It ends when this is dropped.
pub(crate) struct Connection {
    client: AsyncClient,
    pub(crate) events: mpsc::Receiver<MqttEvent>,
    driver: JoinHandle<()>,
}

/// Messages on their way to the socket. When it is full, samples wait in the buffer.
const REQUEST_QUEUE: usize = 256;
/// A birth of fifty thousand points with long names takes a few megabytes.
const LARGEST_OUTGOING: usize = 64 << 20;
const LARGEST_INCOMING: usize = 16 << 20;
const CONNECT_SECONDS: u64 = 5;
/// Nothing is ever published here, and nobody subscribes to it: leaving it is only a question to the broker.
const PROOF_TOPIC: &str = "interlex/proof";

/// The options that every connection of ours shares; `Err` tells what is wrong with certificates or key.
pub(crate) fn options(client_id: &str, uplink: &Uplink) -> Result<MqttOptions, String> {
    let mut options = MqttOptions::new(client_id, uplink.settings.url.bare_host(), uplink.settings.url.port);
    options.set_clean_session(true);
    // MQTT counts whole seconds, and rumqttc wants at least one.
    options.set_keep_alive(Duration::from_secs(Duration::from(uplink.broker.keep_alive).as_secs().max(1)));
    if let Some(user) = &uplink.broker.user {
        options.set_credentials(user, uplink.broker.password.as_ref().map_or("", SecretText::reveal));
    }
    options.set_max_packet_size(LARGEST_INCOMING, LARGEST_OUTGOING);
    options.set_transport(tls::transport(uplink)?);
    Ok(options)
}

impl Connection {
    /// Starts to connect.
    pub(crate) fn start(options: MqttOptions) -> Self {
        let host = options.broker_address().0;
        let (client, mut eventloop) = AsyncClient::new(options, REQUEST_QUEUE);
        let mut network = NetworkOptions::new();
        // Held-back packets delay acknowledgements by 40 ms.
        network.set_tcp_nodelay(true);
        network.set_connection_timeout(CONNECT_SECONDS);
        eventloop.set_network_options(network);
        let (sender, events) = mpsc::channel(REQUEST_QUEUE);
        // A task of its own: `poll` must not be dropped half way.
        let driver = tokio::spawn(async move {
            loop {
                let event = match eventloop.poll().await {
                    Ok(Event::Incoming(Packet::ConnAck(_))) => MqttEvent::Connected,
                    Ok(Event::Incoming(Packet::SubAck(answer))) => {
                        if answer.return_codes.contains(&SubscribeReasonCode::Failure) {
                            let error = "the broker does not let this client subscribe to what it must";
                            let _ = sender.send(MqttEvent::Lost(error.to_owned())).await;
                            return;
                        }
                        MqttEvent::Subscribed
                    }
                    Ok(Event::Incoming(Packet::UnsubAck(_))) => MqttEvent::Answered,
                    Ok(Event::Incoming(Packet::Publish(publish))) => {
                        let Publish { topic, payload, retain: is_retained, .. } = publish;
                        MqttEvent::Message { topic, payload, is_retained }
                    }
                    Ok(_) => continue,
                    Err(error) => {
                        // Nobody listens any more when the uplink ended first.
                        let _ = sender.send(MqttEvent::Lost(tls::words(&error, &host))).await;
                        return;
                    }
                };
                if sender.send(event).await.is_err() {
                    return;
                }
            }
        });
        Self { client, events, driver }
    }

    /// Hands a message over; `Err` when the queue is full.
    pub(crate) fn publish(&self, topic: &str, payload: Vec<u8>) -> Result<(), ClientError> {
        self.client.try_publish(topic, QoS::AtMostOnce, false, payload)
    }

    /// Subscribes at QoS 1 to all topics at once: one answer tells that all are in force.
    pub(crate) fn subscribe(&self, topics: &[String]) -> Result<(), ClientError> {
        let filters = topics.iter().map(|topic| SubscribeFilter::new(topic.clone(), QoS::AtLeastOnce));
        self.client.try_subscribe_many(filters)
    }

    /// Asks the broker for an answer that proves what it has read.
    pub(crate) fn ask(&self) -> bool {
        self.client.try_unsubscribe(PROOF_TOPIC).is_ok()
    }

    /// Sends DISCONNECT and waits until it is gone, `within` at most.
    pub(crate) async fn disconnect(mut self, within: Duration) {
        if self.client.try_disconnect().is_ok() {
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
