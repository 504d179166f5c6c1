use super::groups::{Group, groups};
use super::message::{Rendering, SentMessage};
use super::outbound::Outbound;
use crate::buffer::{Backlog, NO_MESSAGE, TICK};
use crate::command::CommandResult;
use crate::json::fill::Filler;
use crate::mqtt::{Connection, Message, MqttEvent, Will};
use crate::request::{UplinkRequest, WouldLose};
use crate::session::{Base, GOODBYE, Kind};
use crate::start::UplinkStart;
use interlex_core::description::JsonUplink;
use interlex_core::{FieldEvent, Inventory, PointIndex, Sample, UplinkState};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use tokio::time::{Instant, timeout};

/// Messages that are kept for whoever wants to look at them.
const LAST_MESSAGES: usize = 50;
/// Messages that are handed over at a time.
const MESSAGES_AT_A_TIME: usize = 100;

/// What messages made from templates make of a session: in their order, each kept until the broker has it.
pub(crate) struct JsonMessages {
    pub(super) own: JsonUplink,
    rendering: Rendering,
    pub(super) inventory: Inventory,
    groups: Vec<Group>,
    /// The places of the groups that a point is in.
    groups_of: HashMap<PointIndex, Vec<usize>>,
    /// Results of commands that wait for the broker.
    pub(super) replies: VecDeque<String>,
    last: VecDeque<SentMessage>,
    is_online: bool,
    proof: Proof,
}

/// What the broker owes of the last question, and of the messages before it.
#[derive(Debug, Default)]
struct Proof {
    /// How many messages of QoS 1 and 2 went out, how many the broker took, and how many had gone out at the last question.
    sent: u64,
    acknowledged: u64,
    sent_at_question: u64,
    is_answered: bool,
}

impl Proof {
    /// Whether what was asked about is proved: the broker has answered, and taken what needs taking.
    const fn take_proven(&mut self) -> bool {
        let is_proven = self.is_answered && self.acknowledged >= self.sent_at_question;
        if is_proven {
            self.is_answered = false;
        }
        is_proven
    }
}

impl JsonMessages {
    /// Prepares the uplink.
    pub(crate) async fn new(start: UplinkStart, own: JsonUplink) -> (Base<Outbound>, Self) {
        let UplinkStart { gateway, title, uplink, inventory, status, clock, words, store, commands, requests, .. } =
            start;
        let place = (gateway.as_str(), uplink.settings.name.as_str());
        let backlog = Backlog::new(place, &uplink.journal, (), store.as_ref(), None, Arc::clone(&clock)).await;
        let mut kind = Self {
            rendering: Rendering {
                words,
                gateway: gateway.clone(),
                title,
                filler: Filler::new(&own.topic, &own.payload),
            },
            own,
            inventory,
            groups: Vec::new(),
            groups_of: HashMap::new(),
            replies: VecDeque::new(),
            last: VecDeque::new(),
            is_online: false,
            proof: Proof::default(),
        };
        // History and what is new are one queue here.
        let base = Base::new((gateway, uplink), (status, clock, store), backlog, 100, (commands, requests));
        kind.regroup(&base);
        (base, kind)
    }

    fn regroup(&mut self, base: &Base<Outbound>) {
        let (selection, now) = (base.uplink.broker.select.as_ref(), Instant::now());
        self.groups = groups(&self.inventory.points, self.own.message_per, selection, self.own.send, now);
        self.groups_of = HashMap::new();
        for (at, group) in self.groups.iter().enumerate() {
            for point in &group.points {
                self.groups_of.entry(*point).or_default().push(at);
            }
        }
    }

    async fn take_samples(&mut self, base: &mut Base<Outbound>, samples: &[Sample]) {
        let (due, mut is_full) = (Instant::now() + Duration::from(self.own.gather), false);
        for sample in samples {
            for at in self.groups_of.get(&sample.point).into_iter().flatten() {
                if let Some(group) = self.groups.get_mut(*at) {
                    is_full |= group.take(sample, self.own.send, due);
                }
            }
        }
        if is_full {
            self.make_messages(base, Group::is_full).await;
        }
    }

    /// What is gathered for longer than the journal may lag is kept as the message that it would be now. The message that
    /// it becomes in the end takes its place.
    async fn keep_gathered(&mut self, base: &mut Base<Outbound>, now: Instant, lag: Duration) {
        for group in &mut self.groups {
            let Some(samples) = group.unkept_since(now, lag) else { continue };
            let rendered = self.rendering.render(group, &samples, &self.inventory, base.now()).await;
            if rendered.error.is_some() {
                continue;
            }
            let before = group.kept.replace(base.backlog.keep_provisionally(&Outbound::new(&self.own, &rendered)));
            before.into_iter().for_each(|number| base.backlog.settle_provisional(number));
        }
    }

    /// Makes the messages of the groups that are chosen.
    async fn make_messages(&mut self, base: &mut Base<Outbound>, is_chosen: impl Fn(&Group) -> bool + Send) {
        let (now, mut made) = (Instant::now(), Vec::new());
        for group in self.groups.iter_mut().filter(|group| is_chosen(group)) {
            let samples = group.begin_message(self.own.send, now);
            let times = samples.iter().map(|sample| sample.gateway_time);
            let ends = times.clone().min().zip(times.max());
            let message = self.rendering.render(group, &samples, &self.inventory, base.now()).await;
            made.push((message, group.kept.take(), samples.len(), ends));
        }
        for (message, kept, count, ends) in made {
            if let Some((from, to)) = ends.filter(|_| message.error.is_some()) {
                base.backlog.lose(count as u64, from, to, NO_MESSAGE);
            }
            self.queue(base, message);
            kept.into_iter().for_each(|number| base.backlog.settle_provisional(number));
        }
    }

    /// Queues a message, and remembers it for whoever wants to look.
    fn queue(&mut self, base: &mut Base<Outbound>, rendered: SentMessage) {
        match &rendered.error {
            None => base.backlog.push_history(0, &Outbound::new(&self.own, &rendered)),
            Some(error) => {
                let (now, error) = (base.now().as_millis(), error.clone());
                base.status.update(|status, _| {
                    (status.last_error, status.last_error_at) = (Some(error), Some(now));
                });
            }
        }
        if self.last.len() == LAST_MESSAGES {
            self.last.pop_front();
        }
        self.last.push_back(rendered);
    }

    /// Hands results of commands over; `false` when the connection takes no more for now.
    fn send_replies(&mut self, connection: &Connection) -> bool {
        let Some(topic) = &self.own.reply_topic else { return true };
        while let Some(reply) = self.replies.pop_front() {
            let message = Message { topic, qos: 1, retain: false };
            if connection.publish(message, reply.clone().into_bytes()).is_err() {
                self.replies.push_front(reply);
                return false;
            }
            self.proof.sent += 1;
        }
        true
    }

    fn send_messages(&mut self, base: &mut Base<Outbound>, connection: &Connection) {
        let (mut left, mut messages) = (base.pace.batch(), 0);
        while left > 0 {
            let Some((_, taken)) = base.backlog.take_history(left.min(MESSAGES_AT_A_TIME), |_| true) else { break };
            let handed = taken.iter().take_while(|message| publish(connection, message)).count();
            self.proof.sent += taken.iter().take(handed).filter(|message| message.qos > 0).count() as u64;
            messages += handed;
            left -= handed;
            if handed < taken.len() {
                base.backlog.queue.take_back(taken.len() - handed);
                break;
            }
        }
        if messages > 0 {
            base.pace.sent(left == 0, Instant::now());
            base.has_published(messages);
        }
    }

    fn settle(&mut self, base: &mut Base<Outbound>) {
        if self.proof.take_proven() {
            base.asked_at = None;
            let (_, delivered) = base.backlog.proven();
            base.pace.proven(Instant::now());
            base.has_delivered(delivered);
        }
    }

    fn forget_session(&mut self) {
        (self.is_online, self.proof) = (false, Proof::default());
    }
}

fn publish(connection: &Connection, message: &Outbound) -> bool {
    let Outbound { topic, payload, qos, retain, .. } = message;
    connection.publish(Message { topic, qos: *qos, retain: *retain }, payload.clone().into_bytes()).is_ok()
}

impl Kind for JsonMessages {
    type Item = Outbound;

    fn begin(&mut self, _: &mut Base<Outbound>, _: usize) -> Option<Will> {
        None
    }

    fn subscriptions(&self) -> Vec<String> {
        self.own.command_topic.iter().cloned().collect()
    }

    fn subscribed(&mut self, base: &mut Base<Outbound>) {
        self.is_online = true;
        base.enter(UplinkState::Online);
        tracing::info!(uplink = base.name(), "online");
    }

    fn answered(&mut self, base: &mut Base<Outbound>) {
        self.proof.is_answered = true;
        self.settle(base);
    }

    fn acknowledged(&mut self, base: &mut Base<Outbound>) {
        self.proof.acknowledged += 1;
        self.settle(base);
    }

    fn message(&mut self, base: &mut Base<Outbound>, topic: &str, payload: &[u8], is_retained: bool) {
        self.command(base, topic, payload, is_retained);
    }

    fn has_host(&mut self, _: &mut Base<Outbound>) -> bool {
        true
    }

    async fn take_in(&mut self, base: &mut Base<Outbound>, event: FieldEvent) {
        match event {
            FieldEvent::Samples(samples) => self.take_samples(base, &samples).await,
            FieldEvent::Keep(receipt) => {
                self.keep_gathered(base, Instant::now(), Duration::ZERO).await;
                base.backlog.keep(receipt);
            }
            // What is bad is told by the points themselves.
            FieldEvent::DeviceUp(_) | FieldEvent::DeviceDown(_) | FieldEvent::Retyped(_) => {}
            FieldEvent::Revised(inventory) => {
                // What was reported of the points as they were goes first.
                self.make_messages(base, Group::has_samples).await;
                self.inventory = inventory;
                self.regroup(base);
            }
        }
    }

    fn result(&mut self, _: &mut Base<Outbound>, result: &CommandResult) {
        self.tell_result(result);
    }

    fn answer(&mut self, _: &mut Base<Outbound>, request: UplinkRequest) {
        // Nobody may wait for the answer any more.
        match request {
            // Messages go out whatever becomes of the points in them.
            UplinkRequest::WouldLose(_, answer) => _ = answer.send(WouldLose { certainly: 0, perhaps: 0 }),
            // Its values are in messages, which can be looked at.
            UplinkRequest::Published(_, answer) => _ = answer.send(None),
            UplinkRequest::Births(answer) => _ = answer.send(false),
            UplinkRequest::Messages(answer) => _ = answer.send(self.last.iter().cloned().collect()),
            UplinkRequest::Buffer(_) | UplinkRequest::Purge(_) => {}
        }
    }

    async fn tick(&mut self, base: &mut Base<Outbound>) {
        let now = Instant::now();
        self.make_messages(base, |group| group.is_due(now)).await;
        // A tick and the way to the database are part of the promise.
        let lag = Duration::from(base.uplink.journal.journal_flush).saturating_sub(2 * TICK);
        self.keep_gathered(base, now, lag).await;
        base.maintain(self.is_online).await;
    }

    fn tick_connected(&mut self, _: &mut Base<Outbound>, _: &Connection) -> bool {
        true
    }

    fn send(&mut self, base: &mut Base<Outbound>, connection: &Connection) {
        if !self.is_online || !self.send_replies(connection) || !base.pace.is_free(Instant::now()) {
            return;
        }
        self.send_messages(base, connection);
        if base.ask(connection) {
            (self.proof.sent_at_question, self.proof.is_answered) = (self.proof.sent, false);
        }
    }

    fn is_online(&self) -> bool {
        self.is_online
    }

    fn lost(&mut self, base: &mut Base<Outbound>) {
        base.backlog.queue.nothing_arrived();
        base.asked_at = None;
        self.forget_session();
    }

    /// Sends what is left and waits for the proof that the broker has read it.
    async fn part(&mut self, base: &mut Base<Outbound>, connection: &mut Connection, _: bool) {
        self.make_messages(base, Group::has_samples).await;
        let deadline = Instant::now() + GOODBYE;
        while base.backlog.queue.len() > 0 && Instant::now() < deadline {
            self.send(base, connection);
            let left = deadline.saturating_duration_since(Instant::now());
            match timeout(left.min(TICK), connection.next()).await {
                Ok(MqttEvent::UnsubAck) => self.answered(base),
                Ok(MqttEvent::PubAck) => self.acknowledged(base),
                Ok(MqttEvent::Lost(_)) => break,
                Ok(_) | Err(_) => {}
            }
        }
        self.forget_session();
    }

    async fn stopped(&mut self, _: &mut Base<Outbound>) {}

    async fn finish(&mut self, base: &mut Base<Outbound>) {
        self.make_messages(base, Group::has_samples).await;
    }
}
