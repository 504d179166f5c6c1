use crate::clock::wall_clock;
use interlex_core::description::{MqttVersion, Uplink, UplinkKind};
use interlex_sparkplug::EdgeNode;
use interlex_uplink::{Connection, Intake, Message, MqttEvent, client_config, tls_words, with_files};
use serde::Serialize;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpStream;
use tokio::time::{Instant, timeout};
use tokio_rustls::TlsConnector;
use x509_cert::Certificate;
use x509_cert::der::Decode;

/// How far one got on the way to a broker; the last step is the one that failed, if any did.
#[derive(Debug, Clone, Default, Serialize, utoipa::ToSchema)]
pub struct BrokerTrial {
    /// The steps that were taken, in their order.
    pub steps: Vec<BrokerTrialStep>,
}

/// One step on the way to a broker.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct BrokerTrialStep {
    /// `name`, `tcp`, `tls`, `mqtt`, `subscribe` or `publish`.
    pub step: &'static str,
    /// Whether it was taken.
    pub ok: bool,
    /// What came of it, or why it failed.
    pub said: String,
    /// How long it took, in milliseconds.
    pub ms: f64,
}

/// A step that takes longer is not going to be taken.
const STEP_LIMIT: Duration = Duration::from_secs(10);

/// A message that a trial publishes, to see whether it may.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TrialMessage {
    /// Where to.
    pub topic: String,
    /// What it says.
    pub payload: Vec<u8>,
}

impl TrialMessage {
    /// What a node can publish without harm: a death of a session that was never there. Hosts tell it by its bdSeq, and pass
    /// over it.
    #[must_use]
    pub fn of_node(group: &str, node: &str, bd_seq: Option<u8>) -> Self {
        let elsewhere = bd_seq.unwrap_or(0).wrapping_add(128);
        let will = EdgeNode::new(group, node, Vec::new(), Some(elsewhere)).connect(wall_clock().as_unsigned_millis());
        Self { topic: will.topic, payload: will.payload }
    }
}

/// Goes the way to a broker step by step, with a connection of its own: its client id is that of the uplink with `-trial`
/// behind it, so that a running session goes on. Nothing is published but the message that may be given.
pub async fn try_broker(uplink: &Uplink, message: Option<&TrialMessage>) -> BrokerTrial {
    let mut trial = BrokerTrial::default();
    // What failed is told by the last step.
    let _ = trial.run(uplink, message).await;
    trial
}

impl BrokerTrial {
    async fn run(&mut self, uplink: &Uplink, message: Option<&TrialMessage>) -> Option<()> {
        let addresses = self.step("name", resolve(uplink)).await?;
        let socket = self.step("tcp", connect(&addresses)).await?;
        if uplink.settings.url.is_tls {
            self.step("tls", shake_hands(uplink, socket)).await?;
        }
        let mut connection = self.step("mqtt", sign_in(uplink, "trial")).await?;
        self.step("subscribe", subscribe(uplink, &mut connection)).await?;
        drop(connection);
        match message {
            Some(message) => self.step("publish", publish(uplink, message)).await,
            None => Some(()),
        }
    }

    async fn step<T>(
        &mut self,
        step: &'static str,
        taking: impl Future<Output = Result<(T, String), String>>,
    ) -> Option<T> {
        let start = Instant::now();
        let late = |_| Err(format!("no answer within {} s", STEP_LIMIT.as_secs()));
        let outcome = timeout(STEP_LIMIT, taking).await.unwrap_or_else(late);
        let ms = start.elapsed().as_secs_f64() * 1000.0;
        let (value, said) = match outcome {
            Ok((value, said)) => (Some(value), said),
            Err(why) => (None, why),
        };
        self.steps.push(BrokerTrialStep { step, ok: value.is_some(), said, ms });
        value
    }
}

async fn resolve(uplink: &Uplink) -> Result<(Vec<SocketAddr>, String), String> {
    let (host, port) = (uplink.settings.url.bare_host(), uplink.settings.url.port);
    let found = tokio::net::lookup_host((host, port)).await.map_err(|error| format!("{host}: {error}"))?;
    let addresses: Vec<_> = found.collect();
    let said: Vec<_> = addresses.iter().map(|address| address.ip().to_string()).collect();
    Ok((addresses, format!("{host} is {}", said.join(", "))))
}

async fn connect(addresses: &[SocketAddr]) -> Result<(TcpStream, String), String> {
    let tried: Vec<_> = addresses.iter().map(ToString::to_string).collect();
    let socket = TcpStream::connect(addresses).await.map_err(|error| format!("{}: {error}", tried.join(", ")))?;
    let peer = socket.peer_addr().map_err(|error| error.to_string())?;
    Ok((socket, format!("connected to {peer}")))
}

async fn shake_hands(uplink: &Uplink, socket: TcpStream) -> Result<((), String), String> {
    let host = uplink.server_name();
    let name = host.to_owned().try_into().map_err(|_| format!("{host:?} cannot stand in a certificate"))?;
    let stream = TlsConnector::from(Arc::new(client_config(&*with_files(uplink).await?)?)).connect(name, socket).await;
    let stream = stream.map_err(|error| {
        let inner = error.get_ref().and_then(|inner| inner.downcast_ref());
        let broken = || format!("{error}; does the broker speak TLS on port {}?", uplink.settings.url.port);
        inner.map_or_else(broken, |inner| tls_words(inner, host))
    })?;
    let (_, session) = stream.get_ref();
    let shown = session.peer_certificates().and_then(<[_]>::first).and_then(|shown| Certificate::from_der(shown).ok());
    let whose = shown.map_or_else(String::new, |shown| {
        let told = shown.tbs_certificate();
        format!("; its certificate is of {}, until {}", told.subject(), told.validity().not_after)
    });
    let version = session.protocol_version().and_then(|version| version.as_str()).unwrap_or("TLS");
    Ok(((), format!("{version}{whose}")))
}

async fn sign_in(uplink: &Uplink, suffix: &str) -> Result<(Connection, String), String> {
    let id = format!("{}-{suffix}", uplink.mqtt_client_id("gateway"));
    let mut connection = Connection::start(uplink, &id, None, Intake::COMMANDS).await?;
    match next(&mut connection).await? {
        MqttEvent::ConnAck => {
            let user = uplink.broker.user.as_deref().map_or_else(String::new, |user| format!(", user {user}"));
            Ok((connection, format!("let in as client {id}{user}")))
        }
        other => Err(format!("{other:?} before the connection was accepted")),
    }
}

async fn subscribe(uplink: &Uplink, connection: &mut Connection) -> Result<((), String), String> {
    let topics = match &uplink.kind {
        UplinkKind::Sparkplug(own) => {
            let node = EdgeNode::new(own.group.as_str(), own.node.as_str(), Vec::new(), None);
            match &own.primary_host {
                Some(host) => node.with_primary_host(host.as_str(), None).subscriptions(),
                None => node.subscriptions(),
            }
        }
        UplinkKind::Json(own) => own.command_topic.iter().cloned().collect(),
    };
    if topics.is_empty() {
        return Ok(((), "nothing: no commands are taken".to_owned()));
    }
    connection.subscribe(&topics);
    while !matches!(next(connection).await?, MqttEvent::SubAck) {}
    Ok(((), topics.join(", ")))
}

/// Only with MQTT 5 does a broker say that a message was not taken.
async fn publish(uplink: &Uplink, message: &TrialMessage) -> Result<((), String), String> {
    let mut uplink = uplink.clone();
    uplink.broker.mqtt = MqttVersion::V5;
    let (mut connection, _) = sign_in(&uplink, "publish").await.map_err(|error| {
        format!("whether it may publish cannot be told: only MQTT 5 says so, and over that the broker says: {error}")
    })?;
    let TrialMessage { topic, payload } = message;
    let message = Message { topic, qos: 1, retain: false };
    connection.publish(message, payload.clone()).map_err(|_| "the queue to the broker is full".to_owned())?;
    let after = |error: String| match error.starts_with("the broker") {
        true => format!("upon a message to {topic}: {error}"),
        false => {
            format!("upon a message to {topic}: the broker ended the connection; it may not be published? {error}")
        }
    };
    while !matches!(next(&mut connection).await.map_err(after)?, MqttEvent::PubAck) {}
    Ok(((), format!("a message to {topic} was taken")))
}

async fn next(connection: &mut Connection) -> Result<MqttEvent, String> {
    match connection.next().await {
        MqttEvent::Lost(error) => Err(error),
        event => Ok(event),
    }
}
