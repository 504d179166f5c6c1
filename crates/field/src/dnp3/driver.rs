use super::asking::wanted;
use super::discovery::Discovery;
use super::errand::UnderWay;
use super::events::Place;
use super::frames::Dnp3Frames;
use super::lines::{Lines, Stranger, Woken};
use super::station::Station;
use super::taking::CONFIRMED_EVERY;
use super::tls::Tls;
use crate::error::TrialError;
use crate::link::{
    Action, Answer, Command, CommandId, DEVICE_COMMANDS, DeviceEvent, DriverContext, FieldDriver, FrameLog, FrameRing,
    Full, LinkPlan, Lost, Memories, Outcome, Outcomes, RequestView, Ticket, Traffic,
};
use interlex_core::description::{Dnp3Link, Link, Span};
use interlex_core::{OfferEvent, PointTable, Reason};
use interlex_dnp3::{LinkAddress, LinkConfirms, MasterLink, Now, Sharing, ToldId, WayId};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::{Instant, sleep_until};

/// Drives a DNP3 link: one connection, with an outstation or several behind it.
pub(crate) struct Dnp3Driver {
    pub(super) plan: LinkPlan,
    pub(super) context: DriverContext,
    pub(super) frames: Arc<FrameRing<Dnp3Frames>>,
    pub(super) link: MasterLink,
    pub(super) stations: Vec<Station>,
    /// Outstations that are no devices, and are asked something once.
    pub(super) guests: Vec<LinkAddress>,
    /// What was told, and is confirmed once every listener has it.
    pub(super) told: Vec<(LinkAddress, ToldId)>,
    /// What was told, and is confirmed once it is safe.
    pub(super) settling: VecDeque<Settling>,
    pub(super) last_ticket: u64,
    /// Whether our own clock goes right.
    pub(super) has_clock: bool,
    pub(super) under_way: Vec<UnderWay>,
    /// What is read back again, and when.
    pub(super) later: Vec<(Instant, UnderWay)>,
    /// Whose link layer was asked whether it is there, and until when it may answer.
    pub(super) asked_status: Vec<(Instant, UnderWay)>,
    pub(super) last_number: u64,
    /// The way that was dialled.
    pub(super) dialled: Option<WayId>,
    /// What was shown on the ways on which certificates are shown.
    pub(super) bound: BTreeMap<WayId, Tls>,
    /// Whether others may dial in.
    pub(super) is_listening: bool,
    /// Somebody said something since the last look.
    pub(super) is_heard: bool,
}

/// Something told that is not safe yet.
#[derive(Debug)]
pub(super) struct Settling {
    pub(super) ticket: Ticket,
    pub(super) address: LinkAddress,
    /// What is confirmed then; more than one where it was told again meanwhile.
    pub(super) ids: Vec<ToldId>,
    /// What is new again should it not become safe.
    pub(super) remembered: Vec<(Place, u64)>,
}

/// The ways on which outstations are spoken with.
pub(crate) struct Dnp3Session {
    lines: Lines,
    traffic: Traffic,
}

/// So many octets may wait to be sent: answers of the link layer can be asked for without end by one who reads none.
const MOST_UNSENT: usize = 1 << 20;
/// Whoever says so much that is no frame is somebody else.
const MOST_NOISE: u64 = 65_536;

/// What a link has as one of DNP3.
pub(super) fn own(plan: &LinkPlan) -> Option<&Dnp3Link> {
    plan.link.protocol.dnp3()
}

/// On a serial line one speaks at a time, and each frame may be confirmed by itself.
fn link_of(plan: &LinkPlan) -> MasterLink {
    let Some(Dnp3Link::Serial(own)) = own(plan) else { return MasterLink::new(Sharing::Together) };
    let link = MasterLink::new(Sharing::OneByOne).with_silence(own.silence.map(Duration::from).unwrap_or_default());
    if !own.link_confirms {
        return link;
    }
    // A frame goes there and its confirm back well within the time of an answer.
    link.with_confirms(LinkConfirms { timeout: Duration::from(own.timeout) / 3, retries: 2 })
}

fn names(stations: &[Station]) -> Vec<(u16, String)> {
    stations.iter().map(|station| (station.address.0, station.name().to_owned())).collect()
}

fn stations_of(plan: &LinkPlan, memories: &Memories) -> Vec<Station> {
    let target = plan.link.protocol.target();
    let station = |(place, planned)| Station::new(place, planned, &target, memories);
    plan.devices.iter().enumerate().filter_map(station).collect()
}

impl Dnp3Driver {
    pub(super) fn now(&self) -> Now {
        let wall = u64::try_from(self.context.clock.now().as_millis()).unwrap_or_default();
        Now { instant: Instant::now().into_std(), wall }
    }

    /// Clocks are set only while ours goes right.
    fn look_at_clock(&mut self) {
        let is_right = self.context.clock.is_synchronized();
        if std::mem::replace(&mut self.has_clock, is_right) != is_right {
            for station in &self.stations {
                if let Some(master) = self.link.master(station.address) {
                    master.set_clock(is_right || station.sets_clock_anyway());
                }
            }
        }
    }

    fn add(&mut self, station: Station) {
        if let Some(own) = own(&self.plan) {
            let mut master = station.master(own);
            master.set_clock(self.has_clock || station.sets_clock_anyway());
            self.link.add(station.address, station.own, master);
        }
        self.stations.push(station);
        if let Some(way) = self.dialled {
            self.link.connect(way);
        }
    }

    pub(super) fn station(&mut self, address: LinkAddress) -> Option<&mut Station> {
        self.stations.iter_mut().find(|station| station.address == address)
    }

    /// There is a way.
    fn open(&mut self, way: WayId, session: &mut Dnp3Session) {
        let Some(line) = session.lines.get_mut(way) else { return };
        self.link.open(way, line.tls.as_ref().map(|tls| self.allowed(tls)));
        self.bound.extend(line.tls.clone().map(|tls| (way, tls)));
        if line.is_dialled {
            self.dialled = Some(way);
            self.link.connect(way);
        } else {
            tracing::info!(link = self.plan.link.settings.name.as_str(), peer = line.peer, "somebody dialled in");
        }
    }

    /// Who may speak on a way, by the certificate that was shown there.
    fn allowed(&self, tls: &Tls) -> BTreeSet<LinkAddress> {
        let may = |station: &&Station| tls.may_speak_for(station.certificate_name());
        self.stations.iter().filter(may).map(|station| station.address).collect()
    }

    /// Those who dialled in, and did not say who they are, are asked; in the end they have to go.
    fn ask_strangers(&mut self, session: &mut Dnp3Session) {
        let now = Instant::now();
        for way in session.lines.ids() {
            let is_known = self.stations.iter().any(|station| self.link.way(station.address) == Some(way));
            let Some(line) = session.lines.get_mut(way) else { continue };
            match line.judge(is_known, now) {
                Stranger::Waits => {}
                Stranger::IsAsked => self.link.probe(way),
                Stranger::HasToGo => {
                    tracing::info!(peer = line.peer, "nobody is known to be there");
                    self.bound.remove(&way);
                    self.link.close(way);
                    session.lines.remove(way);
                }
            }
        }
    }

    /// A way is gone; where it was all that there is, so is the link.
    fn gone(&mut self, session: &mut Dnp3Session, way: WayId, why: &str, out: &mut Outcomes) -> Result<(), Lost> {
        if !self.is_listening {
            return Err(Lost(why.to_owned()));
        }
        let Some(line) = session.lines.remove(way) else { return Ok(()) };
        self.dialled = self.dialled.filter(|dialled| *dialled != way);
        self.bound.remove(&way);
        for address in self.link.close(way) {
            let Some(station) = self.station(address) else { continue };
            station.begin_anew();
            let why = format!("outstation {address}: its connection {} is gone: {why}", line.peer);
            out.device(station.place, DeviceEvent::Silent(Reason::LinkDown, why));
        }
        if let Some(dialled) = self.dialled {
            self.link.connect(dialled);
        }
        self.take_events(out);
        Ok(())
    }
}

impl FieldDriver for Dnp3Driver {
    type Session = Dnp3Session;

    fn new(plan: LinkPlan, context: DriverContext) -> Self {
        let stations = stations_of(&plan, &context.memories);
        let frames = Dnp3Frames::default();
        frames.change_devices(names(&stations));
        let mut driver = Self {
            frames: Arc::new(FrameRing::new(frames, plan.links, Arc::clone(&context.clock))),
            link: link_of(&plan),
            stations: Vec::new(),
            guests: Vec::new(),
            told: Vec::new(),
            settling: VecDeque::new(),
            last_ticket: 0,
            has_clock: context.clock.is_synchronized(),
            under_way: Vec::new(),
            later: Vec::new(),
            asked_status: Vec::new(),
            last_number: 0,
            dialled: None,
            bound: BTreeMap::new(),
            is_listening: false,
            is_heard: false,
            plan,
            context,
        };
        stations.into_iter().for_each(|station| driver.add(station));
        driver
    }

    fn without_session(
        _: &Link,
        _: &DriverContext,
        action: Action,
    ) -> Result<Pin<Box<dyn Future<Output = Answer> + Send>>, Action> {
        let Action::Discover(what) = action else { return Err(action) };
        match *what.downcast::<Discovery>().map_err(Action::Discover)? {
            Discovery::Profile(file) => Ok(Box::pin(async move {
                let told = tokio::task::spawn_blocking(move || super::profile::offers(&file)).await;
                let told = told.unwrap_or_else(|error| Err(error.to_string()));
                let told = told.map(|offers| vec![OfferEvent::Points { offers }, OfferEvent::Done { requests: 0 }]);
                Answer::Found(told.map(|events| Box::new(events) as _).map_err(TrialError::Request))
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

    fn begin(&mut self, out: &mut Outcomes) {
        // Events and everything: two requests, again and again.
        for station in &self.stations {
            out.device(station.place, DeviceEvent::Requests(2));
        }
    }

    fn connect(&mut self) -> impl Future<Output = Result<Dnp3Session, Lost>> + Send + 'static {
        let own = own(&self.plan).cloned();
        let keeper = self.context.memories.keeper().cloned();
        let known = self.stations.iter().map(|station| (Arc::clone(&station.memory), Arc::clone(&station.source)));
        let known: Vec<_> = known.collect();
        async move {
            for (memory, source) in known {
                memory.load(keeper.as_ref(), &source).await;
            }
            let own = own.ok_or_else(|| Lost("the link speaks another protocol".to_owned()))?;
            let lines = Lines::open(&own).await.map_err(Lost)?;
            Ok(Dnp3Session { lines, traffic: Traffic::default() })
        }
    }

    fn connected(&mut self, session: &mut Dnp3Session) {
        self.told.clear();
        self.is_listening = session.lines.is_listening();
        self.stations.iter_mut().for_each(Station::begin_anew);
        self.link.close_all();
        self.bound.clear();
        for way in session.lines.ids() {
            self.open(way, session);
        }
    }

    async fn next(&mut self, session: &mut Dnp3Session, out: &mut Outcomes) -> Result<(), Lost> {
        let now = self.now();
        for (address, id) in self.told.drain(..) {
            if let Some(master) = self.link.master(address) {
                master.settled(now, id);
            }
        }
        self.look_at_clock();
        self.link.handle_timeout(now);
        self.read_again(out);
        self.status_told(None, out);
        self.ask_strangers(session);
        self.take_events(out);
        self.confirm_points(out);
        while let Some((way, octets)) = self.link.poll_transmit(now) {
            session.traffic.requests += 1;
            if session.lines.send(way, &octets) > MOST_UNSENT {
                self.gone(session, way, "the outstation does not take what is sent", out)?;
            }
        }
        self.take_events(out);
        // What was told is carried on before anything is waited for.
        if !out.is_empty() {
            return Ok(());
        }
        let later = self.later.iter().chain(&self.asked_status).map(|(at, _)| *at);
        let confirmed =
            self.stations.iter().filter(|station| station.is_fresh()).filter_map(|station| station.confirmed);
        let confirmed = confirmed.min().map(|at| at + CONFIRMED_EVERY);
        let later = later.chain(session.lines.deadline()).chain(confirmed).map(Instant::into_std);
        let due = self.link.poll_timeout().into_iter().chain(later).min();
        let woken = tokio::select! {
            biased;
            woken = session.lines.woken() => woken,
            () = until(due) => return Ok(()),
        };
        match woken {
            Woken::Wrote(count) => session.traffic.bytes_sent += u64::try_from(count).unwrap_or_default(),
            Woken::New(way) => {
                self.open(way, session);
                if let Some(way) = session.lines.one_too_many() {
                    self.link.close(way);
                    self.bound.remove(&way);
                    session.lines.remove(way);
                }
            }
            Woken::Gone(way, error) => self.gone(session, way, &error.to_string(), out)?,
            Woken::Read(way, length) => {
                session.traffic.bytes_received += u64::try_from(length).unwrap_or_default();
                session.traffic.answers += 1;
                let now = self.now();
                self.is_heard = false;
                self.link.handle_input(now, way, session.lines.came(way, length));
                self.take_events(out);
                let noise = self.link.take_noise(way);
                session.traffic.noise_bytes += noise;
                out.push(Outcome::Traffic(std::mem::take(&mut session.traffic)));
                if let Some(line) = session.lines.get_mut(way) {
                    line.noise = if self.is_heard { 0 } else { line.noise + noise };
                    if line.noise > MOST_NOISE {
                        self.gone(session, way, "what comes is no DNP3", out)?;
                    }
                }
            }
        }
        Ok(())
    }

    fn submit(&mut self, _: &mut Dnp3Session, command: Command, out: &mut Outcomes) -> Result<(), Full> {
        let Command { id, action } = command;
        let ((address, own_address), (errand, command)) = match wanted(action) {
            Ok(wanted) => wanted,
            Err(answer) => {
                out.push(Outcome::Answered(id, *answer));
                return Ok(());
            }
        };
        let later = self.later.iter().chain(&self.asked_status).map(|(_, under_way)| under_way);
        let of_device = self.under_way.iter().chain(later);
        if of_device.filter(|under_way| under_way.address == address).count() >= DEVICE_COMMANDS {
            return Err(Full);
        }
        self.reach(address, own_address);
        let (sent, after, number) = (Instant::now(), self.frames.newest(), interlex_dnp3::CommandId(0));
        let (told, others, taken) = (Vec::new(), Vec::new(), None);
        let under_way = UnderWay { id, number, address, errand, sent, after, told, others, taken };
        match command {
            Some(command) => self.ask(under_way, command, out),
            None if self.link.ask_status(address) => {
                let waits = own(&self.plan).map(Dnp3Link::timeout).map(Duration::from).unwrap_or_default();
                self.asked_status.push((Instant::now() + waits, under_way));
            }
            None => out.push(Outcome::Answered(id, under_way.given_up(self.down()))),
        }
        self.take_events(out);
        Ok(())
    }

    fn cancel(&mut self, id: CommandId, _: &str, out: &mut Outcomes) {
        let waiting =
            if self.later.iter().any(|(_, of)| of.id == id) { &mut self.later } else { &mut self.asked_status };
        if let Some(at) = waiting.iter().position(|(_, under_way)| under_way.id == id) {
            let (_, under_way) = waiting.remove(at);
            let error = TrialError::Request("it was given up".to_owned());
            return out.push(Outcome::Answered(id, under_way.given_up(error)));
        }
        let Some(under_way) = self.under_way.iter().find(|under_way| under_way.id == id) else { return };
        let (address, number) = (under_way.address, under_way.number);
        if let Some(master) = self.link.master(address) {
            master.cancel(number);
        }
        self.take_events(out);
    }

    /// An outstation that differs begins anew; the others go on.
    fn change(&mut self, plan: LinkPlan, out: &mut Outcomes) {
        let mut before = std::mem::take(&mut self.stations);
        self.plan = plan;
        for new in stations_of(&self.plan, &self.context.memories) {
            match before.iter().position(|known| known.is_same(&new)) {
                Some(at) => {
                    let known = before.swap_remove(at);
                    self.stations.push(known.redescribed(new));
                }
                None => {
                    if let Some(at) = before.iter().position(|known| known.address == new.address) {
                        self.part_with(before.swap_remove(at).address);
                    }
                    self.guests.retain(|guest| *guest != new.address);
                    self.add(new);
                }
            }
        }
        for gone in before {
            self.part_with(gone.address);
        }
        self.frames.words().change_devices(names(&self.stations));
        for (way, tls) in &self.bound {
            self.link.allow(*way, Some(self.allowed(tls)));
        }
        self.begin(out);
        self.take_events(out);
    }

    fn lost(&mut self, session: Dnp3Session, _: &str, out: &mut Outcomes) {
        self.dialled = None;
        self.told.clear();
        self.link.close_all();
        self.give_up(out);
        tokio::spawn(session.lines.close());
    }

    fn settled(&mut self, ticket: Ticket, is_safe: bool) {
        let Some(at) = self.settling.iter().position(|settling| settling.ticket == ticket) else { return };
        let Some(Settling { address, ids, remembered, .. }) = self.settling.remove(at) else { return };
        if is_safe {
            self.told.extend(ids.into_iter().map(|id| (address, id)));
        } else if let Some(station) = self.station(address) {
            station.memory.forget(&remembered);
        }
    }

    fn activity(&self, points: &PointTable) -> Vec<RequestView> {
        self.stations.iter().flat_map(|station| views(station, points)).collect()
    }

    fn relearn(&mut self, device: Option<usize>) {
        for station in self.stations.iter().filter(|station| device.is_none_or(|place| station.place == place)) {
            if let Some(master) = self.link.master(station.address) {
                master.read_all();
            }
        }
    }
}

async fn until(at: Option<std::time::Instant>) {
    match at {
        Some(at) => sleep_until(at.into()).await,
        None => std::future::pending().await,
    }
}

/// What an outstation is asked for again and again.
fn views(station: &Station, points: &PointTable) -> Vec<RequestView> {
    let Some(own) = station.planned.device.protocol.dnp3() else { return Vec::new() };
    let names = station.planned.points.iter().filter_map(|point| points.get(*point)).map(|info| info.name().to_owned());
    let names: Vec<_> = names.collect();
    let asked = [("events of all classes", own.event_period), ("everything", own.integrity_period)];
    let view = |(reads, period): (&str, Span)| RequestView {
        devices: vec![station.name().to_owned()],
        reads: reads.to_owned(),
        period_ms: period.as_millis(),
        points: names.clone(),
        as_planned: true,
        bad: None,
        whole_again_in_ms: None,
    };
    asked.into_iter().map(view).collect()
}
