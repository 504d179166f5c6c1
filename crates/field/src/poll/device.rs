use super::Poll;
use interlex_core::{Backoff, Reason};
use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// The requests of one device: as planned, as sent, and what was learned.
#[derive(Debug)]
pub(super) struct DeviceSchedule<P: Poll> {
    /// The requests as planned.
    pub(super) plans: Vec<Plan<P>>,
    /// The requests as sent: the planned ones, or the parts that they had to be cut into.
    pub(super) polls: Vec<Timed<P>>,
    /// When to probe next, while it is silent.
    pub(super) probe: Option<Instant>,
    /// How many probes have been sent since it fell silent: each asks for another point.
    pub(super) probes: usize,
    pub(super) is_probing: bool,
    pub(super) backoff: Backoff,
    pub(super) is_up: bool,
    pub(super) answered_at: Option<Instant>,
    pub(super) silences: u32,
    /// What is due when. Entries that say something else than their request does are of before.
    order: BinaryHeap<Reverse<(Instant, Slot)>>,
    /// Whether every request that may be due is in the order: what happens seldom has it made anew.
    is_ordered: bool,
    /// All requests before this one have been tried.
    tried: usize,
}

/// What may be due, by its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Slot {
    /// One of the requests as sent.
    Poll(usize),
    /// A planned request that had to be cut, whole.
    Whole(usize),
}

#[derive(Debug)]
pub(super) struct Plan<P: Poll> {
    pub(super) whole: Arc<P>,
    /// When to try it whole again, once it had to be cut.
    pub(super) retry: Option<Retry>,
    /// Addresses at which parts begin that did not work together with the parts before them.
    pub(super) apart: Vec<P::Place>,
}

#[derive(Debug, Clone, Copy)]
pub(super) struct Retry {
    pub(super) at: Instant,
    pub(super) wait: Duration,
    pub(super) is_in_flight: bool,
}

#[derive(Debug)]
pub(super) struct Timed<P: Poll> {
    /// `None` for a part that has been put together with the others again; its place is free.
    pub(super) poll: Option<Arc<P>>,
    /// The place of the planned request that it is, or is a part of.
    pub(super) plan: usize,
    pub(super) due: Instant,
    pub(super) was_tried: bool,
    pub(super) is_in_flight: bool,
    /// Why a point that stands alone gives no value, and how long it is left alone.
    pub(super) bad: Option<(Reason, Duration)>,
    /// When it got no answer last.
    pub(super) silent_at: Option<Instant>,
    /// It is a part of something that got no answer.
    pub(super) is_suspect: bool,
    /// Where its second part begins, of two that are tried together for the first time.
    pub(super) joint: Option<P::Place>,
    /// Its place in its period, 0 to 1.
    pub(super) place: f64,
}

/// The longest wait between two probes of a silent device: a repaired one is back within a coffee.
const PROBE_LIMIT: Duration = Duration::from_secs(30);
const FIRST_PROBE: Duration = Duration::from_secs(1);
/// How long a point that gives no value is left alone: at first, and at the most.
const ALONE: (Duration, Duration) = (Duration::from_secs(5), Duration::from_secs(60));
/// After how long a request that had to be cut is tried whole again: at first, and at the most.
pub(super) const WHOLE: (Duration, Duration) = (Duration::from_secs(30), Duration::from_secs(600));
/// So many requests in a row without an answer are no accident of single addresses: the device is silent.
const SILENCES: u32 = 3;

impl<P: Poll> Timed<P> {
    pub(super) fn new(poll: Arc<P>, plan: usize, due: Instant, place: f64) -> Self {
        Self {
            poll: Some(poll),
            plan,
            due,
            was_tried: false,
            is_in_flight: false,
            bad: None,
            silent_at: None,
            is_suspect: false,
            joint: None,
            place,
        }
    }

    pub(super) fn period(&self) -> Duration {
        self.poll.as_ref().map_or(Duration::from_secs(1), |poll| poll.period())
    }

    pub(super) fn next_due(&self, asked_for: Instant, now: Instant) -> Instant {
        next_due(self.due, self.period(), asked_for, now)
    }
}

impl<P: Poll> DeviceSchedule<P> {
    pub(super) fn new(polls: Vec<Arc<P>>, now: Instant, rng: &mut fastrand::Rng) -> Self {
        let plans: Vec<_> = polls.into_iter().map(|whole| Plan { whole, retry: None, apart: Vec::new() }).collect();
        let timed = |(at, plan): (usize, &Plan<P>)| Timed::new(Arc::clone(&plan.whole), at, now, rng.f64());
        Self {
            polls: plans.iter().enumerate().map(timed).collect(),
            plans,
            probe: None,
            probes: 0,
            is_probing: false,
            backoff: Backoff::new(FIRST_PROBE, PROBE_LIMIT, rng.fork()),
            is_up: false,
            answered_at: None,
            silences: 0,
            order: BinaryHeap::new(),
            is_ordered: false,
            tried: 0,
        }
    }

    /// When something is due, and what is sent then; `None` while it is under way, or is no request.
    fn due(&self, slot: Slot) -> Option<(Instant, &P)> {
        match slot {
            Slot::Poll(at) => {
                let timed = self.polls.get(at).filter(|timed| !timed.is_in_flight)?;
                Some((timed.due, timed.poll.as_deref()?))
            }
            Slot::Whole(at) => {
                let plan = self.plans.get(at)?;
                Some((plan.retry.filter(|retry| !retry.is_in_flight)?.at, &plan.whole))
            }
        }
    }

    /// A request is due at another time, or may be sent again.
    pub(super) fn moved(&mut self, at: usize) {
        if self.is_ordered {
            self.order.extend(self.due(Slot::Poll(at)).map(|(due, _)| Reverse((due, Slot::Poll(at)))));
        }
    }

    /// More than one of its requests moved.
    pub(super) const fn moved_much(&mut self) {
        (self.is_ordered, self.tried) = (false, 0);
    }

    /// No request of it is due before.
    pub(super) fn not_before(&mut self) -> Option<Instant> {
        if !self.is_ordered {
            let slots = (0..self.polls.len()).map(Slot::Poll).chain((0..self.plans.len()).map(Slot::Whole));
            let order: Vec<_> = slots.filter_map(|slot| Some(Reverse((self.due(slot)?.0, slot)))).collect();
            (self.order, self.is_ordered) = (order.into(), true);
        }
        self.order.peek().map(|Reverse((at, _))| *at)
    }

    /// What is due first of all that may be sent.
    pub(super) fn first(&mut self, may_be_sent: impl Fn(&P) -> bool) -> Option<(Instant, Slot)> {
        let mut held = Vec::new();
        let mut first = None;
        while let Some((at, slot)) = self.not_before().and(self.order.peek()).map(|Reverse(entry)| *entry) {
            match self.due(slot) {
                Some((due, poll)) if due == at && may_be_sent(poll) => {
                    first = Some((at, slot));
                    break;
                }
                Some((due, _)) if due == at => held.extend(self.order.pop()),
                // It was of before.
                _ => _ = self.order.pop(),
            }
        }
        self.order.extend(held);
        first
    }

    /// Whether every request has been tried.
    pub(super) fn is_tried(&mut self) -> bool {
        let is_tried = |timed: &Timed<P>| timed.was_tried || timed.poll.is_none();
        let rest = self.polls.get(self.tried..).unwrap_or_default();
        self.tried += rest.iter().take_while(|timed| is_tried(timed)).count();
        self.tried >= self.polls.len()
    }

    /// The plan of which a point is asked when it is probed next.
    pub(super) fn next_probe(&self) -> Option<&Plan<P>> {
        self.plans.get(self.probes % self.plans.len().max(1))
    }

    /// Everything is due once now, and spread over its period from then on.
    pub(super) fn all_due(&mut self, now: Instant) {
        for timed in self.polls.iter_mut().filter(|timed| timed.bad.is_none()) {
            timed.due = now;
            timed.was_tried = false;
        }
        self.moved_much();
    }

    /// It answered something.
    pub(super) fn heard(&mut self, now: Instant) {
        self.answered_at = Some(now);
        self.silences = 0;
        self.is_probing = false;
        if self.probe.take().is_some() {
            self.probes = 0;
            self.backoff.reset();
            self.all_due(now);
        }
    }

    /// Whether silence is about this request and not about the device: the device answered others since this one was
    /// silent before, or this is a part of something that was silent by itself.
    pub(super) fn is_only_this(&self, at: usize) -> bool {
        self.polls.get(at).is_some_and(|timed| {
            let answered_since = timed.silent_at.is_some_and(|silent| self.answered_at > Some(silent));
            answered_since || (timed.is_suspect && self.silences < SILENCES)
        })
    }

    pub(super) fn cut(&mut self, at: usize, now: Instant, is_suspect: bool) -> bool {
        let Some(timed) = self.polls.get_mut(at) else { return false };
        let parts = timed.poll.as_ref().and_then(|poll| match timed.joint {
            Some(joint) => poll.split_at(joint),
            None => poll.split(),
        });
        let Some([one, two]) = parts else { return false };
        let (plan, place, joint) = (timed.plan, timed.place, timed.joint);
        (self.is_ordered, self.tried) = (false, 0);
        let part = |poll| Timed { is_suspect, ..Timed::new(Arc::new(poll), plan, now, place) };
        *timed = part(one);
        let free = self.polls.iter().position(|timed| timed.poll.is_none());
        match free.and_then(|free| self.polls.get_mut(free)) {
            Some(free) => *free = part(two),
            None => self.polls.push(part(two)),
        }
        if let Some(plan) = self.plans.get_mut(plan) {
            plan.apart.extend(joint);
            plan.retry.get_or_insert(Retry { at: now + WHOLE.0, wait: WHOLE.0, is_in_flight: false });
        }
        true
    }

    pub(super) fn alone(&mut self, at: usize, reason: Reason, now: Instant) {
        let Some(timed) = self.polls.get_mut(at) else { return };
        let wait = timed.bad.map_or(ALONE.0, |(_, wait)| (wait * 2).min(ALONE.1));
        timed.bad = Some((reason, wait));
        (timed.is_in_flight, timed.was_tried, timed.silent_at) = (false, true, Some(now));
        timed.due = now + wait.max(timed.period());
        self.moved_much();
    }

    pub(super) fn postpone(&mut self, plan: usize, now: Instant) {
        let Some(plan) = self.plans.get_mut(plan) else { return };
        if let Some(retry) = &mut plan.retry {
            let wait = (retry.wait * 2).min(WHOLE.1);
            *retry = Retry { at: now + wait, wait, is_in_flight: false };
            plan.apart.clear();
        }
        self.moved_much();
    }

    /// Puts two good neighbours of a planned request together again, once all its parts have been tried. One pair at a time:
    /// what fails then is known to fail for being together.
    pub(super) fn join(&mut self, plan: usize, now: Instant) {
        let Some(planned) = self.plans.get(plan).filter(|plan| plan.retry.is_some()) else { return };
        let parts = self.polls.iter().enumerate().filter(|(_, timed)| timed.plan == plan);
        let mut parts: Vec<_> = parts.filter_map(|(at, timed)| Some((at, timed, timed.poll.as_deref()?))).collect();
        if parts.iter().any(|(_, timed, _)| !timed.was_tried || timed.joint.is_some()) {
            return;
        }
        parts.sort_by_key(|(.., poll)| *poll.range().start());
        let is_good = |timed: &Timed<P>| timed.bad.is_none() && !timed.is_in_flight;
        let pair = parts.array_windows().find_map(|[(one, first, left), (two, second, right)]| {
            let joint = *right.range().start();
            let may = is_good(first) && is_good(second) && !planned.apart.contains(&joint);
            let joined = if may { left.joined(right)? } else { return None };
            let is_there = |poll: &P| joined.range().contains(poll.range().start());
            let has_bad = parts.iter().any(|(_, timed, poll)| timed.bad.is_some() && is_there(poll));
            (!has_bad).then_some((*one, *two, joint, joined))
        });
        let Some((one, two, joint, joined)) = pair else { return };
        if let Some(timed) = self.polls.get_mut(two) {
            timed.poll = None;
        }
        if let Some(timed) = self.polls.get_mut(one) {
            (timed.poll, timed.joint) = (Some(Arc::new(joined)), Some(joint));
            (timed.is_suspect, timed.due) = (true, now);
        }
        self.moved_much();
    }

    /// The whole request works again: its parts are needed no more.
    pub(super) fn rejoin(&mut self, plan: usize, asked_for: Instant, now: Instant) {
        let Some(planned) = self.plans.get_mut(plan) else { return };
        planned.retry = None;
        planned.apart.clear();
        let mut whole = Some(Arc::clone(&planned.whole));
        for timed in self.polls.iter_mut().filter(|timed| timed.plan == plan && timed.poll.is_some()) {
            timed.poll = whole.take();
            (timed.bad, timed.silent_at, timed.is_suspect, timed.was_tried) = (None, None, false, true);
            timed.joint = None;
            timed.due = timed.next_due(asked_for, now);
        }
        self.moved_much();
    }
}

/// The next moment of the grid that `due` stands on which lies after `now`.
fn next_due(due: Instant, period: Duration, asked_for: Instant, now: Instant) -> Instant {
    let base = due.max(asked_for);
    let late = now.saturating_duration_since(base);
    let periods = u32::try_from(late.as_nanos() / period.as_nanos().max(1)).unwrap_or(u32::MAX);
    base + period * periods.saturating_add(1)
}
