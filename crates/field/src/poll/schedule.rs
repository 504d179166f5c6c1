use super::Poll;
use super::device::{DeviceSchedule, Slot, Timed, WHOLE};
use interlex_core::{PointIndex, Reason};
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
pub(crate) struct Schedule<P: Poll> {
    devices: Vec<DeviceSchedule<P>>,
    rng: fastrand::Rng,
}

/// One request that is next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Due {
    pub(crate) at: Instant,
    pub(crate) device: usize,
    pub(crate) request: Which,
}

/// Which request of a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Which {
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
pub(crate) struct PlanView<P> {
    pub(crate) device: usize,
    pub(crate) poll: Arc<P>,
    /// Whether it is what was planned, and not a part of it.
    pub(crate) is_whole: bool,
    /// Why it gives no value.
    pub(crate) bad: Option<Reason>,
    /// How long until the planned request is tried whole again.
    pub(crate) retry_in: Option<Duration>,
}

impl<P: Poll> Schedule<P> {
    pub(crate) fn new(devices: Vec<Vec<Arc<P>>>, now: Instant, mut rng: fastrand::Rng) -> Self {
        let devices = devices.into_iter().map(|polls| DeviceSchedule::new(polls, now, &mut rng)).collect();
        Self { devices, rng }
    }

    /// Other devices from now on: each as the one at a place of before, with all that was learned, or new.
    pub(crate) fn change(&mut self, devices: Vec<Vec<Arc<P>>>, kept: &[Option<usize>], now: Instant) {
        let mut before: Vec<_> = std::mem::take(&mut self.devices).into_iter().map(Some).collect();
        for (polls, kept) in devices.into_iter().zip(kept) {
            let known = kept.and_then(|at| before.get_mut(at)?.take());
            self.devices.push(known.unwrap_or_else(|| DeviceSchedule::new(polls, now, &mut self.rng)));
        }
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
            device.moved_much();
            device.all_due(now);
        }
    }

    /// The request that is due first, of those that may be sent; `None` when there is none that is not under way.
    pub(crate) fn next(&mut self, may_be_sent: impl Fn(usize, &P) -> bool) -> Option<Due> {
        let mut first: Option<Due> = None;
        for (device, schedule) in self.devices.iter_mut().enumerate() {
            let may_be_sent = |poll: &P| may_be_sent(device, poll);
            let due = if let Some(at) = schedule.probe {
                let is_free =
                    !schedule.is_probing && schedule.next_probe().is_some_and(|plan| may_be_sent(&plan.whole));
                is_free.then_some(Due { at, device, request: Which::Probe })
            } else if schedule.not_before().is_none_or(|at| first.is_some_and(|first| first.at <= at)) {
                None
            } else {
                let of = |slot| match slot {
                    Slot::Poll(at) => Which::Poll(at),
                    Slot::Whole(at) => Which::Whole(at),
                };
                schedule.first(may_be_sent).map(|(at, slot)| Due { at, device, request: of(slot) })
            };
            // Of those that are due at once the first device is asked first.
            first = match (first, due) {
                (Some(first), Some(due)) if due.at < first.at => Some(due),
                (None, due) => due,
                (first, _) => first,
            };
        }
        first
    }

    /// What [`Schedule::next`] has to find, looked for among all requests.
    #[cfg(test)]
    pub(crate) fn next_of_all(&self, may_be_sent: impl Fn(usize, &P) -> bool) -> Option<Due> {
        let of_device = |(device, schedule): (usize, &DeviceSchedule<P>)| {
            if let Some(at) = schedule.probe {
                let may = schedule.next_probe().is_some_and(|plan| may_be_sent(device, &plan.whole));
                return (may && !schedule.is_probing).then_some(Due { at, device, request: Which::Probe });
            }
            let due = |(at, request), poll: &P| may_be_sent(device, poll).then_some(Due { at, device, request });
            let polls = schedule.polls.iter().enumerate().filter(|(_, timed)| !timed.is_in_flight);
            let polls = polls.filter_map(|(at, timed)| due((timed.due, Which::Poll(at)), timed.poll.as_deref()?));
            let wholes = schedule.plans.iter().enumerate().filter_map(|(at, plan)| {
                let retry = plan.retry.filter(|retry| !retry.is_in_flight)?;
                due((retry.at, Which::Whole(at)), &plan.whole)
            });
            polls.chain(wholes).min_by_key(|due| due.at)
        };
        self.devices.iter().enumerate().filter_map(of_device).min_by_key(|due| due.at)
    }

    /// Takes a request that is due; it is not due again until something has become of it.
    pub(crate) fn take(&mut self, due: Due) -> Option<Arc<P>> {
        let device = self.devices.get_mut(due.device)?;
        match due.request {
            Which::Poll(at) => {
                let timed = device.polls.get_mut(at)?;
                timed.is_in_flight = true;
                timed.poll.clone()
            }
            Which::Whole(at) => {
                let plan = device.plans.get_mut(at)?;
                plan.retry.as_mut()?.is_in_flight = true;
                Some(Arc::clone(&plan.whole))
            }
            Which::Probe => {
                let whole = &device.next_probe()?.whole;
                let narrow = whole.narrowed(device.probes / device.plans.len().max(1))?;
                device.probes += 1;
                device.is_probing = true;
                Some(Arc::new(narrow))
            }
        }
    }

    /// The device answered, with data or with a refusal that stands. Tells whether it came up by this: every request of
    /// it has been tried since it was silent.
    pub(crate) fn answered(&mut self, due: Due, now: Instant) -> bool {
        let Some(device) = self.devices.get_mut(due.device) else { return false };
        device.heard(now);
        match due.request {
            Which::Probe => {}
            Which::Poll(at) => {
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
                    device.moved_much();
                }
                if let Some(timed) = device.polls.get_mut(at) {
                    timed.due =
                        if is_first { now + timed.period().mul_f64(timed.place) } else { timed.next_due(due.at, now) };
                }
                device.moved(at);
                device.join(plan, now);
            }
            Which::Whole(at) => device.rejoin(at, due.at, now),
        }
        let came_up = !device.is_up && device.is_tried();
        device.is_up |= came_up;
        came_up
    }

    /// The device refused a request for its addresses: cuts it in two, both due now. `false` when it cannot be cut: then
    /// its one point is left alone for a while.
    pub(crate) fn refused(&mut self, due: Due, reason: Reason, now: Instant) -> Refused {
        let Some(device) = self.devices.get_mut(due.device) else { return Refused::Alone { came_up: false } };
        device.heard(now);
        match due.request {
            Which::Probe => Refused::Cut,
            Which::Whole(at) => {
                device.postpone(at, now);
                Refused::Cut
            }
            Which::Poll(at) if device.cut(at, now, false) => Refused::Cut,
            Which::Poll(at) => {
                device.alone(at, reason, now);
                if let Some(plan) = device.polls.get(at).map(|timed| timed.plan) {
                    device.join(plan, now);
                }
                let came_up = !device.is_up && device.is_tried();
                device.is_up |= came_up;
                Refused::Alone { came_up }
            }
        }
    }

    /// A request got no answer.
    pub(crate) fn fell_silent(&mut self, due: Due, now: Instant) -> Silence {
        let Some(device) = self.devices.get_mut(due.device) else { return Silence::Device };
        device.silences = device.silences.saturating_add(1);
        device.moved_much();
        match due.request {
            Which::Poll(at) if device.is_only_this(at) => {
                if device.cut(at, now, true) {
                    return Silence::Cut;
                }
                device.alone(at, Reason::Timeout, now);
                return Silence::Alone;
            }
            Which::Poll(at) => {
                if let Some(timed) = device.polls.get_mut(at) {
                    (timed.is_in_flight, timed.silent_at) = (false, Some(now));
                }
            }
            Which::Whole(at) => {
                device.postpone(at, now);
                // It had to be cut before, perhaps for its silence.
                return Silence::Cut;
            }
            Which::Probe => {}
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
            device.moved_much();
        }
    }

    /// Whatever reads a point of a device is due now.
    pub(crate) fn hasten(&mut self, device: usize, point: PointIndex, now: Instant) {
        let Some(device) = self.devices.get_mut(device) else { return };
        let polls = device.polls.iter_mut();
        polls
            .filter(|timed| timed.poll.as_ref().is_some_and(|poll| poll.reads(point)))
            .for_each(|timed| timed.due = now);
        device.moved_much();
    }

    /// How many requests a device is asked with now.
    pub(crate) fn requests_of(&self, device: usize) -> usize {
        let polls = self.devices.get(device).into_iter().flat_map(|device| &device.polls);
        polls.filter(|timed| timed.poll.is_some()).count()
    }

    /// Every request as it is sent.
    pub(crate) fn view(&self, now: Instant) -> Vec<PlanView<P>> {
        let of_device = |(device, schedule): (usize, &DeviceSchedule<P>)| {
            let view = |timed: &Timed<P>| {
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
