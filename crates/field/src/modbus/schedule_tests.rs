use super::poll::{ModbusPoll, Plans};
use crate::link::PlannedDevice;
use crate::poll::{Due, PlanView, Poll, Schedule, Silence, Which};
use interlex_core::Reason;
use interlex_core::description::{Files, read};
use std::sync::Arc;
use std::time::{Duration, Instant};

const MS: Duration = Duration::from_millis(1);

fn polls(points: &str) -> Vec<ModbusPoll> {
    let gateway = "[gateway]\nname = \"g\"\n[rates]\nfast = \"100ms\"\nslow = \"1s\"\n[[link]]\nname = \"l\"\nprotocol \
                   = \"modbus-tcp\"\nhost = \"h\"\n[[device]]\nname = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
    let files: Files = [("gateway.toml".into(), gateway.into()), ("p.csv".into(), points.into())].into();
    let description = read(&files).unwrap();
    let device = description.devices[0].clone();
    let points = (0..).map(interlex_core::PointIndex).take(device.points.len()).collect();
    let polls = Plans::default().polls(&description.rates, &[&PlannedDevice { device, slot: 0, points }]);
    polls.into_iter().map(Arc::unwrap_or_clone).collect()
}

#[test]
fn units_that_are_read_in_the_same_way_are_planned_once_and_read_their_own_points() {
    let gateway = "[gateway]\nname = \"g\"\n[rates]\nfast = \"100ms\"\nslow = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \
                   \"modbus-tcp\"\nhost = \"h\"\n";
    let device = |unit, list, more| {
        format!("[[device]]\nname = \"d{unit}\"\nlink = \"l\"\nunit = {unit}\npoints = \"{list}.csv\"\n{more}\n")
    };
    let devices =
        [device(1, "p", ""), device(2, "p", ""), device(3, "p", "max-registers = 2"), device(4, "p", "base = 9")];
    let gateway = gateway.to_owned() + &devices.concat() + &device(5, "q", "") + &device(6, "r", "");
    // One list says the same as the first but for its titles; one has another address.
    let titled = FIVE.replacen("rate", "rate,title", 1);
    let other = FIVE.replacen(":0", ":1000", 1);
    let files: Files = [("gateway.toml", gateway), ("p.csv", FIVE.to_owned()), ("q.csv", titled), ("r.csv", other)]
        .map(|(path, text)| (path.to_owned(), text))
        .into();
    let description = read(&files).unwrap();
    let mut plans = Plans::default();
    let planned: Vec<_> = (0..)
        .zip(&description.devices)
        .map(|(slot, device)| {
            let first = u32::try_from(slot).unwrap() * 10;
            let points = (first..).map(interlex_core::PointIndex).take(device.points.len()).collect();
            PlannedDevice { device: device.clone(), slot, points }
        })
        .collect();
    let polls: Vec<_> = planned.iter().map(|planned| plans.polls(&description.rates, &[planned])).collect();
    for (planned, polls) in planned.iter().zip(&polls) {
        let mut read: Vec<_> = polls.iter().flat_map(|poll| poll.points()).collect();
        read.sort_unstable();
        assert_eq!(read, *planned.points);
        assert_eq!(*polls, Plans::default().polls(&description.rates, &[planned]), "as it would be planned alone");
    }
    let is_shared = |one: usize, other: usize| polls[one][0].is_planned_with(&polls[other][0]);
    assert_eq!([1, 2, 3, 4, 5].map(|other| is_shared(0, other)), [true, false, false, true, false]);
    // Two devices of one unit: the points of the second come behind those of the first.
    let together = Plans::default().polls(&description.rates, &[&planned[0], &planned[1]]);
    let mut read: Vec<_> = together.iter().flat_map(|poll| poll.points()).collect();
    read.sort_unstable();
    assert_eq!(read, [&*planned[0].points, &planned[1].points].concat());
}

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
fn start() -> Instant {
    Instant::now()
}

fn schedule(devices: Vec<Vec<ModbusPoll>>, now: Instant) -> Schedule<ModbusPoll> {
    Schedule::new(shared(devices), now, fastrand::Rng::with_seed(1))
}

fn shared(devices: Vec<Vec<ModbusPoll>>) -> Vec<Vec<Arc<ModbusPoll>>> {
    devices.into_iter().map(|polls| polls.into_iter().map(Arc::new).collect()).collect()
}

fn taken(schedule: &mut Schedule<ModbusPoll>, due: Due) -> Arc<ModbusPoll> {
    schedule.take(due).unwrap()
}

const TWO: &str = "name,address,type,rate\na,holding:0,uint16,fast\nb,input:0,uint16,slow\n";

#[test]
fn every_request_keeps_its_period_and_late_ones_are_late_once() {
    let start = start();
    let mut schedule = schedule(vec![polls(TWO)], start);
    let mut sent = [Vec::new(), Vec::new()];
    let (mut now, mut was_stuck) = (start, false);
    while now < start + 1000 * MS {
        let due = schedule.next(|_, _| true).unwrap();
        let poll = taken(&mut schedule, due);
        now = now.max(due.at);
        // The line is stuck for a third of a second once.
        let is_stuck = now >= start + 500 * MS && !std::mem::replace(&mut was_stuck, now >= start + 500 * MS);
        now += if is_stuck { 333 * MS } else { MS };
        sent[usize::from(poll.period() == 1000 * MS)].push((now - start).as_millis());
        schedule.answered(due, now);
    }
    let gaps: Vec<_> = sent[0].windows(2).map(|pair| pair[1] - pair[0]).collect();
    assert!(sent[0][0] == 1 && gaps[0] <= 101, "the first one at once, then at its place in the period: {:?}", sent[0]);
    assert_eq!(gaps[1..].iter().filter(|gap| **gap != 100).count(), 2, "late once, then in step again: {gaps:?}");
    assert!(gaps[1..].iter().all(|gap| *gap >= 30), "no burst after the stop: {gaps:?}");
    assert!(sent[1].len() <= 2 && sent[1][0] == 2, "{:?}", sent[1]);
}

#[test]
fn a_silent_device_is_only_probed_and_back_in_full_at_its_first_answer() {
    let start = start();
    let mut schedule = schedule(vec![polls(TWO), polls(TWO)], start);
    let due = schedule.next(|_, _| true).unwrap();
    taken(&mut schedule, due);
    assert_eq!(schedule.fell_silent(due, start), Silence::Device);
    let (mut probes, mut asked) = (0, Vec::new());
    for _ in 0..700 {
        let due = schedule.next(|_, _| true).unwrap();
        let poll = taken(&mut schedule, due);
        match due.device == 0 {
            true => {
                probes += 1;
                asked.push(poll.request.table());
                schedule.fell_silent(due, due.at);
            }
            false => {
                schedule.answered(due, due.at);
            }
        }
    }
    assert!((4..9).contains(&probes), "{probes} probes in a minute");
    assert!(asked[0] != asked[1], "each probe asks for another point");
    let probe = loop {
        let due = schedule.next(|_, _| true).unwrap();
        taken(&mut schedule, due);
        if due.device == 0 {
            break due;
        }
        schedule.answered(due, due.at);
    };
    assert_eq!(probe.request, Which::Probe);
    assert!(!schedule.answered(probe, probe.at), "its requests are still to try");
    for is_up in [false, true] {
        let next = schedule.next(|_, _| true).unwrap();
        taken(&mut schedule, next);
        assert_eq!((next.device, next.at), (0, probe.at), "at once, not at the next probe");
        assert_eq!(schedule.answered(next, next.at), is_up);
    }
}

#[test]
fn a_device_is_up_once_all_its_requests_were_tried() {
    let start = start();
    let mut schedule = schedule(vec![polls(TWO)], start);
    let first = schedule.next(|_, _| true).unwrap();
    taken(&mut schedule, first);
    let second = schedule.next(|_, _| true).unwrap();
    assert_ne!(second.request, first.request, "what is under way is not due");
    taken(&mut schedule, second);
    assert_eq!(schedule.next(|_, _| true), None);
    assert!(!schedule.answered(first, start));
    assert!(schedule.answered(second, start), "now it is up");
    let third = schedule.next(|_, _| true).unwrap();
    assert!(!schedule.answered(third, third.at), "and came up only once");
    let fourth = schedule.next(|_, _| true).unwrap();
    assert_eq!(schedule.fell_silent(fourth, fourth.at), Silence::Device);
}

const FIVE: &str = "name,address,type,rate\na,holding:0,uint16,fast\nb,holding:1,uint16,fast\nc,holding:2,uint16,fast\n\
                    d,holding:3,uint16,fast\ne,holding:4,uint16,fast\n";

/// A device that treats its address 3 in a way of its own, for `span`; tells when it was asked for that address.
fn run(
    schedule: &mut Schedule<ModbusPoll>,
    from: Instant,
    span: Duration,
    bad: Option<fn(&mut Schedule<ModbusPoll>, Due)>,
) -> Vec<u128> {
    let (mut now, mut asked) = (from, Vec::new());
    while now < from + span {
        let due = schedule.next(|_, _| true).unwrap();
        let poll = taken(schedule, due);
        now = now.max(due.at);
        let touches = poll.request.address() <= 3 && 3 < poll.request.address() + poll.request.quantity();
        match bad.filter(|_| touches) {
            Some(bad) => {
                asked.push((now - from).as_millis());
                bad(schedule, due);
            }
            None => {
                schedule.answered(due, now);
            }
        }
    }
    asked
}

fn sizes(schedule: &Schedule<ModbusPoll>, now: Instant) -> Vec<(u16, u16, bool)> {
    let views = schedule.view(now);
    let size =
        |view: &PlanView<ModbusPoll>| (view.poll.request.address(), view.poll.request.quantity(), view.bad.is_some());
    let mut sizes: Vec<_> = views.iter().map(size).collect();
    sizes.sort_unstable();
    sizes
}

#[test]
fn a_bad_address_ends_up_alone_is_asked_seldom_and_the_device_heals() {
    let start = start();
    let refuses: fn(&mut Schedule<ModbusPoll>, Due) = |schedule, due| {
        schedule.refused(due, Reason::Modbus(2), due.at);
    };
    let silent: fn(&mut Schedule<ModbusPoll>, Due) = |schedule, due| {
        schedule.fell_silent(due, due.at);
    };
    for (bad, most) in [(refuses, 8), (silent, 10)] {
        let list = format!("{FIVE}x,input:0,uint16,fast\n");
        let mut schedule = schedule(vec![polls(&list)], start);
        run(&mut schedule, start, 20 * 1000 * MS, Some(bad));
        let now = start + 20 * 1000 * MS;
        assert_eq!(sizes(&schedule, now), [(0, 1, false), (0, 3, false), (3, 1, true), (4, 1, false)]);
        assert!(
            schedule
                .view(now)
                .iter()
                .all(|view| view.is_whole == (view.poll.request.table() != interlex_modbus::Table::HoldingRegister))
        );
        let asked = run(&mut schedule, now, 60 * 1000 * MS, Some(bad));
        assert!(asked.len() <= most, "{asked:?}");
        let now = now + 60 * 1000 * MS;
        schedule.relearn(None, now);
        run(&mut schedule, now, 1000 * MS, None);
        assert_eq!(sizes(&schedule, now), [(0, 1, false), (0, 5, false)], "whole again");
    }
}

#[test]
fn good_neighbours_are_asked_together_again_as_far_as_the_device_goes_along() {
    let (start, second) = (start(), 1000 * MS);
    let mut schedule = schedule(vec![polls(FIVE)], start);
    // No address is bad, but nothing is read from before to behind address 3 at once.
    let (mut now, mut refusals) = (start, 0);
    while now < start + 25 * second {
        let due = schedule.next(|_, _| true).unwrap();
        let poll = taken(&mut schedule, due);
        now = now.max(due.at);
        if poll.range().contains(&2) && poll.range().contains(&3) {
            refusals += 1;
            schedule.refused(due, Reason::Modbus(2), now);
        } else {
            schedule.answered(due, now);
        }
    }
    assert_eq!(sizes(&schedule, now), [(0, 3, false), (3, 2, false)]);
    assert!(refusals <= 3, "{refusals} refusals in {:?}", now - start);
    assert_eq!(schedule.requests_of(0), 2);
}

#[test]
fn a_device_that_dies_is_silent_and_not_learned_about() {
    let start = start();
    let mut schedule = schedule(vec![polls(FIVE)], start);
    run(&mut schedule, start, 1000 * MS, None);
    let now = start + 1000 * MS;
    for _ in 0..50 {
        let due = schedule.next(|_, _| true).unwrap();
        taken(&mut schedule, due);
        schedule.fell_silent(due, due.at.max(now));
    }
    run(&mut schedule, now + 3600 * 1000 * MS, 1000 * MS, None);
    assert_eq!(sizes(&schedule, now), [(0, 5, false)]);
}

proptest::proptest! {
    #[test]
    fn what_is_next_is_what_is_due_first_of_all_whatever_became_of_others(
        steps in proptest::collection::vec((0_u8..12, 0_u64..3000), 1..120),
    ) {
        let mut now = start();
        let list = "name,address,type,rate\na,holding:0,uint16,fast\nb,holding:1,uint16,fast\nc,holding:2,uint16,fast\n\
                    d,input:0,uint16,slow\ne,input:1,uint16,slow\n";
        let mut schedule = schedule(vec![polls(list), polls(TWO), polls(list)], now);
        let mut under_way: Vec<Due> = Vec::new();
        for (what, wait) in steps {
            let is_first = |device: usize, _: &ModbusPoll| device != 1;
            let is_holding = |_: usize, poll: &ModbusPoll| poll.period() == 100 * MS;
            proptest::prop_assert_eq!(schedule.next(|_, _| true), schedule.next_of_all(|_, _| true));
            proptest::prop_assert_eq!(schedule.next(is_first), schedule.next_of_all(is_first));
            proptest::prop_assert_eq!(schedule.next(is_holding), schedule.next_of_all(is_holding));
            proptest::prop_assert_eq!(schedule.next(|_, _| false), None);
            now += MS * u32::try_from(wait).unwrap();
            let last = || usize::try_from(wait).unwrap();
            let ended = |under_way: &mut Vec<Due>| {
                let count = under_way.len();
                (count > 0).then(|| under_way.swap_remove(last() % count))
            };
            match what {
                0..=4 => {
                    if let Some(due) = schedule.next(|_, _| true).filter(|due| schedule.take(*due).is_some()) {
                        under_way.push(due);
                    }
                }
                5..=7 => _ = ended(&mut under_way).map(|due| schedule.answered(due, now)),
                8 => _ = ended(&mut under_way).map(|due| schedule.refused(due, Reason::Timeout, now)),
                9 => _ = ended(&mut under_way).map(|due| schedule.fell_silent(due, now)),
                10 => schedule.relearn(None, now),
                _ => {
                    under_way.clear();
                    schedule.restart(now);
                }
            }
        }
    }
}
