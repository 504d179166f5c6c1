use super::connect::{KeptSession, OpcUaSession, Way, record};
use super::discovery::{Discovery, tell_endpoints};
use super::errand::{CallErrand, Errand, ReadErrand, Reply, Step, WriteErrand};
use super::facts::{RUNNING, STATE, ServerFacts, read, value_of};
use super::frames::OpcUaFrames;
use super::group::{Group, Patience, groups_of};
use super::mapping::own as own_point;
use super::memory::{Saving, ServerMemory};
use super::node_set;
use super::part::{Part, Progress, Stage};
use super::poller::Poller;
use super::reach::Reach;
use crate::error::TrialError;
use crate::link::{
    Action, Answer, Command, CommandId, Counted, DEVICE_COMMANDS, DeviceEvent, DriverContext, End, FieldDriver,
    FrameLog, FrameRing, Full, Keeper, LinkPlan, Lost, Outcome, Outcomes, RequestView, Traffic,
};
use interlex_core::description::{Link, OpcUaLink};
use interlex_core::{OfferEvent, PointTable, Reason};
use interlex_opcua::{
    BackfillConfig, ClientSessionEvent, DataTypes, DataValue, DateTime, Follower, NodeId, NotSent, Request,
    RequestError, RequestId, Response, Scalar, StatusCode, Variant, WatchConfig,
};
use std::collections::{HashMap, VecDeque};
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tokio::time::{Instant, sleep_until};

/// Drives an OPC UA link: one session, through whose subscriptions values come.
pub(crate) struct OpcUaDriver {
    pub(super) plan: LinkPlan,
    context: DriverContext,
    frames: Arc<FrameRing<OpcUaFrames>>,
    kept: KeptSession,
    reach: Option<Reach>,
    pub(super) follower: Follower,
    pub(super) parts: Vec<Part>,
    last_part: u32,
    /// By the follower's number of the group.
    pub(super) groups: Vec<Option<Group>>,
    pub(super) poller: Poller,
    pub(super) types: DataTypes,
    pub(super) facts: ServerFacts,
    /// Whether the server works as it should.
    pub(super) is_running: bool,
    /// What was told, and may be acknowledged once every listener has it.
    pub(super) told: Vec<(u32, u32)>,
    errands: VecDeque<Wanted>,
    asked: HashMap<RequestId, Asked>,
    /// Whether requests may be sent over the session.
    is_entered: bool,
    probe_at: std::time::Instant,
    is_probing: bool,
    /// What is to be told of the server, and the certificates that were told of.
    warnings: Vec<String>,
    ending: Vec<String>,
    /// What is remembered of the server.
    memory: Arc<ServerMemory>,
    saving: Saving,
    is_unsaved: Arc<AtomicBool>,
}

struct Wanted {
    id: CommandId,
    errand: Box<dyn Errand>,
    is_sent: bool,
    /// Nothing is wanted of it before.
    wait: Option<std::time::Instant>,
}

struct Asked {
    purpose: Purpose,
    at: Instant,
    /// The newest frame when it was sent.
    after: u64,
    /// Whether its answer takes as long as the server has nothing to say.
    is_publish: bool,
}

#[derive(Clone, Copy)]
enum Purpose {
    Follow(u32),
    Find(u32),
    Poll(u32, Duration),
    Errand(CommandId),
    Probe,
}

/// So many items are asked for at a time.
const AT_ONCE: usize = 1000;
/// So long after it refused something a server is asked again.
const PAUSE: Duration = Duration::from_secs(30);
/// So long a device is given to tell something of all its points before it counts as up.
const GRACE: Duration = Duration::from_secs(5);
/// Nodes that are not there are looked for so often.
const LOOK_AGAIN: Duration = Duration::from_secs(30);
/// History is asked so often without anything new before a gap is given up.
const TRIES: u32 = 20;
/// So long a history may be behind, each time.
const HISTORY_PAUSE: Duration = Duration::from_secs(3);
const HISTORY_VALUES: u32 = 1000;
const HISTORY_NODES: usize = 20;
/// A clock that is off by more is told.
const CLOCK: i64 = 2000;
/// So long a session is given to be closed in order.
const GOODBYE: Duration = Duration::from_secs(2);

/// What a link has as one of OPC UA.
fn own(plan: &LinkPlan) -> Option<&OpcUaLink> {
    plan.link.protocol.opcua()
}

fn follower(plan: &LinkPlan) -> Follower {
    let own = own(plan);
    let timeout = own.map_or(Duration::from_secs(5), |own| own.timeout.into());
    let lifetime = own.map_or(Duration::from_secs(300), |own| own.session_timeout.into());
    let watch = WatchConfig { lifetime, timeout, at_once: AT_ONCE, pause: PAUSE };
    let (values, at_once, pause, tries) = (HISTORY_VALUES, HISTORY_NODES, HISTORY_PAUSE, TRIES);
    Follower::new((watch, BackfillConfig { values, at_once, timeout, pause, tries }), Vec::new(), [], Vec::new())
}

/// By what its server is remembered: two links may lead to one.
fn place(plan: &LinkPlan) -> String {
    format!("opcua {} {}", plan.link.settings.name, plan.link.protocol.target())
}

fn names(plan: &LinkPlan) -> Vec<String> {
    plan.devices.iter().map(|planned| planned.device.settings.name.to_string()).collect()
}

impl OpcUaDriver {
    fn timeout(&self) -> Duration {
        own(&self.plan).map_or(Duration::from_secs(5), |own| own.timeout.into())
    }

    fn keep_alive(&self) -> Duration {
        own(&self.plan).map_or(Duration::from_secs(5), |own| own.keep_alive.into())
    }

    fn patience(&self) -> Patience {
        Patience { keep_alive: self.keep_alive(), stale_periods: self.plan.link.settings.stale_periods.into() }
    }

    fn new_part(&mut self, place: usize) -> Option<Part> {
        self.last_part += 1;
        let planned = self.plan.devices.get(place)?;
        Some(Part::new(self.last_part, place, planned, &self.plan.rates))
    }

    pub(super) fn part(&mut self, id: u32) -> Option<&mut Part> {
        self.parts.iter_mut().find(|part| part.id == id)
    }

    /// Sends everything that is to be sent.
    fn send(&mut self, session: &mut OpcUaSession, out: &mut Outcomes) {
        if !self.is_entered {
            return;
        }
        let (now, timeout) = (Instant::now().into_std(), self.timeout());
        self.send_errands(session, now, out);
        while let Some((number, request, timeout)) = self.follower.poll_request(now) {
            self.ask(session, (request, timeout), Purpose::Follow(number), out);
        }
        for at in 0..self.parts.len() {
            while let Some(part) = self.parts.get_mut(at).filter(|_| self.is_entered) {
                let id = part.id;
                match part.progress(&self.facts, now) {
                    Progress::Ask(request) => self.ask(session, (*request, timeout), Purpose::Find(id), out),
                    Progress::Wait => break,
                    Progress::Ready => self.found(id, out),
                }
            }
        }
        while self.is_entered
            && let Some((number, request, late)) = self.poller.poll_request(self.facts.most.read, now)
        {
            out.push(Outcome::Sent { lateness: late });
            self.ask(session, (request, timeout), Purpose::Poll(number, late), out);
        }
        if now >= self.probe_at && !self.is_probing {
            self.is_probing = true;
            let request = read(vec![value_of(NodeId::numeric(0, STATE))]);
            self.ask(session, (request, timeout), Purpose::Probe, out);
        }
    }

    fn ask(
        &mut self,
        session: &mut OpcUaSession,
        (request, timeout): (Request, Duration),
        purpose: Purpose,
        out: &mut Outcomes,
    ) {
        let now = Instant::now();
        let wall = DateTime::from_unix_millis(self.context.clock.now().as_millis());
        let (is_publish, after) = (matches!(request, Request::Publish(_)), self.frames.newest());
        match session.session.request((now.into_std(), wall), request, timeout) {
            Ok(id) => {
                self.asked.insert(id, Asked { purpose, at: now, after, is_publish });
            }
            Err(error) => {
                if error == NotSent::Closed {
                    // The session is entered anew: until then nothing is sent.
                    self.is_entered = false;
                    self.follower.inactive();
                }
                let reply = Reply { outcome: Err(error.into()), took: Duration::ZERO, frames: Vec::new() };
                self.answered(purpose, reply, out);
            }
        }
    }

    fn send_errands(&mut self, session: &mut OpcUaSession, now: std::time::Instant, out: &mut Outcomes) {
        // Of what changes something, one at a time goes to a device.
        let (mut writing, mut at) = (Vec::<String>::new(), 0);
        let timeout = self.timeout();
        while let Some(wanted) = self.errands.get_mut(at) {
            at += 1;
            let (device, writes) = (wanted.errand.device().to_owned(), wanted.errand.writes());
            let is_behind = writes && writing.contains(&device);
            if writes {
                writing.push(device);
            }
            let waits = wanted.wait.is_some_and(|until| now < until);
            if wanted.is_sent || is_behind || waits {
                continue;
            }
            wanted.wait = None;
            let id = wanted.id;
            match wanted.errand.next(&self.facts, now) {
                Step::Ask(request) => {
                    wanted.is_sent = true;
                    self.ask(session, (*request, timeout), Purpose::Errand(id), out);
                }
                Step::Wait(until) => wanted.wait = Some(until),
                Step::Done(answer) => {
                    out.push(Outcome::Answered(id, *answer));
                    at -= 1;
                    self.errands.remove(at);
                }
            }
        }
    }

    /// The nodes of a device are known: they are watched from now on.
    fn found(&mut self, id: u32, out: &mut Outcomes) {
        let Some(part) = self.part(id) else { return };
        for (item, no_node) in part.located() {
            self.fail(id, item, Reason::OpcUa(no_node.status.0), &no_node.why, out);
        }
        let now = Instant::now().into_std();
        let patience = self.patience();
        let Some(part) = self.part(id) else { return };
        let Some(places) = part.ready() else { return };
        part.grace = part.grace.or(Some(now + GRACE));
        part.look_again = part.items.iter().any(|item| item.node.is_none()).then(|| now + LOOK_AGAIN);
        let (place, semantics) = (part.place, part.semantics());
        if !semantics.is_empty() {
            out.device(place, DeviceEvent::Semantics(semantics));
        }
        let is_new = |item: usize| places.contains(&item) && part.is_subscribed(item);
        let (groups, polled) = (groups_of(part, is_new, &patience, now), part.polled(&places));
        for (group, watched) in groups {
            let told = self.told_before(id, &group);
            let number = self.follower.add(watched, told);
            self.groups.resize_with(number + 1, || None);
            if let Some(slot) = self.groups.get_mut(number) {
                *slot = Some(group);
            }
        }
        for (period, items) in polled {
            self.poller.add(id, period, items, now);
        }
        self.show_requests(id, out);
        self.settle(id, out);
    }

    /// What was told last of items that have a history, by a run before: what came since is had from there.
    fn told_before(&self, id: u32, group: &Group) -> Vec<(usize, DataValue)> {
        let Some(part) = self.parts.iter().find(|part| part.id == id) else { return Vec::new() };
        let items = group.items.iter().enumerate().filter_map(|(at, place)| Some((at, part.items.get(*place)?)));
        let historic = items.filter(|(_, item)| item.has_history);
        historic.filter_map(|(at, item)| Some((at, self.memory.told(&item.key(&self.facts.namespaces)?)?))).collect()
    }

    /// Notes what is to be remembered of the server.
    fn note(&self, is_ended: bool) {
        let groups = || self.groups.iter().enumerate().filter_map(|(number, group)| Some((number, group.as_ref()?)));
        let subscriptions = groups().filter(|_| !is_ended).filter_map(|(_, group)| group.subscription).collect();
        let told = groups().flat_map(|(number, group)| {
            let part = self.parts.iter().find(|part| part.id == group.part);
            let items =
                group.items.iter().enumerate().filter_map(move |(at, place)| Some((at, part?.items.get(*place)?)));
            items.filter(|(_, item)| item.has_history).filter_map(move |(at, item)| {
                Some((item.key(&self.facts.namespaces)?, self.follower.last((number, at))?.clone()))
            })
        });
        self.memory.note(subscriptions, told);
    }

    /// Keeps what is to be remembered, some time after it was so.
    fn remember(&mut self, now: std::time::Instant) {
        let Some(keeper) = self.context.memories.keeper().cloned() else { return };
        if self.is_unsaved.swap(false, Ordering::Relaxed) {
            self.saving.forget();
        }
        if self.saving.wants(now) {
            self.note(false);
            self.saving.take(&self.memory, now);
        }
        if let Some(content) = self.saving.due(now) {
            self.save(keeper, content);
        }
    }

    fn save(&self, keeper: Arc<dyn Keeper>, content: Vec<u8>) {
        let (place, is_unsaved) = (place(&self.plan), Arc::clone(&self.is_unsaved));
        tokio::spawn(async move { is_unsaved.store(!keeper.save(place, content).await, Ordering::Relaxed) });
    }

    pub(super) fn show_requests(&self, id: u32, out: &mut Outcomes) {
        let Some(part) = self.parts.iter().find(|part| part.id == id) else { return };
        let groups = self.groups.iter().flatten().filter(|group| group.part == id).count();
        let requests = groups + self.poller.requests(id, self.facts.most.read);
        out.device(part.place, DeviceEvent::Requests(requests));
    }

    /// What comes of an answer.
    fn answered(&mut self, purpose: Purpose, reply: Reply, out: &mut Outcomes) {
        let now = Instant::now().into_std();
        match purpose {
            Purpose::Follow(number) => self.follower.handle_answer(now, number, reply.outcome),
            // With the next session: that says nothing of the nodes.
            Purpose::Find(id) if reply.outcome.as_ref().is_err_and(RequestError::is_of_session) => {
                self.part(id).into_iter().for_each(|part| part.interrupted(now));
            }
            Purpose::Find(id) => {
                if let Some(part) = self.parts.iter_mut().find(|part| part.id == id) {
                    part.answered(reply.outcome, &mut self.types);
                }
            }
            Purpose::Poll(number, late) => self.polled(number, reply.outcome, late, out),
            Purpose::Probe => {
                self.is_probing = false;
                self.probe_at = now + self.keep_alive();
                if let Ok(Response::Read(told)) = reply.outcome
                    && let Some(Some(Variant::Scalar(Scalar::Int32(state)))) =
                        told.results.first().map(|told| &told.value)
                {
                    self.state_is(*state, out);
                }
            }
            Purpose::Errand(id) => {
                if let Some(wanted) = self.errands.iter_mut().find(|wanted| wanted.id == id) {
                    wanted.is_sent = false;
                    wanted.errand.answered(reply, now);
                }
            }
        }
    }

    /// An answer came over the session.
    fn take(
        &mut self,
        id: RequestId,
        answer: Result<Box<Response>, RequestError>,
        out: &mut Outcomes,
    ) -> Result<(), Lost> {
        let Some(asked) = self.asked.remove(&id) else { return Ok(()) };
        let took = asked.at.elapsed();
        let counted = match &answer {
            Ok(_) => Some(Counted::Answer),
            Err(RequestError::Fault(status)) => Some(Counted::Refusal(Reason::OpcUa(status.code().0))),
            Err(RequestError::Timeout) => Some(Counted::Timeout),
            // Its session is at its end, and nothing is wrong with what was asked.
            Err(RequestError::Lost) => None,
            Err(_) => Some(Counted::Malformed),
        };
        out.is_alive |= matches!(counted, Some(Counted::Answer | Counted::Refusal(_)));
        let timeouts = u64::from(matches!(counted, Some(Counted::Timeout)) && !asked.is_publish);
        let refusals = u64::from(matches!(counted, Some(Counted::Refusal(_))));
        let answers = u64::from(matches!(counted, Some(Counted::Answer)));
        out.push(Outcome::Traffic(Traffic { requests: 1, answers, refusals, timeouts, ..Traffic::default() }));
        if let Some(counted) = counted.filter(|_| !asked.is_publish) {
            let devices = self.devices_of(asked.purpose);
            out.push(Outcome::Done { devices, counted, took });
        }
        if matches!(asked.purpose, Purpose::Probe) && matches!(answer, Err(RequestError::Timeout)) {
            return Err(Lost("the server does not answer".to_owned()));
        }
        let frames = match asked.purpose {
            Purpose::Errand(_) => self.frames.pick(asked.after, |frame| frame.is_of(id.0)),
            _ => Vec::new(),
        };
        self.answered(asked.purpose, Reply { outcome: answer.map(|answer| *answer), took, frames }, out);
        Ok(())
    }

    /// The devices that a request is about, by their places.
    fn devices_of(&self, purpose: Purpose) -> Arc<[usize]> {
        let name = match purpose {
            Purpose::Find(id) => {
                return self.parts.iter().filter(|part| part.id == id).map(|part| part.place).collect();
            }
            Purpose::Errand(id) => {
                self.errands.iter().find(|wanted| wanted.id == id).map(|wanted| wanted.errand.device())
            }
            Purpose::Follow(_) | Purpose::Poll(..) | Purpose::Probe => None,
        };
        let is_of = |part: &&Part| name.is_none_or(|name| part.name() == name);
        self.parts.iter().filter(is_of).map(|part| part.place).collect()
    }

    fn state_is(&mut self, state: i32, out: &mut Outcomes) {
        let is_running = state == RUNNING;
        if self.is_running && !is_running {
            let why = format!("the server says that its state is {}", state_words(state));
            self.parts.iter().for_each(|part| out.device(part.place, DeviceEvent::Error(why.clone())));
        }
        self.is_running = is_running;
    }

    fn give_up(&mut self, at: usize, why: &str, out: &mut Outcomes) {
        if let Some(mut wanted) = self.errands.remove(at) {
            let target = self.plan.link.protocol.target();
            let end = End { target: &target, why, is_sent: wanted.is_sent };
            out.push(Outcome::Answered(wanted.id, wanted.errand.given_up(&end)));
        }
    }

    /// Does what time alone makes due.
    fn handle_time(&mut self, out: &mut Outcomes) {
        let now = Instant::now().into_std();
        self.follower.handle_timeout(now);
        self.remember(now);
        self.confirm(now, out);
        for id in self.parts.iter().map(|part| part.id).collect::<Vec<_>>() {
            self.settle(id, out);
        }
    }

    fn deadline(&self) -> Option<std::time::Instant> {
        let waits = self.errands.iter().filter_map(|wanted| wanted.wait);
        let confirmations = self.groups.iter().flatten().map(|group| group.confirm_at);
        let graces = self.parts.iter().filter(|part| !part.is_up).filter_map(|part| part.grace);
        let absent = self.parts.iter().filter_map(|part| match part.stage {
            Stage::Absent(after) => after,
            Stage::Watched => part.look_again,
            _ => None,
        });
        let probe = (!self.is_probing).then_some(self.probe_at);
        let saving = self.context.memories.keeper().and_then(|_| self.saving.deadline());
        let own = waits.chain(confirmations).chain(graces).chain(absent).chain(probe).chain(saving);
        own.chain(self.follower.poll_timeout()).chain(self.poller.poll_timeout()).min()
    }

    /// Begins anew with the devices that have other nodes than before.
    fn begin_anew(&mut self, id: u32) {
        for (number, group) in self.groups.iter_mut().enumerate() {
            if group.take_if(|group| group.part == id).is_some() {
                self.follower.remove(number);
            }
        }
        self.poller.remove(id);
        if let Some(part) = self.part(id) {
            part.begin_anew(None);
        }
    }

    /// Tells what went over the connection since the last time.
    fn count(&mut self, session: &mut OpcUaSession, out: &mut Outcomes) {
        record(&self.frames, &mut session.session);
        let (sent, received) = session.connection.bytes();
        let before = std::mem::replace(&mut session.counted, (sent, received));
        let (bytes_sent, bytes_received) = (sent - before.0, received - before.1);
        // What went is told with what comes of it: nobody wakes for bytes alone.
        if !out.is_empty() && bytes_sent + bytes_received > 0 {
            out.push(Outcome::Traffic(Traffic { bytes_sent, bytes_received, ..Traffic::default() }));
        } else {
            session.counted = before;
        }
    }
}

/// Source: OPC 10000-5, section 12.6.
fn state_words(state: i32) -> String {
    let known =
        ["Running", "Failed", "NoConfiguration", "Suspended", "Shutdown", "Test", "CommunicationFault", "Unknown"];
    let word = usize::try_from(state).ok().and_then(|place| known.get(place));
    word.map_or_else(|| state.to_string(), |word| (*word).to_owned())
}

impl FieldDriver for OpcUaDriver {
    type Session = OpcUaSession;

    fn new(plan: LinkPlan, context: DriverContext) -> Self {
        let frames = OpcUaFrames::default();
        frames.change_devices(names(&plan));
        let mut driver = Self {
            frames: Arc::new(FrameRing::new(frames, plan.links, Arc::clone(&context.clock))),
            memory: context.memories.of(&place(&plan)),
            context,
            kept: KeptSession::default(),
            reach: None,
            follower: follower(&plan),
            parts: Vec::new(),
            last_part: 0,
            groups: Vec::new(),
            poller: Poller::default(),
            types: DataTypes::default(),
            facts: ServerFacts::default(),
            is_running: true,
            told: Vec::new(),
            errands: VecDeque::new(),
            asked: HashMap::new(),
            probe_at: Instant::now().into_std(),
            is_probing: false,
            is_entered: false,
            warnings: Vec::new(),
            ending: Vec::new(),
            saving: Saving::default(),
            is_unsaved: Arc::default(),
            plan,
        };
        driver.parts = (0..driver.plan.devices.len()).filter_map(|place| driver.new_part(place)).collect();
        driver
    }

    fn without_session(
        link: &Link,
        context: &DriverContext,
        action: Action,
    ) -> Result<Pin<Box<dyn Future<Output = Answer> + Send>>, Action> {
        let Action::Discover(what) = action else { return Err(action) };
        let what = what.downcast::<Discovery>().map_err(Action::Discover)?;
        let target = link.protocol.target();
        match *what {
            Discovery::Endpoints(link, events) => {
                let reach = Reach::new(&link, &context.memories);
                Ok(Box::pin(async move {
                    let told = tell_endpoints(&link, &reach, &events).await;
                    Answer::Found(match told {
                        Ok(()) => Ok(Box::new(Vec::<OfferEvent>::new())),
                        Err(why) => Err(TrialError::Connect { target, why }),
                    })
                }))
            }
            Discovery::NodeSet(wanted, file) => Ok(Box::pin(async move {
                let told = tokio::task::spawn_blocking(move || node_set::tell(&file, *wanted)).await;
                let told = told.unwrap_or_else(|error| Err(error.to_string()));
                Answer::Found(told.map(|()| Box::new(Vec::<OfferEvent>::new()) as _).map_err(TrialError::Request))
            })),
            other => Err(Action::Discover(Box::new(other))),
        }
    }

    fn words(reason: Reason) -> String {
        super::words::of(reason)
    }

    fn frames(&self) -> Arc<dyn FrameLog> {
        Arc::clone(&self.frames) as Arc<dyn FrameLog>
    }

    fn line(&self) -> Option<(Duration, Duration)> {
        None
    }

    fn begin(&mut self, _: &mut Outcomes) {}

    fn connect(&mut self) -> impl Future<Output = Result<OpcUaSession, Lost>> + Send + 'static {
        let memories = &self.context.memories;
        let way = own(&self.plan).map(|link| Way {
            link: link.clone(),
            reach: self.reach.get_or_insert_with(|| Reach::new(link, memories)).clone(),
            name: self.plan.link.settings.name.to_string(),
            identity: memories.identity().clone(),
            kept: Arc::clone(&self.kept),
            memory: Arc::clone(&self.memory),
            place: place(&self.plan),
            keeper: memories.keeper().cloned(),
            frames: Arc::clone(&self.frames),
            clock: Arc::clone(&self.context.clock),
        });
        async move {
            match way {
                Some(way) => way.enter().await,
                None => Err(Lost("the link speaks another protocol".to_owned())),
            }
        }
    }

    fn connected(&mut self, session: &mut OpcUaSession) {
        let now = Instant::now().into_std();
        self.asked.clear();
        self.errands.iter_mut().for_each(|wanted| wanted.is_sent = false);
        let has_other_names = self.facts.namespaces != session.facts.namespaces;
        let ahead = session.facts.clock_ahead.filter(|ahead| ahead.abs() > CLOCK);
        let is_told = self.facts.clock_ahead.is_some_and(|ahead| ahead.abs() > CLOCK);
        let clock = ahead.filter(|_| !is_told).map(|ahead| {
            let (seconds, way) = (ahead.unsigned_abs() / 1000, if ahead > 0 { "ahead of" } else { "behind" });
            format!("the clock of the server is {seconds} s {way} ours: source times are its own")
        });
        self.warnings =
            session.ending.iter().filter(|ending| !self.ending.contains(ending)).cloned().chain(clock).collect();
        self.ending.clone_from(&session.ending);
        self.facts = session.facts.clone();
        self.is_running = self.facts.state.is_none_or(|state| state == RUNNING);
        (self.probe_at, self.is_probing) = (now + self.keep_alive(), false);
        if has_other_names {
            self.types = DataTypes::default();
            for id in self.parts.iter().map(|part| part.id).collect::<Vec<_>>() {
                self.begin_anew(id);
            }
        }
        let grace = now + GRACE;
        for part in &mut self.parts {
            (part.is_up, part.is_silent) = (false, false);
            // What was being found was asked over the connection before.
            if !matches!(part.stage, Stage::Watched) {
                part.interrupted(now);
            }
            part.grace = matches!(part.stage, Stage::Watched).then_some(grace);
        }
        self.is_entered = true;
        self.follower.adopt(self.memory.take_orphans());
        self.follower.activated(now, session.is_new);
    }

    async fn next(&mut self, session: &mut OpcUaSession, out: &mut Outcomes) -> Result<(), Lost> {
        for (subscription, number) in self.told.drain(..) {
            self.follower.taken(subscription, number);
        }
        for warning in std::mem::take(&mut self.warnings) {
            tracing::warn!(link = self.plan.link.settings.name.as_str(), warning);
            self.parts.iter().for_each(|part| out.device(part.place, DeviceEvent::Error(warning.clone())));
        }
        self.handle_time(out);
        self.listen(out);
        self.send(session, out);
        self.count(session, out);
        // What was told is carried on before anything is waited for.
        if !out.is_empty() {
            return Ok(());
        }
        let due = self.deadline();
        let event = tokio::select! {
            biased;
            event = session.connection.event(&mut session.session) => event,
            () = until(due) => return Ok(()),
        };
        record(&self.frames, &mut session.session);
        match event {
            Ok(ClientSessionEvent::Answered(id, answer)) => {
                let taken = self.take(id, answer, out);
                self.listen(out);
                taken
            }
            Ok(ClientSessionEvent::Active { is_new }) => {
                self.is_entered = true;
                self.follower.activated(Instant::now().into_std(), is_new);
                Ok(())
            }
            Ok(ClientSessionEvent::Down(error)) => Err(Lost(error.to_string())),
            Err(error) => Err(Lost(error.to_string())),
        }
        .inspect_err(|_| session.is_down = true)
    }

    fn submit(&mut self, _: &mut OpcUaSession, command: Command, out: &mut Outcomes) -> Result<(), Full> {
        let Command { id, action } = command;
        let errand: Result<Box<dyn Errand>, Answer> = match action {
            Action::Read(read) => Ok(Box::new(ReadErrand::new(*read))),
            Action::Write(write) => match own_point(&write.point).arguments {
                Some(_) => CallErrand::new(*write).map(|errand| Box::new(errand) as _),
                None => WriteErrand::new(*write).map(|errand| Box::new(errand) as _),
            }
            .map_err(|error| Answer::Written(Err(error))),
            Action::Discover(what) => what
                .downcast::<Discovery>()
                .map(|what| what.errand())
                .map_err(|_| Answer::Found(Err(TrialError::Request("the link speaks OPC UA".to_owned())))),
        };
        match errand {
            Ok(errand) => {
                let of_device = self.errands.iter().filter(|wanted| wanted.errand.device() == errand.device());
                if of_device.count() >= DEVICE_COMMANDS {
                    return Err(Full);
                }
                self.errands.push_back(Wanted { id, errand, is_sent: false, wait: None });
            }
            Err(answer) => out.push(Outcome::Answered(id, answer)),
        }
        Ok(())
    }

    fn cancel(&mut self, id: CommandId, why: &str, out: &mut Outcomes) {
        if let Some(at) = self.errands.iter().position(|wanted| wanted.id == id) {
            self.give_up(at, why, out);
        }
    }

    /// A device that differs begins anew; the others go on with their subscriptions.
    fn change(&mut self, plan: LinkPlan, out: &mut Outcomes) {
        self.frames.words().change_devices(names(&plan));
        self.plan = plan;
        let mut before = std::mem::take(&mut self.parts);
        for place in 0..self.plan.devices.len() {
            let Some(new) = self.new_part(place) else { continue };
            let known = before.iter().position(|part| part.is_same(&new));
            match known.map(|at| before.swap_remove(at)) {
                Some(mut known) => {
                    let planned = self.plan.devices.get(place);
                    let is_other = planned.is_some_and(|planned| known.redescribe(place, planned));
                    let id = known.id;
                    self.parts.push(known);
                    self.show_requests(id, out);
                    if is_other {
                        self.tell_again(id, out);
                    }
                }
                None => self.parts.push(new),
            }
        }
        for gone in before {
            self.begin_anew(gone.id);
        }
    }

    fn lost(&mut self, mut session: OpcUaSession, why: &str, out: &mut Outcomes) {
        self.follower.inactive();
        for asked in std::mem::take(&mut self.asked).into_values() {
            if matches!(asked.purpose, Purpose::Follow(_)) {
                let reply = Reply { outcome: Err(RequestError::Lost), took: Duration::ZERO, frames: Vec::new() };
                self.answered(asked.purpose, reply, out);
            }
        }
        self.listen(out);
        self.note(!session.is_down);
        self.poller.lost(Instant::now().into_std());
        self.groups.iter_mut().flatten().for_each(Group::lost);
        for part in &mut self.parts {
            part.lost();
        }
        while !self.errands.is_empty() {
            self.give_up(0, why, out);
        }
        if session.is_down {
            session.session.disconnected();
            *self.kept.lock() = Some(session.session);
        } else {
            // Nobody wants it any more; what was told is told to the end.
            if let Some(keeper) = self.context.memories.keeper().cloned() {
                self.save(keeper, self.memory.bytes());
            }
            let OpcUaSession { connection, mut session, .. } = session;
            tokio::spawn(async move { connection.close(&mut session, true, GOODBYE).await });
        }
    }

    fn activity(&self, points: &PointTable) -> Vec<RequestView> {
        self.views(points)
    }

    fn relearn(&mut self, device: Option<usize>) {
        let is_meant = |part: &&Part| device.is_none_or(|place| part.place == place);
        for id in self.parts.iter().filter(is_meant).map(|part| part.id).collect::<Vec<_>>() {
            self.begin_anew(id);
        }
    }
}

async fn until(at: Option<std::time::Instant>) {
    match at {
        Some(at) => sleep_until(at.into()).await,
        None => std::future::pending().await,
    }
}

/// What a server says that does not watch items, or no more of them.
pub(super) const NOT_WATCHED: [StatusCode; 5] = [
    StatusCode::BAD_SERVICE_UNSUPPORTED,
    StatusCode::BAD_TOO_MANY_SUBSCRIPTIONS,
    StatusCode::BAD_TOO_MANY_MONITORED_ITEMS,
    StatusCode::BAD_NOT_IMPLEMENTED,
    StatusCode::BAD_NOT_SUPPORTED,
];
