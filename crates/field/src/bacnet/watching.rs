use interlex_bacnet::{
    ConfirmedService, CovTerms, Failure, ObjectIdentifier, PropertyIdentifier, PropertyReference, SubscribeCov,
};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// Subscriptions to the changes of objects: asked for one by one, renewed at half of their time, and tried anew where they failed.
/// What is not watched is polled.
#[derive(Debug)]
pub(super) struct Watches {
    process: u32,
    terms: CovTerms,
    lifetime: Duration,
    list: BTreeMap<Watched, Watch>,
    /// So many are taken at the most, as is described.
    most: usize,
    /// No more are asked for before: the device has no room for more.
    full_until: Option<Instant>,
    /// None is asked for before: the device does not know how.
    unknown_until: Option<Instant>,
    /// The device takes subscriptions to single properties.
    knows_properties: bool,
}

/// What is watched: a property of an object.
pub(super) type Watched = (ObjectIdentifier, PropertyReference);

#[derive(Debug, Clone, Copy)]
struct Watch {
    /// The place of what it watches.
    item: usize,
    state: State,
    /// By how much the value has to move, where we say that and not the device.
    increment: Option<f32>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum State {
    /// It is to be asked for, from a moment on.
    Wanted(Instant),
    /// It was asked for.
    Asked { was_active: bool },
    /// It was taken, and nothing was told yet, as has to be at once.
    Taken { at: Instant },
    /// Changes are told.
    Active { renew_at: Instant },
}

/// What becomes of a watch.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Change {
    /// It is watched from now on.
    Begins(usize),
    /// It is watched no more, and has to be polled at once.
    Ends(usize),
    /// The device does not let us say by how much it has to move.
    Coarser(usize),
    /// Nothing.
    Nothing,
}

fn is_present_value((_, reference): Watched) -> bool {
    reference == PropertyIdentifier::PRESENT_VALUE.into()
}

/// What failed is tried again after this.
const AGAIN: Duration = Duration::from_secs(600);
/// A device without room is asked for more after this.
const FULL: Duration = Duration::from_secs(900);
/// What was subscribed to is told at once: a device that does not do so within this does not tell.
const FIRST: Duration = Duration::from_secs(10);
/// An error class of the standard: there is no room.
const RESOURCES: u32 = 3;

impl Watches {
    pub(super) fn new(process: u32, lifetime: Duration, is_confirmed: bool, most: Option<u32>) -> Self {
        let seconds = u32::try_from(lifetime.as_secs()).unwrap_or(u32::MAX);
        Self {
            process,
            terms: CovTerms { is_confirmed, lifetime: seconds },
            lifetime,
            list: BTreeMap::new(),
            most: most.map_or(usize::MAX, |most| usize::try_from(most).unwrap_or(usize::MAX)),
            full_until: None,
            unknown_until: None,
            knows_properties: false,
        }
    }

    /// A property is to be watched, where the device does that.
    pub(super) fn want(&mut self, what: Watched, item: usize, now: Instant) {
        if self.list.len() < self.most {
            self.list.insert(what, Watch { item, state: State::Wanted(now), increment: None });
        }
    }

    /// Whether the device takes subscriptions to single properties, with an increment of ours.
    pub(super) fn knows_properties(&mut self, knows: bool) {
        self.knows_properties = knows;
        if !knows {
            self.list.values_mut().for_each(|watch| watch.increment = None);
        }
    }

    /// A value is to be told when it moves by this; whether the device can be asked for that.
    pub(super) fn narrow(&mut self, what: Watched, increment: f32) -> bool {
        let watch = self.list.get_mut(&what).filter(|_| self.knows_properties);
        let is_possible = watch.is_some();
        if let Some(watch) = watch {
            watch.increment = Some(increment);
        }
        is_possible
    }

    /// By how much a value has to move to be told, where we said that.
    pub(super) fn increment(&self, what: Watched) -> Option<f64> {
        // As it is written, and not as its nearest number of double precision.
        self.list.get(&what)?.increment?.to_string().parse().ok()
    }

    /// None is asked for: the device does not know how. It may have learned it by then.
    pub(super) fn is_unknown(&mut self, now: Instant) {
        self.unknown_until = Some(now + AGAIN);
    }

    pub(super) fn is_watched(&self, what: Watched) -> bool {
        self.list.get(&what).is_some_and(|watch| match watch.state {
            State::Active { .. } => true,
            State::Asked { was_active } => was_active,
            State::Wanted(_) | State::Taken { .. } => false,
        })
    }

    /// How many are watched.
    pub(super) fn active(&self) -> usize {
        self.list.keys().filter(|what| self.is_watched(**what)).count()
    }

    /// Nobody tells anything any more: all are to be asked for anew.
    pub(super) fn forget(&mut self, now: Instant) {
        (self.full_until, self.unknown_until) = (None, None);
        self.list.values_mut().for_each(|watch| watch.state = State::Wanted(now));
    }

    fn may_ask(&self, now: Instant) -> bool {
        let until = [self.full_until, self.unknown_until].into_iter().flatten().max();
        until.is_none_or(|until| until <= now)
    }

    /// Whether the device can be asked for it.
    fn can_be(&self, what: Watched) -> bool {
        self.knows_properties || is_present_value(what)
    }

    fn due_at(&self, what: Watched, watch: &Watch) -> Option<Instant> {
        match watch.state {
            State::Wanted(_) if !self.can_be(what) => None,
            State::Wanted(at) => {
                let until = [self.full_until, self.unknown_until].into_iter().flatten().max();
                Some(until.map_or(at, |until| at.max(until)))
            }
            State::Active { renew_at } => Some(renew_at),
            State::Taken { at } => Some(at + FIRST),
            State::Asked { .. } => None,
        }
    }

    /// When there is something to do.
    pub(super) fn due(&self) -> Option<Instant> {
        self.list.iter().filter_map(|(what, watch)| self.due_at(*what, watch)).min()
    }

    /// Watches that were taken and of which nothing was told.
    pub(super) fn handle_timeout(&mut self, now: Instant) {
        for watch in self.list.values_mut() {
            if let State::Taken { at } = watch.state
                && now >= at + FIRST
            {
                watch.state = State::Wanted(now + AGAIN);
            }
        }
    }

    /// The next request, with what it is about: what ends soon first.
    pub(super) fn next(&mut self, now: Instant) -> Option<(Watched, ConfirmedService, Vec<u8>)> {
        let is_renewal = |watch: &Watch| matches!(watch.state, State::Active { renew_at } if renew_at <= now);
        let is_new = |watch: &Watch| matches!(watch.state, State::Wanted(at) if at <= now);
        let renewal = self.list.iter().find(|(_, watch)| is_renewal(watch)).map(|(what, _)| *what);
        let may_ask = self.may_ask(now);
        let is_wanted = |(what, watch): &(&Watched, &Watch)| may_ask && is_new(watch) && self.can_be(**what);
        let what = renewal.or_else(|| self.list.iter().find(is_wanted).map(|(what, _)| *what))?;
        let watch = self.list.get_mut(&what)?;
        watch.state = State::Asked { was_active: renewal.is_some() };
        let increment = watch.increment;
        let (service, data) = self.subscription(what, increment, Some(self.terms));
        Some((what, service, data))
    }

    /// The present value is watched as its object tells it, unless we say by how much it has to move.
    fn subscription(
        &self,
        what: Watched,
        increment: Option<f32>,
        terms: Option<CovTerms>,
    ) -> (ConfirmedService, Vec<u8>) {
        let property = (increment.is_some() || !is_present_value(what)).then_some((what.1, increment));
        let mut data = Vec::new();
        SubscribeCov { process: self.process, object: what.0, terms, property }.encode(&mut data);
        let is_property = property.is_some();
        let service =
            if is_property { ConfirmedService::SUBSCRIBE_COV_PROPERTY } else { ConfirmedService::SUBSCRIBE_COV };
        (service, data)
    }

    /// What became of it; an error where the device is silent.
    pub(super) fn answered(&mut self, what: Watched, now: Instant, outcome: &Result<Vec<u8>, Failure>) -> Change {
        let (lifetime, active) = (self.lifetime, self.active());
        let Some(watch) = self.list.get_mut(&what) else { return Change::Nothing };
        let was_active = matches!(watch.state, State::Asked { was_active: true } | State::Active { .. });
        match outcome {
            Ok(_) => {
                // What it told before it said so counts.
                watch.state = match (was_active, watch.state) {
                    (true, _) => State::Active { renew_at: now + lifetime / 2 },
                    (false, _) => State::Taken { at: now },
                };
                return Change::Nothing;
            }
            Err(Failure::Error { error, .. }) if error.class == RESOURCES && active > 0 => {
                self.full_until = Some(now + FULL);
                watch.state = State::Wanted(now);
            }
            // What it does not do for one property may be had from its object.
            Err(Failure::Reject(_) | Failure::Error { .. }) if watch.increment.take().is_some() => {
                watch.state = State::Wanted(now);
                return if was_active { Change::Ends(watch.item) } else { Change::Coarser(watch.item) };
            }
            Err(Failure::Reject(_)) if !is_present_value(what) => watch.state = State::Wanted(now + AGAIN),
            Err(Failure::Reject(_)) => {
                self.unknown_until = Some(now + AGAIN);
                watch.state = State::Wanted(now);
            }
            Err(Failure::Timeout) => watch.state = State::Wanted(now),
            Err(_) => watch.state = State::Wanted(now + AGAIN),
        }
        if was_active { Change::Ends(watch.item) } else { Change::Nothing }
    }

    /// A change was told; which item it is of, and whether it is watched by that.
    pub(super) fn told(&mut self, what: Watched, now: Instant) -> Option<(usize, Change)> {
        let lifetime = self.lifetime;
        let watch = self.list.get_mut(&what)?;
        let change = match watch.state {
            State::Taken { .. } => {
                watch.state = State::Active { renew_at: now + lifetime / 2 };
                Change::Begins(watch.item)
            }
            // It comes before it is said that it was taken: it counts as active once that is said.
            State::Asked { was_active: false } => {
                watch.state = State::Asked { was_active: true };
                Change::Begins(watch.item)
            }
            // It is known from before, and is asked for in any case.
            State::Wanted(_) | State::Asked { was_active: true } | State::Active { .. } => Change::Nothing,
        };
        Some((watch.item, change))
    }

    /// Something changed that was not told: it is asked for anew.
    pub(super) fn distrust(&mut self, what: Watched, now: Instant) {
        if let Some(watch) = self.list.get_mut(&what) {
            watch.state = State::Wanted(now);
        }
    }

    /// What tells the device that nobody wants to hear its changes any more.
    pub(super) fn cancellations(&self) -> Vec<(ConfirmedService, Vec<u8>)> {
        let is_known = |watch: &Watch| !matches!(watch.state, State::Wanted(_));
        let known = self.list.iter().filter(|(_, watch)| is_known(watch));
        known.map(|(what, watch)| self.subscription(*what, watch.increment, None)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_bacnet::{Error, ObjectType, RejectReason};

    fn object(instance: u32) -> Watched {
        (ObjectIdentifier::new(ObjectType::ANALOG_INPUT, instance).unwrap(), PropertyIdentifier::PRESENT_VALUE.into())
    }

    fn watches(count: u32, now: Instant) -> Watches {
        let mut watches = Watches::new(7, Duration::from_secs(600), true, None);
        (0..count).for_each(|at| watches.want(object(at), usize::try_from(at).unwrap(), now));
        watches
    }

    #[test]
    fn a_watch_holds_once_something_was_told_and_is_renewed_at_half() {
        let now = tokio::time::Instant::now().into_std();
        let mut watches = watches(2, now);
        assert_eq!(watches.next(now).unwrap().0, object(0));
        assert_eq!(watches.told(object(0), now), Some((0, Change::Begins(0))), "before it is said that it was taken");
        assert_eq!(watches.answered(object(0), now, &Ok(vec![])), Change::Nothing);
        watches.next(now).unwrap();
        watches.answered(object(1), now, &Ok(vec![]));
        assert_eq!(
            (watches.is_watched(object(0)), watches.is_watched(object(1)), watches.next(now)),
            (true, false, None)
        );
        assert_eq!(watches.told(object(1), now), Some((1, Change::Begins(1))));
        let half = now + Duration::from_secs(300);
        assert_eq!((watches.due(), watches.next(half).unwrap().0), (Some(half), object(0)));
        assert!(watches.is_watched(object(0)), "while it is renewed");
        assert_eq!(watches.answered(object(0), half, &Err(Failure::Timeout)), Change::Ends(0));
        assert_eq!((watches.active(), watches.cancellations().len()), (1, 1));
    }

    #[test]
    fn what_a_device_does_not_take_is_asked_for_seldom() {
        let now = tokio::time::Instant::now().into_std();
        let mut full = watches(3, now);
        full.next(now).unwrap();
        full.told(object(0), now);
        full.answered(object(0), now, &Ok(vec![]));
        full.next(now).unwrap();
        let error = Error::NO_SPACE_FOR_SUBSCRIPTION;
        assert_eq!(full.answered(object(1), now, &Err(Failure::Error { error, data: vec![] })), Change::Nothing);
        assert_eq!(full.next(now), None, "it has no room for the third one either");
        assert!(full.next(now + FULL).is_some());
        let mut unknown = watches(3, now);
        unknown.next(now).unwrap();
        unknown.answered(object(0), now, &Err(Failure::Reject(RejectReason::UNRECOGNIZED_SERVICE)));
        assert_eq!((unknown.next(now), unknown.due()), (None, Some(now + AGAIN)));
        let mut mute = watches(1, now);
        mute.next(now).unwrap();
        mute.answered(object(0), now, &Ok(vec![]));
        mute.handle_timeout(now + FIRST);
        assert_eq!((mute.is_watched(object(0)), mute.due()), (false, Some(now + FIRST + AGAIN)));
    }

    #[test]
    fn a_property_is_watched_by_itself_where_a_device_does_that() {
        let now = tokio::time::Instant::now().into_std();
        let mut watches = watches(1, now);
        let limit = (object(0).0, PropertyIdentifier::HIGH_LIMIT.into());
        watches.want(limit, 1, now);
        assert!(!watches.narrow(object(0), 0.1), "as long as it is not known to do that");
        let next = |watches: &mut Watches| watches.next(now).map(|(what, service, _)| (what, service));
        assert_eq!(next(&mut watches), Some((object(0), ConfirmedService::SUBSCRIBE_COV)));
        assert_eq!((next(&mut watches), watches.due()), (None, None), "the limit is polled");
        watches.knows_properties(true);
        watches.forget(now);
        assert!(watches.narrow(object(0), 0.1));
        assert_eq!(watches.increment(object(0)), Some(0.1));
        let property = ConfirmedService::SUBSCRIBE_COV_PROPERTY;
        assert_eq!(next(&mut watches), Some((limit, property)));
        assert_eq!(next(&mut watches), Some((object(0), property)));
        let refused = Err(Failure::Reject(RejectReason::UNRECOGNIZED_SERVICE));
        assert_eq!(watches.answered(object(0), now, &refused), Change::Coarser(0));
        assert_eq!(next(&mut watches), Some((object(0), ConfirmedService::SUBSCRIBE_COV)), "as its object tells it");
        assert_eq!(watches.increment(object(0)), None);
    }
}
