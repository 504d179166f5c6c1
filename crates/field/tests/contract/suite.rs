//! What every driver must do, whatever it speaks.

use interlex_core::description::{Description, Device, Point};
use interlex_core::{
    Clock, DeviceState, FieldEvent, LatestTable, LinkState, PointIndex, PointTable, Quality, Reason, RecentValues,
    Value,
};
use interlex_field::{
    LinkHandle, Listeners, Memories, PointWrite, Relinquish, Surroundings, TrialRead, Via, WriteError, WriteOutcome,
    read, start, write,
};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::sync::mpsc;
use tokio_util::sync::{CancellationToken, DropGuard};

/// The field side of one protocol: devices that a test can make misbehave.
///
/// Each device has two points: `count`, which grows by one with every value that is told of it, and `set-point`, a whole number that
/// can be written.
pub(crate) trait Field: Sized {
    /// Whether there is a connection, of which both sides know that it is cut. Where there is none, devices are silent.
    const CONNECTS: bool = true;

    async fn start() -> Self;

    /// Devices of these names on one link; some of them with a point `more`.
    fn description(&self, devices: &[&str], with_more: &[&str]) -> Description;

    /// How many values of `count` a device has told, the first of them 0.
    fn told(&self, device: &str) -> u64;

    /// Lets a device answer nothing, or answer again.
    fn silence(&self, device: &str, is_silent: bool);

    /// How a device takes what is written to it.
    fn takes_writes(&self, device: &str, how: Writes);

    /// What was written to a device.
    fn written(&self, device: &str) -> Vec<u64>;

    /// Breaks the link, in this moment.
    fn cut(&self);

    /// Lets it be made again.
    async fn mend(&self);

    /// Sends what nobody asked for to whoever connects, as fast as it goes, or stops to.
    async fn flood(&self, is_flooding: bool);
}

/// What a device makes of a value that is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Writes {
    Takes,
    Refuses,
    /// It says yes, and has another value.
    Ignores,
    /// It takes it, and says nothing.
    Swallows,
}

#[derive(Debug)]
pub(crate) struct WallClock;

impl Clock for WallClock {
    #[expect(clippy::disallowed_methods, reason = "a test has the time of the system")]
    fn micros(&self) -> i64 {
        i64::try_from(SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_micros()).unwrap()
    }
}

/// A link that runs, and everything that it tells.
struct Rig<F: Field> {
    field: F,
    description: Description,
    around: Surroundings,
    link: LinkHandle,
    told: Arc<Mutex<Vec<FieldEvent>>>,
    _stop: DropGuard,
}

impl<F: Field> Rig<F> {
    async fn start(devices: &[&str]) -> Self {
        let field = F::start().await;
        let description = field.description(devices, &[]);
        let points = Arc::new(PointTable::new(&description, &PointTable::default()));
        let latest = Arc::new(LatestTable::new(points.indices()));
        let (recent, listeners) = (Arc::new(RecentValues::default()), Listeners::default());
        recent.grow(points.indices());
        let (sender, mut receiver) = mpsc::channel(16);
        listeners.set(vec![sender]);
        let told: Arc<Mutex<Vec<FieldEvent>>> = Arc::default();
        let into = Arc::clone(&told);
        tokio::spawn(async move {
            while let Some(event) = receiver.recv().await {
                if let FieldEvent::Keep(receipt) = &event {
                    receipt.stored();
                }
                into.lock().unwrap().push(event);
            }
        });
        let (memories, clock) = (Memories::default(), Arc::new(WallClock));
        let around = Surroundings { points, latest, recent, listeners, memories, clock };
        let stop = CancellationToken::new();
        let (link, _) = start(&description, &description.links[0], &around, stop.clone());
        Self { field, description, around, link, told, _stop: stop.drop_guard() }
    }

    async fn until(&self, what: &str, holds: impl Fn(&Self) -> bool) {
        let waiting = async {
            while !holds(self) {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        };
        let waited = tokio::time::timeout(Duration::from_secs(60), waiting).await;
        assert!(waited.is_ok(), "waited in vain: {what}\n{:#?}", self.link.status());
    }

    async fn is_up(&self, devices: &[&str]) {
        self.until("all devices are up", |rig| devices.iter().all(|device| rig.state(device) == DeviceState::Up)).await;
    }

    /// The cable is out, and everybody has noticed.
    async fn is_cut(&self) {
        if F::CONNECTS {
            return self.until("the link is down", |rig| rig.link.status().state == LinkState::Down).await;
        }
        let is_silent = |rig: &Self| ["one", "two"].iter().all(|device| rig.state(device) == DeviceState::Silent);
        self.until("the devices are silent", is_silent).await;
    }

    fn state(&self, device: &str) -> DeviceState {
        self.link.status().devices.iter().find(|known| known.name == device).unwrap().state
    }

    fn index(&self, device: &str, point: &str) -> PointIndex {
        self.around.points.find(device, point).unwrap().index
    }

    fn quality(&self, device: &str) -> Quality {
        self.around.latest.read(self.index(device, "count")).unwrap().quality
    }

    /// The values of a device's `count` in the order in which listeners were told them; `None` for what was bad.
    fn counts(&self, device: &str) -> Vec<Option<u64>> {
        let index = self.index(device, "count");
        let told = self.told.lock().unwrap();
        let samples = told.iter().filter_map(|event| match event {
            FieldEvent::Samples(samples) => Some(samples.iter()),
            _ => None,
        });
        let of_point = samples.flatten().filter(|sample| sample.point == index);
        of_point.map(|sample| sample.value.as_ref().and_then(Value::as_f64).map(|count| count as u64)).collect()
    }

    /// Whether a device is up, as listeners were told last.
    fn is_told_up(&self, device: &str) -> Option<bool> {
        let slot = self.around.points.slot(device).unwrap();
        self.told.lock().unwrap().iter().rev().find_map(|event| match event {
            FieldEvent::DeviceUp(told) if *told == slot => Some(true),
            FieldEvent::DeviceDown(told) if *told == slot => Some(false),
            _ => None,
        })
    }

    fn via(&self) -> Via {
        let (links, memories, clock) = (vec![self.link.clone()], self.around.memories.clone(), Arc::new(WallClock));
        Via { links, memories, clock }
    }

    fn device(&self, name: &str) -> &Device {
        self.description.devices.iter().find(|device| device.settings.name.as_str() == name).unwrap()
    }

    fn point(&self, device: &str, point: &str) -> Point {
        self.around.points.find(device, point).unwrap().point().into_owned()
    }

    async fn write(&self, device: &str, value: u64) -> Result<WriteOutcome, WriteError> {
        let (link, point) = (self.description.links[0].clone(), self.point(device, "set-point"));
        let index = Some(self.index(device, "set-point"));
        let wanted = PointWrite {
            link,
            device: self.device(device).clone(),
            point,
            value: Value::Uint(value),
            relinquishes: Relinquish::No,
            index,
        };
        write(&wanted, &self.via()).await
    }
}

/// Bad values for reasons that say that a device or its link is away.
fn is_away(quality: Quality) -> bool {
    matches!(quality, Quality::Bad(Reason::LinkDown | Reason::Timeout | Reason::NotReadYet))
}

/// Every value that a device told was told on, once, and in its order.
fn none_lost_or_doubled(counts: &[Option<u64>]) {
    let values: Vec<_> = counts.iter().flatten().copied().collect();
    let gaps: Vec<_> = values.windows(2).filter(|pair| pair[1] != pair[0] + 1).collect();
    assert!(gaps.is_empty(), "{gaps:?} of {values:?}");
}

pub(crate) async fn it_connects_loses_and_recovers<F: Field>() {
    let rig = Rig::<F>::start(&["one", "two"]).await;
    rig.is_up(&["one", "two"]).await;
    rig.until("values are good", |rig| rig.quality("one").is_good() && rig.quality("two").is_good()).await;
    rig.field.cut();
    rig.is_cut().await;
    rig.until("its devices are", |rig| rig.is_told_up("one") == Some(false) && rig.is_told_up("two") == Some(false))
        .await;
    let away = if F::CONNECTS { DeviceState::Unreachable } else { DeviceState::Silent };
    assert!(is_away(rig.quality("one")) && rig.state("one") == away);
    let refused = rig.write("one", 5).await.unwrap_err();
    assert_eq!(refused.outcome().word().to_string(), "refused", "{refused}");
    rig.field.mend().await;
    rig.is_up(&["one", "two"]).await;
    rig.until("both are told", |rig| rig.is_told_up("one") == Some(true) && rig.is_told_up("two") == Some(true)).await;
    assert!(rig.quality("one").is_good());
    assert!(rig.field.written("one").is_empty(), "what was refused is not carried out later");
}

pub(crate) async fn a_silent_device_costs_its_neighbours_nothing<F: Field>() {
    let rig = Rig::<F>::start(&["one", "two"]).await;
    rig.is_up(&["one", "two"]).await;
    rig.field.silence("two", true);
    rig.until("it is silent", |rig| rig.state("two") == DeviceState::Silent && is_away(rig.quality("two"))).await;
    let before = rig.counts("one").len();
    rig.until("its neighbour goes on", |rig| rig.counts("one").len() > before + 50).await;
    assert_eq!((rig.state("two"), rig.is_told_up("two")), (DeviceState::Silent, Some(false)));
    rig.field.silence("two", false);
    rig.is_up(&["one", "two"]).await;
    none_lost_or_doubled(&rig.counts("one"));
}

pub(crate) async fn every_command_has_one_of_four_outcomes<F: Field>() {
    let rig = Rig::<F>::start(&["one", "two"]).await;
    rig.is_up(&["one", "two"]).await;
    let steps = [
        (Writes::Takes, "confirmed"),
        (Writes::Refuses, "refused"),
        (Writes::Ignores, "accepted"),
        (Writes::Swallows, "unknown"),
    ];
    for (value, (how, expected)) in (10..).zip(steps) {
        rig.field.takes_writes("one", how);
        let outcome = rig.write("one", value).await;
        let word = match &outcome {
            Ok(outcome) => outcome.outcome().word(),
            Err(error) => error.outcome().word(),
        };
        assert_eq!(word.to_string(), expected, "{how:?}: {outcome:?}");
    }
    assert_eq!(rig.field.written("one"), [10, 13], "what was refused or passed over is not there");
    let wanted = TrialRead {
        link: rig.description.links[0].clone(),
        device: rig.device("two").clone(),
        point: rig.point("two", "set-point"),
        neighbours: false,
        expected: None,
    };
    let reading = read(&wanted, &rig.via()).await.unwrap();
    assert!(reading.shared_connection, "over the session that is there anyway");
    let alone = read(&wanted, &Via::nothing(Memories::default(), Arc::new(WallClock))).await.unwrap();
    assert_eq!((alone.shared_connection, alone.value), (false, reading.value));
    none_lost_or_doubled(&rig.counts("one"));
}

pub(crate) async fn what_nobody_waits_for_any_more_is_not_carried_out<F: Field>() {
    let rig = Rig::<F>::start(&["one", "two"]).await;
    rig.is_up(&["one", "two"]).await;
    // The first write takes its time; those behind it are given up before their turn.
    rig.field.takes_writes("one", Writes::Swallows);
    let first = rig.write("one", 20);
    let behind = async {
        let given_up = tokio::time::timeout(Duration::from_millis(20), rig.write("one", 21)).await;
        assert!(given_up.is_err(), "it waits behind the first one");
    };
    let (first, ()) = tokio::join!(first, behind);
    assert_eq!(first.unwrap_err().outcome().word().to_string(), "unknown");
    rig.field.takes_writes("one", Writes::Takes);
    assert_eq!(rig.write("one", 22).await.unwrap().outcome().word().to_string(), "confirmed");
    assert_eq!(rig.field.written("one"), [20, 22]);
}

pub(crate) async fn a_device_that_has_too_much_to_do_holds_up_no_other<F: Field>() {
    let rig = Rig::<F>::start(&["one", "two"]).await;
    rig.is_up(&["one", "two"]).await;
    rig.field.takes_writes("two", Writes::Swallows);
    let many = futures_util::future::join_all((0..20).map(|value| rig.write("two", value)));
    let (many, one) = tokio::join!(many, rig.write("one", 40));
    assert_eq!(one.unwrap().outcome().word().to_string(), "confirmed");
    let why = many.iter().filter_map(|outcome| outcome.as_ref().err()).map(ToString::to_string);
    let refused = why.filter(|why| why.ends_with("the device has too much to do; try again")).count();
    assert!(refused > 0);
    assert_eq!(refused + rig.field.written("two").len(), 20, "of what was refused nothing is written");
}

pub(crate) async fn a_device_that_changes_begins_anew_and_its_neighbours_go_on<F: Field>() {
    let mut rig = Rig::<F>::start(&["one", "two"]).await;
    rig.is_up(&["one", "two"]).await;
    let since = rig.link.status().since;
    let more: [&[&str]; 4] = [&["two"], &[], &["two"], &[]];
    for (round, with_more) in more.into_iter().enumerate() {
        let description = rig.field.description(&["one", "two"], with_more);
        let points = Arc::new(PointTable::new(&description, &rig.around.points));
        let latest = Arc::new(rig.around.latest.grown(points.indices()));
        rig.around.recent.grow(points.indices());
        let gone: Vec<_> = rig
            .around
            .points
            .all()
            .iter()
            .map(|info| info.index)
            .filter(|index| points.get(*index).is_none())
            .collect();
        rig.link.leave(gone, points.redefined(&rig.around.points).collect()).await;
        (rig.around.points, rig.around.latest) = (points, latest);
        rig.link.change(&description, &description.links[0], &rig.around).await;
        rig.description = description;
        let (one, two) = (rig.counts("one").len(), rig.counts("two").len());
        let go_on = |rig: &Rig<F>| rig.counts("one").len() > one + 20 && rig.counts("two").len() > two + 20;
        rig.until("both go on", go_on).await;
        if !with_more.is_empty() {
            let more = rig.index("two", "more");
            rig.until("the new point is read", |rig| rig.around.latest.read(more).unwrap().quality.is_good()).await;
        }
        assert_eq!(rig.link.status().since, since, "round {round}: the link stayed up");
    }
    none_lost_or_doubled(&rig.counts("one"));
    let without = rig.field.description(&["one"], &[]);
    let points = Arc::new(PointTable::new(&without, &rig.around.points));
    let gone = [rig.index("two", "count"), rig.index("two", "set-point")];
    rig.link.leave(gone.to_vec(), Vec::new()).await;
    // What was told before is still on its way, and stands before what its neighbour tells now.
    let one = rig.counts("one").len();
    rig.until("what was on its way is here", |rig| rig.counts("one").len() > one + 20).await;
    let told = rig.counts("two").len();
    rig.around.points = points;
    rig.link.change(&without, &without.links[0], &rig.around).await;
    let asked = rig.field.told("two");
    let one = rig.counts("one").len();
    rig.until("its neighbour goes on", |rig| rig.counts("one").len() > one + 20).await;
    assert!(rig.field.told("two") <= asked + 1, "nobody asks it any more");
    let of_two = |event: &FieldEvent| match event {
        FieldEvent::Samples(samples) => samples.iter().filter(|sample| sample.point == gone[0]).count(),
        _ => 0,
    };
    assert_eq!(rig.told.lock().unwrap().iter().map(of_two).sum::<usize>(), told, "and nothing is told of it");
}

/// What became of writes: how many have each outcome.
fn outcomes(told: &[Result<WriteOutcome, WriteError>]) -> BTreeMap<String, usize> {
    let mut counts = BTreeMap::new();
    for outcome in told {
        let word = match outcome {
            Ok(outcome) => outcome.outcome().word(),
            Err(error) => error.outcome().word(),
        };
        *counts.entry(word.to_string()).or_default() += 1;
    }
    counts
}

pub(crate) async fn a_link_that_breaks_under_commands_answers_each_of_them_once<F: Field>() {
    let rig = Rig::<F>::start(&["one", "two"]).await;
    rig.is_up(&["one", "two"]).await;
    rig.field.takes_writes("one", Writes::Swallows);
    // The first one is with the device, which says nothing; the others wait behind it.
    let writes = futures_util::future::join_all((50..54).map(|value| rig.write("one", value)));
    let cut = async {
        rig.until("the first one is there", |rig| !rig.field.written("one").is_empty()).await;
        rig.field.cut();
    };
    let (told, ()) = tokio::join!(writes, cut);
    let sent = rig.field.written("one");
    for (value, outcome) in (50..54).zip(&told) {
        let word = outcomes(std::slice::from_ref(outcome));
        let expected = if sent.contains(&value) { "unknown" } else { "refused" };
        assert!(word.contains_key(expected), "{value}: {word:?}, and {sent:?} came there");
    }
    rig.field.takes_writes("one", Writes::Takes);
    rig.is_cut().await;
    rig.field.mend().await;
    rig.is_up(&["one", "two"]).await;
    assert_eq!(rig.write("one", 60).await.unwrap().outcome().word().to_string(), "confirmed");
    assert_eq!(rig.field.written("one"), [sent, vec![60]].concat(), "what was refused does not come later");
}

pub(crate) async fn a_change_of_one_device_costs_no_command_of_another<F: Field>() {
    let mut rig = Rig::<F>::start(&["one", "two"]).await;
    rig.is_up(&["one", "two"]).await;
    let mut wanted = Vec::new();
    for round in 0..6_u64 {
        let with_more: &[&str] = if round % 2 == 0 { &["two"] } else { &[] };
        let description = rig.field.description(&["one", "two"], with_more);
        let points = Arc::new(PointTable::new(&description, &rig.around.points));
        rig.around.latest = Arc::new(rig.around.latest.grown(points.indices()));
        rig.around.recent.grow(points.indices());
        rig.around.points = points;
        let change = rig.link.change(&description, &description.links[0], &rig.around);
        let value = 70 + round;
        let (told, ()) = tokio::join!(rig.write("one", value), change);
        assert_eq!(told.unwrap().outcome().word().to_string(), "confirmed", "round {round}");
        wanted.push(value);
        rig.description = description;
    }
    assert_eq!(rig.field.written("one"), wanted);
    none_lost_or_doubled(&rig.counts("one"));
}

pub(crate) async fn a_device_that_goes_answers_what_waits_for_it<F: Field>() {
    let mut rig = Rig::<F>::start(&["one", "two"]).await;
    rig.is_up(&["one", "two"]).await;
    rig.field.takes_writes("two", Writes::Swallows);
    let without = rig.field.description(&["one"], &[]);
    let mut around = rig.around.clone();
    around.points = Arc::new(PointTable::new(&without, &rig.around.points));
    let told = {
        let (rig, around) = (&rig, &around);
        let writes = futures_util::future::join_all((80..83).map(|value| rig.write("two", value)));
        let (told, ()) = tokio::join!(writes, async {
            rig.until("the first one is there", |rig| !rig.field.written("two").is_empty()).await;
            rig.link.change(&without, &without.links[0], around).await;
        });
        told
    };
    let sent = rig.field.written("two").len();
    let counts = outcomes(&told);
    assert_eq!((counts.get("unknown").copied(), counts.values().sum::<usize>()), (Some(sent), 3), "{counts:?}");
    assert_eq!(counts.get("refused").copied().unwrap_or_default(), 3 - sent, "{counts:?}");
    rig.around = around;
    let one = rig.counts("one").len();
    rig.until("its neighbour goes on", |rig| rig.counts("one").len() > one + 20).await;
    assert_eq!(rig.field.written("two").len(), sent, "nothing comes there later");
}

pub(crate) async fn a_flood_from_the_device_is_survived<F: Field>() {
    let rig = Rig::<F>::start(&["one", "two"]).await;
    rig.is_up(&["one", "two"]).await;
    rig.field.flood(true).await;
    let is_noticed = |rig: &Rig<F>| rig.link.status().last_error.is_some() || rig.link.statistics().noise_bytes > 100;
    rig.until("it is noticed", is_noticed).await;
    // Whatever the device does, and whatever becomes of it, what is asked of the link is answered.
    _ = rig.write("one", 30).await;
    let requests = rig.link.requests(Arc::clone(&rig.around.points)).await;
    assert_eq!(requests.map(|all| all.is_empty()), Some(false));
    rig.field.flood(false).await;
    rig.is_up(&["one", "two"]).await;
    rig.until("values are good", |rig| rig.quality("one").is_good() && rig.quality("two").is_good()).await;
}
