//! A device of the link: what is asked of it next, and what becomes of what it says. No I/O: one request is under way at a time.

mod errands;
mod presence;
mod rest;
mod shown;

use super::backfill::Backfill;
use super::binding::Binding;
use super::described::Described;
use super::errand::{Errand, Reply, properties_of_devices};
use super::item::{Item, Reader, Reading, items};
use super::log_time::LogClock;
use super::many::{Lengths, ReadMany, Wanted};
use super::mapping::flags;
use super::memory::{DeviceMemory, Saving};
use super::rounds::{Chunk, Rounds};
use super::watching::{Change, Watched, Watches};
use super::ways::Ways;
use crate::link::{CommandId, Counted, DeviceEvent, FrameView, Outcome, Outcomes, PlannedDevice};
use interlex_bacnet::{
    Audience, ConfirmedService, CovNotification, DateTime, Failure, MaxApdu, Now, ObjectIdentifier, Peer,
    PropertyIdentifier, ReadProperty, Segmentation, Terms, TimeSynchronization, UnconfirmedService, Value as Told,
};
use interlex_core::description::{BacnetDevice, BacnetTimeSync, Name, Span};
use interlex_core::{PointIndex, Reason};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// A device that is spoken with.
pub(super) struct Remote {
    /// Its place on the link; none where it is asked something once and is no device of the link.
    pub(super) place: Option<usize>,
    pub(super) planned: Option<PlannedDevice>,
    pub(super) instance: u32,
    own: BacnetDevice,
    devices: Arc<[usize]>,
    pub(super) binding: Binding,
    pub(super) ways: Ways,
    stage: Stage,
    items: Vec<Item>,
    increments: BTreeMap<ObjectIdentifier, f64>,
    rounds: Rounds,
    watches: Watches,
    check: Check,
    errands: VecDeque<Waiting>,
    under_way: Option<UnderWay>,
    /// The next part of what is under way.
    again: Option<(ConfirmedService, Vec<u8>)>,
    silence: Option<Silence>,
    heard: Instant,
    is_up: bool,
    /// Subscriptions and polls take turns.
    polled_last: bool,
    rng: fastrand::Rng,
    shown_requests: usize,
    /// What it recorded while it was out of reach is had back; none where that is not wanted.
    backfill: Option<Backfill>,
    pub(super) memory: Arc<DeviceMemory>,
    saving: Saving,
    /// When longer answers are tried again.
    raises_at: Option<Instant>,
    /// The time of day, as it was told last.
    pub(super) utc_millis: i64,
    /// When it is told the time.
    tells_time_at: Instant,
    /// When it was last told that what is known still holds.
    confirmed: Option<Instant>,
    /// Before, nothing is to be done with it; none where something came for it since it was looked at.
    rests_until: Option<Instant>,
}

/// How far it is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stage {
    /// It is to be asked how it can be asked.
    New,
    Known,
}

/// What is watched is read all the same, a part at a time.
#[derive(Debug)]
struct Check {
    due: Instant,
    at: usize,
    /// What differed from what was told, and since when: a change may be on its way.
    doubts: BTreeMap<usize, Instant>,
}

/// It does not answer.
#[derive(Debug)]
struct Silence {
    probe_at: Instant,
    wait: Duration,
    /// What was asked for when it fell silent: that alone may be what it cannot answer.
    suspect: Option<usize>,
    is_told: bool,
}

/// Something that is done once.
pub(super) struct Waiting {
    pub(super) id: CommandId,
    pub(super) errand: Box<dyn Errand>,
    /// Until when it is to be known where the device is.
    until: Instant,
    is_sent: bool,
    /// The newest frame when it was sent.
    after: u64,
    wakes: Option<Instant>,
}

struct UnderWay {
    service: ConfirmedService,
    purpose: Purpose,
    lateness: Duration,
}

impl UnderWay {
    /// Whether its answer says no more than whether the device is there.
    fn is_doubtful(&self) -> bool {
        match &self.purpose {
            Purpose::Facts(many) | Purpose::Poll { many, .. } => many.is_doubtful(),
            _ => false,
        }
    }
}

enum Purpose {
    Facts(ReadMany),
    /// What is read, and of which item each of it is.
    Poll {
        chunk: Chunk,
        many: ReadMany,
        of: Vec<usize>,
        is_check: bool,
    },
    Probe,
    Contest,
    Subscribe(Watched),
    Backfill,
    Errand(CommandId),
}

/// A request that is to be sent.
pub(super) struct Asking {
    pub(super) to: Peer,
    pub(super) service: ConfirmedService,
    pub(super) data: Vec<u8>,
    pub(super) terms: Terms,
    /// How late a poll is.
    pub(super) lateness: Option<Duration>,
}

/// A silent device is asked whether it is back: at first, and at the most.
const PROBES: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(30));
/// Something is read at least so often, so that a device that has gone is missed.
const ALIVE: Duration = Duration::from_secs(10);
/// Longer answers are tried again so often, where they had to be kept short.
const RAISES: Duration = Duration::from_secs(900);
/// A clock is set so often.
const TELLS_TIME: Duration = Duration::from_secs(3600);
/// A change may be on its way for so long.
const ON_ITS_WAY: Duration = Duration::from_secs(3);
/// What is watched is told to hold so often.
const CONFIRMED_EVERY: Duration = Duration::from_millis(500);
/// For so long somebody who wants something waits until it is known where the device is.
const BINDS_WITHIN: Duration = Duration::from_secs(6);

const FACTS: [PropertyIdentifier; 4] = [
    PropertyIdentifier::OBJECT_IDENTIFIER,
    PropertyIdentifier::MAX_APDU_LENGTH_ACCEPTED,
    PropertyIdentifier::SEGMENTATION_SUPPORTED,
    PropertyIdentifier::PROTOCOL_SERVICES_SUPPORTED,
];
/// What an object says of its point, with how many octets that has.
const SEMANTICS: [(PropertyIdentifier, usize); 5] = [
    (PropertyIdentifier::UNITS, 2),
    (PropertyIdentifier::DESCRIPTION, 30),
    (PropertyIdentifier::MIN_PRES_VALUE, 5),
    (PropertyIdentifier::MAX_PRES_VALUE, 5),
    (PropertyIdentifier::STATE_TEXT, 60),
];
/// Bits of the services that a device says it has.
const SUBSCRIBES: usize = 5;
const READS_MULTIPLE: usize = 14;
const SUBSCRIBES_PROPERTIES: usize = 38;

impl Remote {
    /// A device of the link.
    pub(super) fn new(
        place: usize,
        planned: PlannedDevice,
        rates: &BTreeMap<Name, Span>,
        (port, timeout, process): (u16, Duration, u32),
        memory: Arc<DeviceMemory>,
        now: Instant,
    ) -> Option<Self> {
        let own = planned.device.protocol.bacnet()?.clone();
        let mut remote = Self::bare(Binding::new(&own, port, now), own, timeout, process, now);
        (remote.place, remote.devices) = (Some(place), Arc::from([place]));
        remote.items = items(&planned, rates, remote.own.only_asked);
        // Where only some can be watched, the values of objects come first.
        let watchable = |is_value| {
            remote.items.iter().enumerate().filter(move |(_, item)| item.is_watchable && item.is_value() == is_value)
        };
        for (at, item) in watchable(true).chain(watchable(false)) {
            remote.watches.want(item.watched(), at, now);
        }
        remote.memory = memory;
        remote.backfill = remote.own.backfill.then(|| remote.backfilling(&planned));
        let periods = remote.items.iter().map(|item| item.period);
        remote.rounds = Rounds::new(periods, now, &mut remote.rng);
        remote.planned = Some(planned);
        Some(remote)
    }

    /// What is described of its logs, and of its clock.
    fn backfilling(&self, planned: &PlannedDevice) -> Backfill {
        let described = planned.device.points.iter().filter_map(|point| {
            let (address, own) = point.bacnet()?;
            let (object, reference) = (super::item::object(address)?, super::item::reference(address));
            let is_it = |item: &Item| item.object == object && item.reference == reference;
            Some((own.trend_log?, self.items.iter().position(is_it)?))
        });
        let zone = self.own.timezone.as_ref().and_then(|name| name.zone().ok());
        let clock = LogClock { zone, utc_offset: 0, is_summer: None };
        Backfill::new(self.instance, Arc::clone(&self.memory), described.collect(), clock)
    }

    /// What is to be kept of it now.
    pub(super) fn poll_kept(&mut self, now: Instant) -> Option<Vec<u8>> {
        self.backfill.as_ref()?;
        self.saving.due(&self.memory, now)
    }

    /// One that is asked something once.
    pub(super) fn guest(own: &BacnetDevice, port: u16, timeout: Duration, now: Instant) -> Self {
        Self::bare(Binding::new(own, port, now), own.clone(), timeout, 0, now)
    }

    fn bare(binding: Binding, own: BacnetDevice, timeout: Duration, process: u32, now: Instant) -> Self {
        let lifetime = Duration::from(own.cov_lifetime);
        Self {
            place: None,
            planned: None,
            instance: own.instance,
            devices: Arc::from([]),
            binding,
            ways: Ways::new(timeout, own.retries, own.largest_message),
            stage: Stage::New,
            items: Vec::new(),
            increments: BTreeMap::new(),
            rounds: Rounds::new([], now, &mut fastrand::Rng::with_seed(0)),
            watches: Watches::new(process, lifetime, !own.unconfirmed_changes, own.most_subscriptions),
            check: Check { due: now + ALIVE, at: 0, doubts: BTreeMap::new() },
            errands: VecDeque::new(),
            under_way: None,
            again: None,
            silence: None,
            heard: now,
            is_up: false,
            polled_last: false,
            rng: fastrand::Rng::new(),
            shown_requests: 0,
            backfill: None,
            memory: Arc::default(),
            saving: Saving::default(),
            raises_at: None,
            utc_millis: 0,
            tells_time_at: now,
            confirmed: None,
            rests_until: None,
            own,
        }
    }

    pub(super) fn name(&self) -> &str {
        self.planned.as_ref().map_or("", |planned| planned.device.settings.name.as_str())
    }

    /// Whether it is described as before, so that what is known of it holds.
    pub(super) fn is_same(&self, other: &Self) -> bool {
        let points = |remote: &Self| remote.planned.as_ref().map(|planned| planned.device.points.clone());
        let slots = |remote: &Self| remote.planned.as_ref().map(|planned| planned.points.clone());
        let periods = |remote: &Self| remote.items.iter().map(|item| item.period).collect::<Vec<_>>();
        self.own == other.own
            && points(self) == points(other)
            && slots(self) == slots(other)
            && periods(self) == periods(other)
            && self.name() == other.name()
    }

    /// It stands at another place of the link.
    pub(super) fn moved(&mut self, place: usize, planned: PlannedDevice) {
        (self.place, self.devices, self.planned) = (Some(place), Arc::from([place]), Some(planned));
    }

    /// What it is called where people are told something.
    fn who(&self) -> String {
        super::frames::peer(self.instance)
    }

    fn event(&self, event: DeviceEvent, out: &mut Outcomes) {
        if let Some(place) = self.place {
            out.device(place, event);
        }
    }

    /// Whether a request of it is under way.
    pub(super) const fn is_busy(&self) -> bool {
        self.under_way.is_some() && self.again.is_none()
    }

    /// The link is up: everything begins anew.
    pub(super) fn begin_anew(&mut self, now: Instant) {
        self.wake();
        self.stage = Stage::New;
        (self.under_way, self.again, self.silence, self.is_up) = (None, None, None, false);
        (self.heard, self.confirmed) = (now, None);
        self.backfill.iter_mut().for_each(Backfill::is_away);
        self.watches.forget(now);
        self.rounds.restart(now);
        self.check.doubts.clear();
        self.binding.ask_now(now);
        self.items.iter_mut().for_each(|item| item.was_tried = false);
    }

    /// What was learned is tried anew.
    pub(super) fn relearn(&mut self, now: Instant) {
        self.ways = Ways::new(self.ways.timeout, self.own.retries, self.own.largest_message);
        self.items.iter_mut().for_each(Item::forgive);
        self.wake();
        self.stage = Stage::New;
        self.watches.forget(now);
        self.rounds.restart(now);
    }

    /// Who is to be asked where it is, if anybody.
    pub(super) fn ask_where(&mut self, now: Instant) -> Option<Audience> {
        self.binding.ask(now, self.silence.is_some())
    }

    /// What tells it the time, where it is to be told: once an hour, while our own clock goes right.
    pub(super) fn time(&mut self, now: Now, is_right: bool) -> Option<(Peer, UnconfirmedService, Vec<u8>)> {
        let is_wanted =
            self.own.time_sync != BacnetTimeSync::Off && self.stage == Stage::Known && self.silence.is_none();
        if !is_wanted || !is_right || now.instant < self.tells_time_at {
            return None;
        }
        let peer = self.binding.peer()?;
        self.tells_time_at = now.instant + TELLS_TIME;
        let (service, millis) = match self.own.time_sync {
            BacnetTimeSync::Local => {
                let zone = self.own.timezone.as_ref()?.zone().ok()?;
                let moment = jiff::Timestamp::from_millisecond(now.utc_millis).ok()?;
                let offset = i64::from(zone.to_offset(moment).seconds()) * 1000;
                (UnconfirmedService::TIME_SYNCHRONIZATION, now.utc_millis + offset)
            }
            _ => (UnconfirmedService::UTC_TIME_SYNCHRONIZATION, now.utc_millis),
        };
        let mut data = Vec::new();
        TimeSynchronization(DateTime::of_local_millis(millis)?).encode(&mut data);
        Some((peer, service, data))
    }

    /// What is to be sent now.
    pub(super) fn next(&mut self, now: Instant, newest_frame: u64, out: &mut Outcomes) -> Option<Asking> {
        self.watches.handle_timeout(now);
        self.end_unbound(now, out);
        if self.is_busy() {
            return None;
        }
        let peer = self.binding.peer()?;
        if let Some((service, data)) = self.again.take() {
            let terms = self.ways.terms();
            let is_doubtful = self.under_way.as_ref().is_some_and(UnderWay::is_doubtful);
            let terms = if is_doubtful { Terms { retries: 0, ..terms } } else { terms };
            return Some(Asking { to: peer, service, data, terms, lateness: None });
        }
        if let Some(to) = self.binding.contest() {
            let (service, data) = self.who_are_you()?;
            let terms = Terms { retries: 1, ..self.ways.terms() };
            return Some(self.sent(to, service, data, terms, Purpose::Contest, None));
        }
        if let Some((id, service, data)) = self.next_errand(now, newest_frame, out) {
            // What changes something goes once: it may have been done when its answer is lost.
            let is_write = matches!(service, ConfirmedService::WRITE_PROPERTY);
            let terms = self.ways.terms();
            let terms = if is_write { Terms { retries: 0, ..terms } } else { terms };
            return Some(self.sent(peer, service, data, terms, Purpose::Errand(id), None));
        }
        self.place?;
        if let Some(silence) = &self.silence {
            if silence.probe_at > now {
                return None;
            }
            let (service, data) = self.who_are_you()?;
            let terms = Terms { retries: 0, ..self.ways.terms() };
            return Some(self.sent(peer, service, data, terms, Purpose::Probe, None));
        }
        if self.stage == Stage::New {
            let mut many = ReadMany::new(self.facts(), &self.ways);
            let (service, data) = many.next(&self.ways)?;
            let terms = self.ways.terms();
            return Some(self.sent(peer, service, data, terms, Purpose::Facts(many), None));
        }
        self.settle_doubts(now, out);
        self.next_regular(now, peer)
    }

    /// Polls, subscriptions and checks, which take turns.
    fn next_regular(&mut self, now: Instant, peer: Peer) -> Option<Asking> {
        if self.ways.is_lowered() && self.raises_at.is_none_or(|at| now >= at) {
            if self.raises_at.replace(now + RAISES).is_some() {
                self.ways.raise();
            }
        } else if !self.ways.is_lowered() {
            self.raises_at = None;
        }
        let terms = self.ways.terms();
        let has_polled = std::mem::take(&mut self.polled_last);
        // Everything is read once before anything is subscribed to.
        let may_subscribe = self.is_up || has_polled;
        if has_polled && let Some((what, service, data)) = self.watches.next(now) {
            return Some(self.sent(peer, service, data, terms, Purpose::Subscribe(what), None));
        }
        if let Some(asking) = self.next_poll(now, peer, terms) {
            self.polled_last = true;
            return Some(asking);
        }
        if may_subscribe && let Some((what, service, data)) = self.watches.next(now) {
            return Some(self.sent(peer, service, data, terms, Purpose::Subscribe(what), None));
        }
        if let Some(asking) = self.next_check(now, peer, terms) {
            return Some(asking);
        }
        if !self.is_up {
            return None;
        }
        let (service, data) = self.backfill.as_mut()?.next(&self.ways)?;
        Some(self.sent(peer, service, data, terms, Purpose::Backfill, None))
    }

    fn next_poll(&mut self, now: Instant, peer: Peer, terms: Terms) -> Option<Asking> {
        loop {
            let (items, watches, ways) = (&self.items, &self.watches, &self.ways);
            let fill = |period: Duration| {
                let is_due = |(_, item): &(usize, &Item)| {
                    item.period == period
                        && !item.is_left_alone(now)
                        && !(item.is_watchable && watches.is_watched(item.watched()))
                };
                let due = items.iter().enumerate().filter(is_due).map(|(at, _)| at);
                cut(items, due, ways)
            };
            let chunk = self.rounds.next(now, fill)?;
            let lateness = chunk.due.map(|(due, _)| now.saturating_duration_since(due));
            if let Some(asking) = self.read(chunk, false, (peer, terms), lateness) {
                return Some(asking);
            }
        }
    }

    fn read(
        &mut self,
        chunk: Chunk,
        is_check: bool,
        (peer, terms): (Peer, Terms),
        lateness: Option<Duration>,
    ) -> Option<Asking> {
        let items = chunk.items.iter().filter_map(|at| Some((*at, self.items.get(*at)?)));
        let wanted = items.flat_map(|(at, item)| item.wanted().map(move |wanted| (at, wanted)));
        let (of, wanted) = wanted.unzip();
        let mut many = ReadMany::new(wanted, &self.ways);
        let (service, data) = many.next(&self.ways)?;
        Some(self.sent(peer, service, data, terms, Purpose::Poll { chunk, many, of, is_check }, lateness))
    }

    /// What is watched is read all the same, some of it at a time; where nothing is watched, and nothing was heard for long, that is
    /// asked for instead.
    fn next_check(&mut self, now: Instant, peer: Peer, terms: Terms) -> Option<Asking> {
        if self.check.due > now {
            return None;
        }
        let is_watched = |(_, item): &(usize, &Item)| item.is_watchable && self.watches.is_watched(item.watched());
        let watched: Vec<_> = self.items.iter().enumerate().filter(is_watched).map(|(at, _)| at).collect();
        let parts = cut(&self.items, watched.iter().copied(), &self.ways);
        let count = u32::try_from(parts.len().max(1)).unwrap_or(u32::MAX);
        let wait = (Duration::from(self.own.check_period) / count).min(ALIVE).max(Duration::from_millis(200));
        self.check.due = now + wait;
        match parts.get(self.check.at % parts.len().max(1)) {
            Some(items) => {
                self.check.at = (self.check.at + 1) % parts.len().max(1);
                let chunk = Chunk { items: items.clone(), due: None };
                self.read(chunk, true, (peer, terms), None)
            }
            // What is known is told before what was.
            None if self.backfill.as_ref().is_some_and(Backfill::is_due) => None,
            None if now.saturating_duration_since(self.heard) >= ALIVE => {
                let (service, data) = self.who_are_you()?;
                Some(self.sent(peer, service, data, terms, Purpose::Probe, None))
            }
            None => None,
        }
    }

    fn sent(
        &mut self,
        to: Peer,
        service: ConfirmedService,
        data: Vec<u8>,
        terms: Terms,
        purpose: Purpose,
        lateness: Option<Duration>,
    ) -> Asking {
        self.under_way = Some(UnderWay { service, purpose, lateness: lateness.unwrap_or_default() });
        Asking { to, service, data, terms, lateness }
    }

    /// What every device has.
    fn who_are_you(&self) -> Option<(ConfirmedService, Vec<u8>)> {
        let object = ObjectIdentifier::device(self.instance)?;
        let mut data = Vec::new();
        ReadProperty { object, reference: PropertyIdentifier::OBJECT_IDENTIFIER.into() }.encode(&mut data);
        Some((ConfirmedService::READ_PROPERTY, data))
    }

    /// How it can be asked, and by how much what is watched has to move to be told.
    fn facts(&self) -> Vec<Wanted> {
        let device =
            properties_of_devices(self.instance, &FACTS).into_iter().map(|wanted| Wanted { octets: 8, ..wanted });
        let reference = PropertyIdentifier::COV_INCREMENT.into();
        let has_increment = |item: &&Item| item.is_watchable && item.is_value() && item.has_increment();
        let increments = self.items.iter().filter(has_increment);
        let increments = increments.map(|item| Wanted { object: item.object, reference, octets: 5 });
        let semantics = self.describing().flat_map(|object| {
            let of = move |(property, octets): (PropertyIdentifier, usize)| Wanted {
                object,
                reference: property.into(),
                octets,
            };
            SEMANTICS.into_iter().map(of)
        });
        device.chain(increments).chain(semantics).collect()
    }

    /// Objects that say something of their points in place of the list.
    fn describing(&self) -> impl Iterator<Item = ObjectIdentifier> + '_ {
        let points = self.planned.iter().flat_map(|planned| &*planned.device.points);
        let objects = points.filter(|point| !point.auto().is_empty());
        let objects = objects.filter_map(|point| super::item::object(point.bacnet()?.0));
        objects.collect::<BTreeSet<_>>().into_iter()
    }

    /// What objects say of the points that leave it to them.
    fn tell_semantics(&self, said: &BTreeMap<ObjectIdentifier, Described>, out: &mut Outcomes) {
        let Some(planned) = &self.planned else { return };
        let told = planned.device.points.iter().zip(&*planned.points).filter_map(|(point, index)| {
            let object = super::item::object(point.bacnet()?.0).filter(|_| !point.auto().is_empty())?;
            Some((*index, point.auto().of(said.get(&object)?.semantics())))
        });
        let told: Vec<_> = told.collect();
        if !told.is_empty() {
            self.event(DeviceEvent::Semantics(told), out);
        }
    }

    /// A request is done with.
    pub(super) fn answered(
        &mut self,
        now: Instant,
        took: Duration,
        outcome: Result<Vec<u8>, Failure>,
        frames: Vec<FrameView>,
        out: &mut Outcomes,
    ) {
        self.wake();
        let Some(UnderWay { service, purpose, lateness }) = self.under_way.take() else { return };
        let is_silent = outcome == Err(Failure::Timeout);
        let counted = match &outcome {
            Ok(_) => Counted::Answer,
            Err(Failure::Timeout) => Counted::Timeout,
            Err(Failure::Error { error, .. }) => {
                Counted::Refusal(super::mapping::unread(&super::many::Unread::Error(*error)))
            }
            Err(_) => Counted::Refusal(Reason::ProtocolError),
        };
        if !self.devices.is_empty() {
            out.push(Outcome::Done { devices: Arc::clone(&self.devices), counted, took });
        }
        // Another device may be where it was.
        let is_it = !matches!(purpose, Purpose::Contest) && (outcome.is_ok() || !matches!(purpose, Purpose::Probe));
        if !is_silent && is_it {
            self.is_heard(now);
            self.binding.answers();
            self.is_back(now, out);
        }
        match purpose {
            Purpose::Contest => self.contested(now, &outcome, out),
            Purpose::Errand(id) => {
                if let Some(waiting) = self.errands.iter_mut().find(|waiting| waiting.id == id) {
                    waiting.errand.answered(&mut self.ways, Reply { outcome, took, frames });
                    // What was written is read by all that show it.
                    if service == ConfirmedService::WRITE_PROPERTY
                        && let Some(object) = waiting.errand.written()
                    {
                        let shows = |(_, item): &(usize, &Item)| item.object == object;
                        let shown = self.items.iter().enumerate().filter(shows).map(|(at, _)| at);
                        self.rounds.first(shown.collect());
                    }
                }
            }
            Purpose::Probe if is_silent => self.fell_silent(now, None, out),
            Purpose::Probe if outcome.is_err() => self.is_another(now, out),
            Purpose::Probe => {}
            Purpose::Backfill => {
                let mut batch = Vec::new();
                let Some(backfill) = &mut self.backfill else { return };
                let taken = backfill.answered(&mut self.ways, outcome, &self.items, &mut batch);
                self.tell(batch, Vec::new(), out);
                if taken.is_err() {
                    self.fell_silent(now, None, out);
                }
            }
            Purpose::Subscribe(what) => {
                let change = self.watches.answered(what, now, &outcome);
                self.watch_changed(change, out);
                if is_silent {
                    self.fell_silent(now, None, out);
                }
            }
            Purpose::Facts(mut many) => match many.answered(&mut self.ways, outcome) {
                Ok(()) => match many.next(&self.ways) {
                    Some((service, data)) => self.ask_again(service, data, Purpose::Facts(many), lateness),
                    None => self.known(now, many, out),
                },
                Err(_) => self.fell_silent(now, None, out),
            },
            Purpose::Poll { chunk, mut many, of, is_check } => match many.answered(&mut self.ways, outcome) {
                Ok(()) => match many.next(&self.ways) {
                    Some((service, data)) => {
                        self.ask_again(service, data, Purpose::Poll { chunk, many, of, is_check }, lateness);
                    }
                    None => {
                        self.polled(now, of, many, is_check, out);
                        if let Some((_, period)) = chunk.due {
                            out.push(Outcome::Polled { period, interval: None, lateness });
                        }
                    }
                },
                Err(_) => {
                    let suspect = (many.known() == 0).then(|| chunk.items.first().copied()).flatten();
                    self.fell_silent(now, suspect, out);
                }
            },
        }
    }

    fn is_heard(&mut self, now: Instant) {
        self.heard = now;
        if let Some(backfill) = self.backfill.as_ref().filter(|_| self.is_up) {
            backfill.is_heard(self.utc_millis);
        }
    }

    /// The next part of something that takes several requests.
    fn ask_again(&mut self, service: ConfirmedService, data: Vec<u8>, purpose: Purpose, lateness: Duration) {
        self.again = Some((service, data));
        self.under_way = Some(UnderWay { service, purpose, lateness });
    }

    /// How it can be asked is known.
    fn known(&mut self, now: Instant, many: ReadMany, out: &mut Outcomes) {
        let mut is_there = false;
        let mut said: BTreeMap<ObjectIdentifier, Described> = BTreeMap::new();
        for (wanted, told) in many.results() {
            if SEMANTICS.iter().any(|(property, _)| wanted.reference == (*property).into()) {
                if let Some(Ok(content)) = &told {
                    said.entry(wanted.object).or_default().take(wanted.reference.property, content);
                }
                continue;
            }
            let value = told.and_then(Result::ok).and_then(|content| content.one());
            match (wanted.reference.property, value) {
                (PropertyIdentifier::OBJECT_IDENTIFIER, Some(_)) => is_there = true,
                (PropertyIdentifier::MAX_APDU_LENGTH_ACCEPTED, Some(Told::Unsigned(octets))) => {
                    let told = MaxApdu::within(u32::try_from(octets).unwrap_or(u32::MAX));
                    let most = self.own.largest_message.map_or(MaxApdu::BACNET_IP, |most| MaxApdu::within(most.into()));
                    self.ways.max_apdu = told.min(most);
                }
                (PropertyIdentifier::SEGMENTATION_SUPPORTED, Some(Told::Enumerated(number))) => {
                    self.ways.segmentation = segmentation(number);
                }
                (PropertyIdentifier::PROTOCOL_SERVICES_SUPPORTED, Some(Told::BitString(bits))) => {
                    self.ways.reads_multiple &= bits.has(READS_MULTIPLE);
                    if !bits.has(SUBSCRIBES) {
                        self.watches.is_unknown(now);
                    }
                    self.watches.knows_properties(bits.has(SUBSCRIBES_PROPERTIES));
                }
                (PropertyIdentifier::COV_INCREMENT, Some(increment)) => {
                    let number = match increment {
                        // As it is written, and not as its nearest number of double precision.
                        Told::Real(number) => number.to_string().parse().ok(),
                        other => other.as_f64(),
                    };
                    if let Some(increment) = number.filter(|number| *number >= 0.0) {
                        self.increments.insert(wanted.object, increment);
                    }
                }
                _ => {}
            }
        }
        if !is_there {
            return self.is_another(now, out);
        }
        self.stage = Stage::Known;
        self.tell_semantics(&said, out);
        self.narrow_increments(out);
        self.show_requests(out);
        if self.items.is_empty() {
            self.is_up = true;
            self.event(DeviceEvent::Up, out);
        }
    }

    /// What a device tells only of larger moves than a point wants to see is asked for by what the point wants, where the device lets
    /// us say that; else it is said. Its own increment is never changed.
    fn narrow_increments(&mut self, out: &mut Outcomes) {
        let coarse: Vec<_> =
            self.items.iter().filter_map(|item| Some((item.watched(), self.is_too_coarse(item)?))).collect();
        let mut left = Vec::new();
        for (what, (text, raw)) in coarse {
            if !self.watches.narrow(what, raw) {
                left.push(text);
            }
        }
        self.report_coarse(left, out);
    }

    /// Whether the increment of an object is above the deadband of a point that shows it: in words, and the deadband in its raw values.
    fn is_too_coarse(&self, item: &Item) -> Option<(String, f32)> {
        let increment = self.increments.get(&item.object).filter(|_| item.is_watchable && item.is_value())?;
        let planned = self.planned.as_ref()?;
        let raw = |reader: &Reader| {
            let at = planned.points.iter().position(|point| *point == reader.point)?;
            let settings = &planned.device.points.get(at)?.settings;
            let raw = settings.deadband() / settings.scale.abs();
            (raw > 0.0 && raw < *increment).then(|| (format!("{} ({increment})", settings.name), single(raw)))
        };
        item.readers.iter().filter_map(raw).min_by(|(_, one), (_, other)| one.total_cmp(other))
    }

    fn report_coarse(&self, coarse: Vec<String>, out: &mut Outcomes) {
        if coarse.is_empty() {
            return;
        }
        let names: Vec<_> = coarse.into_iter().take(5).collect();
        let why = format!(
            "{}: COV_Increment is above the deadband of {}: smaller moves are not told",
            self.who(),
            names.join(", ")
        );
        self.event(DeviceEvent::Error(why), out);
    }

    fn polled(&mut self, now: Instant, of: Vec<usize>, many: ReadMany, is_check: bool, out: &mut Outcomes) {
        let (mut batch, mut types, mut again) = (Vec::with_capacity(of.len()), Vec::new(), Vec::new());
        let mut results = of.into_iter().zip(many.results()).peekable();
        while let Some((at, (wanted, told))) = results.next() {
            let Some(item) = self.items.get_mut(at) else { continue };
            let mut reading = Reading::default();
            told.into_iter().for_each(|told| item.take(&mut reading, &wanted, told));
            // What else of the same was read.
            while let Some((_, (wanted, told))) = results.next_if(|(next, _)| *next == at) {
                told.into_iter().for_each(|told| item.take(&mut reading, &wanted, told));
            }
            if is_check && let Some(Ok(read)) = &reading.value {
                let own = self.watches.increment(item.watched());
                let of_object = || self.increments.get(&item.object).copied().filter(|_| item.is_value());
                let increment = own.or_else(of_object);
                if item.is_other(read, reading.flags, increment) {
                    self.check.doubts.entry(at).or_insert(now);
                } else {
                    self.check.doubts.remove(&at);
                }
                // What was told of changes stands: a read value may be a move that is not told.
                continue;
            }
            if let Some(Err(why)) = &reading.value {
                let why = format!("{}: {} {}: {why}", super::frames::peer(self.instance), item.object, item.reference);
                if let Some(place) = self.place {
                    out.device(place, DeviceEvent::Error(why));
                }
            }
            if item.read(reading, now, &mut batch, &mut types) {
                again.push(at);
            }
        }
        self.rounds.first(again);
        self.tell(batch, types, out);
        self.came_up(out);
    }

    fn tell(
        &self,
        batch: Vec<interlex_core::RawSample>,
        types: Vec<(PointIndex, interlex_core::DataType)>,
        out: &mut Outcomes,
    ) {
        if !types.is_empty() {
            self.event(DeviceEvent::Types(types), out);
        }
        if !batch.is_empty() && self.place.is_some() {
            out.batch(|all| all.extend(batch));
        }
    }

    /// Everything was tried once.
    fn came_up(&mut self, out: &mut Outcomes) {
        if !self.is_up && self.silence.is_none() && self.items.iter().all(|item| item.was_tried) {
            self.is_up = true;
            self.event(DeviceEvent::Up, out);
            if let Some(backfill) = &mut self.backfill {
                backfill.is_back(self.utc_millis);
            }
        }
    }

    /// Differences to what was told that no change explains: the changes are not to be relied on.
    fn settle_doubts(&mut self, now: Instant, out: &mut Outcomes) {
        let is_over = |(_, since): &(&usize, &Instant)| now >= **since + ON_ITS_WAY;
        let over: Vec<_> = self.check.doubts.iter().filter(is_over).map(|(at, _)| *at).collect();
        for at in over {
            self.check.doubts.remove(&at);
            let Some(item) = self.items.get(at) else { continue };
            let why = format!(
                "{}: a change of {} was not told; it is polled until it is subscribed to anew",
                self.who(),
                item.object
            );
            self.watches.distrust(item.watched(), now);
            self.event(DeviceEvent::Error(why), out);
            self.rounds.first(vec![at]);
        }
    }

    fn watch_changed(&mut self, change: Change, out: &mut Outcomes) {
        match change {
            Change::Ends(at) => self.rounds.first(vec![at]),
            Change::Coarser(at) => {
                let coarse = self.items.get(at).and_then(|item| self.is_too_coarse(item)).map(|(text, _)| text);
                self.report_coarse(coarse.into_iter().collect(), out);
            }
            Change::Begins(_) | Change::Nothing => {}
        }
    }

    /// A change was told. One that is silent is asked at once whether it is back.
    pub(super) fn changed(&mut self, now: Instant, told: &CovNotification, out: &mut Outcomes) {
        self.wake();
        self.is_heard(now);
        if let Some(silence) = &mut self.silence {
            silence.probe_at = silence.probe_at.min(now);
        }
        let flags = told.value(PropertyIdentifier::STATUS_FLAGS).and_then(flags).unwrap_or(0);
        let (mut batch, mut types) = (Vec::new(), Vec::new());
        for (reference, content) in &told.values {
            let Some((at, _)) = self.watches.told((told.object, *reference), now) else { continue };
            self.check.doubts.remove(&at);
            let Some(item) = self.items.get_mut(at) else { continue };
            if item.tell(content.clone(), flags, &mut batch, &mut types) {
                self.rounds.first(vec![at]);
            }
        }
        self.tell(batch, types, out);
    }

    /// Whether a change that is told is of it.
    pub(super) fn is_of(&self, from: Peer, told: &CovNotification) -> bool {
        told.device.instance() == self.instance && self.binding.peer() == Some(from)
    }

    /// What is watched still holds as it was told, as long as the device is there.
    pub(super) fn confirm(&mut self, now: Instant, out: &mut Outcomes) {
        let is_due = self.confirmed.is_none_or(|at| now >= at + CONFIRMED_EVERY);
        if !is_due || self.silence.is_some() || self.place.is_none() {
            return;
        }
        let is_watched =
            |item: &&Item| item.is_watchable && item.last.is_some() && self.watches.is_watched(item.watched());
        let points: Vec<_> = self
            .items
            .iter()
            .filter(is_watched)
            .flat_map(|item| item.readers.iter().map(|reader| reader.point))
            .collect();
        if points.is_empty() {
            return;
        }
        self.confirmed = Some(now);
        out.push(Outcome::Confirmed(points));
    }

    /// Whether something of it is watched.
    fn is_watched(&self) -> bool {
        self.silence.is_none() && self.watches.active() > 0
    }

    /// What tells it that nobody wants to hear its changes any more.
    pub(super) fn cancellations(&self) -> Vec<(Peer, ConfirmedService, Vec<u8>, Terms)> {
        let Some(peer) = self.binding.peer().filter(|_| self.silence.is_none()) else { return Vec::new() };
        let terms = Terms { retries: 0, ..self.ways.terms() };
        self.watches.cancellations().into_iter().map(|(service, data)| (peer, service, data, terms)).collect()
    }

    fn show_requests(&mut self, out: &mut Outcomes) {
        let mut periods: Vec<_> = self.items.iter().map(|item| item.period).collect();
        periods.sort_unstable();
        periods.dedup();
        let of = |period: &Duration| {
            let is_of = |(_, item): &(usize, &Item)| item.period == *period;
            cut(&self.items, self.items.iter().enumerate().filter(is_of).map(|(at, _)| at), &self.ways).len()
        };
        let requests = periods.iter().map(of).sum();
        if self.shown_requests != requests {
            self.shown_requests = requests;
            self.event(DeviceEvent::Requests(requests), out);
        }
    }
}

/// A number as it stands in requests.
#[expect(clippy::cast_possible_truncation, reason = "the nearest single-precision number is meant")]
const fn single(number: f64) -> f32 {
    number as f32
}

fn segmentation(number: u32) -> Segmentation {
    match number {
        0 => Segmentation::Both,
        1 => Segmentation::Transmit,
        2 => Segmentation::Receive,
        _ => Segmentation::None,
    }
}

/// Cuts what is due into requests.
fn cut(items: &[Item], due: impl Iterator<Item = usize>, ways: &Ways) -> Vec<Vec<usize>> {
    let mut parts: Vec<Vec<usize>> = Vec::new();
    let mut lengths = Lengths::NONE;
    for at in due {
        let Some(item) = items.get(at) else { continue };
        lengths = item.lengthens(lengths);
        match parts.last_mut().filter(|_| lengths.fit(ways)) {
            Some(part) => part.push(at),
            None => {
                parts.push(vec![at]);
                lengths = item.lengthens(Lengths::NONE);
            }
        }
    }
    parts
}
