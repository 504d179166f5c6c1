use super::{Base, Kind};
use crate::buffer::TICK;
use crate::mqtt::{Connection, Intake, MqttEvent};
use crate::request::UplinkRequest;
use interlex_core::{Backoff, FieldEvent};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::{Instant, Interval, MissedTickBehavior, interval, sleep_until};
use tokio_util::sync::CancellationToken;

const FIRST_RECONNECT: Duration = Duration::from_millis(500);
const RECONNECT_LIMIT: Duration = Duration::from_secs(30);
/// How long stopping waits for the broker, and then for the database.
pub(crate) const GOODBYE: Duration = Duration::from_secs(3);

/// One uplink: a session with one broker after the other, for as long as it is wanted.
///
/// ```text
///            ┌───────── connection lost: wait, next broker ─────────┐
///            ▼                                                      │
///   wait ─▶ connect ─▶ CONNACK ─▶ SUBACK ─▶ values, questions, proofs
///            ▲                                  │        │
///            └── no host, earlier broker back: part      └─ stopped: part, journal, end
/// ```
pub(crate) struct UplinkTask<K: Kind> {
    base: Base<K::Item>,
    kind: K,
    backoff: Backoff,
}

/// Why a session ended.
enum Ended {
    Lost(String),
    /// The primary host is not at this broker.
    NoHost(Connection),
    /// An earlier broker is there again, by its place.
    Return(usize, Connection),
    Stopped(Connection),
}

fn ticks() -> Interval {
    let mut ticks = interval(TICK);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    ticks
}

impl<K: Kind> UplinkTask<K> {
    pub(crate) fn new(base: Base<K::Item>, kind: K) -> Self {
        base.show_buffer();
        Self { base, kind, backoff: Backoff::new(FIRST_RECONNECT, RECONNECT_LIMIT, fastrand::Rng::new()) }
    }

    /// Runs until `stop` is cancelled; then says goodbye and keeps what was not proven.
    pub(crate) async fn run(mut self, mut input: mpsc::Receiver<FieldEvent>, stop: CancellationToken) {
        while !stop.is_cancelled() {
            match self.session(&mut input, &stop).await {
                Ended::Lost(error) => {
                    self.kind.lost(&mut self.base);
                    self.base.is_offline(&error);
                    self.base.brokers.go_on();
                    let again = Instant::now() + self.backoff.wait();
                    self.wait(&mut input, again, &stop).await;
                }
                Ended::NoHost(connection) => {
                    self.part(&mut input, connection, false).await;
                    self.base.backlog.nobody_heard();
                    self.base.is_offline("the primary host is offline");
                    self.base.brokers.go_on();
                    let again = Instant::now() + FIRST_RECONNECT;
                    self.wait(&mut input, again, &stop).await;
                }
                Ended::Return(broker, connection) => {
                    self.part(&mut input, connection, true).await;
                    self.base.brokers.go_to(broker);
                }
                Ended::Stopped(connection) => {
                    self.part(&mut input, connection, true).await;
                    self.kind.stopped(&mut self.base).await;
                    break;
                }
            }
        }
        while let Ok(event) = input.try_recv() {
            self.kind.take_in(&mut self.base, event).await;
        }
        self.kind.finish(&mut self.base).await;
        self.base.close(GOODBYE).await;
    }

    /// Takes in what links tell while there is no connection.
    async fn wait(&mut self, input: &mut mpsc::Receiver<FieldEvent>, until: Instant, stop: &CancellationToken) {
        let mut ticks = ticks();
        loop {
            let Self { base, kind, .. } = self;
            tokio::select! {
                Some(event) = input.recv() => kind.take_in(base, event).await,
                Some(request) = base.requests.recv() => self.answer(request),
                news = base.backlog.news() => base.backlog.handle_news(news),
                _ = ticks.tick() => kind.tick(base).await,
                () = sleep_until(until) => return,
                () = stop.cancelled() => return,
            }
        }
    }

    async fn session(&mut self, input: &mut mpsc::Receiver<FieldEvent>, stop: &CancellationToken) -> Ended {
        let mut connection = match self.connect().await {
            Ok(connection) => connection,
            Err(error) => return Ended::Lost(error),
        };
        let mut ticks = ticks();
        loop {
            let Self { base, kind, .. } = self;
            tokio::select! {
                event = connection.next() => match self.handle(event, &connection) {
                    Ok(true) => {}
                    Ok(false) => return Ended::NoHost(connection),
                    Err(error) => return Ended::Lost(error),
                },
                Some(event) = input.recv() => kind.take_in(base, event).await,
                Some(request) = base.requests.recv() => self.answer(request),
                Some(result) = base.results.1.recv() => kind.result(base, &result),
                news = base.backlog.news() => base.backlog.handle_news(news),
                () = base.pace.is_due() => {}
                _ = ticks.tick() => {
                    kind.tick(base).await;
                    if base.is_overdue() {
                        let limit = base.uplink.broker.keep_alive;
                        return Ended::Lost(format!("no answer from the broker within {limit}"));
                    }
                    if !kind.tick_connected(base, &connection) {
                        return Ended::NoHost(connection);
                    }
                    if kind.is_online() && let Some(broker) = base.brokers.look_back() {
                        return Ended::Return(broker, connection);
                    }
                }
                () = stop.cancelled() => return Ended::Stopped(connection),
            }
            self.kind.send(&mut self.base, &connection);
        }
    }

    async fn connect(&mut self) -> Result<Connection, String> {
        let broker = self.base.brokers.current();
        let will = self.kind.begin(&mut self.base, broker);
        self.base.pace.restart(Instant::now());
        let uplink = self.base.brokers.connect();
        self.base.status.update(|status, _| status.url = uplink.settings.url.to_string());
        Connection::start(&uplink, &uplink.mqtt_client_id(&self.base.gateway), will, Intake::COMMANDS).await
    }

    /// Goes on with a session; `false` when the primary host is not there.
    fn handle(&mut self, event: MqttEvent, connection: &Connection) -> Result<bool, String> {
        let Self { base, kind, backoff } = self;
        match event {
            MqttEvent::ConnAck => {
                let topics = kind.subscriptions();
                if topics.is_empty() {
                    backoff.reset();
                    kind.subscribed(base);
                } else {
                    connection.subscribe(&topics);
                }
            }
            MqttEvent::SubAck => {
                backoff.reset();
                kind.subscribed(base);
            }
            MqttEvent::UnsubAck => kind.answered(base),
            MqttEvent::PubAck => kind.acknowledged(base),
            MqttEvent::Publish { topic, payload, is_retained } => kind.message(base, &topic, &payload, is_retained),
            MqttEvent::Lost(error) => return Err(error),
        }
        Ok(kind.has_host(base))
    }

    /// What people want of an uplink.
    fn answer(&mut self, request: UplinkRequest) {
        let Self { base, kind, .. } = self;
        match request {
            // Nobody may wait for the answer any more.
            UplinkRequest::Buffer(answer) => _ = answer.send(base.backlog.view(base.delivered)),
            UplinkRequest::Purge(answer) => {
                let thrown = base.backlog.purge();
                base.show_buffer();
                let _ = answer.send(thrown);
            }
            other => kind.answer(base, other),
        }
    }

    /// Ends a session in order.
    async fn part(&mut self, input: &mut mpsc::Receiver<FieldEvent>, mut connection: Connection, has_host: bool) {
        while let Ok(event) = input.try_recv() {
            self.kind.take_in(&mut self.base, event).await;
        }
        self.kind.part(&mut self.base, &mut connection, has_host).await;
        self.base.asked_at = None;
        self.base.backlog.queue.nothing_arrived();
        connection.disconnect(GOODBYE).await;
        tracing::info!(uplink = self.base.name(), "disconnected in order");
    }
}
