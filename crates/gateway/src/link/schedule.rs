use super::backoff::Backoff;
use crate::modbus::Poll;
use interlex_core::Reason;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// When to send which request of which device of one link.
///
/// What is due for the first time goes out at once, and from then on at a place in its period that chance gave it: not all
/// devices of a gateway, nor all requests of a device, are asked in the same moment. A request that is late is late once: what was missed meanwhile is
/// not caught up. A silent device is only probed, at a growing interval, and is back in full at its first answer.
///
/// A request that a device refuses, or that alone gets no answer, is cut in two until the bad points stand alone. Those
/// are asked seldom from then on, what lies between them is put together again as far as the device goes along, and the
/// whole request is tried again later, so that a repaired device heals.
#[derive(Debug)]
pub(crate) struct Schedule {
    devices: Vec<DeviceSchedule>,
}

#[derive(Debug)]
struct DeviceSchedule {
    /// The requests as planned.
    plans: Vec<Plan>,
    /// The requests as sent: the planned ones, or the parts that they had to be cut into.
    polls: Vec<Timed>,
    /// When to probe next, while it is silent.
    probe: Option<Instant>,
    /// How many probes have been sent since it fell silent: each asks for another point.
    probes: usize,
    is_probing: bool,
    backoff: Backoff,
    is_up: bool,
    answered_at: Option<Instant>,
    silences: u32,
}

#[derive(Debug)]
struct Plan {
    whole: Arc<Poll>,
    /// When to try it whole again, once it had to be cut.
    retry: Option<Retry>,
    /// Addresses at which parts begin that did not work together with the parts before them.
    apart: Vec<u16>,
}

#[derive(Debug, Clone, Copy)]
struct Retry {
    at: Instant,
    wait: Duration,
    is_in_flight: bool,
}

#[derive(Debug)]
struct Timed {
    /// `None` for a part that has been put together with the others again; its place is free.
    poll: Option<Arc<Poll>>,
    /// The place of the planned request that it is, or is a part of.
    plan: usize,
    due: Instant,
    was_tried: bool,
    is_in_flight: bool,
    /// Why a point that stands alone gives no value, and how long it is left alone.
    bad: Option<(Reason, Duration)>,
    /// When it got no answer last.
    silent_at: Option<Instant>,
    /// It is a part of something that got no answer.
    is_suspect: bool,
    /// Where its second part begins, of two that are tried together for the first time.
    joint: Option<u16>,
    /// Its place in its period, 0 to 1.
    place: f64,
}

/// One request that is next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Due {
    pub(crate) at: Instant,
    pub(crate) device: usize,
    pub(crate) what: What,
}

/// Which request of a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum What {
    /// One of those that are sent again and again.
    Poll(usize),
    /// One point, to find out whether a silent device is back.
    Probe,
    /// A planned request that had to be cut, whole.
    Whole(usize),
}

/// What silence means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Silence {
    /// The device is silent.
    Device,
    /// Only this request got no answer, and was cut in two.
    Cut,
    /// Only this request got no answer, and it asks for one point.
    Alone,
}

/// A request of a device, for people.
#[derive(Debug, Clone)]
pub(crate) struct PlanView {
    pub(crate) device: usize,
    pub(crate) poll: Arc<Poll>,
    /// Whether it is what was planned, and not a part of it.
    pub(crate) is_whole: bool,
    /// Why it gives no value.
    pub(crate) bad: Option<Reason>,
    /// How long until the planned request is tried whole again.
    pub(crate) retry_in: Option<Duration>,
}

/// The longest wait between two probes of a silent device: a repaired one is back within a coffee.
const PROBE_LIMIT: Duration = Duration::from_secs(30);
const FIRST_PROBE: Duration = Duration::from_secs(1);
/// How long a point that gives no value is left alone: at first, and at the most.
const ALONE: (Duration, Duration) = (Duration::from_secs(5), Duration::from_secs(60));
/// After how long a request that had to be cut is tried whole again: at first, and at the most.
const WHOLE: (Duration, Duration) = (Duration::from_secs(30), Duration::from_secs(600));
/// So many requests in a row without an answer are no accident of single addresses: the device is silent.
const SILENCES: u32 = 3;

impl Schedule {
    pub(crate) fn new(devices: Vec<Vec<Poll>>, now: Instant, rng: &mut fastrand::Rng) -> Self {
        let devices = devices.into_iter().map(|polls| {
            let plans: Vec<_> =
                polls.into_iter().map(|poll| Plan { whole: Arc::new(poll), retry: None, apart: Vec::new() }).collect();
            let timed = |(at, plan): (usize, &Plan)| Timed::new(Arc::clone(&plan.whole), at, now, rng.f64());
            DeviceSchedule {
                polls: plans.iter().enumerate().map(timed).collect(),
                plans,
                probe: None,
                probes: 0,
                is_probing: false,
                backoff: Backoff::new(FIRST_PROBE, PROBE_LIMIT, rng.fork()),
                is_up: false,
                answered_at: None,
                silences: 0,
            }
        });
        Self { devices: devices.collect() }
    }

    /// Starts over on a new connection: everything is due. What was learned about addresses is kept.
    pub(crate) fn restart(&mut self, now: Instant) {
        for device in &mut self.devices {
            device.probe = None;
            device.is_probing = false;
            device.silences = 0;
            device.backoff.reset();
            device.is_up = false;
            device.polls.iter_mut().for_each(|timed| timed.is_in_flight = false);
            for retry in device.plans.iter_mut().filter_map(|plan| plan.retry.as_mut()) {
                retry.is_in_flight = false;
            }
            device.all_due(now);
        }
    }

    /// The request that is due first, of those that may be sent; `None` when there is none that is not under way.
    pub(crate) fn next(&self, may_be_sent: impl Fn(usize, &Poll) -> bool) -> Option<Due> {
        let of_device = |(device, schedule): (usize, &DeviceSchedule)| {
            let may_be_sent = |poll: &Poll| may_be_sent(device, poll);
            if let Some(at) = schedule.probe {
                let is_free =
                    !schedule.is_probing && schedule.next_probe().is_some_and(|plan| may_be_sent(&plan.whole));
                return is_free.then_some(Due { at, device, what: What::Probe });
            }
            let is_free = |timed: &Timed| !timed.is_in_flight && timed.poll.as_deref().is_some_and(may_be_sent);
            let polls = schedule.polls.iter().enumerate().filter(|(_, timed)| is_free(timed));
            let polls = polls.map(|(at, timed)| Due { at: timed.due, device, what: What::Poll(at) });
            let wholes = schedule.plans.iter().enumerate().filter_map(|(at, plan)| {
                let retry = plan.retry.filter(|retry| !retry.is_in_flight && may_be_sent(&plan.whole))?;
                Some(Due { at: retry.at, device, what: What::Whole(at) })
            });
            polls.chain(wholes).min_by_key(|due| due.at)
        };
        self.devices.iter().enumerate().filter_map(of_device).min_by_key(|due| due.at)
    }

    /// Takes a request that is due; it is not due again until something has become of it.
    pub(crate) fn take(&mut self, due: Due) -> Option<Arc<Poll>> {
        let device = self.devices.get_mut(due.device)?;
        match due.what {
            What::Poll(at) => {
                let timed = device.polls.get_mut(at)?;
                timed.is_in_flight = true;
                timed.poll.clone()
            }
            What::Whole(at) => {
                let plan = device.plans.get_mut(at)?;
                plan.retry.as_mut()?.is_in_flight = true;
                Some(Arc::clone(&plan.whole))
            }
            What::Probe => {
                let whole = &device.next_probe()?.whole;
                let narrow = whole.narrowed(device.probes / device.plans.len().max(1))?;
                device.probes += 1;
                device.is_probing = true;
                Some(Arc::new(narrow))
            }
        }
    }

    /// All requests of a device as planned.
    pub(crate) fn polls_of(&self, device: usize) -> impl Iterator<Item = &Poll> {
        self.devices.get(device).into_iter().flat_map(|device| device.plans.iter().map(|plan| &*plan.whole))
    }

    /// The device answered, with data or with a refusal that stands. Tells whether it came up by this: every request of
    /// it has been tried since it was silent.
    pub(crate) fn answered(&mut self, due: Due, now: Instant) -> bool {
        let Some(device) = self.devices.get_mut(due.device) else { return false };
        device.heard(now);
        match due.what {
            What::Probe => {}
            What::Poll(at) => {
                let Some(timed) = device.polls.get_mut(at) else { return false };
                let is_first = !timed.was_tried;
                (timed.is_in_flight, timed.was_tried, timed.silent_at) = (false, true, None);
                if timed.joint.take().is_some() {
                    timed.is_suspect = false;
                }
                let plan = timed.plan;
                if timed.bad.take().is_some()
                    && let Some(retry) = device.plans.get_mut(plan).and_then(|plan| plan.retry.as_mut())
                {
                    // One point healed: the others may have, too.
                    retry.at = now;
                }
                timed.due =
                    if is_first { now + timed.period().mul_f64(timed.place) } else { timed.next_due(due.at, now) };
                device.join(plan, now);
            }
            What::Whole(at) => device.rejoin(at, due.at, now),
        }
        let came_up = !device.is_up && device.polls.iter().all(|timed| timed.was_tried || timed.poll.is_none());
        device.is_up |= came_up;
        came_up
    }

    /// The device refused a request for its addresses: cuts it in two, both due now. `false` when it cannot be cut: then
    /// its one point is left alone for a while.
    pub(crate) fn refused(&mut self, due: Due, reason: Reason, now: Instant) -> Refused {
        let Some(device) = self.devices.get_mut(due.device) else { return Refused::Alone { came_up: false } };
        device.heard(now);
        match due.what {
            What::Probe => Refused::Cut,
            What::Whole(at) => {
                device.postpone(at, now);
                Refused::Cut
            }
            What::Poll(at) if device.cut(at, now, false) => Refused::Cut,
            What::Poll(at) => {
                device.alone(at, reason, now);
                if let Some(plan) = device.polls.get(at).map(|timed| timed.plan) {
                    device.join(plan, now);
                }
                let came_up = !device.is_up && device.polls.iter().all(|timed| timed.was_tried || timed.poll.is_none());
                device.is_up |= came_up;
                Refused::Alone { came_up }
            }
        }
    }

    /// A request got no answer.
    pub(crate) fn fell_silent(&mut self, due: Due, now: Instant) -> Silence {
        let Some(device) = self.devices.get_mut(due.device) else { return Silence::Device };
        device.silences = device.silences.saturating_add(1);
        match due.what {
            What::Poll(at) if device.is_only_this(at) => {
                if device.cut(at, now, true) {
                    return Silence::Cut;
                }
                device.alone(at, Reason::Timeout, now);
                return Silence::Alone;
            }
            What::Poll(at) => {
                if let Some(timed) = device.polls.get_mut(at) {
                    (timed.is_in_flight, timed.silent_at) = (false, Some(now));
                }
            }
            What::Whole(at) => {
                device.postpone(at, now);
                // It had to be cut before, perhaps for its silence.
                return Silence::Cut;
            }
            What::Probe => {}
        }
        let was_probing = std::mem::take(&mut device.is_probing);
        // Others that were under way when it fell silent say nothing new.
        if device.probe.is_none() || was_probing {
            device.probe = Some(now + device.backoff.wait());
        }
        device.polls.iter_mut().for_each(|timed| timed.was_tried = false);
        device.is_up = false;
        Silence::Device
    }

    /// Whatever was learned of a device, or of all, is tried anew now.
    pub(crate) fn relearn(&mut self, device: Option<usize>, now: Instant) {
        let wanted = self.devices.iter_mut().enumerate().filter(|(at, _)| device.is_none_or(|device| device == *at));
        for (_, device) in wanted {
            for plan in &mut device.plans {
                plan.apart.clear();
                if let Some(retry) = &mut plan.retry {
                    (retry.at, retry.wait) = (now, WHOLE.0);
                }
            }
            for timed in device.polls.iter_mut().filter(|timed| timed.bad.is_some()) {
                timed.due = now;
            }
        }
    }

    /// Whatever reads a point of a device is due now.
    pub(crate) fn hasten(&mut self, device: usize, point: interlex_core::PointIndex, now: Instant) {
        let polls = self.devices.get_mut(device).into_iter().flat_map(|device| device.polls.iter_mut());
        polls
            .filter(|timed| timed.poll.as_ref().is_some_and(|poll| poll.reads(point)))
            .for_each(|timed| timed.due = now);
    }

    /// How many requests a device is asked with now.
    pub(crate) fn requests_of(&self, device: usize) -> usize {
        let polls = self.devices.get(device).into_iter().flat_map(|device| &device.polls);
        polls.filter(|timed| timed.poll.is_some()).count()
    }

    /// Every request as it is sent.
    pub(crate) fn view(&self, now: Instant) -> Vec<PlanView> {
        let of_device = |(device, schedule): (usize, &DeviceSchedule)| {
            let view = |timed: &Timed| {
                let retry = schedule.plans.get(timed.plan).and_then(|plan| plan.retry);
                Some(PlanView {
                    device,
                    poll: Arc::clone(timed.poll.as_ref()?),
                    is_whole: retry.is_none(),
                    bad: timed.bad.map(|(reason, _)| reason),
                    retry_in: retry.map(|retry| retry.at.saturating_duration_since(now)),
                })
            };
            schedule.polls.iter().filter_map(view).collect::<Vec<_>>()
        };
        self.devices.iter().enumerate().flat_map(of_device).collect()
    }
}

/// What became of a refused request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Refused {
    /// Its parts are asked for.
    Cut,
    /// It asks for one point; whether the device came up by this.
    Alone { came_up: bool },
}

impl Timed {
    fn new(poll: Arc<Poll>, plan: usize, due: Instant, place: f64) -> Self {
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

    fn period(&self) -> Duration {
        self.poll.as_ref().map_or(Duration::from_secs(1), |poll| poll.period)
    }

    fn next_due(&self, asked_for: Instant, now: Instant) -> Instant {
        next_due(self.due, self.period(), asked_for, now)
    }
}

impl DeviceSchedule {
    /// The plan of which a point is asked when it is probed next.
    fn next_probe(&self) -> Option<&Plan> {
        self.plans.get(self.probes % self.plans.len().max(1))
    }

    /// Everything is due once now, and spread over its period from then on.
    fn all_due(&mut self, now: Instant) {
        for timed in self.polls.iter_mut().filter(|timed| timed.bad.is_none()) {
            timed.due = now;
            timed.was_tried = false;
        }
    }

    /// It answered something.
    fn heard(&mut self, now: Instant) {
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
    fn is_only_this(&self, at: usize) -> bool {
        self.polls.get(at).is_some_and(|timed| {
            let answered_since = timed.silent_at.is_some_and(|silent| self.answered_at > Some(silent));
            answered_since || (timed.is_suspect && self.silences < SILENCES)
        })
    }

    fn cut(&mut self, at: usize, now: Instant, is_suspect: bool) -> bool {
        let Some(timed) = self.polls.get_mut(at) else { return false };
        let parts = timed.poll.as_ref().and_then(|poll| match timed.joint {
            Some(joint) => poll.split_at(joint),
            None => poll.split(),
        });
        let Some([one, two]) = parts else { return false };
        let (plan, place, joint) = (timed.plan, timed.place, timed.joint);
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

    fn alone(&mut self, at: usize, reason: Reason, now: Instant) {
        let Some(timed) = self.polls.get_mut(at) else { return };
        let wait = timed.bad.map_or(ALONE.0, |(_, wait)| (wait * 2).min(ALONE.1));
        timed.bad = Some((reason, wait));
        (timed.is_in_flight, timed.was_tried, timed.silent_at) = (false, true, Some(now));
        timed.due = now + wait.max(timed.period());
    }

    fn postpone(&mut self, plan: usize, now: Instant) {
        let Some(plan) = self.plans.get_mut(plan) else { return };
        if let Some(retry) = &mut plan.retry {
            let wait = (retry.wait * 2).min(WHOLE.1);
            *retry = Retry { at: now + wait, wait, is_in_flight: false };
            plan.apart.clear();
        }
    }

    /// Puts two good neighbours of a planned request together again, once all its parts have been tried. One pair at a time:
    /// what fails then is known to fail for being together.
    fn join(&mut self, plan: usize, now: Instant) {
        let Some(planned) = self.plans.get(plan).filter(|plan| plan.retry.is_some()) else { return };
        let parts = self.polls.iter().enumerate().filter(|(_, timed)| timed.plan == plan);
        let mut parts: Vec<_> = parts.filter_map(|(at, timed)| Some((at, timed, timed.poll.as_deref()?))).collect();
        if parts.iter().any(|(_, timed, _)| !timed.was_tried || timed.joint.is_some()) {
            return;
        }
        parts.sort_by_key(|(.., poll)| *poll.range().start());
        let is_good = |timed: &Timed| timed.bad.is_none() && !timed.is_in_flight;
        let pair = parts.array_windows().find_map(|[(one, first, left), (two, second, right)]| {
            let joint = *right.range().start();
            let may = is_good(first) && is_good(second) && !planned.apart.contains(&joint);
            let joined = if may { left.joined(right)? } else { return None };
            let is_there = |poll: &Poll| joined.range().contains(poll.range().start());
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
    }

    /// The whole request works again: its parts are needed no more.
    fn rejoin(&mut self, plan: usize, asked_for: Instant, now: Instant) {
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
    }
}

/// The next moment of the grid that `due` stands on which lies after `now`.
fn next_due(due: Instant, period: Duration, asked_for: Instant, now: Instant) -> Instant {
    let base = due.max(asked_for);
    let late = now.saturating_duration_since(base);
    let periods = u32::try_from(late.as_nanos() / period.as_nanos().max(1)).unwrap_or(u32::MAX);
    base + period * periods.saturating_add(1)
}

#[cfg(test)]
mod tests;
