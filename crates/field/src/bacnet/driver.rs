use super::discovery::Discovery;
use super::endpoint::{Inbound, Membership, Seat};
use super::errand::{Errand, Identify, Offers, ReadErrand, Sought, WriteErrand};
use super::frames::{BacnetFrame, BacnetFrames, peer};
use super::memory::DeviceMemory;
use super::remote::{Asking, Remote};
use super::scan::Scan;
use super::{ede, interface};
use crate::error::TrialError;
use crate::link::{
    Action, Answer, Command, CommandId, DEVICE_COMMANDS, DeviceEvent, DriverContext, FieldDriver, FrameFilter,
    FrameLog, FrameRing, FrameView, Full, LinkPlan, Lost, Memories, Outcome, Outcomes, RequestView, Traffic,
    WriteError,
};
use interlex_bacnet::{
    Answer as Told, Audience, ConfirmedService, Error, ForeignDevice, Now, RequestId, UnconfirmedService, WhoIs,
};
use interlex_core::description::{BacnetDevice, BacnetIpLink, Device, Link};
use interlex_core::{OfferEvent, PointTable, Reason};
use std::collections::{HashMap, VecDeque};
use std::pin::Pin;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::time::sleep_until;

/// Drives a BACnet link: one port, and all devices that are spoken with from there.
pub(crate) struct BacnetDriver {
    plan: LinkPlan,
    context: DriverContext,
    frames: Arc<FrameRing<BacnetFrames>>,
    remotes: Vec<Remote>,
    scans: Vec<Scan>,
    /// Whose answer is owed for which request.
    asked: HashMap<RequestId, Owed>,
    /// What tells devices that are no part of the link any more that nobody wants to hear their changes.
    farewells: Vec<(interlex_bacnet::Peer, ConfirmedService, Vec<u8>, interlex_bacnet::Terms)>,
    traffic: Traffic,
    is_registered: bool,
    /// Other devices than before are to be heard.
    is_changed: bool,
    /// Where the next look begins, so that nobody comes last always.
    turn: usize,
}

/// Whose request it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Owed {
    Remote { instance: u32, is_guest: bool },
    Scan(CommandId),
}

/// A link's place at the port where it speaks.
pub(crate) struct BacnetSession {
    seat: Seat,
}

/// A network behind a router, which takes a few requests at a time.
type Routed = (std::net::SocketAddrV4, u16);

fn own(plan: &LinkPlan) -> Option<&BacnetIpLink> {
    plan.link.protocol.bacnet()
}

/// By which a device knows the subscriptions of a link: the same after a restart, and never 0.
fn process(link: &str) -> u32 {
    // FNV-1a.
    link.bytes().fold(0x811C_9DC5_u32, |hash, octet| (hash ^ u32::from(octet)).wrapping_mul(0x0100_0193)).max(1)
}

/// Under which name something is kept of a device.
fn kept(instance: u32) -> String {
    format!("bacnet device {instance}")
}

impl BacnetDriver {
    /// Keeps what is remembered of devices.
    fn keep(&mut self, now: Instant) {
        let Some(keeper) = self.context.memories.keeper().cloned() else { return };
        for remote in &mut self.remotes {
            let Some(bytes) = remote.poll_kept(now) else { continue };
            let (keeper, place) = (Arc::clone(&keeper), kept(remote.instance));
            // What is not kept now is kept a little later.
            tokio::spawn(async move { keeper.save(place, bytes).await });
        }
    }

    fn now(&self) -> Now {
        let utc_millis = self.context.clock.now().as_millis();
        Now { instant: tokio::time::Instant::now().into_std(), utc_millis }
    }

    fn remotes_of(plan: &LinkPlan, memories: &Memories, now: Instant) -> Vec<Remote> {
        let Some(own) = own(plan) else { return Vec::new() };
        let terms = (own.port, Duration::from(own.timeout), process(plan.link.settings.name.as_str()));
        let remote = |(place, planned): (usize, &crate::link::PlannedDevice)| {
            let instance = planned.device.protocol.bacnet()?.instance;
            let memory = memories.of::<DeviceMemory>(&kept(instance));
            Remote::new(place, planned.clone(), &plan.rates, terms, memory, now)
        };
        plan.devices.iter().enumerate().filter_map(remote).collect()
    }

    fn show_devices(&self) {
        let known = |remote: &Remote| Some((remote.binding.peer()?, remote.instance, remote.name().to_owned()));
        self.frames.words().change_devices(self.remotes.iter().filter_map(known).collect());
    }

    /// Whose I-Am is to be heard.
    fn want(&self, session: &BacnetSession) {
        let instances = self.remotes.iter().map(|remote| remote.instance);
        session.seat.want(instances, !self.scans.is_empty());
    }

    fn take(&mut self, session: &BacnetSession, inbound: Inbound, now: Now, out: &mut Outcomes) {
        match inbound {
            Inbound::Frame { is_sent, peer, octets } => {
                let bytes = u64::try_from(octets.len()).unwrap_or_default();
                if is_sent {
                    self.traffic.bytes_sent += bytes;
                } else {
                    self.traffic.bytes_received += bytes;
                }
                self.frames.record(BacnetFrame::new(is_sent, peer, octets));
            }
            Inbound::Answered { id, took, outcome } => self.answered(session, id, took, outcome, now, out),
            Inbound::IAm { from, told } => {
                for scan in &mut self.scans {
                    scan.heard(from, told);
                }
                let before: Vec<_> = self.remotes.iter().map(|remote| remote.binding.peer()).collect();
                for remote in &mut self.remotes {
                    remote.heard_i_am(now.instant, from, &told, out);
                }
                if before.into_iter().ne(self.remotes.iter().map(|remote| remote.binding.peer())) {
                    self.show_devices();
                }
            }
            Inbound::Changed { from, told, id } => {
                let remote = self.remotes.iter_mut().find(|remote| remote.is_of(from, &told));
                let answer = match remote {
                    Some(remote) => {
                        self.traffic.answers += u64::from(id.is_none());
                        remote.changed(now.instant, &told, out);
                        Told::Simple
                    }
                    None => Told::Error(Error::UNKNOWN_SUBSCRIPTION),
                };
                if let Some(id) = id {
                    session.seat.answer(now.instant, &id, &answer);
                }
            }
            Inbound::Event { from, told } => {
                let is_it =
                    |remote: &&Remote| remote.instance == told.device.instance() && remote.binding.peer() == Some(from);
                if let Some(place) = self.remotes.iter().find(is_it).and_then(|remote| remote.place) {
                    let message = told.message.as_deref().map(|message| format!(": {message}")).unwrap_or_default();
                    let why = format!("{}: {} is {} now{message}", peer(told.device.instance()), told.object, told.to);
                    out.device(place, DeviceEvent::Error(why));
                }
            }
            Inbound::NotRouted { address, network, reason } => {
                for remote in &mut self.remotes {
                    remote.not_routed(address, network, reason, out);
                }
            }
            Inbound::Router { address, networks } => {
                self.scans.iter_mut().for_each(|scan| scan.routed(address, &networks));
            }
            Inbound::Registered(is_registered) => {
                self.is_registered = is_registered;
                if is_registered {
                    // Who was asked for before was not heard.
                    self.remotes.iter_mut().for_each(|remote| remote.ask_anew(now.instant));
                } else {
                    let why = "the broadcast management device has not taken us on: devices are not found";
                    self.tell_all(why, out);
                }
            }
            Inbound::InstanceTaken { instance, by } => {
                let why =
                    format!("our own instance {instance} is that of the device at {by}: nobody is told who we are");
                self.tell_all(&why, out);
            }
            Inbound::Garbled => self.traffic.noise_bytes += 1,
        }
    }

    fn tell_all(&self, why: &str, out: &mut Outcomes) {
        tracing::warn!(link = self.plan.link.settings.name.as_str(), why);
        for place in self.remotes.iter().filter_map(|remote| remote.place) {
            out.device(place, DeviceEvent::Error(why.to_owned()));
        }
    }

    fn answered(
        &mut self,
        session: &BacnetSession,
        id: RequestId,
        took: Duration,
        outcome: Result<Vec<u8>, interlex_bacnet::Failure>,
        now: Now,
        out: &mut Outcomes,
    ) {
        self.traffic.answers += u64::from(!matches!(outcome, Err(interlex_bacnet::Failure::Timeout)));
        self.traffic.timeouts += u64::from(matches!(outcome, Err(interlex_bacnet::Failure::Timeout)));
        self.traffic.refusals +=
            u64::from(matches!(outcome, Err(ref failure) if *failure != interlex_bacnet::Failure::Timeout));
        match self.asked.remove(&id) {
            Some(Owed::Scan(scan)) => {
                let Some(scan) = self.scans.iter_mut().find(|known| known.id == scan) else { return };
                if let Some(Some((peer, service, data, terms))) = scan.answered(id, outcome)
                    && let Ok(next) = session.seat.request(now.instant, peer, service, data, terms)
                {
                    scan.sent(next);
                    let owed = Owed::Scan(scan.id);
                    self.asked.insert(next, owed);
                }
            }
            Some(Owed::Remote { instance, is_guest }) => {
                let Some(at) = self.position(instance, is_guest) else { return };
                let frames = self.frames_of(at);
                if let Some(remote) = self.remotes.get_mut(at) {
                    let freed = network(remote);
                    remote.answered(now.instant, took, outcome, frames, out);
                    self.free(freed);
                }
            }
            None => {}
        }
    }

    fn position(&self, instance: u32, is_guest: bool) -> Option<usize> {
        self.remotes.iter().position(|remote| remote.instance == instance && remote.place.is_none() == is_guest)
    }

    /// The frames of what is done once with a device.
    fn frames_of(&self, at: usize) -> Vec<FrameView> {
        let Some(remote) = self.remotes.get(at) else { return Vec::new() };
        let Some(after) = remote.frames_after() else { return Vec::new() };
        let named = peer(remote.instance);
        let place = remote.binding.peer().map(|peer| peer.to_string());
        let filter = FrameFilter { after: Some(after), ..FrameFilter::default() };
        let is_meant =
            |frame: &FrameView| frame.peer.as_ref() == Some(&named) || (frame.peer.is_some() && frame.peer == place);
        self.frames.view(&filter).into_iter().filter(is_meant).collect()
    }

    /// A network takes another request: whoever waits for that is looked at.
    fn free(&mut self, freed: Option<Routed>) {
        if freed.is_some() {
            self.remotes.iter_mut().filter(|remote| network(remote) == freed).for_each(Remote::wake);
        }
    }

    /// Sends what is due.
    fn send(&mut self, session: &BacnetSession, now: Now, out: &mut Outcomes) {
        let per_network = own(&self.plan).map_or(1, |own| usize::from(own.requests_per_network));
        let mut on_network: HashMap<Routed, usize> = HashMap::new();
        for remote in self.remotes.iter().filter(|remote| remote.is_busy()) {
            if let Some(key) = network(remote) {
                *on_network.entry(key).or_default() += 1;
            }
        }
        let count = self.remotes.len();
        self.turn = (self.turn + 1) % count.max(1);
        let newest = self.frames.newest();
        let is_right = self.context.clock.is_synchronized();
        for at in (0..count).map(|at| (at + self.turn) % count) {
            let Some(remote) = self.remotes.get_mut(at).filter(|remote| remote.rest(now.instant).is_none()) else {
                continue;
            };
            if let Some(to) = remote.ask_where(now.instant) {
                who_is(session, to, remote.instance);
            }
            if let Some((peer, service, data)) = remote.time(now, is_right) {
                session.seat.tell(Audience::Peer(peer), service, &data);
            }
            remote.confirm(now.instant, out);
            let busy = network(remote).and_then(|key| on_network.get(&key)).copied().unwrap_or_default();
            let is_full = busy >= per_network;
            let asking = if is_full { None } else { remote.next(now.instant, newest, out) };
            remote.lies_down(now.instant, is_full);
            let Some(Asking { to, service, data, terms, lateness }) = asking else { continue };
            let owed = Owed::Remote { instance: remote.instance, is_guest: remote.place.is_none() };
            match session.seat.request(now.instant, to, service, data, terms) {
                Ok(id) => {
                    self.traffic.requests += 1;
                    self.asked.insert(id, owed);
                    out_sent(out, lateness);
                    if let Some(key) = network(remote) {
                        *on_network.entry(key).or_default() += 1;
                    }
                }
                Err(error) => {
                    let failure = match error {
                        interlex_bacnet::NotSent::Busy => interlex_bacnet::Failure::Timeout,
                        interlex_bacnet::NotSent::TooLong => interlex_bacnet::Failure::Abort {
                            by_peer: false,
                            reason: interlex_bacnet::AbortReason::APDU_TOO_LONG,
                        },
                    };
                    remote.answered(now.instant, Duration::ZERO, Err(failure), Vec::new(), out);
                }
            }
        }
        // Guests go once nothing is to be done with them.
        let is_needed = |remote: &Remote| remote.place.is_some() || remote.is_busy() || remote.errands() > 0;
        if !self.remotes.iter().all(is_needed) {
            self.remotes.retain(is_needed);
            self.want(session);
        }
        self.scan(session, now, out);
    }

    fn scan(&mut self, session: &BacnetSession, now: Now, out: &mut Outcomes) {
        let timeout = own(&self.plan).map_or(Duration::from_secs(3), |own| own.timeout.into());
        let mut over = VecDeque::new();
        for scan in &mut self.scans {
            if let Some(network) = scan.ask_routers() {
                session.seat.who_is_router(network);
            }
            if let Some((to, service, data)) = scan.ask(now.instant) {
                session.seat.tell(to, service, &data);
            }
            if let Some((peer, service, data, terms)) = scan.next(timeout)
                && let Ok(id) = session.seat.request(now.instant, peer, service, data, terms)
            {
                self.traffic.requests += 1;
                scan.sent(id);
                self.asked.insert(id, Owed::Scan(scan.id));
            }
            if let Some(answer) = scan.progress(now.instant) {
                over.push_back((scan.id, answer));
            }
        }
        for (id, answer) in over {
            self.scans.retain(|scan| scan.id != id);
            out.push(Outcome::Answered(id, answer));
            self.want(session);
        }
    }

    fn due(&self, session: &BacnetSession, now: Instant) -> Option<Instant> {
        let remotes = self.remotes.iter().map(|remote| remote.rest(now).unwrap_or(now));
        let scans = self.scans.iter().filter_map(|scan| scan.due(now));
        remotes.chain(scans).chain(session.seat.deadline()).min()
    }

    /// The device that something is done with: one of the link, or a guest.
    fn reach(&mut self, own_device: &BacnetDevice, session: &BacnetSession, now: Instant) -> Option<usize> {
        let known = self.remotes.iter().position(|remote| remote.instance == own_device.instance);
        if known.is_some() {
            return known;
        }
        let own = own(&self.plan)?;
        self.remotes.push(Remote::guest(own_device, own.port, own.timeout.into(), now));
        self.want(session);
        Some(self.remotes.len() - 1)
    }
}

fn network(remote: &Remote) -> Option<Routed> {
    let peer = remote.binding.peer()?;
    Some((peer.address, peer.station?.network))
}

fn out_sent(out: &mut Outcomes, lateness: Option<Duration>) {
    if let Some(lateness) = lateness {
        out.push(Outcome::Sent { lateness });
    }
}

fn who_is(session: &BacnetSession, to: Audience, instance: u32) {
    let mut data = Vec::new();
    WhoIs::one(instance).encode(&mut data);
    session.seat.tell(to, UnconfirmedService::WHO_IS, &data);
}

fn device_of(device: &Device) -> Result<&BacnetDevice, TrialError> {
    device.protocol.bacnet().ok_or_else(|| TrialError::Request("the device speaks another protocol".to_owned()))
}

/// What is to be done for an action, and with which device; an answer where it cannot be.
fn wanted(action: Action) -> Result<(BacnetDevice, Box<dyn Errand>), Box<Answer>> {
    match action {
        Action::Read(read) => {
            let refused = |error| Box::new(Answer::Read(Err(error)));
            let device = device_of(&read.device).map_err(refused)?.clone();
            let errand = ReadErrand::new(*read).map_err(refused)?;
            Ok((device, Box::new(errand)))
        }
        Action::Write(write) => {
            let refused = |error: WriteError| Box::new(Answer::Written(Err(error)));
            let device = device_of(&write.device).map_err(|error| refused(error.into()))?.clone();
            let errand = WriteErrand::new(*write).map_err(refused)?;
            Ok((device, Box::new(errand)))
        }
        Action::Discover(what) => match what.downcast::<Discovery>().map(|what| *what) {
            Ok(Discovery::Identify(device)) => {
                let errand = Identify::new(device.instance);
                Ok((*device, Box::new(errand)))
            }
            Ok(Discovery::Objects(device, text, events)) => {
                let errand = Offers::new(Sought { instance: device.instance, text, events });
                Ok((*device, Box::new(errand)))
            }
            _ => {
                let error = TrialError::Request("the link speaks BACnet".to_owned());
                Err(Box::new(Answer::Found(Err(error))))
            }
        },
    }
}

impl FieldDriver for BacnetDriver {
    type Session = BacnetSession;

    fn new(plan: LinkPlan, context: DriverContext) -> Self {
        let now = tokio::time::Instant::now().into_std();
        let frames = FrameRing::new(BacnetFrames::default(), plan.links, Arc::clone(&context.clock));
        Self {
            remotes: Self::remotes_of(&plan, &context.memories, now),
            frames: Arc::new(frames),
            scans: Vec::new(),
            asked: HashMap::new(),
            farewells: Vec::new(),
            traffic: Traffic::default(),
            is_registered: false,
            is_changed: false,
            turn: 0,
            plan,
            context,
        }
    }

    fn without_session(
        _: &Link,
        _: &DriverContext,
        action: Action,
    ) -> Result<Pin<Box<dyn Future<Output = Answer> + Send>>, Action> {
        let Action::Discover(what) = action else { return Err(action) };
        match *what.downcast::<Discovery>().map_err(Action::Discover)? {
            Discovery::List(files) => Ok(Box::pin(async move {
                let told = tokio::task::spawn_blocking(move || ede::offers(&files)).await;
                let told = told.unwrap_or_else(|error| Err(error.to_string()));
                let told = told.map(|offers| vec![OfferEvent::Points { offers }, OfferEvent::Done { requests: 0 }]);
                Answer::Found(told.map(|events| Box::new(events) as _).map_err(TrialError::Request))
            })),
            other => Err(Action::Discover(Box::new(other))),
        }
    }

    fn words(reason: Reason) -> String {
        super::words(reason)
    }

    fn frames(&self) -> Arc<dyn FrameLog> {
        Arc::clone(&self.frames) as Arc<dyn FrameLog>
    }

    fn line(&self) -> Option<(Duration, Duration)> {
        None
    }

    fn begin(&mut self, _: &mut Outcomes) {}

    fn connect(&mut self) -> impl Future<Output = Result<BacnetSession, Lost>> + Send + 'static {
        let link = own(&self.plan).cloned();
        let name = self.plan.link.settings.name.to_string();
        let now = self.now();
        // Whoever only asks something once subscribes to nothing.
        let has_devices = !self.plan.devices.is_empty();
        let keeper = self.context.memories.keeper().cloned();
        let known = self.remotes.iter().map(|remote| (Arc::clone(&remote.memory), kept(remote.instance)));
        let known: Vec<_> = known.collect();
        async move {
            for (memory, place) in known {
                memory.load(keeper.as_ref(), &place).await;
            }
            let link = link.ok_or_else(|| Lost("the link speaks another protocol".to_owned()))?;
            let interface = interface::find(&link.interface).map_err(Lost)?;
            let seconds = u16::try_from(link.registration.as_millis() / 1000).unwrap_or(u16::MAX);
            let foreign = link.bbmd.map(|bbmd| ForeignDevice { bbmd: bbmd.or_port(link.port), time_to_live: seconds });
            let password = link.control_password.as_ref().map(|secret| secret.reveal().to_owned());
            let wanted = Membership {
                local: std::net::SocketAddrV4::new(interface.address, link.port),
                broadcast: link.broadcast.unwrap_or(interface.broadcast),
                foreign,
                process: if has_devices { process(&name) } else { 0 },
                own: link.instance.map(|instance| (instance, format!("interlex-{name}"), password)),
            };
            Ok(BacnetSession { seat: Seat::take(wanted, now).map_err(Lost)? })
        }
    }

    fn connected(&mut self, session: &mut BacnetSession) {
        let now = self.now();
        self.asked.clear();
        self.remotes.iter_mut().for_each(|remote| remote.begin_anew(now.instant));
        self.want(session);
        self.show_devices();
    }

    async fn next(&mut self, session: &mut BacnetSession, out: &mut Outcomes) -> Result<(), Lost> {
        let now = self.now();
        if std::mem::take(&mut self.is_changed) {
            self.want(session);
        }
        // A network that is away for a moment is not the end of the port.
        let pumped = session.seat.pump(now);
        self.remotes.iter_mut().for_each(|remote| remote.utc_millis = now.utc_millis);
        while let Some(inbound) = session.seat.next() {
            self.take(session, inbound, now, out);
        }
        self.keep(now.instant);
        for (peer, service, data, terms) in self.farewells.drain(..) {
            // Whoever does not hear it forgets us when the time is over.
            let _ = session.seat.request(now.instant, peer, service, data, terms);
        }
        self.send(session, now, out);
        let sent = session.seat.pump(now);
        if let Err(error) = pumped.and(sent) {
            self.tell_all(&format!("nothing can be sent: {error}"), out);
        }
        if self.traffic != Traffic::default() {
            out.push(Outcome::Traffic(std::mem::take(&mut self.traffic)));
        }
        // What was told is carried on before anything is waited for.
        if !out.is_empty() {
            return Ok(());
        }
        let due = self.due(session, now.instant);
        tokio::select! {
            ready = session.seat.readable() => ready.map_err(|error| Lost(error.to_string())),
            () = until(due) => Ok(()),
        }
    }

    fn submit(&mut self, session: &mut BacnetSession, command: Command, out: &mut Outcomes) -> Result<(), Full> {
        let Command { id, action } = command;
        let now = self.now().instant;
        let action = match action {
            Action::Discover(what) => match what.downcast::<Discovery>() {
                Ok(what) => match *what {
                    Discovery::Devices(wanted, events) => {
                        self.scans.push(Scan::new(id, wanted, events));
                        self.want(session);
                        return Ok(());
                    }
                    other => Action::Discover(Box::new(other)),
                },
                Err(other) => Action::Discover(other),
            },
            other => other,
        };
        let is_write = matches!(action, Action::Write(_));
        let (device, errand) = match wanted(action) {
            Ok(wanted) => wanted,
            Err(answer) => {
                out.push(Outcome::Answered(id, *answer));
                return Ok(());
            }
        };
        let Some(remote) = self.reach(&device, session, now).and_then(|at| self.remotes.get_mut(at)) else {
            return Err(Full);
        };
        if remote.errands() >= DEVICE_COMMANDS {
            return Err(Full);
        }
        if let Some(other) = remote.binding.double().filter(|_| is_write) {
            let why = format!(
                "{} has another one at {other}: nothing is written until host says which one is meant",
                peer(device.instance)
            );
            out.push(Outcome::Answered(id, Answer::Written(Err(WriteError::Value(why)))));
            return Ok(());
        }
        remote.submit(id, errand, now);
        Ok(())
    }

    fn cancel(&mut self, id: CommandId, why: &str, out: &mut Outcomes) {
        if let Some(at) = self.scans.iter().position(|scan| scan.id == id) {
            self.scans.remove(at);
            out.push(Outcome::Answered(id, Answer::Found(Ok(Box::new(Vec::<OfferEvent>::new())))));
            return;
        }
        if let Some(answer) = self.remotes.iter_mut().find_map(|remote| remote.cancel(id, why)) {
            out.push(Outcome::Answered(id, answer));
        }
    }

    /// A device that differs begins anew; the others go on.
    fn change(&mut self, plan: LinkPlan, out: &mut Outcomes) {
        let now = self.now().instant;
        let mut before = std::mem::take(&mut self.remotes);
        self.plan = plan;
        for (place, new) in Self::remotes_of(&self.plan, &self.context.memories, now).into_iter().enumerate() {
            match before.iter().position(|known| known.place.is_some() && known.is_same(&new)) {
                Some(at) => {
                    let mut known = before.swap_remove(at);
                    if let Some(planned) = new.planned {
                        known.moved(new.place.unwrap_or(place), planned);
                    }
                    self.remotes.push(known);
                }
                None => {
                    if let Some(at) = before.iter().position(|known| known.instance == new.instance) {
                        let mut gone = before.swap_remove(at);
                        gone.give_up("the device was described anew", out);
                        self.asked.retain(
                            |_, owed| !matches!(owed, Owed::Remote { instance, .. } if *instance == new.instance),
                        );
                    }
                    self.remotes.push(new);
                }
            }
        }
        for mut gone in before {
            if gone.place.is_none() && gone.errands() > 0 {
                self.remotes.push(gone);
                continue;
            }
            gone.give_up("the device is no part of the link any more", out);
            self.farewells.extend(gone.cancellations());
        }
        // A network that somebody waited for may be free now.
        self.remotes.iter_mut().for_each(Remote::wake);
        self.is_changed = true;
        self.show_devices();
    }

    fn lost(&mut self, session: BacnetSession, why: &str, out: &mut Outcomes) {
        let now = self.now();
        for (peer, service, data, terms) in self.remotes.iter().flat_map(Remote::cancellations) {
            // Whoever does not hear it forgets us when the time is over.
            let _ = session.seat.request(now.instant, peer, service, data, terms);
        }
        // What cannot be sent is not sent.
        let _ = session.seat.pump(now);
        self.remotes.iter_mut().for_each(|remote| remote.give_up(why, out));
        for scan in self.scans.drain(..) {
            out.push(Outcome::Answered(
                scan.id,
                Answer::Found(Ok(Box::new(vec![OfferEvent::Failed { why: why.to_owned() }]))),
            ));
        }
        self.asked.clear();
        drop(session);
    }

    fn activity(&self, points: &PointTable) -> Vec<RequestView> {
        let now = self.now().instant;
        self.remotes
            .iter()
            .filter(|remote| remote.place.is_some())
            .flat_map(|remote| remote.views(points, now))
            .collect()
    }

    fn relearn(&mut self, device: Option<usize>) {
        let now = self.now().instant;
        let meant = |remote: &&mut Remote| device.is_none_or(|place| remote.place == Some(place));
        self.remotes.iter_mut().filter(meant).for_each(|remote| remote.relearn(now));
    }
}

async fn until(at: Option<Instant>) {
    match at {
        Some(at) => sleep_until(at.into()).await,
        None => std::future::pending().await,
    }
}
