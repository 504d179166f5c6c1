use super::backlog::Backlog;
use super::brokers::Brokers;
use super::health::{self, Health, HealthMetric};
use super::metric::{Announced, Current, snapshot_of, told};
use super::pace::Pace;
use super::{Connection, MqttEvent, Published, Shape, UplinkInput, UplinkRequest, WouldLose, mqtt};
use crate::clock::wall_clock;
use crate::gateway::Running;
use crate::host_command::{Asker, CommandResult, HostCommand, HostCommands, beginning};
use crate::link::Backoff;
use crate::status::{Shared, UplinkState, UplinkStatus};
use arc_swap::ArcSwap;
use interlex_core::description::{SparkplugUplink, Uplink};
use interlex_core::{CommandOutcome, LatestTable, PointIndex, Quality, Reason, Sample, Value};
use interlex_sparkplug::{Datum, EdgeNode, EdgeNodeEvent, MetricValue, Outgoing};
use interlex_store::Store;
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::{Instant, MissedTickBehavior, interval, sleep_until, timeout};
use tokio_util::sync::CancellationToken;

/// The most metrics in one data message: a few tens of kilobytes, so that live values never wait long behind one.
const METRICS_PER_MESSAGE: usize = 500;
/// How often the broker is asked what it has read, and the journal is looked after.
pub(super) const TICK: Duration = Duration::from_millis(100);
pub(super) const FIRST_RECONNECT: Duration = Duration::from_millis(500);
pub(super) const RECONNECT_LIMIT: Duration = Duration::from_secs(30);
/// How long stopping waits for the broker, and then for the database.
pub(super) const GOODBYE: Duration = Duration::from_secs(3);
/// Births are no closer together, however often hosts ask for them.
const BETWEEN_BIRTHS: Duration = Duration::from_secs(1);
/// People in front of a console want to see everything once; hosts should not hear it all the time.
const BETWEEN_ASKED_BIRTHS: Duration = Duration::from_secs(10);
/// How long a broker is given to tell the primary host's STATE, where there are others to go to.
const AWAIT_HOST: Duration = Duration::from_secs(5);
/// Results of commands on their way to the broker; one more is told in the audit trail only.
const RESULTS: usize = 64;

/// One Sparkplug uplink: the session machine on an MQTT connection, with its backlog.
pub(crate) struct SparkplugTask {
    gateway: String,
    uplink: Uplink,
    own: SparkplugUplink,
    latest: Arc<LatestTable>,
    links: Arc<[String]>,
    announced: Announced,
    status: Arc<Shared<UplinkStatus>>,
    running: Arc<ArcSwap<Running>>,
    store: Option<Store>,
    node: EdgeNode,
    backlog: Backlog<Sample>,
    delivered: u64,
    commands: HostCommands,
    results: (mpsc::Sender<CommandResult>, mpsc::Receiver<CommandResult>),
    /// What became of the last command of a device, by slot.
    last_results: HashMap<usize, Arc<str>>,
    health: Health,
    health_told: Vec<HealthMetric>,
    health_at: Instant,
    requests: mpsc::Receiver<UplinkRequest>,
    /// What was published last of the points that somebody asks about.
    published: HashMap<PointIndex, Option<Published>>,
    outbox: VecDeque<Outgoing>,
    asked_at: Option<Instant>,
    pace: Pace,
    brokers: Brokers,
    /// The place of the broker of the last session.
    last_broker: Option<usize>,
    /// When births are due.
    birth_at: Option<Instant>,
    last_birth: Option<Instant>,
    /// Since when the session waits for its primary host.
    awaiting_since: Option<Instant>,
    /// Until when history is held, while the primary host is in doubt.
    doubt_until: Option<Instant>,
    /// The time of the primary host's STATE that the database knows.
    host_kept: Option<u64>,
}

/// What an uplink starts with.
pub(crate) struct UplinkStart {
    pub(crate) gateway: String,
    /// What people call the gateway.
    pub(crate) title: String,
    pub(crate) uplink: Uplink,
    pub(crate) shape: Shape,
    pub(crate) status: Arc<Shared<UplinkStatus>>,
    pub(crate) running: Arc<ArcSwap<Running>>,
    pub(crate) store: Option<Store>,
    pub(crate) commands: HostCommands,
    pub(crate) requests: mpsc::Receiver<UplinkRequest>,
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

impl SparkplugTask {
    /// Prepares the uplink: reads what it must remember.
    pub(crate) async fn new(start: UplinkStart, own: SparkplugUplink) -> Self {
        let UplinkStart { gateway, uplink, shape, status, running, store, commands, requests, .. } = start;
        let (mut last_bd_seq, mut host_known) = (None, None);
        let name = uplink.settings.name.as_str();
        if let Some(store) = &store {
            match store.bd_seq(&gateway, name).await {
                Ok(bd_seq) => last_bd_seq = bd_seq,
                Err(error) => tracing::warn!(uplink = name, %error, "bdSeq starts at 0"),
            }
            match store.host_known(&gateway, name).await {
                Ok(known) => host_known = known,
                Err(error) => tracing::warn!(uplink = name, %error, "the primary host is taken at its word"),
            }
        }
        let mut node = EdgeNode::new(own.group.as_str(), own.node.as_str(), Vec::new(), last_bd_seq);
        if let Some(host) = &own.primary_host {
            node = node.with_primary_host(host.as_str(), host_known);
        }
        // A broker that froze may find out only then that the host is gone, having proved what it read to nobody.
        let settle_after = own.primary_host.as_ref().map(|_| Duration::from(own.host_keep_alive).mul_f64(1.5));
        let backlog = Backlog::new((&gateway, name), &uplink.journal, shape.points, store.as_ref(), settle_after).await;
        let now = Instant::now();
        let brokers = Brokers::new(&uplink, now);
        let mut task = Self {
            pace: Pace::new(uplink.journal.history_share, now),
            gateway,
            uplink,
            own,
            latest: shape.latest,
            links: shape.links,
            announced: Announced::default(),
            status,
            running,
            store,
            node,
            backlog,
            delivered: 0,
            commands,
            results: mpsc::channel(RESULTS),
            last_results: HashMap::new(),
            health: Health::new(wall_clock()),
            health_told: Vec::new(),
            health_at: now,
            requests,
            published: HashMap::new(),
            outbox: VecDeque::new(),
            asked_at: None,
            brokers,
            last_broker: None,
            birth_at: None,
            last_birth: None,
            awaiting_since: None,
            doubt_until: None,
            host_kept: host_known,
        };
        task.announce();
        task.show_buffer();
        task
    }

    /// Runs until `stop` is cancelled; then publishes the death and keeps what was not proven.
    pub(crate) async fn run(mut self, mut input: mpsc::Receiver<UplinkInput>, stop: CancellationToken) {
        let mut backoff = Backoff::new(FIRST_RECONNECT, RECONNECT_LIMIT, fastrand::Rng::new());
        while !stop.is_cancelled() {
            match self.session(&mut input, &stop, &mut backoff).await {
                Ended::Lost(error) => {
                    self.lost(&error);
                    self.brokers.go_on();
                    let again = Instant::now() + backoff.wait();
                    self.wait(&mut input, again, &stop).await;
                }
                Ended::NoHost(connection) => {
                    self.part(&mut input, connection, false).await;
                    self.backlog.nobody_heard();
                    self.is_offline("the primary host is offline");
                    self.brokers.go_on();
                    let again = Instant::now() + FIRST_RECONNECT;
                    self.wait(&mut input, again, &stop).await;
                }
                Ended::Return(broker, connection) => {
                    self.part(&mut input, connection, true).await;
                    self.brokers.go_to(broker);
                }
                Ended::Stopped(connection) => {
                    self.part(&mut input, connection, true).await;
                    self.forget_host().await;
                    break;
                }
            }
        }
        while let Ok(input) = input.try_recv() {
            self.take_in(input);
        }
        self.backlog.close(GOODBYE).await;
        self.show_buffer();
    }

    /// Takes in what links tell while there is no connection.
    async fn wait(&mut self, input: &mut mpsc::Receiver<UplinkInput>, until: Instant, stop: &CancellationToken) {
        let mut ticks = interval(TICK);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                Some(told) = input.recv() => self.take_in(told),
                Some(request) = self.requests.recv() => self.answer(request),
                news = self.backlog.news() => self.backlog.hear(news),
                _ = ticks.tick() => self.keep_backlog(),
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
        let mut connection = match self.connect().await {
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
                    Some(event) => match self.handle(event, &connection, backoff) {
                        Ok(true) => {}
                        Ok(false) => return Ended::NoHost(connection),
                        Err(error) => return Ended::Lost(error),
                    }
                },
                Some(told) = input.recv() => self.take_in(told),
                Some(request) = self.requests.recv() => self.answer(request),
                Some(result) = self.results.1.recv() => if let Asker::Device(slot) = result.asker {
                    self.tell_result(slot, &result.words);
                },
                news = self.backlog.news() => self.backlog.hear(news),
                () = self.pace.is_due() => {}
                _ = ticks.tick() => {
                    self.keep_backlog();
                    if self.is_overdue() {
                        let limit = self.uplink.broker.keep_alive;
                        return Ended::Lost(format!("no answer from the broker within {limit}"));
                    }
                    self.tell_health();
                    self.ask(&connection);
                    if self.has_awaited_host() {
                        return Ended::NoHost(connection);
                    }
                    if self.node.is_born() && let Some(broker) = self.brokers.look_back() {
                        return Ended::Return(broker, connection);
                    }
                }
                () = stop.cancelled() => return Ended::Stopped(connection),
            }
            self.settle_doubt();
            self.birth_if_due();
            self.send(&connection);
            self.send_history(&connection);
        }
    }

    async fn connect(&mut self) -> Result<Connection, String> {
        let broker = self.brokers.current();
        if self.last_broker.replace(broker).is_some_and(|last| last != broker) {
            // What the host had of the other broker is not known here.
            self.backlog.nobody_heard();
        }
        let will = self.node.connect_to(wall_clock().as_unsigned_millis(), broker);
        self.outbox.clear();
        (self.birth_at, self.awaiting_since, self.doubt_until) = (None, None, None);
        self.pace.restart(Instant::now());
        self.keep_bd_seq(will.bd_seq);
        let uplink = self.brokers.connect();
        self.status.update(|status, _| status.url = uplink.settings.url.to_string());
        let will = mqtt::Will { topic: will.topic, payload: will.payload };
        Connection::start(&uplink, &uplink.mqtt_client_id(&self.gateway), Some(will), mqtt::Intake::COMMANDS).await
    }

    /// Goes on with a session; `false` when the primary host is not there.
    fn handle(&mut self, event: MqttEvent, connection: &Connection, backoff: &mut Backoff) -> Result<bool, String> {
        match event {
            MqttEvent::Connected => {
                connection
                    .subscribe(&self.node.subscriptions())
                    .map_err(|_| "the queue to the broker is full".to_owned())?;
            }
            MqttEvent::Subscribed => {
                backoff.reset();
                self.node.handle_subscribed();
                if self.node.is_awaiting_host() {
                    self.awaiting_since = Some(Instant::now());
                    self.status.enter(UplinkState::Waiting);
                    tracing::info!(uplink = self.name(), "connected; waiting for the primary host");
                }
            }
            MqttEvent::Answered => {
                self.asked_at = None;
                let (_, delivered) = self.backlog.proven();
                self.pace.proven(Instant::now());
                self.has_delivered(delivered);
            }
            MqttEvent::Message { topic, payload, is_retained } => self.handle_message(&topic, &payload, is_retained),
            // Everything is published at QoS 0.
            MqttEvent::Taken => {}
            MqttEvent::Lost(error) => return Err(error),
        }
        let mut has_host = true;
        while let Some(event) = self.node.poll_event() {
            match event {
                EdgeNodeEvent::BirthDue => {
                    let now = Instant::now();
                    self.birth_at = Some(self.last_birth.map_or(now, |last| now.max(last + BETWEEN_BIRTHS)));
                }
                EdgeNodeEvent::HostConfirmed => {
                    tracing::info!(uplink = self.name(), "the primary host is back");
                    self.backlog.nobody_heard();
                }
                EdgeNodeEvent::HostAlive => {
                    let settled = self.backlog.settle(true);
                    self.has_delivered(settled);
                }
                EdgeNodeEvent::HostRenewed => self.backlog.nobody_heard(),
                // With one broker, a session that waits goes on waiting.
                EdgeNodeEvent::HostOffline => {
                    self.backlog.nobody_heard();
                    self.asked_at = None;
                    has_host = self.node.is_awaiting_host() && !self.brokers.has_others();
                }
                EdgeNodeEvent::Command { device, metric, value } => self.command(device, metric, value),
                EdgeNodeEvent::CommandRefused { device, why } => {
                    let why = beginning(&why);
                    self.commands.refused(self.uplink.settings.name.as_str(), &why);
                    tracing::warn!(uplink = self.name(), why, "command refused");
                    if let Some(number) = device {
                        let outcome = CommandOutcome::Refused(why);
                        self.tell_result(number, &outcome.to_string());
                    }
                }
            }
        }
        Ok(has_host)
    }

    /// So many samples count as delivered.
    fn has_delivered(&mut self, count: usize) {
        if count > 0 {
            self.delivered += count as u64;
            self.status.delivered(count);
        }
    }

    fn name(&self) -> &str {
        self.uplink.settings.name.as_str()
    }

    fn handle_message(&mut self, topic: &str, payload: &[u8], is_retained: bool) {
        if self.node.state_topic().as_deref() == Some(topic) {
            self.node.handle_state(wall_clock().as_unsigned_millis(), payload, is_retained);
            let known = self.node.host_known();
            if known != self.host_kept {
                self.keep_host_known(known);
            }
        } else if is_retained {
            // It would be carried out again at every connection.
            self.commands
                .refused(self.uplink.settings.name.as_str(), &format!("{topic}: retained commands are not taken"));
        } else {
            self.node.handle_message(topic, payload);
        }
    }

    /// Hands a command on to the field; what is checked there is told there.
    fn command(&self, device: usize, metric: usize, value: MetricValue<'static>) {
        let point = self.announced.point(device, metric);
        let Some(info) = point.and_then(|point| self.backlog.context.get(point)) else { return };
        let value = match value {
            MetricValue::Bool(bit) => Value::Bool(bit),
            MetricValue::Int(int) => Value::Int(int),
            MetricValue::Uint(uint) => Value::Uint(uint),
            MetricValue::Float(float) => Value::Float32(float),
            MetricValue::Double(float) => Value::Float64(float),
            MetricValue::Text(text) => Value::Text(text.into()),
        };
        let (uplink, answer) = (self.name().to_owned(), Some((Asker::Device(device), self.results.0.clone())));
        let (device, point) = (info.device.to_string(), info.name().to_owned());
        self.commands.send(HostCommand { uplink, device, point, value, at: Instant::now(), answer });
    }

    /// Tells hosts what became of a command, in the device's metric for it.
    fn tell_result(&mut self, slot: usize, words: &str) {
        let words: Arc<str> = words.into();
        self.last_results.insert(slot, Arc::clone(&words));
        let Some(metric) = self.announced.result_place(slot) else { return };
        let now = wall_clock();
        let datum = Datum { metric, now: told(MetricValue::Text(words.to_string().into()), now), is_historical: false };
        if let Err(error) = self.node.data(now.as_unsigned_millis(), slot, [datum]) {
            tracing::debug!(uplink = self.name(), %error, "the next birth tells what became of a command");
        }
    }

    fn tell_health(&mut self) {
        let now = Instant::now();
        if now < self.health_at {
            return;
        }
        self.health_at = now + Duration::from(self.own.health);
        let (at, before) = (wall_clock(), std::mem::take(&mut self.health_told));
        let buffer = self.backlog.state(self.delivered);
        self.health_told = self.health.look(&self.links, &self.running.load().link_states(), &buffer, at);
        self.node.set_metrics(health::specs(&self.health_told));
        let changed = self.health_told.iter().enumerate().filter(|(place, metric)| before.get(*place) != Some(metric));
        let data = changed.map(|(metric, told_now)| Datum {
            metric,
            now: told(told_now.value.clone(), at),
            is_historical: false,
        });
        // What is not told now is in the birth.
        let _ = self.node.node_data(at.as_unsigned_millis(), data);
        self.expect_births();
    }

    /// Gives births at once that became due for a reason on this side.
    fn expect_births(&mut self) {
        while let Some(event) = self.node.poll_event() {
            if event == EdgeNodeEvent::BirthDue {
                self.birth_at = Some(Instant::now());
            }
        }
    }

    fn birth_if_due(&mut self) {
        let now = Instant::now();
        if self.birth_at.is_none_or(|due| now < due) {
            return;
        }
        (self.birth_at, self.last_birth, self.awaiting_since) = (None, Some(now), None);
        self.health_at = now;
        self.tell_health();
        // The births tell what is newer than what was to go out as live.
        self.backlog.buffer.live_is_history();
        let at = wall_clock();
        let current = Current { latest: &self.latest, health: &self.health_told, results: &self.last_results, now: at };
        self.node.birth(at.as_unsigned_millis(), &current);
        self.remember_births();
        let is_doubtful = self.node.is_host_doubtful();
        self.doubt_until = is_doubtful.then(|| now + Duration::from(self.own.host_grace));
        tracing::info!(uplink = self.name(), is_doubtful, "births published");
        self.status.update(|status, _| status.host_in_doubt = is_doubtful);
        self.status.enter(UplinkState::Online);
    }

    /// Births publish the points that somebody asks about, too.
    fn remember_births(&mut self) {
        let at = wall_clock().as_millis();
        for (point, published) in &mut self.published {
            let reading = self.latest.read(*point).filter(|_| self.announced.place(*point).is_some());
            if let Some(reading) = reading.filter(|reading| reading.quality != Quality::Bad(Reason::NeverRead)) {
                let (value, timestamp) = (reading.value, reading.source_time.as_millis());
                *published = Some(Published { at, value, timestamp, historical: false });
            }
        }
    }

    /// Ends the doubt about the primary host when it was waited for long enough.
    fn settle_doubt(&mut self) {
        if self.doubt_until.is_some_and(|until| Instant::now() >= until) {
            self.doubt_until = None;
            tracing::warn!(uplink = self.name(), "the primary host did not report back; its old STATE has to do");
            self.node.trust_host();
            self.status.update(|status, _| status.host_in_doubt = false);
        }
    }

    /// Whether the primary host is to be looked for at another broker.
    fn has_awaited_host(&self) -> bool {
        self.brokers.has_others() && self.awaiting_since.is_some_and(|since| since.elapsed() > AWAIT_HOST)
    }

    fn take_in(&mut self, input: UplinkInput) {
        let now = wall_clock().as_unsigned_millis();
        match input {
            UplinkInput::Samples(samples) => self.take_samples(&samples),
            UplinkInput::DeviceUp(device) => self.with_current(|node, current| node.device_up(now, device, current)),
            UplinkInput::DeviceDown(device) => self.node.device_down(now, device),
            UplinkInput::Points(Shape { points, latest, links, .. }) => {
                (self.backlog.context, self.latest, self.links) = (points, latest, links);
                self.announce();
                self.backlog.drop_unknown();
            }
        }
    }

    fn take_samples(&mut self, samples: &[Sample]) {
        for sample in samples.iter().filter(|sample| self.announced.place(sample.point).is_some()) {
            let Some(device) = self.backlog.context.get(sample.point).map(|info| info.device_slot) else { continue };
            if !self.node.is_born() {
                self.backlog.push_history(device, sample);
            } else if self.node.is_device_born(device) {
                self.backlog.push_live(device, sample);
            }
            // Else the DDEATH before has told it, or the DBIRTH that follows will.
        }
    }

    fn with_current(&mut self, act: impl FnOnce(&mut EdgeNode, &Current<'_>)) {
        let (health, results) = (&self.health_told, &self.last_results);
        let current = Current { latest: &self.latest, health, results, now: wall_clock() };
        act(&mut self.node, &current);
    }

    /// Tells the node what its devices are: those that changed are born again, those that are gone die.
    fn announce(&mut self) {
        let now = wall_clock().as_unsigned_millis();
        let points = Arc::clone(&self.backlog.context);
        self.announced = Announced::new(&points, self.uplink.broker.select.as_ref());
        for slot in 0..points.slots() {
            let spec = self.announced.spec(&points, slot, self.uplink.broker.commands);
            self.with_current(|node, current| node.set_device(now, slot, spec, current));
        }
    }

    /// What people want of the backlog.
    fn answer(&mut self, request: UplinkRequest) {
        // Nobody may wait for the answer any more.
        match request {
            UplinkRequest::Buffer(answer) => {
                let _ = answer.send(self.backlog.view(self.delivered));
            }
            UplinkRequest::Purge(answer) => {
                let thrown = self.backlog.purge();
                self.show_buffer();
                let _ = answer.send(thrown);
            }
            UplinkRequest::WouldLose(points, answer) => {
                let certainly = self.backlog.count_unknown(&points);
                let _ = answer.send(WouldLose { certainly, perhaps: self.backlog.cold() });
            }
            UplinkRequest::Published(point, answer) => {
                let _ = answer.send(self.published.entry(point).or_default().clone());
            }
            UplinkRequest::Births(answer) => {
                let may_be = self.last_birth.is_none_or(|last| last.elapsed() >= BETWEEN_ASKED_BIRTHS);
                let is_asked = self.node.is_born() && may_be;
                if is_asked {
                    self.node.ask_births();
                    self.expect_births();
                }
                let _ = answer.send(is_asked);
            }
            // There are no templates here.
            UplinkRequest::Messages(answer) => {
                let _ = answer.send(Vec::new());
            }
        }
    }

    /// Hands over what the node has to say, then live samples, as long as the connection takes them.
    fn send(&mut self, connection: &Connection) {
        loop {
            self.outbox.extend(std::iter::from_fn(|| self.node.poll_transmit()));
            if !self.flush(connection) || !self.node.is_born() {
                return;
            }
            let Some((device, samples)) = self.backlog.buffer.take_live(METRICS_PER_MESSAGE) else { return };
            self.data(device, &samples, false);
        }
    }

    /// Sends what has waited, as much at a time as its share of the connection allows, and asks for the proof at once.
    fn send_history(&mut self, connection: &Connection) {
        if !self.pace.is_free(Instant::now())
            || !self.node.is_born()
            || self.node.is_host_doubtful()
            || !self.backlog.has_history()
        {
            return;
        }
        let (mut left, before) = (self.pace.batch(), self.pace.batch());
        while left > 0 && self.flush(connection) {
            let node = &self.node;
            let most = left.min(METRICS_PER_MESSAGE);
            let Some((device, samples)) = self.backlog.take_history(most, |device| node.is_device_born(device)) else {
                break;
            };
            left = left.saturating_sub(samples.len());
            self.data(device, &samples, true);
            self.outbox.extend(std::iter::from_fn(|| self.node.poll_transmit()));
        }
        if left < before {
            self.pace.sent(left == 0, Instant::now());
            self.flush(connection);
            self.ask(connection);
        }
    }

    /// Makes one data message of samples in time order.
    fn data(&mut self, device: usize, samples: &[Sample], is_historical: bool) {
        let now = wall_clock().as_unsigned_millis();
        let announced = &self.announced;
        let datum = |sample: &Sample| {
            let metric = announced.place(sample.point)?;
            let now = snapshot_of(sample.value.as_ref(), sample.quality, sample.source_time);
            Some(Datum { metric, now, is_historical })
        };
        let data: Vec<_> = samples.iter().filter_map(datum).collect();
        if let Err(error) = self.node.data(now, device, data) {
            // The device died after these were read: they wait for its birth, as history.
            tracing::debug!(uplink = self.name(), %error, "data withheld");
            self.backlog.buffer.take_back(samples.len());
            return;
        }
        if self.published.is_empty() {
            return;
        }
        let at = wall_clock().as_millis();
        for sample in samples {
            if let Some(published) = self.published.get_mut(&sample.point) {
                let (value, timestamp) = (sample.value.clone(), sample.source_time.as_millis());
                *published = Some(Published { at, value, timestamp, historical: is_historical });
            }
        }
    }

    /// Hands the outbox over; `false` when the connection takes no more for now.
    fn flush(&mut self, connection: &Connection) -> bool {
        let mut messages = 0;
        while let Some(next) = self.outbox.front() {
            let message = mqtt::Message { topic: &next.topic, qos: 0, retain: false };
            if connection.publish(message, next.payload.clone()).is_err() {
                break;
            }
            self.outbox.pop_front();
            messages += 1;
        }
        if messages > 0 {
            self.status.update(|status, _| status.messages += messages);
        }
        self.outbox.is_empty()
    }

    /// Asks the broker what it has read; while the primary host is in doubt, that would prove nothing.
    fn ask(&mut self, connection: &Connection) {
        if self.outbox.is_empty() && !self.node.is_host_doubtful() && self.backlog.buffer.ask() {
            if connection.ask() {
                self.asked_at = Some(Instant::now());
            } else {
                // The queue is full: what was marked is asked about again with the next question.
                self.backlog.buffer.proven_nothing();
            }
        }
    }

    fn is_overdue(&self) -> bool {
        let limit = Duration::from(self.uplink.broker.keep_alive);
        self.asked_at.is_some_and(|asked| asked.elapsed() > limit)
    }

    fn lost(&mut self, error: &str) {
        self.node.handle_connection_lost();
        self.backlog.buffer.nothing_arrived();
        self.backlog.drop_unknown();
        self.outbox.clear();
        self.asked_at = None;
        self.is_offline(error);
    }

    fn is_offline(&mut self, error: &str) {
        self.status.lost(error);
        self.show_buffer();
    }

    fn keep_backlog(&mut self) {
        let settled = self.backlog.settle(false);
        self.has_delivered(settled);
        self.backlog.keep(false);
        self.backlog.note(self.delivered, self.node.is_born());
        self.show_buffer();
    }

    fn show_buffer(&self) {
        let buffer = self.backlog.state(self.delivered);
        self.status.update(|status, _| status.buffer = buffer);
    }

    fn keep_bd_seq(&self, bd_seq: u8) {
        self.status.update(|status, _| status.bd_seq = Some(bd_seq));
        let Some(store) = self.store.clone() else { return };
        let (gateway, uplink) = (self.gateway.clone(), self.name().to_owned());
        // Not waited for: while the database is away, connecting must not be.
        tokio::spawn(async move {
            if let Err(error) = store.set_bd_seq(&gateway, &uplink, bd_seq).await {
                tracing::warn!(uplink, %error, "bdSeq was not kept");
            }
        });
    }

    fn keep_host_known(&mut self, known: Option<u64>) {
        self.host_kept = known;
        let Some(store) = self.store.clone().filter(|_| self.own.primary_host.is_some()) else { return };
        let (gateway, uplink) = (self.gateway.clone(), self.name().to_owned());
        tokio::spawn(async move {
            if let Err(error) = store.set_host_known(&gateway, &uplink, known).await {
                tracing::warn!(uplink, %error, "the primary host's STATE was not kept");
            }
        });
    }

    /// After an orderly end, the next run may take the primary host at its word.
    async fn forget_host(&self) {
        let Some(store) = self.store.as_ref().filter(|_| self.own.primary_host.is_some()) else { return };
        let forgetting = store.set_host_known(&self.gateway, self.name(), None);
        if !matches!(timeout(GOODBYE, forgetting).await, Ok(Ok(()))) {
            tracing::warn!(uplink = self.name(), "the next run will doubt the primary host for a while");
        }
    }

    /// Sends what is left, publishes the death where there was a birth, and waits for the proof that the broker has read it.
    async fn part(&mut self, input: &mut mpsc::Receiver<UplinkInput>, mut connection: Connection, has_host: bool) {
        while let Ok(told) = input.try_recv() {
            self.take_in(told);
        }
        let deadline = Instant::now() + GOODBYE;
        self.send(&connection);
        let is_doubtful = self.node.is_host_doubtful() || !has_host;
        self.node.disconnect(wall_clock().as_unsigned_millis());
        self.outbox.extend(std::iter::from_fn(|| self.node.poll_transmit()));
        // A question that is under way proves less than the next one will.
        self.backlog.buffer.proven_nothing();
        let mut is_asked = false;
        loop {
            if self.flush(&connection) && !is_asked {
                if !is_doubtful {
                    self.backlog.buffer.ask();
                }
                is_asked = connection.ask();
            }
            let event = timeout(deadline.saturating_duration_since(Instant::now()), connection.events.recv()).await;
            match event {
                Ok(Some(MqttEvent::Answered)) if self.asked_at.take().is_none() => {
                    // At an orderly end, with a host that is not known to be gone, the broker's word is what there is.
                    let (_, delivered) = self.backlog.proven();
                    let settled = if is_doubtful { 0 } else { self.backlog.settle(true) };
                    self.delivered += (delivered + settled) as u64;
                    break;
                }
                Ok(Some(MqttEvent::Lost(_)) | None) | Err(_) => break,
                Ok(Some(_)) => {}
            }
        }
        self.asked_at = None;
        self.backlog.buffer.nothing_arrived();
        connection.disconnect(GOODBYE).await;
        tracing::info!(uplink = self.name(), "disconnected in order");
    }
}
