use super::health::Health;
use super::metric::{Announced, Sources};
use super::waiting::{Births, HostDoubt};
use crate::buffer::Backlog;
use crate::command::{Asker, CommandResult};
use crate::mqtt::{Connection, Message, Will};
use crate::request::{Published, UplinkRequest, WouldLose};
use crate::session::{Base, Kind};
use crate::start::{LinkHealth, UplinkStart};
use interlex_busy::aside;
use interlex_core::description::SparkplugUplink;
use interlex_core::{
    CommandOutcome, FieldEvent, Inventory, PointIndex, PointTable, Sample, SampleKind, UplinkState, beginning,
};
use interlex_sparkplug::{EdgeNode, EdgeNodeEvent, Outgoing};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;

/// What a Sparkplug edge node makes of a session: births, data of devices that are born, deaths.
pub(crate) struct SparkplugNode {
    pub(super) own: SparkplugUplink,
    pub(super) sources: Sources,
    pub(super) links: Arc<[String]>,
    /// How the links are.
    pub(super) link_health: LinkHealth,
    pub(super) announced: Announced,
    pub(super) node: EdgeNode,
    pub(super) health: Health,
    pub(super) health_at: Instant,
    /// The newest usable sample of each point of devices that are not born yet, by slot.
    unborn: HashMap<usize, HashMap<PointIndex, Sample>>,
    /// What was published last of the points that somebody asks about.
    pub(super) published: HashMap<PointIndex, Option<Published>>,
    pub(super) outbox: VecDeque<Outgoing>,
    /// The place of the broker of the last session.
    last_broker: Option<usize>,
    pub(super) births: Births,
    pub(super) doubt: HostDoubt,
}

impl SparkplugNode {
    /// Prepares the node: reads what it must remember.
    pub(crate) async fn new(start: UplinkStart, own: SparkplugUplink) -> (Base<Sample>, Self) {
        let UplinkStart { gateway, uplink, inventory, status, clock, links, words, store, commands, requests, .. } =
            start;
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
        let place = (gateway.as_str(), name);
        let points = inventory.points;
        let backlog =
            Backlog::new(place, &uplink.journal, points, store.as_ref(), settle_after, Arc::clone(&clock)).await;
        let history_share = uplink.journal.history_share;
        let now = clock.now();
        let base = Base::new((gateway, uplink), (status, clock, store), backlog, history_share, (commands, requests));
        let mut kind = Self {
            own,
            sources: Sources { latest: inventory.latest, health: Vec::new(), results: HashMap::new(), words },
            links: inventory.links,
            link_health: links,
            announced: Announced::default(),
            node,
            health: Health::new(now),
            health_at: Instant::now(),
            unborn: HashMap::new(),
            published: HashMap::new(),
            outbox: VecDeque::new(),
            last_broker: None,
            births: Births::default(),
            doubt: HostDoubt::new(host_known),
        };
        aside(|| kind.announce(&base, &PointTable::default()));
        (base, kind)
    }

    /// Tells the node what its devices are: those that changed are born again, those that are gone die.
    fn announce(&mut self, base: &Base<Sample>, before: &PointTable) {
        let points = Arc::clone(&base.backlog.context);
        self.announced = Announced::new(&points, base.uplink.broker.select.as_ref());
        for slot in (0..points.slots()).filter(|slot| !points.is_same(before, *slot)) {
            self.announce_device(base, slot);
        }
    }

    fn announce_device(&mut self, base: &Base<Sample>, slot: usize) {
        let now = base.now();
        let spec = self.announced.spec(&base.backlog.context, slot, base.uplink.broker.commands);
        let current = self.sources.current(base, now);
        if self.node.set_device(now.as_unsigned_millis(), slot, spec, &current) {
            self.remember_births(base, |device| device == slot);
        }
    }

    fn take_samples(&mut self, base: &mut Base<Sample>, samples: &[Sample]) {
        for sample in samples.iter().filter(|sample| self.announced.place(sample.point).is_some()) {
            let Some(device) = base.backlog.context.get(sample.point).map(|info| info.device_slot()) else { continue };
            let is_born = self.node.is_device_born(device);
            match sample.kind {
                _ if !self.node.is_born() => base.backlog.push_history(device, sample),
                SampleKind::Past => base.backlog.push_history(device, sample),
                _ if is_born => base.backlog.push_live(device, sample),
                // It follows after the birth, which tells the state only.
                SampleKind::Event => base.backlog.push_history(device, sample),
                // The DBIRTH that follows tells the newest. What is bad is the DDEATH's to tell.
                SampleKind::Current if !sample.quality.is_bad() => {
                    self.unborn.entry(device).or_default().insert(sample.point, sample.clone());
                }
                SampleKind::Current => {}
            }
        }
    }

    /// A device may be born now: what was usable of it before, and is not what its birth told, follows.
    pub(super) fn tell_unborn(&mut self, base: &mut Base<Sample>) {
        let node = &self.node;
        for (device, samples) in self.unborn.extract_if(|device, _| node.is_device_born(*device)) {
            let mut samples: Vec<_> = samples.into_values().collect();
            samples.sort_by_key(|sample| sample.source_time);
            for sample in samples {
                let told = self.sources.latest.read(sample.point);
                let is_told = told.is_some_and(|reading| reading.source_time == sample.source_time);
                if !is_told {
                    base.backlog.push_history(device, &sample);
                }
            }
        }
    }

    /// The session ends: what would have followed births waits for those of the next one.
    pub(super) fn keep_unborn(&mut self, base: &mut Base<Sample>) {
        for (device, samples) in self.unborn.drain() {
            samples.values().for_each(|sample| base.backlog.push_history(device, sample));
        }
    }

    /// Hands the outbox over; `false` when the connection takes no more for now.
    pub(super) fn flush(&mut self, base: &Base<Sample>, connection: &Connection) -> bool {
        let mut messages = 0;
        while let Some(next) = self.outbox.front() {
            let message = Message { topic: &next.topic, qos: 0, retain: false };
            if connection.publish(message, next.payload.clone()).is_err() {
                break;
            }
            self.outbox.pop_front();
            messages += 1;
        }
        base.has_published(messages);
        self.outbox.is_empty()
    }

    /// Takes over what the node has to say.
    pub(super) fn collect(&mut self) {
        self.outbox.extend(std::iter::from_fn(|| self.node.poll_transmit()));
    }
}

impl Kind for SparkplugNode {
    type Item = Sample;

    fn begin(&mut self, base: &mut Base<Sample>, broker: usize) -> Option<Will> {
        if self.last_broker.replace(broker).is_some_and(|last| last != broker) {
            // What the host had of the other broker is not known here.
            base.backlog.nobody_heard();
        }
        let will = self.node.connect_to(base.now().as_unsigned_millis(), broker);
        self.outbox.clear();
        self.births.begin();
        self.doubt.begin();
        Self::keep_bd_seq(base, will.bd_seq);
        Some(Will { topic: will.topic, payload: will.payload })
    }

    fn subscriptions(&self) -> Vec<String> {
        self.node.subscriptions()
    }

    fn subscribed(&mut self, base: &mut Base<Sample>) {
        self.node.handle_subscribed();
        if self.node.is_awaiting_host() {
            self.doubt.await_host();
            base.enter(UplinkState::Waiting);
            tracing::info!(uplink = base.name(), "connected; waiting for the primary host");
        }
    }

    fn answered(&mut self, base: &mut Base<Sample>) {
        base.asked_at = None;
        let (_, delivered) = base.backlog.proven();
        base.pace.proven(Instant::now());
        base.has_delivered(delivered);
    }

    /// Everything is published at QoS 0.
    fn acknowledged(&mut self, _: &mut Base<Sample>) {}

    fn message(&mut self, base: &mut Base<Sample>, topic: &str, payload: &[u8], is_retained: bool) {
        if self.node.state_topic().as_deref() == Some(topic) {
            self.node.handle_state(base.now().as_unsigned_millis(), payload, is_retained);
            self.keep_host_known(base);
        } else if is_retained {
            // It would be carried out again at every connection.
            base.commands.refused(base.name(), &format!("{topic}: retained commands are not taken"));
        } else {
            let now = base.now();
            let current = self.sources.current(base, now);
            self.node.handle_message(topic, payload, &current);
        }
    }

    fn has_host(&mut self, base: &mut Base<Sample>) -> bool {
        let mut has_host = true;
        while let Some(event) = self.node.poll_event() {
            match event {
                EdgeNodeEvent::BirthDue => self.births.ask(Instant::now()),
                EdgeNodeEvent::HostConfirmed => {
                    tracing::info!(uplink = base.name(), "the primary host is back");
                    base.backlog.nobody_heard();
                }
                EdgeNodeEvent::HostAlive => {
                    let settled = base.backlog.settle(true);
                    base.has_delivered(settled);
                }
                EdgeNodeEvent::HostRenewed => base.backlog.nobody_heard(),
                // With one broker, a session that waits goes on waiting.
                EdgeNodeEvent::HostOffline => {
                    base.backlog.nobody_heard();
                    base.asked_at = None;
                    has_host = self.node.is_awaiting_host() && !base.brokers.has_others();
                }
                EdgeNodeEvent::Command { device, metric, value } => self.command(base, device, metric, value),
                EdgeNodeEvent::CommandRefused { device, why } => {
                    let why = beginning(&why);
                    base.commands.refused(base.name(), &why);
                    tracing::warn!(uplink = base.name(), why, "command refused");
                    if let Some(number) = device {
                        let outcome = CommandOutcome::Refused(why);
                        self.tell_result(base, number, &outcome.to_string());
                    }
                }
            }
        }
        has_host
    }

    async fn take_in(&mut self, base: &mut Base<Sample>, event: FieldEvent) {
        let now = base.now();
        let at = now.as_unsigned_millis();
        match event {
            FieldEvent::Samples(samples) => self.take_samples(base, &samples),
            FieldEvent::Keep(receipt) => base.backlog.keep(receipt),
            FieldEvent::DeviceUp(device) => {
                let current = self.sources.current(base, now);
                if self.node.device_up(at, device, &current) {
                    self.remember_births(base, |born| born == device);
                }
                self.tell_unborn(base);
            }
            FieldEvent::DeviceDown(device) => self.node.device_down(at, device),
            FieldEvent::Retyped(device) => {
                self.announced.renew(&base.backlog.context, device, base.uplink.broker.select.as_ref());
                self.announce_device(base, device);
                base.backlog.drop_unknown();
            }
            FieldEvent::Revised(Inventory { points, latest, links, .. }) => {
                let before = std::mem::replace(&mut base.backlog.context, points);
                (self.sources.latest, self.links) = (latest, links);
                aside(|| self.announce(base, &before));
                base.backlog.drop_unknown();
            }
        }
    }

    fn result(&mut self, base: &mut Base<Sample>, result: &CommandResult) {
        if let Asker::Device(slot) = result.asker {
            self.tell_result(base, slot, &result.words);
        }
    }

    fn answer(&mut self, base: &mut Base<Sample>, request: UplinkRequest) {
        // Nobody may wait for the answer any more.
        match request {
            UplinkRequest::WouldLose(points, answer) => {
                let certainly = base.backlog.count_unknown(&points);
                let _ = answer.send(WouldLose { certainly, perhaps: base.backlog.cold() });
            }
            UplinkRequest::Published(point, answer) => {
                let _ = answer.send(self.published.entry(point).or_default().clone());
            }
            UplinkRequest::Births(answer) => _ = answer.send(self.ask_births()),
            // There are no templates here.
            UplinkRequest::Messages(answer) => _ = answer.send(Vec::new()),
            UplinkRequest::Buffer(_) | UplinkRequest::Purge(_) => {}
        }
    }

    async fn tick(&mut self, base: &mut Base<Sample>) {
        let settled = base.backlog.settle(false);
        base.has_delivered(settled);
        base.maintain(self.node.is_born()).await;
    }

    fn tick_connected(&mut self, base: &mut Base<Sample>, connection: &Connection) -> bool {
        self.tell_health(base);
        self.ask(base, connection);
        !(base.brokers.has_others() && self.doubt.has_awaited_host())
    }

    fn send(&mut self, base: &mut Base<Sample>, connection: &Connection) {
        self.settle_doubt(base);
        self.birth_if_due(base);
        self.send_live(base, connection);
        self.send_history(base, connection);
    }

    fn is_online(&self) -> bool {
        self.node.is_born()
    }

    fn lost(&mut self, base: &mut Base<Sample>) {
        self.node.handle_connection_lost();
        self.keep_unborn(base);
        base.backlog.queue.nothing_arrived();
        base.backlog.drop_unknown();
        self.outbox.clear();
        base.asked_at = None;
    }

    /// Sends what is left, publishes the death where there was a birth, and waits for the proof that the broker has read it.
    async fn part(&mut self, base: &mut Base<Sample>, connection: &mut Connection, has_host: bool) {
        self.part_in_order(base, connection, has_host).await;
    }

    async fn stopped(&mut self, base: &mut Base<Sample>) {
        self.forget_host(base).await;
    }

    async fn finish(&mut self, _: &mut Base<Sample>) {}
}
