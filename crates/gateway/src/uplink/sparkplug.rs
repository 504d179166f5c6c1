use super::buffer::{Buffer, LIMIT};
use super::journal::Journal;
use super::metric::{Current, device_spec};
use super::{Connection, MqttEvent, UplinkInput, mqtt, snapshot_of};
use crate::clock::wall_clock;
use crate::host_command::{HostCommand, HostCommands};
use crate::link::Backoff;
use crate::points::PointTable;
use crate::status::{Shared, UplinkState, UplinkStatus};
use interlex_core::description::SparkplugUplink;
use interlex_core::{LatestTable, Sample, Timestamp, Value};
use interlex_sparkplug::{Datum, EdgeNode, EdgeNodeEvent, MetricValue, Outgoing};
use interlex_store::Store;
use rumqttc::{LastWill, QoS};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::{Instant, MissedTickBehavior, interval, sleep_until, timeout};
use tokio_util::sync::CancellationToken;

/// The most metrics in one data message: a few tens of kilobytes, so that live values never wait long behind one.
const METRICS_PER_MESSAGE: usize = 500;
/// How often kept samples are sent and the broker is asked what it has read.
const TICK: Duration = Duration::from_millis(100);
/// Kept samples per tick: 20,000 a second, which empties a million in under a minute beside the live ones.
const HISTORY_PER_TICK: usize = 2000;
const FIRST_RECONNECT: Duration = Duration::from_millis(500);
const RECONNECT_LIMIT: Duration = Duration::from_secs(30);
/// How long stopping waits for the broker, and then for the database.
pub(super) const GOODBYE: Duration = Duration::from_secs(3);

/// One Sparkplug uplink: the session machine on an MQTT connection, with its buffer.
pub(crate) struct SparkplugTask {
    pub(super) gateway: String,
    pub(super) settings: SparkplugUplink,
    pub(super) points: Arc<PointTable>,
    latest: Arc<LatestTable>,
    status: Arc<Shared<UplinkStatus>>,
    pub(super) store: Option<Store>,
    node: EdgeNode,
    pub(super) buffer: Buffer,
    pub(super) journal: Journal,
    commands: HostCommands,
    outbox: VecDeque<Outgoing>,
    asked_at: Option<Instant>,
}

/// Why a session ended.
enum Ended {
    Lost(String),
    Stopped(Connection),
}

impl SparkplugTask {
    /// Prepares the uplink: reads what it must remember.
    pub(crate) async fn new(
        (gateway, settings): (String, SparkplugUplink),
        (points, latest): (Arc<PointTable>, Arc<LatestTable>),
        status: Arc<Shared<UplinkStatus>>,
        store: Option<Store>,
        commands: HostCommands,
    ) -> Self {
        let (mut last_bd_seq, mut journal) = (None, Vec::new());
        if let Some(store) = &store {
            let name = settings.name.as_str();
            match store.bd_seq(&gateway, name).await {
                Ok(bd_seq) => last_bd_seq = bd_seq,
                Err(error) => tracing::warn!(uplink = name, %error, "bdSeq starts at 0"),
            }
            match store.journal_blocks(&gateway, name).await {
                Ok(blocks) => journal = blocks,
                Err(error) => tracing::error!(uplink = name, %error, "the journal stays in the database"),
            }
        }
        let node = EdgeNode::new(settings.group.as_str(), settings.node.as_str(), Vec::new(), last_bd_seq);
        let (buffer, outbox) = (Buffer::new(LIMIT), VecDeque::new());
        let flush = settings.journal_flush.into();
        let own = Journal::new(store.as_ref(), &gateway, settings.name.as_str(), flush);
        let mut task = Self {
            gateway,
            settings,
            points,
            latest,
            status,
            store,
            node,
            buffer,
            journal: own,
            commands,
            outbox,
            asked_at: None,
        };
        task.announce();
        task.restore(journal);
        task
    }

    /// Runs until `stop` is cancelled; then publishes the death and keeps what was not proven.
    pub(crate) async fn run(mut self, mut input: mpsc::Receiver<UplinkInput>, stop: CancellationToken) {
        let mut backoff = Backoff::new(FIRST_RECONNECT, RECONNECT_LIMIT, fastrand::Rng::new());
        while !stop.is_cancelled() {
            match self.session(&mut input, &stop, &mut backoff).await {
                Ended::Lost(error) => {
                    self.lost(&error);
                    let again = Instant::now() + backoff.wait();
                    self.wait(&mut input, again, &stop).await;
                }
                Ended::Stopped(connection) => {
                    self.say_goodbye(&mut input, connection).await;
                    break;
                }
            }
        }
        while let Ok(input) = input.try_recv() {
            self.take_in(input);
        }
        self.close_journal().await;
    }

    /// Takes in what links tell while there is no connection.
    async fn wait(&mut self, input: &mut mpsc::Receiver<UplinkInput>, until: Instant, stop: &CancellationToken) {
        let mut ticks = interval(TICK);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                Some(told) = input.recv() => self.take_in(told),
                news = self.journal.next() => self.journal.heard(news),
                _ = ticks.tick() => self.keep_journal(false),
                () = sleep_until(until) => return,
                () = stop.cancelled() => return,
            }
        }
    }

    async fn session(
        &mut self,
        input: &mut mpsc::Receiver<UplinkInput>,
        stop: &CancellationToken,
        backoff: &mut Backoff,
    ) -> Ended {
        let mut connection = match self.connect() {
            Ok(connection) => connection,
            Err(error) => return Ended::Lost(error),
        };
        let mut ticks = interval(TICK);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                event = connection.events.recv() => match event {
                    Some(MqttEvent::Lost(error)) => return Ended::Lost(error),
                    None => return Ended::Lost("the connection ended".to_owned()),
                    Some(event) => {
                        if let Err(error) = self.handle(event, &connection, backoff) {
                            return Ended::Lost(error);
                        }
                    }
                },
                Some(told) = input.recv() => self.take_in(told),
                news = self.journal.next() => self.journal.heard(news),
                _ = ticks.tick() => {
                    self.keep_journal(false);
                    if self.is_overdue() {
                        return Ended::Lost(format!("no answer from the broker within {}", self.settings.keep_alive));
                    }
                    self.send_history(&connection);
                    self.ask(&connection);
                }
                () = stop.cancelled() => return Ended::Stopped(connection),
            }
            self.send(&connection);
        }
    }

    fn connect(&mut self) -> Result<Connection, String> {
        let will = self.node.connect(wall_clock().as_unsigned_millis());
        self.outbox.clear();
        self.keep_bd_seq(will.bd_seq);
        let settings = &self.settings;
        let mut options = mqtt::options(&settings.mqtt_client_id(), settings)?;
        options.set_last_will(LastWill::new(will.topic, will.payload, QoS::AtLeastOnce, false));
        Ok(Connection::start(options))
    }

    fn handle(&mut self, event: MqttEvent, connection: &Connection, backoff: &mut Backoff) -> Result<(), String> {
        match event {
            MqttEvent::Connected => {
                connection.subscribe(&self.node.subscriptions()).map_err(|error| error.to_string())?;
            }
            MqttEvent::Subscribed => {
                backoff.reset();
                self.node.handle_subscribed();
            }
            MqttEvent::Answered => {
                self.asked_at = None;
                let (proven, now) = (self.buffer.proven(), wall_clock());
                self.status.update(|status, meter| {
                    let proven = u32::try_from(proven).unwrap_or(u32::MAX);
                    status.samples_delivered += u64::from(proven);
                    meter.add(now, proven);
                });
            }
            MqttEvent::Message { topic, payload } => self.node.handle_message(&topic, &payload),
            MqttEvent::Lost(error) => return Err(error),
        }
        while let Some(event) = self.node.poll_event() {
            match event {
                EdgeNodeEvent::BirthDue => self.birth(),
                EdgeNodeEvent::Command { device, metric, value } => self.command(device, metric, value),
                EdgeNodeEvent::CommandRefused(why) => {
                    self.commands.refused(self.settings.name.as_str(), &why);
                    tracing::warn!(uplink = self.settings.name.as_str(), why, "command refused");
                }
            }
        }
        Ok(())
    }

    /// Hands a command on to the field; what is checked there is told there.
    fn command(&self, device: usize, metric: usize, value: MetricValue<'static>) {
        let Some(info) = self.points.of_slot(device).get(metric) else { return };
        let value = match value {
            MetricValue::Bool(bit) => Value::Bool(bit),
            MetricValue::Int(int) => Value::Int(int),
            MetricValue::Uint(uint) => Value::Uint(uint),
            MetricValue::Float(float) => Value::Float32(float),
            MetricValue::Double(float) => Value::Float64(float),
            MetricValue::Text(text) => Value::Text(text.into()),
        };
        let uplink = self.settings.name.to_string();
        self.commands.send(HostCommand {
            uplink,
            device: info.device.to_string(),
            point: info.name().to_owned(),
            value,
        });
    }

    fn birth(&mut self) {
        let now = wall_clock();
        self.node.birth(now.as_unsigned_millis(), &self.current(now));
        tracing::info!(uplink = self.settings.name.as_str(), "births published");
        self.status.update(|status, _| {
            if status.state != UplinkState::Online {
                (status.state, status.since) = (UplinkState::Online, now.as_millis());
            }
        });
    }

    fn current(&self, now: Timestamp) -> Current {
        Current { latest: Arc::clone(&self.latest), now }
    }

    fn take_in(&mut self, input: UplinkInput) {
        let now = wall_clock();
        match input {
            UplinkInput::Samples(samples) => {
                let instant = Instant::now().into_std();
                for sample in samples.iter() {
                    let Some(device) = self.points.get(sample.point).map(|info| info.device_slot) else { continue };
                    if !self.node.is_born() {
                        let number = self.journal.ledger.add(sample, instant);
                        self.buffer.push_history(device, number, sample.clone());
                    } else if self.node.is_device_born(device) {
                        let number = self.journal.ledger.add(sample, instant);
                        self.buffer.push_live(device, number, sample.clone());
                    }
                    // Else the DDEATH before has told it, or the DBIRTH that follows will.
                }
            }
            UplinkInput::DeviceUp(device) => {
                let current = self.current(now);
                self.node.device_up(now.as_unsigned_millis(), device, &current);
            }
            UplinkInput::DeviceDown(device) => {
                self.node.device_down(now.as_unsigned_millis(), device);
            }
            UplinkInput::Points(points, latest) => {
                (self.points, self.latest) = (points, latest);
                self.announce();
                self.drop_unknown();
            }
        }
        self.show_buffer();
    }

    /// Tells the node what its devices are: those that changed are born again, those that are gone die.
    fn announce(&mut self) {
        let now = wall_clock();
        let current = self.current(now);
        for slot in 0..self.points.slots() {
            let spec = device_spec(&self.points, slot, self.settings.commands);
            self.node.set_device(now.as_unsigned_millis(), slot, spec, &current);
        }
    }

    fn drop_unknown(&mut self) {
        let points = &self.points;
        let dropped = self.buffer.keep_only(|point| points.get(point).is_some());
        if dropped > 0 {
            tracing::warn!(uplink = self.settings.name.as_str(), dropped, "kept samples of points that are gone");
        }
    }

    /// Hands over what the node has to say, then live samples, as long as the connection takes them.
    fn send(&mut self, connection: &Connection) {
        loop {
            self.outbox.extend(std::iter::from_fn(|| self.node.poll_transmit()));
            if !self.flush(connection) || !self.node.is_born() {
                return;
            }
            let Some((device, samples)) = self.buffer.take_live(METRICS_PER_MESSAGE) else { return };
            self.data(device, &samples, false);
        }
    }

    fn send_history(&mut self, connection: &Connection) {
        let mut left = HISTORY_PER_TICK;
        while left > 0 && self.node.is_born() && self.flush(connection) {
            let node = &self.node;
            let taken = self.buffer.take_history(METRICS_PER_MESSAGE, |device| node.is_device_born(device));
            let Some((device, samples)) = taken else { return };
            left = left.saturating_sub(samples.len());
            self.data(device, &samples, true);
            self.outbox.extend(std::iter::from_fn(|| self.node.poll_transmit()));
        }
    }

    /// Makes one data message of samples in time order.
    fn data(&mut self, device: usize, samples: &[Sample], is_historical: bool) {
        let now = wall_clock().as_unsigned_millis();
        let points = &self.points;
        let datum = |sample: &Sample| {
            let metric = points.get(sample.point)?.position;
            let now = snapshot_of(sample.value.as_ref(), sample.quality, sample.source_time);
            Some(Datum { metric, now, is_historical })
        };
        let data: Vec<_> = samples.iter().filter_map(datum).collect();
        if let Err(error) = self.node.data(now, device, data) {
            // The device died after these were read: they wait for its birth, as history.
            tracing::debug!(uplink = self.settings.name.as_str(), %error, "data withheld");
            self.buffer.take_back(samples.len());
        }
    }

    /// Hands the outbox over; `false` when the connection takes no more for now.
    fn flush(&mut self, connection: &Connection) -> bool {
        let mut messages = 0;
        while let Some(next) = self.outbox.front() {
            if connection.publish(&next.topic, next.payload.clone()).is_err() {
                break;
            }
            self.outbox.pop_front();
            messages += 1;
        }
        if messages > 0 {
            self.status.update(|status, _| status.messages += messages);
            self.show_buffer();
        }
        self.outbox.is_empty()
    }

    fn ask(&mut self, connection: &Connection) {
        if self.outbox.is_empty() && self.buffer.ask() {
            if connection.ask() {
                self.asked_at = Some(Instant::now());
            } else {
                // The queue is full: what was marked is asked about again with the next question.
                self.buffer.proven_nothing();
            }
        }
    }

    fn is_overdue(&self) -> bool {
        let limit = Duration::from(self.settings.keep_alive);
        self.asked_at.is_some_and(|asked| asked.elapsed() > limit)
    }

    fn lost(&mut self, error: &str) {
        self.node.handle_connection_lost();
        self.buffer.connection_lost();
        self.drop_unknown();
        self.outbox.clear();
        self.asked_at = None;
        let now = wall_clock().as_millis();
        let mut was_offline = false;
        self.status.update(|status, _| {
            was_offline = status.state == UplinkState::Offline;
            if !was_offline {
                (status.state, status.since) = (UplinkState::Offline, now);
            }
            (status.last_error, status.last_error_at) = (Some(error.to_owned()), Some(now));
        });
        if !was_offline {
            tracing::warn!(uplink = self.settings.name.as_str(), error, "uplink offline");
        }
        self.show_buffer();
    }

    pub(super) fn show_buffer(&self) {
        let (waiting, lost) = (self.buffer.waiting(), self.buffer.lost());
        let (durable, error) = (self.journal.ledger.durable(), self.journal.error.clone());
        let oldest = self.buffer.oldest().map(Timestamp::as_millis);
        self.status.update(|status, _| {
            (status.samples_waiting, status.samples_lost) = (waiting, lost);
            (status.samples_durable, status.journal_error, status.oldest_waiting_at) = (durable, error, oldest);
        });
    }

    fn keep_bd_seq(&self, bd_seq: u8) {
        self.status.update(|status, _| status.bd_seq = Some(bd_seq));
        let Some(store) = self.store.clone() else { return };
        let (gateway, uplink) = (self.gateway.clone(), self.settings.name.to_string());
        // Not waited for: while the database is away, connecting must not be.
        tokio::spawn(async move {
            if let Err(error) = store.set_bd_seq(&gateway, &uplink, bd_seq).await {
                tracing::warn!(uplink, %error, "bdSeq was not kept");
            }
        });
    }

    /// Sends what is left, publishes the death, and waits for the proof that the broker has read it.
    async fn say_goodbye(&mut self, input: &mut mpsc::Receiver<UplinkInput>, mut connection: Connection) {
        while let Ok(told) = input.try_recv() {
            self.take_in(told);
        }
        let deadline = Instant::now() + GOODBYE;
        self.send(&connection);
        self.node.disconnect(wall_clock().as_unsigned_millis());
        self.outbox.extend(std::iter::from_fn(|| self.node.poll_transmit()));
        // A question that is under way proves less than the next one will.
        self.buffer.proven_nothing();
        let mut is_asked = false;
        loop {
            if self.flush(&connection) && !is_asked {
                self.buffer.ask();
                is_asked = connection.ask();
            }
            let event = timeout(deadline.saturating_duration_since(Instant::now()), connection.events.recv()).await;
            match event {
                Ok(Some(MqttEvent::Answered)) if self.asked_at.take().is_none() => {
                    self.buffer.proven();
                    break;
                }
                Ok(Some(MqttEvent::Lost(_)) | None) | Err(_) => break,
                Ok(Some(_)) => {}
            }
        }
        connection.disconnect(GOODBYE).await;
        tracing::info!(uplink = self.settings.name.as_str(), "death published, disconnected");
    }
}

/// The status of an uplink before it ran.
pub(crate) fn initial_status(settings: &SparkplugUplink) -> UplinkStatus {
    UplinkStatus {
        name: settings.name.to_string(),
        url: settings.url.to_string(),
        node: format!("{}/{}", settings.group, settings.node),
        state: UplinkState::Connecting,
        since: wall_clock().as_millis(),
        last_error: None,
        last_error_at: None,
        messages: 0,
        samples_delivered: 0,
        samples_per_second: 0.0,
        samples_waiting: 0,
        samples_lost: 0,
        samples_durable: 0,
        samples_limit: LIMIT,
        oldest_waiting_at: None,
        journal_error: None,
        bd_seq: None,
    }
}
