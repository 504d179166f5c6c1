use super::backoff::Backoff;
use crate::modbus::Poll;
use std::time::{Duration, Instant};

/// When to send which request of which device of one link.
///
/// First requests are spread over their period. A request that is late is late once: what was missed meanwhile is
/// not caught up. A silent device is only probed, at a growing interval, and is back in full at its first answer.
#[derive(Debug)]
pub(crate) struct Schedule {
    devices: Vec<DeviceSchedule>,
}

#[derive(Debug)]
struct DeviceSchedule {
    polls: Vec<Timed>,
    /// When to probe next, while it is silent.
    probe: Option<Instant>,
    backoff: Backoff,
    is_up: bool,
}

#[derive(Debug)]
struct Timed {
    poll: Poll,
    due: Instant,
    was_tried: bool,
}

/// One request that is next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Due {
    pub(crate) at: Instant,
    pub(crate) device: usize,
    pub(crate) poll: usize,
}

/// The longest wait between two probes of a silent device: a repaired one is back within a coffee.
const PROBE_LIMIT: Duration = Duration::from_secs(30);
const FIRST_PROBE: Duration = Duration::from_secs(1);

impl Schedule {
    pub(crate) fn new(devices: Vec<Vec<Poll>>, now: Instant, rng: &mut fastrand::Rng) -> Self {
        let devices = devices.into_iter().map(|polls| DeviceSchedule {
            polls: polls.into_iter().map(|poll| Timed { poll, due: now, was_tried: false }).collect(),
            probe: None,
            backoff: Backoff::new(FIRST_PROBE, PROBE_LIMIT, rng.fork()),
            is_up: false,
        });
        Self { devices: devices.collect() }
    }

    /// Starts over on a new connection: everything is due, nothing is known.
    pub(crate) fn restart(&mut self, now: Instant) {
        for device in &mut self.devices {
            device.probe = None;
            device.backoff.reset();
            device.is_up = false;
            device.all_due(now);
        }
    }

    /// The request that is due first; `None` when there are no requests at all.
    pub(crate) fn next(&self) -> Option<Due> {
        let of_device = |(device, schedule): (usize, &DeviceSchedule)| match schedule.probe {
            Some(at) => (!schedule.polls.is_empty()).then_some(Due { at, device, poll: 0 }),
            None => {
                let polls = schedule.polls.iter().enumerate();
                let earliest = polls.min_by_key(|(_, timed)| timed.due)?;
                Some(Due { at: earliest.1.due, device, poll: earliest.0 })
            }
        };
        self.devices.iter().enumerate().filter_map(of_device).min_by_key(|due| due.at)
    }

    pub(crate) fn poll(&self, due: Due) -> Option<&Poll> {
        self.devices.get(due.device)?.polls.get(due.poll).map(|timed| &timed.poll)
    }

    /// All requests of a device.
    pub(crate) fn polls_of(&self, device: usize) -> impl Iterator<Item = &Poll> {
        self.devices.get(device).into_iter().flat_map(|device| device.polls.iter().map(|timed| &timed.poll))
    }

    /// The device answered, with data or with a refusal. Tells whether it came up by this: every request of it has
    /// been tried since it was silent.
    pub(crate) fn answered(&mut self, due: Due, now: Instant) -> bool {
        let Some(device) = self.devices.get_mut(due.device) else { return false };
        if device.probe.take().is_some() {
            device.backoff.reset();
            device.all_due(now);
        }
        if let Some(timed) = device.polls.get_mut(due.poll) {
            timed.was_tried = true;
            timed.due = next_due(timed.due, timed.poll.period, due.at, now);
        }
        let came_up = !device.is_up && device.polls.iter().all(|timed| timed.was_tried);
        device.is_up |= came_up;
        came_up
    }

    /// The device did not answer. Tells whether it was up before.
    pub(crate) fn fell_silent(&mut self, due: Due, now: Instant) -> bool {
        let Some(device) = self.devices.get_mut(due.device) else { return false };
        device.probe = Some(now + device.backoff.wait());
        device.polls.iter_mut().for_each(|timed| timed.was_tried = false);
        std::mem::take(&mut device.is_up)
    }

    /// The device refused a request for its addresses: cuts it in two, both due now. `false` when it cannot be cut.
    pub(crate) fn split(&mut self, due: Due, now: Instant) -> bool {
        let Some(device) = self.devices.get_mut(due.device) else { return false };
        let Some(timed) = device.polls.get(due.poll) else { return false };
        let Ok(halves) = timed.poll.clone().split() else { return false };
        device.polls.remove(due.poll);
        device.polls.extend(halves.map(|poll| Timed { poll, due: now, was_tried: false }));
        true
    }
}

impl DeviceSchedule {
    /// Everything is due once now, and spread over its period from then on.
    fn all_due(&mut self, now: Instant) {
        for timed in &mut self.polls {
            timed.due = now;
            timed.was_tried = false;
        }
    }
}

/// The next moment of the grid that `due` stands on which lies after `now`.
///
/// A first request, due at the start, moves to its own place in the period by the time that the ones before it took.
fn next_due(due: Instant, period: Duration, asked_for: Instant, now: Instant) -> Instant {
    let base = due.max(asked_for);
    let late = now.saturating_duration_since(base);
    let periods = u32::try_from(late.as_nanos() / period.as_nanos().max(1)).unwrap_or(u32::MAX);
    base + period * periods.saturating_add(1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_core::description::{Files, read};

    const MS: Duration = Duration::from_millis(1);

    fn polls(points: &str) -> Vec<Poll> {
        let gateway = "[gateway]\nname = \"g\"\n[rates]\nfast = \"100ms\"\nslow = \"1s\"\n[[link]]\nname = \"l\"\nprotocol \
                       = \"modbus-tcp\"\nhost = \"h\"\n[[device]]\nname = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
        let files: Files = [("gateway.toml".into(), gateway.into()), ("p.csv".into(), points.into())].into();
        let description = read(&files).unwrap();
        let index = |position| interlex_core::PointIndex(u32::try_from(position).unwrap());
        crate::modbus::polls(&description.devices[0], index, |rate| description.rates[rate].into())
    }

    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    fn start() -> Instant {
        Instant::now()
    }

    fn schedule(devices: Vec<Vec<Poll>>, now: Instant) -> Schedule {
        Schedule::new(devices, now, &mut fastrand::Rng::with_seed(1))
    }

    const TWO: &str = "name,address,type,rate\na,holding:0,uint16,fast\nb,input:0,uint16,slow\n";

    #[test]
    fn every_request_keeps_its_period_and_late_ones_are_late_once() {
        let start = start();
        let mut schedule = schedule(vec![polls(TWO)], start);
        let mut sent = [Vec::new(), Vec::new()];
        let mut now = start;
        while now < start + 1000 * MS {
            let due = schedule.next().unwrap();
            now = now.max(due.at);
            // The line is stuck for a third of a second once.
            now += if now >= start + 500 * MS && now < start + 520 * MS { 333 * MS } else { MS };
            sent[due.poll].push((now - start).as_millis());
            schedule.answered(due, now);
        }
        assert_eq!(sent[0], [1, 101, 201, 301, 401, 833, 901, 1001], "no burst after the stop");
        assert_eq!(sent[1], [2]);
    }

    #[test]
    fn a_silent_device_is_only_probed_and_back_in_full_at_its_first_answer() {
        let start = start();
        let mut schedule = schedule(vec![polls(TWO), polls(TWO)], start);
        let due = schedule.next().unwrap();
        assert!(!schedule.fell_silent(due, start), "it was never up");
        let mut probes = 0;
        for _ in 0..700 {
            let due = schedule.next().unwrap();
            match due.device == 0 {
                true => {
                    probes += 1;
                    schedule.fell_silent(due, due.at);
                }
                false => {
                    schedule.answered(due, due.at);
                }
            }
        }
        assert!((4..9).contains(&probes), "{probes} probes in a minute");
        let probe = loop {
            let due = schedule.next().unwrap();
            if due.device == 0 {
                break due;
            }
            schedule.answered(due, due.at);
        };
        assert!(!schedule.answered(probe, probe.at), "one more request to try");
        let next = schedule.next().unwrap();
        assert_eq!((next.device, next.poll, next.at), (0, 1, probe.at), "at once, not at the next probe");
        assert!(schedule.answered(next, next.at));
    }

    #[test]
    fn a_device_is_up_once_all_its_requests_were_tried() {
        let start = start();
        let mut schedule = schedule(vec![polls(TWO)], start);
        let first = schedule.next().unwrap();
        assert!(!schedule.answered(first, start));
        let second = schedule.next().unwrap();
        assert!(schedule.answered(second, start), "now it is up");
        let third = schedule.next().unwrap();
        assert!(!schedule.answered(third, third.at), "and came up only once");
        let fourth = schedule.next().unwrap();
        assert!(schedule.fell_silent(fourth, fourth.at));
    }

    #[test]
    fn a_refused_request_is_cut_until_a_point_stands_alone() {
        let start = start();
        let list =
            "name,address,type,rate\na,holding:0,uint16,fast\nb,holding:1,uint16,fast\nc,holding:2,uint16,fast\n";
        let mut schedule = schedule(vec![polls(list)], start);
        let due = schedule.next().unwrap();
        assert_eq!(schedule.poll(due).unwrap().request.quantity(), 3);
        assert!(schedule.split(due, start));
        let sizes: Vec<_> = schedule.polls_of(0).map(|poll| poll.request.quantity()).collect();
        assert_eq!(sizes, [1, 2]);
        assert!(!schedule.split(Due { at: start, device: 0, poll: 0 }, start));
    }
}
