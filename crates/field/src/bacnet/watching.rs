use interlex_bacnet::{CovTerms, Failure, ObjectIdentifier, SubscribeCov};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// Subscriptions to the changes of objects: asked for one by one, renewed at half of their time, and tried anew where they failed.
/// What is not watched is polled.
#[derive(Debug)]
pub(super) struct Watches {
    process: u32,
    terms: CovTerms,
    lifetime: Duration,
    list: BTreeMap<ObjectIdentifier, Watch>,
    /// So many are taken at the most, as is described.
    most: usize,
    /// No more are asked for before: the device has no room for more.
    full_until: Option<Instant>,
    /// None is asked for before: the device does not know how.
    unknown_until: Option<Instant>,
}

#[derive(Debug, Clone, Copy)]
struct Watch {
    /// The place of what it watches.
    item: usize,
    state: State,
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
    /// Nothing.
    Nothing,
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
        }
    }

    /// An object is to be watched, where the device does that.
    pub(super) fn want(&mut self, object: ObjectIdentifier, item: usize, now: Instant) {
        if self.list.len() < self.most {
            self.list.insert(object, Watch { item, state: State::Wanted(now) });
        }
    }

    /// None is asked for: the device does not know how. It may have learned it by then.
    pub(super) fn is_unknown(&mut self, now: Instant) {
        self.unknown_until = Some(now + AGAIN);
    }

    pub(super) fn is_watched(&self, object: ObjectIdentifier) -> bool {
        self.list.get(&object).is_some_and(|watch| match watch.state {
            State::Active { .. } => true,
            State::Asked { was_active } => was_active,
            State::Wanted(_) | State::Taken { .. } => false,
        })
    }

    /// How many are watched.
    pub(super) fn active(&self) -> usize {
        self.list.keys().filter(|object| self.is_watched(**object)).count()
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

    fn due_at(&self, watch: &Watch) -> Option<Instant> {
        match watch.state {
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
        self.list.values().filter_map(|watch| self.due_at(watch)).min()
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

    /// The next request, with the object that it is about: those that end soon first.
    pub(super) fn next(&mut self, now: Instant) -> Option<(ObjectIdentifier, Vec<u8>)> {
        let is_renewal = |watch: &Watch| matches!(watch.state, State::Active { renew_at } if renew_at <= now);
        let is_new = |watch: &Watch| matches!(watch.state, State::Wanted(at) if at <= now);
        let renewal = self.list.iter().find(|(_, watch)| is_renewal(watch)).map(|(object, _)| *object);
        let may_ask = self.may_ask(now);
        let object = renewal
            .or_else(|| self.list.iter().find(|(_, watch)| may_ask && is_new(watch)).map(|(object, _)| *object))?;
        let watch = self.list.get_mut(&object)?;
        watch.state = State::Asked { was_active: renewal.is_some() };
        let mut data = Vec::new();
        SubscribeCov { process: self.process, object, terms: Some(self.terms), property: None }.encode(&mut data);
        Some((object, data))
    }

    /// What became of it; an error where the device is silent.
    pub(super) fn answered(
        &mut self,
        object: ObjectIdentifier,
        now: Instant,
        outcome: &Result<Vec<u8>, Failure>,
    ) -> Change {
        let (lifetime, active) = (self.lifetime, self.active());
        let Some(watch) = self.list.get_mut(&object) else { return Change::Nothing };
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
    pub(super) fn told(&mut self, object: ObjectIdentifier, now: Instant) -> Option<(usize, Change)> {
        let lifetime = self.lifetime;
        let watch = self.list.get_mut(&object)?;
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
    pub(super) fn distrust(&mut self, object: ObjectIdentifier, now: Instant) {
        if let Some(watch) = self.list.get_mut(&object) {
            watch.state = State::Wanted(now);
        }
    }

    /// What tells the device that nobody wants to hear its changes any more.
    pub(super) fn cancellations(&self) -> Vec<Vec<u8>> {
        let cancel = |object: &ObjectIdentifier| {
            let mut data = Vec::new();
            SubscribeCov { process: self.process, object: *object, terms: None, property: None }.encode(&mut data);
            data
        };
        let is_known = |watch: &Watch| !matches!(watch.state, State::Wanted(_));
        self.list.iter().filter(|(_, watch)| is_known(watch)).map(|(object, _)| cancel(object)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_bacnet::{Error, ObjectType, RejectReason};

    fn object(instance: u32) -> ObjectIdentifier {
        ObjectIdentifier::new(ObjectType::ANALOG_INPUT, instance).unwrap()
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
}
