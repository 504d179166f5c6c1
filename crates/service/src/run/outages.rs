//! The record of what did not work: from when to when, what broke, and what became of the samples meanwhile.

use crate::App;
use interlex_core::{DeviceState, LinkState, LinkStatus, UplinkState, UplinkStatus};
use interlex_gateway::wall_clock;
use interlex_store::Outage;
use parking_lot::Mutex;
use std::collections::{BTreeMap, VecDeque};
use std::convert::Infallible;
use std::time::Duration;
use tokio::time::{Instant, MissedTickBehavior, interval, sleep};

/// How often is looked: more often than whatever broke can be back.
const LOOKS: Duration = Duration::from_millis(200);
/// How often it is said that the service runs; one that was away for longer than three of these was not running.
const ALIVE: Duration = Duration::from_secs(5);
/// So many are kept.
const MOST: u32 = 10_000;
/// How often what is more than that goes.
const TRIMS: Duration = Duration::from_secs(3600);
/// What grows is told so often, in milliseconds.
const TELLS: i64 = 5000;
/// So many wait for the database; the oldest of more go.
const WAITING: usize = 10_000;

/// A part that can fail.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Part {
    gateway: String,
    kind: &'static str,
    name: String,
}

/// How a part is.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Look {
    /// Since when it does not work, and why; none where it does, or where nobody can say yet.
    out: Option<(i64, String)>,
    /// Since when it works, where it does.
    up: Option<i64>,
    buffer: Option<Buffered>,
}

/// What waits at an uplink.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Buffered {
    waiting: u64,
    oldest: Option<i64>,
    lost: u64,
}

/// An outage that is not settled yet.
#[derive(Debug)]
struct Open {
    outage: Outage,
    /// What was lost before it.
    lost_before: u64,
    /// When it was told last.
    told_at: i64,
}

/// Follows the parts: no I/O.
#[derive(Debug, Default)]
struct Follower {
    open: BTreeMap<Part, Open>,
    /// What is known anew, in its order.
    news: VecDeque<Outage>,
}

impl Follower {
    /// Goes on with what an earlier run left open.
    fn restore(&mut self, outages: Vec<Outage>) {
        for outage in outages {
            let Some(kind) = ["link", "device", "uplink"].into_iter().find(|kind| *kind == outage.kind) else {
                continue;
            };
            let part = Part { gateway: outage.gateway.clone(), kind, name: outage.name.clone() };
            // What was lost meanwhile is counted from what is known of it.
            self.open.entry(part).or_insert(Open { lost_before: u64::MAX, told_at: 0, outage });
        }
    }

    /// All parts as they are now.
    fn look(&mut self, now: i64, parts: BTreeMap<Part, Look>) {
        let gone: Vec<_> = self.open.keys().filter(|part| !parts.contains_key(*part)).cloned().collect();
        for part in gone {
            let Some(open) = self.open.remove(&part) else { continue };
            let to = open.outage.to.or(Some(now));
            self.tell(Outage { to, is_settled: true, ..open.outage });
        }
        for (part, look) in parts {
            self.look_at(now, part, &look);
        }
    }

    fn look_at(&mut self, now: i64, part: Part, look: &Look) {
        if let Some(mut open) = self.open.remove(&part) {
            if let Some(buffer) = look.buffer {
                // A run that begins anew knows what was lost by the counts only.
                if open.lost_before == u64::MAX {
                    open.lost_before = buffer.lost.saturating_sub(open.outage.lost.unwrap_or(0));
                }
                open.outage.lost = Some(buffer.lost.saturating_sub(open.lost_before));
            }
            match (&look.out, look.up, open.outage.to) {
                // It broke again while what it had kept was being sent: that is one more.
                (Some(_), _, Some(_)) => {
                    self.tell(Outage { is_settled: true, ..open.outage });
                }
                (Some((_, why)), _, None) => {
                    let kept = look.buffer.map(|buffer| buffer.waiting).max(open.outage.kept);
                    let before = open.outage.clone();
                    open.outage = Outage { why: why.clone(), kept, ..open.outage };
                    let is_due = before != open.outage && now - open.told_at >= TELLS;
                    if before.why != open.outage.why || is_due {
                        open.told_at = now;
                        self.tell(open.outage.clone());
                    }
                    self.open.insert(part, open);
                    return;
                }
                (None, Some(up), to) => {
                    let ended = to.unwrap_or(up.max(open.outage.from));
                    let kept = look.buffer.map(|buffer| buffer.waiting).filter(|_| to.is_none()).max(open.outage.kept);
                    let before = open.outage.clone();
                    let sent =
                        look.buffer.zip(kept).map(|(buffer, kept)| sent_later(ended, kept, buffer, &open.outage));
                    let is_settled = sent.is_none_or(|(_, is_all)| is_all);
                    let sent_later = sent.map(|(count, _)| count);
                    open.outage = Outage { to: Some(ended), kept, sent_later, is_settled, ..open.outage };
                    let is_due = before != open.outage && now - open.told_at >= TELLS;
                    if before.to.is_none() || is_settled || is_due {
                        open.told_at = now;
                        self.tell(open.outage.clone());
                    }
                    if !is_settled {
                        self.open.insert(part, open);
                    }
                    return;
                }
                // Nobody can say yet.
                (None, None, _) => {
                    self.open.insert(part, open);
                    return;
                }
            }
        }
        let Some((from, why)) = &look.out else { return };
        let outage = Outage {
            gateway: part.gateway.clone(),
            kind: part.kind.to_owned(),
            name: part.name.clone(),
            from: (*from).min(now),
            to: None,
            why: why.clone(),
            kept: look.buffer.map(|buffer| buffer.waiting),
            sent_later: None,
            lost: look.buffer.map(|_| 0),
            is_settled: false,
        };
        self.tell(outage.clone());
        let lost_before = look.buffer.map_or(0, |buffer| buffer.lost);
        self.open.insert(part, Open { outage, lost_before, told_at: now });
    }

    /// The database has it; what became of it meanwhile is told yet.
    fn is_kept(&mut self, outage: &Outage) {
        if self.news.front() == Some(outage) {
            self.news.pop_front();
        }
    }

    /// What the database does not know yet is told once, as it is by then.
    fn tell(&mut self, outage: Outage) {
        let is_it = |known: &&mut Outage| {
            (&known.gateway, &known.kind, &known.name, known.from)
                == (&outage.gateway, &outage.kind, &outage.name, outage.from)
        };
        if let Some(known) = self.news.iter_mut().find(is_it) {
            *known = outage;
            return;
        }
        if self.news.len() == WAITING {
            self.news.pop_front();
        }
        self.news.push_back(outage);
    }
}

/// How much of what was kept has been sent, and whether that is all of it: what waits now came later.
fn sent_later(ended: i64, kept: u64, buffer: Buffered, outage: &Outage) -> (u64, bool) {
    let is_all = buffer.waiting == 0 || buffer.oldest.is_some_and(|oldest| oldest > ended);
    let kept = kept.saturating_sub(outage.lost.unwrap_or(0).min(kept));
    if is_all { (kept, true) } else { (kept.saturating_sub(buffer.waiting).max(outage.sent_later.unwrap_or(0)), false) }
}

fn of_link(gateway: &str, link: LinkStatus) -> Vec<(Part, Look)> {
    let part = |kind, name: &str| Part { gateway: gateway.to_owned(), kind, name: name.to_owned() };
    let out = (link.state == LinkState::Down).then(|| (link.since, link.last_error.clone().unwrap_or_default()));
    let up = (link.state == LinkState::Up).then_some(link.since);
    let mut looks = vec![(part("link", &link.name), Look { out, up, buffer: None })];
    looks.extend(link.devices.into_iter().map(|device| {
        let out = device.state == DeviceState::Silent;
        // One that cannot be asked is out of reach since its link is down: that is told of the link.
        let up = matches!(device.state, DeviceState::Up | DeviceState::Unreachable).then_some(device.since);
        let out = out.then(|| (device.since, device.last_error.unwrap_or_default()));
        (part("device", &device.name), Look { out, up, buffer: None })
    }));
    looks
}

fn of_uplink(gateway: &str, uplink: UplinkStatus) -> (Part, Look) {
    let why = match uplink.state {
        UplinkState::Waiting => Some("the primary host is not online".to_owned()),
        UplinkState::Offline => Some(uplink.last_error.unwrap_or_default()),
        UplinkState::Connecting | UplinkState::Online => None,
    };
    let up = (uplink.state == UplinkState::Online).then_some(uplink.since);
    let (waiting, oldest, lost) = (uplink.buffer.waiting, uplink.buffer.oldest_at, uplink.buffer.lost);
    let buffer = Some(Buffered { waiting, oldest, lost });
    let part = Part { gateway: gateway.to_owned(), kind: "uplink", name: uplink.name };
    (part, Look { out: why.map(|why| (uplink.since, why)), up, buffer })
}

fn looks(app: &App) -> BTreeMap<Part, Look> {
    let of_gateway = |gateway: std::sync::Arc<interlex_gateway::Gateway>| {
        let running = gateway.running();
        let name = running.description().gateway.name.to_string();
        let links = running.link_states().into_iter().flat_map(|link| of_link(&name, link)).collect::<Vec<_>>();
        let uplinks = running.uplink_states().into_iter().map(|uplink| of_uplink(&name, uplink)).collect::<Vec<_>>();
        links.into_iter().chain(uplinks)
    };
    app.running().into_iter().flat_map(of_gateway).collect()
}

/// Follows what works and what does not, for as long as the service runs. The gateways have been started.
pub(super) async fn follow(app: &App) -> Infallible {
    let follower = Mutex::new(None);
    // A database that takes its time makes nobody look less often.
    let (never, _) = tokio::join!(look(app, &follower), keep(app, &follower));
    never
}

/// Looks at all parts, once it is known what an earlier run left open.
async fn look(app: &App, follower: &Mutex<Option<Follower>>) -> Infallible {
    let mut looks_at = interval(LOOKS);
    looks_at.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        looks_at.tick().await;
        let parts = looks(app);
        if let Some(follower) = &mut *follower.lock() {
            follower.look(wall_clock().as_millis(), parts);
        }
    }
}

/// Keeps what was seen, and says that the service runs.
async fn keep(app: &App, follower: &Mutex<Option<Follower>>) -> Infallible {
    let (mut says_alive, mut trims) = (Instant::now(), Instant::now());
    loop {
        if follower.lock().is_none()
            && let Ok(left) = app.store.unsettled_outages().await
        {
            let mut new = Follower::default();
            new.restore(left);
            *follower.lock() = Some(new);
        }
        if Instant::now() >= says_alive {
            says_alive = Instant::now() + ALIVE;
            // While the database is away, nobody can read it either.
            let _ = app.store.note_alive(wall_clock().as_millis()).await;
        }
        loop {
            let next = follower.lock().as_ref().and_then(|follower| follower.news.front().cloned());
            let Some(outage) = next else { break };
            if app.store.keep_outage(&outage).await.is_err() {
                break;
            }
            if let Some(follower) = &mut *follower.lock() {
                follower.is_kept(&outage);
            }
        }
        if Instant::now() >= trims {
            trims = Instant::now() + TRIMS;
            let _ = app.store.trim_outages(MOST).await;
        }
        sleep(LOOKS).await;
    }
}

/// The service runs again: for how long it did not is an outage of its own.
pub(super) async fn note_start(app: &App) -> Result<(), interlex_store::StoreError> {
    let now = wall_clock().as_millis();
    let away = i64::try_from(3 * ALIVE.as_millis()).unwrap_or(i64::MAX);
    if let Some(from) = app.store.note_alive(now).await?.filter(|before| now - before > away) {
        let (kind, name, why) = ("service".to_owned(), "interlex".to_owned(), "Interlex did not run".to_owned());
        let (to, gateway) = (Some(now), String::new());
        let outage =
            Outage { gateway, kind, name, from, to, why, kept: None, sent_later: None, lost: None, is_settled: true };
        app.store.keep_outage(&outage).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(kind: &'static str) -> Part {
        Part { gateway: "works".to_owned(), kind, name: "one".to_owned() }
    }

    fn up(since: i64, waiting: u64, oldest: Option<i64>, lost: u64) -> Look {
        Look { out: None, up: Some(since), buffer: Some(Buffered { waiting, oldest, lost }) }
    }

    fn out(since: i64, waiting: u64, lost: u64) -> Look {
        let buffer = Some(Buffered { waiting, oldest: Some(since), lost });
        Look { out: Some((since, "refused".to_owned())), up: None, buffer }
    }

    /// From, to, what was kept, sent later and lost, and whether that is settled.
    type Told = (i64, Option<i64>, [Option<u64>; 3], bool);

    fn told(follower: &mut Follower) -> Vec<Told> {
        let told =
            |outage: Outage| (outage.from, outage.to, [outage.kept, outage.sent_later, outage.lost], outage.is_settled);
        follower.news.drain(..).map(told).collect()
    }

    #[test]
    fn an_outage_is_told_from_its_begin_until_all_that_was_kept_is_sent() {
        let mut follower = Follower::default();
        let look = |follower: &mut Follower, now, look| follower.look(now, [(part("uplink"), look)].into());
        look(&mut follower, 900, up(0, 2, Some(890), 5));
        assert_eq!(told(&mut follower), []);
        look(&mut follower, 1500, out(1000, 10, 5));
        assert_eq!(told(&mut follower), [(1000, None, [Some(10), None, Some(0)], false)]);
        look(&mut follower, 6000, out(1000, 60, 5));
        assert_eq!(told(&mut follower), [], "what grows is told now and then");
        look(&mut follower, 9000, out(1000, 90, 8));
        assert_eq!(told(&mut follower), [(1000, None, [Some(90), None, Some(3)], false)]);
        look(&mut follower, 9500, up(9200, 80, Some(1001), 8));
        assert_eq!(told(&mut follower), [(1000, Some(9200), [Some(90), Some(7), Some(3)], false)]);
        look(&mut follower, 9600, up(9200, 4, Some(9300), 8));
        assert_eq!(told(&mut follower), [(1000, Some(9200), [Some(90), Some(87), Some(3)], true)]);
        look(&mut follower, 9700, up(9200, 4, Some(9600), 8));
        assert_eq!(told(&mut follower), []);
    }

    #[test]
    fn one_that_was_left_open_goes_on_after_a_restart() {
        let mut follower = Follower::default();
        follower.look(1500, [(part("uplink"), out(1000, 10, 5))].into());
        let left = follower.news.back().unwrap().clone();
        let mut follower = Follower::default();
        follower.restore(vec![left]);
        let connecting =
            Look { out: None, up: None, buffer: Some(Buffered { waiting: 10, oldest: Some(1000), lost: 5 }) };
        follower.look(3000, [(part("uplink"), connecting)].into());
        assert_eq!(told(&mut follower), []);
        follower.look(4000, [(part("uplink"), up(3900, 0, None, 5))].into());
        assert_eq!(told(&mut follower), [(1000, Some(3900), [Some(10), Some(10), Some(0)], true)]);
    }

    #[test]
    fn a_part_that_breaks_again_has_two_and_one_that_is_gone_has_an_end() {
        let mut follower = Follower::default();
        let look = |follower: &mut Follower, now, look| follower.look(now, [(part("uplink"), look)].into());
        look(&mut follower, 1500, out(1000, 10, 0));
        look(&mut follower, 2500, up(2000, 9, Some(1000), 0));
        look(&mut follower, 3500, out(3000, 12, 0));
        let ends: Vec<_> =
            told(&mut follower).iter().map(|(from, to, _, is_settled)| (*from, *to, *is_settled)).collect();
        assert_eq!(ends, [(1000, Some(2000), true), (3000, None, false)], "each is told once, as it is by then");
        follower.look(4000, BTreeMap::new());
        assert_eq!(told(&mut follower)[0].1, Some(4000));
        assert!(follower.open.is_empty());
    }
}
