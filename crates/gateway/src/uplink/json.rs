//! Messages made from templates, over plain MQTT.

use super::backlog::{Backlog, NO_MESSAGE};
use super::block::BlockError;
use super::brokers::Brokers;
use super::fill::Filler;
use super::groups::{Group, groups};
use super::item::Item;
use super::message::{Rendering, SentMessage};
use super::mqtt::{Intake, Message};
use super::pace::Pace;
use super::sparkplug::{FIRST_RECONNECT, GOODBYE, RECONNECT_LIMIT, TICK, UplinkStart};
use super::{Connection, MqttEvent, Shape, UplinkInput, UplinkRequest, WouldLose};
use crate::clock::wall_clock;
use crate::host_command::{Asker, CommandResult, HostCommand, HostCommands, beginning};
use crate::link::Backoff;
use crate::status::{Shared, UplinkState, UplinkStatus};
use interlex_core::description::{JsonUplink, Uplink};
use interlex_core::{OutcomeWord, PointIndex, Sample, Timestamp};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::{Instant, MissedTickBehavior, interval, sleep_until, timeout};
use tokio_util::sync::CancellationToken;

/// Messages that are kept for whoever wants to look at them.
const LAST_MESSAGES: usize = 50;
/// Results of commands on their way to the broker; one more is told in the audit trail only.
const RESULTS: usize = 64;
/// Results that wait for the broker.
const MOST_REPLIES: usize = 1000;
/// Messages that are handed over at a time.
const MESSAGES_AT_A_TIME: usize = 100;

/// One uplink of messages made from templates: in their order, each kept until the broker has it.
pub(crate) struct JsonTask {
    uplink: Uplink,
    own: JsonUplink,
    rendering: Rendering,
    shape: Shape,
    groups: Vec<Group>,
    /// The places of the groups that a point is in.
    groups_of: HashMap<PointIndex, Vec<usize>>,
    status: Arc<Shared<UplinkStatus>>,
    backlog: Backlog<Outbound>,
    delivered: u64,
    commands: HostCommands,
    results: (mpsc::Sender<CommandResult>, mpsc::Receiver<CommandResult>),
    replies: VecDeque<String>,
    requests: mpsc::Receiver<UplinkRequest>,
    last: VecDeque<SentMessage>,
    is_online: bool,
    asked_at: Option<Instant>,
    /// How many messages of QoS 1 and 2 went out, how many the broker took, and how many had gone out at the last question.
    sent: u64,
    taken: u64,
    sent_at_question: u64,
    is_answered: bool,
    pace: Pace,
}

/// A message that waits for the broker.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Outbound {
    topic: String,
    payload: String,
    qos: u8,
    retain: bool,
    /// When it was made, in milliseconds since 1970 UTC.
    at: i64,
}

impl Outbound {
    fn new(uplink: &JsonUplink, rendered: &SentMessage) -> Self {
        Self {
            topic: rendered.topic.clone(),
            payload: rendered.payload.clone(),
            qos: uplink.qos,
            retain: uplink.retain,
            at: rendered.at,
        }
    }
}

impl Item for Outbound {
    type Context = ();

    fn came(&self) -> Timestamp {
        Timestamp::from_millis(self.at)
    }

    fn bytes(&self) -> usize {
        size_of::<Self>() + 16 + self.topic.len() + self.payload.len()
    }

    fn lane(&self, (): &()) -> Option<usize> {
        Some(0)
    }

    fn encode(messages: &[Self], (): &()) -> Vec<u8> {
        // Text and numbers always have a form in JSON.
        serde_json::to_vec(messages).unwrap_or_default()
    }

    fn decode(block: &[u8], (): &()) -> Result<Vec<Result<Self, Timestamp>>, BlockError> {
        let messages: Vec<Self> = serde_json::from_slice(block).map_err(|_| BlockError::Damaged)?;
        Ok(messages.into_iter().map(Ok).collect())
    }
}

/// Why a session ended.
enum Ended {
    Lost(String),
    /// An earlier broker is there again, by its place.
    Return(usize, Connection),
    Stopped(Connection),
}

impl JsonTask {
    /// Prepares the uplink.
    pub(crate) async fn new(start: UplinkStart, own: JsonUplink) -> Self {
        let UplinkStart { gateway, title, uplink, shape, status, store, commands, requests, .. } = start;
        let name = uplink.settings.name.as_str();
        let backlog = Backlog::new((&gateway, name), &uplink.journal, (), store.as_ref(), None).await;
        let mut task = Self {
            // History and what is new are one queue here.
            pace: Pace::new(100, Instant::now()),
            rendering: Rendering { gateway, title, filler: Filler::new(&own.topic, &own.payload) },
            uplink,
            own,
            shape,
            groups: Vec::new(),
            groups_of: HashMap::new(),
            status,
            backlog,
            delivered: 0,
            commands,
            results: mpsc::channel(RESULTS),
            replies: VecDeque::new(),
            requests,
            last: VecDeque::new(),
            is_online: false,
            asked_at: None,
            sent: 0,
            taken: 0,
            sent_at_question: 0,
            is_answered: false,
        };
        task.announce();
        task
    }

    /// Runs until `stop` is cancelled; then keeps what was not proven.
    pub(crate) async fn run(mut self, mut input: mpsc::Receiver<UplinkInput>, stop: CancellationToken) {
        let mut backoff = Backoff::new(FIRST_RECONNECT, RECONNECT_LIMIT, fastrand::Rng::new());
        let mut brokers = Brokers::new(&self.uplink, Instant::now());
        while !stop.is_cancelled() {
            match self.session(&mut brokers, &mut input, &stop, &mut backoff).await {
                Ended::Lost(error) => {
                    self.lost(&error);
                    brokers.go_on();
                    let again = Instant::now() + backoff.wait();
                    self.wait(&mut input, again, &stop).await;
                }
                Ended::Return(broker, connection) => {
                    self.say_goodbye(&mut input, connection).await;
                    brokers.go_to(broker);
                }
                Ended::Stopped(connection) => {
                    self.say_goodbye(&mut input, connection).await;
                    break;
                }
            }
        }
        while let Ok(input) = input.try_recv() {
            self.take_in(input).await;
        }
        self.make_messages(Group::has_samples).await;
        self.backlog.close(GOODBYE).await;
        self.show_buffer();
    }

    async fn wait(&mut self, input: &mut mpsc::Receiver<UplinkInput>, until: Instant, stop: &CancellationToken) {
        let mut ticks = interval(TICK);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                Some(told) = input.recv() => self.take_in(told).await,
                Some(request) = self.requests.recv() => self.answer(request),
                news = self.backlog.news() => self.backlog.hear(news),
                _ = ticks.tick() => self.tick().await,
                () = sleep_until(until) => return,
                () = stop.cancelled() => return,
            }
        }
    }

    async fn session(
        &mut self,
        brokers: &mut Brokers,
        input: &mut mpsc::Receiver<UplinkInput>,
        stop: &CancellationToken,
        backoff: &mut Backoff,
    ) -> Ended {
        let uplink = brokers.connect();
        self.status.update(|status, _| status.url = uplink.settings.url.to_string());
        let client_id = uplink.mqtt_client_id(&self.rendering.gateway);
        let mut connection = match Connection::start(&uplink, &client_id, None, Intake::COMMANDS).await {
            Ok(connection) => connection,
            Err(error) => return Ended::Lost(error),
        };
        self.pace.restart(Instant::now());
        let mut ticks = interval(TICK);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                event = connection.events.recv() => match event {
                    Some(MqttEvent::Lost(error)) => return Ended::Lost(error),
                    None => return Ended::Lost("the connection ended".to_owned()),
                    Some(event) => if let Err(error) = self.handle(event, &connection, backoff) {
                        return Ended::Lost(error);
                    }
                },
                Some(told) = input.recv() => self.take_in(told).await,
                Some(request) = self.requests.recv() => self.answer(request),
                Some(result) = self.results.1.recv() => self.tell_result(&result),
                news = self.backlog.news() => self.backlog.hear(news),
                () = self.pace.is_due() => {}
                _ = ticks.tick() => {
                    self.tick().await;
                    let limit = Duration::from(self.uplink.broker.keep_alive);
                    if self.asked_at.is_some_and(|asked| asked.elapsed() > limit) {
                        return Ended::Lost(format!("no answer from the broker within {}", self.uplink.broker.keep_alive));
                    }
                    if self.is_online && let Some(broker) = brokers.look_back() {
                        return Ended::Return(broker, connection);
                    }
                }
                () = stop.cancelled() => return Ended::Stopped(connection),
            }
            self.send(&connection);
        }
    }

    fn handle(&mut self, event: MqttEvent, connection: &Connection, backoff: &mut Backoff) -> Result<(), String> {
        match event {
            MqttEvent::Connected => match &self.own.command_topic {
                Some(topic) => {
                    let subscribed = connection.subscribe(std::slice::from_ref(topic));
                    subscribed.map_err(|_| "the queue to the broker is full".to_owned())?;
                }
                None => self.online(backoff),
            },
            MqttEvent::Subscribed => self.online(backoff),
            MqttEvent::Answered => {
                self.is_answered = true;
                self.settle();
            }
            MqttEvent::Taken => {
                self.taken += 1;
                self.settle();
            }
            MqttEvent::Message { topic, payload, is_retained } => self.command(&topic, &payload, is_retained),
            MqttEvent::Lost(error) => return Err(error),
        }
        Ok(())
    }

    fn online(&mut self, backoff: &mut Backoff) {
        backoff.reset();
        self.is_online = true;
        self.status.enter(UplinkState::Online);
        tracing::info!(uplink = self.name(), "online");
    }

    /// What was asked about is proved when the broker has answered, and taken what needs taking.
    fn settle(&mut self) {
        if !self.is_answered || self.taken < self.sent_at_question {
            return;
        }
        (self.is_answered, self.asked_at) = (false, None);
        let (_, delivered) = self.backlog.proven();
        self.pace.proven(Instant::now());
        self.delivered += delivered as u64;
        self.status.delivered(delivered);
    }

    fn name(&self) -> &str {
        self.uplink.settings.name.as_str()
    }

    async fn take_in(&mut self, input: UplinkInput) {
        match input {
            UplinkInput::Samples(samples) => self.take_samples(&samples).await,
            // What is bad is told by the points themselves.
            UplinkInput::DeviceUp(_) | UplinkInput::DeviceDown(_) => {}
            UplinkInput::Points(shape) => {
                // What was reported of the points as they were goes first.
                self.make_messages(Group::has_samples).await;
                self.shape = shape;
                self.announce();
            }
        }
    }

    fn announce(&mut self) {
        let now = Instant::now();
        self.groups =
            groups(&self.shape.points, self.own.message_per, self.uplink.broker.select.as_ref(), self.own.send, now);
        self.groups_of = HashMap::new();
        for (at, group) in self.groups.iter().enumerate() {
            for point in &group.points {
                self.groups_of.entry(*point).or_default().push(at);
            }
        }
    }

    async fn take_samples(&mut self, samples: &[Sample]) {
        let (due, mut is_full) = (Instant::now() + Duration::from(self.own.gather), false);
        for sample in samples {
            for at in self.groups_of.get(&sample.point).into_iter().flatten() {
                if let Some(group) = self.groups.get_mut(*at) {
                    is_full |= group.take(sample, self.own.send, due);
                }
            }
        }
        if is_full {
            self.make_messages(Group::is_full).await;
        }
    }

    async fn tick(&mut self) {
        let now = Instant::now();
        self.make_messages(|group| group.is_due(now)).await;
        self.keep_gathered(now).await;
        self.backlog.keep(false);
        self.backlog.note(self.delivered, self.is_online);
        self.show_buffer();
    }

    /// What is gathered for longer than the journal may lag is kept as the message that it would be now. The message that
    /// it becomes in the end takes its place.
    async fn keep_gathered(&mut self, now: Instant) {
        // A tick and the way to the database are part of the promise.
        let lag = Duration::from(self.uplink.journal.journal_flush).saturating_sub(2 * TICK);
        for group in &mut self.groups {
            let Some(samples) = group.unkept_since(now, lag) else { continue };
            let rendered = self.rendering.render(group, &samples, &self.shape).await;
            if rendered.error.is_some() {
                continue;
            }
            let before = group.kept.replace(self.backlog.keep_provisionally(&Outbound::new(&self.own, &rendered)));
            before.into_iter().for_each(|number| self.backlog.settle_provisional(number));
        }
    }

    /// Makes the messages of the groups that are chosen.
    async fn make_messages(&mut self, is_chosen: impl Fn(&Group) -> bool) {
        let (now, mut made) = (Instant::now(), Vec::new());
        for group in self.groups.iter_mut().filter(|group| is_chosen(group)) {
            let samples = group.begin_message(self.own.send, now);
            let times = samples.iter().map(|sample| sample.gateway_time);
            let ends = times.clone().min().zip(times.max());
            let message = self.rendering.render(group, &samples, &self.shape).await;
            made.push((message, group.kept.take(), samples.len(), ends));
        }
        for (message, kept, count, ends) in made {
            if let Some((from, to)) = ends.filter(|_| message.error.is_some()) {
                self.backlog.lose(count as u64, from, to, NO_MESSAGE);
            }
            self.take_message(message);
            kept.into_iter().for_each(|number| self.backlog.settle_provisional(number));
        }
    }

    /// Queues a message, and remembers it for whoever wants to look.
    fn take_message(&mut self, rendered: SentMessage) {
        match &rendered.error {
            None => self.backlog.push_history(0, &Outbound::new(&self.own, &rendered)),
            Some(error) => {
                let (now, error) = (wall_clock().as_millis(), error.clone());
                self.status.update(|status, _| {
                    (status.last_error, status.last_error_at) = (Some(error), Some(now));
                });
            }
        }
        if self.last.len() == LAST_MESSAGES {
            self.last.pop_front();
        }
        self.last.push_back(rendered);
    }

    fn send(&mut self, connection: &Connection) {
        if !self.is_online {
            return;
        }
        if let Some(topic) = &self.own.reply_topic {
            while let Some(reply) = self.replies.pop_front() {
                let message = Message { topic, qos: 1, retain: false };
                if connection.publish(message, reply.clone().into_bytes()).is_err() {
                    self.replies.push_front(reply);
                    return;
                }
                self.sent += 1;
            }
        }
        if !self.pace.is_free(Instant::now()) {
            return;
        }
        let (mut left, mut messages) = (self.pace.batch(), 0);
        while left > 0 {
            let Some((_, taken)) = self.backlog.take_history(left.min(MESSAGES_AT_A_TIME), |_| true) else { break };
            let handed = taken.iter().take_while(|message| self.publish(connection, message)).count();
            self.sent += taken.iter().take(handed).filter(|message| message.qos > 0).count() as u64;
            messages += handed;
            left -= handed;
            if handed < taken.len() {
                self.backlog.buffer.take_back(taken.len() - handed);
                break;
            }
        }
        if messages > 0 {
            self.pace.sent(left == 0, Instant::now());
            self.status.update(|status, _| status.messages += messages as u64);
        }
        if self.backlog.buffer.ask() {
            if connection.ask() {
                (self.asked_at, self.sent_at_question, self.is_answered) = (Some(Instant::now()), self.sent, false);
            } else {
                self.backlog.buffer.proven_nothing();
            }
        }
    }

    fn publish(&self, connection: &Connection, message: &Outbound) -> bool {
        let Outbound { topic, payload, qos, retain, .. } = message;
        connection.publish(Message { topic, qos: *qos, retain: *retain }, payload.clone().into_bytes()).is_ok()
    }

    /// Takes a command, and hands it on to the field.
    fn command(&mut self, topic: &str, payload: &[u8], is_retained: bool) {
        let uplink = self.name().to_owned();
        let command = match self.own.mapping().read(topic, payload) {
            // It would be carried out again at every connection.
            Ok(command) if is_retained => Err((command.id, "retained commands are not taken".to_owned())),
            Ok(command) => {
                let known = self.shape.points.find(&command.device, &command.point);
                let why = match known {
                    None => Some(format!("there is no point {}/{}", command.device, command.point)),
                    Some(info) if !info.takes_commands() => Some(format!("{} takes no commands", info.name())),
                    Some(_) => None,
                };
                why.map_or_else(|| Ok(command.clone()), |why| Err((command.id.clone(), why)))
            }
            Err(wrong) => Err(wrong),
        };
        match command {
            Ok(command) => {
                let answer = Some((Asker::Id(command.id), self.results.0.clone()));
                let (device, point, value) = (command.device, command.point, command.value);
                self.commands.send(HostCommand { uplink, device, point, value, at: Instant::now(), answer });
            }
            Err((id, why)) => {
                let why = beginning(&why);
                self.commands.refused(&uplink, &format!("{topic}: {why}"));
                tracing::warn!(uplink, topic = beginning(topic), why, "command refused");
                self.reply(&id, OutcomeWord::Refused, &why);
            }
        }
    }

    fn tell_result(&mut self, result: &CommandResult) {
        if let Asker::Id(id) = &result.asker {
            self.reply(id, result.outcome.word(), &result.words);
        }
    }

    /// Tells what became of a command, when it is known where; of too many the oldest are not told.
    fn reply(&mut self, id: &serde_json::Value, result: OutcomeWord, reason: &str) {
        if self.own.reply_topic.is_none() {
            return;
        }
        if self.replies.len() >= MOST_REPLIES {
            self.replies.pop_front();
        }
        self.replies.push_back(json!({ "id": id, "result": result, "reason": reason }).to_string());
    }

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
            // Messages go out whatever becomes of the points in them.
            UplinkRequest::WouldLose(_, answer) => {
                let _ = answer.send(WouldLose { certainly: 0, perhaps: 0 });
            }
            // Its values are in messages, which can be looked at.
            UplinkRequest::Published(_, answer) => {
                let _ = answer.send(None);
            }
            UplinkRequest::Births(answer) => {
                let _ = answer.send(false);
            }
            UplinkRequest::Messages(answer) => {
                let _ = answer.send(self.last.iter().cloned().collect());
            }
        }
    }

    fn lost(&mut self, error: &str) {
        self.forget_session();
        self.status.lost(error);
        self.show_buffer();
    }

    /// What the broker has not proved to have read is sent again.
    fn forget_session(&mut self) {
        self.backlog.buffer.nothing_arrived();
        (self.is_online, self.asked_at, self.is_answered) = (false, None, false);
        (self.sent, self.taken, self.sent_at_question) = (0, 0, 0);
    }

    fn show_buffer(&self) {
        let buffer = self.backlog.state(self.delivered);
        self.status.update(|status, _| status.buffer = buffer);
    }

    /// Sends what is left and waits for the proof that the broker has read it.
    async fn say_goodbye(&mut self, input: &mut mpsc::Receiver<UplinkInput>, mut connection: Connection) {
        while let Ok(told) = input.try_recv() {
            self.take_in(told).await;
        }
        self.make_messages(Group::has_samples).await;
        let deadline = Instant::now() + GOODBYE;
        while self.backlog.buffer.len() > 0 {
            self.send(&connection);
            let left = deadline.saturating_duration_since(Instant::now());
            match timeout(left.min(TICK), connection.events.recv()).await {
                Ok(Some(MqttEvent::Answered)) => {
                    self.is_answered = true;
                    self.settle();
                }
                Ok(Some(MqttEvent::Taken)) => {
                    self.taken += 1;
                    self.settle();
                }
                Ok(Some(MqttEvent::Lost(_)) | None) => break,
                Ok(Some(_)) | Err(_) => {}
            }
            if Instant::now() >= deadline {
                break;
            }
        }
        self.forget_session();
        connection.disconnect(GOODBYE).await;
        tracing::info!(uplink = self.name(), "disconnected in order");
    }
}
