//! Events of outstations: each once, in its order, with its own time, and confirmed no sooner than it is safe.

use crate::dnp3::{Dnp3Field, Gateway, MASTER, address, until};
use crate::suite::Field;
use interlex_core::{DeviceState, FieldEvent, PointIndex, Receipt, SampleKind, SequenceEntry, TimeQuality, Value};
use interlex_dnp3::{EventClass, Flags, MeasuredValue, Number, Point, PointKind, PointUpdate};
use interlex_field::{Keeper, KeptEvent, LinkHandle, Memories};
use std::pin::Pin;
use std::sync::{Arc, Mutex};
use tokio::sync::mpsc;
use tokio_util::sync::DropGuard;

/// The first of the events that the tests make; three are of one millisecond.
const FIRST: u64 = 1_700_000_000_000;

fn time(count: u32) -> u64 {
    FIRST + u64::from(count / 3)
}

/// An output that tells how it is counted up, and not by whom.
fn count_up(field: &Dnp3Field, counts: std::ops::RangeInclusive<u32>) {
    field.host.with(address("one"), |outstation, _, _| {
        for count in counts {
            let update = PointUpdate { value: Number::Uint32(count).into(), flags: Flags::ONLINE, time: time(count) };
            outstation.update(PointKind::AnalogOutput, 0, update);
        }
    });
}

async fn field() -> Dnp3Field {
    let field = Dnp3Field::start().await;
    field.host.with(address("one"), |outstation, _, _| {
        let mut output = Point::new(MeasuredValue::Number(Number::Uint32(0)), Some(EventClass::First));
        output.deadband = 0.0;
        outstation.put(PointKind::AnalogOutput, 0, output);
    });
    field
}

/// What a listener was told of one point, and what it is asked to keep.
#[derive(Clone, Default)]
struct Told {
    events: Arc<Mutex<Vec<(u32, u64)>>>,
    receipts: Arc<Mutex<Vec<Receipt>>>,
}

impl Told {
    /// Listens; says at once that all is safe where it `is_safe`.
    async fn listen(self, mut events: mpsc::Receiver<FieldEvent>, point: PointIndex, is_safe: bool) {
        while let Some(event) = events.recv().await {
            match event {
                FieldEvent::Keep(receipt) if is_safe => receipt.stored(),
                FieldEvent::Keep(receipt) => self.receipts.lock().unwrap().push(receipt),
                FieldEvent::Samples(samples) => {
                    let of_point = samples.iter().filter(|sample| sample.point == point);
                    let of_point = of_point.filter(|sample| sample.kind == SampleKind::Event);
                    let values = of_point.filter_map(|sample| match sample.value {
                        Some(Value::Uint(value)) => {
                            assert_eq!(sample.time_quality, TimeQuality::Synchronized);
                            let at = u64::try_from(sample.source_time.as_millis()).unwrap();
                            Some((u32::try_from(value).unwrap(), at))
                        }
                        _ => None,
                    });
                    self.events.lock().unwrap().extend(values);
                }
                _ => {}
            }
        }
    }

    fn count(&self) -> usize {
        self.events.lock().unwrap().len()
    }

    fn assert_each_once(&self, last: u32) {
        let expected: Vec<_> = (1..=last).map(|count| (count, time(count))).collect();
        let told = self.events.lock().unwrap();
        assert_eq!(told.len(), expected.len(), "{} told", told.len());
        assert!(*told == expected, "in their order, with their times");
    }
}

/// A gateway that listens to one point of the outstation, as long as the result lives.
async fn listen(field: &Dnp3Field, memories: Memories, told: &Told, is_safe: bool) -> (LinkHandle, DropGuard) {
    let Gateway { link, events, points, _stop, .. } = Gateway::start_with(&field.description(&["one"], &[]), memories);
    let point = points.find("one", "set-point").unwrap().index;
    tokio::spawn(told.clone().listen(events, point, is_safe));
    until("it is up", || link.status().devices[0].state == DeviceState::Up).await;
    (link, _stop)
}

fn backlog(field: &Dnp3Field) -> usize {
    field.host.with(address("one"), |outstation, _, _| outstation.backlog(MASTER)).flatten().unwrap()
}

/// What happened while the line was broken, again and again.
#[tokio::test(flavor = "multi_thread")]
async fn events_of_a_broken_line_arrive_once_each_with_their_own_time() {
    const EVENTS: u32 = 10_000;
    let (field, told) = (field().await, Told::default());
    let _gateway = listen(&field, Memories::default(), &told, true).await;
    field.cut();
    count_up(&field, 1..=EVENTS);
    // It breaks again while they are told.
    for part in 1..=5 {
        field.mend().await;
        until("some are told", || told.count() > part * 1000).await;
        field.cut();
    }
    field.mend().await;
    until("all are told", || told.events.lock().unwrap().last().is_some_and(|(count, _)| *count == EVENTS)).await;
    told.assert_each_once(EVENTS);
}

/// What is not safe is not confirmed, and told again by the outstation without being told again here.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_safe_stays_at_the_outstation() {
    let (field, told) = (field().await, Told::default());
    let (link, _stop) = listen(&field, Memories::default(), &told, false).await;
    count_up(&field, 1..=5);
    until("they are told", || told.count() == 5).await;
    let heard = link.status().answers;
    until("they are told again and again", || link.status().answers > heard + 10).await;
    assert!(backlog(&field) >= 5, "nothing is confirmed");
    until("all is confirmed that is safe", || {
        told.receipts.lock().unwrap().drain(..).for_each(|receipt| receipt.stored());
        backlog(&field) < 5
    })
    .await;
    told.assert_each_once(5);
}

/// A listener that ends without a word has nothing: what was told to it comes again, as new.
#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_become_safe_is_told_anew() {
    let (field, told) = (field().await, Told::default());
    let _gateway = listen(&field, Memories::default(), &told, false).await;
    count_up(&field, 1..=3);
    until("they are told", || told.count() == 3).await;
    until("they are told as new", || {
        told.receipts.lock().unwrap().clear();
        told.count() >= 6
    })
    .await;
    assert_eq!(told.events.lock().unwrap()[3..6], [1, 2, 3].map(|count| (count, time(count))));
}

/// Keeps the sequence of events as long as the test runs.
#[derive(Debug, Default)]
struct InMemory(Mutex<Vec<SequenceEntry>>);

impl Keeper for InMemory {
    fn load(&self, _: String) -> Pin<Box<dyn Future<Output = Option<Vec<u8>>> + Send + '_>> {
        Box::pin(async { None })
    }

    fn save(&self, _: String, _: Vec<u8>) -> Pin<Box<dyn Future<Output = bool> + Send + '_>> {
        Box::pin(async { true })
    }

    fn keep_events(&self, _: &str, entries: Vec<SequenceEntry>) -> Pin<Box<dyn Future<Output = ()> + Send + '_>> {
        Box::pin(async { self.0.lock().unwrap().extend(entries) })
    }

    fn last_events(&self, _: &str) -> Pin<Box<dyn Future<Output = Option<Vec<KeptEvent>>> + Send + '_>> {
        let last = self.0.lock().unwrap().iter().map(|entry| (entry.address.clone(), entry.mark)).collect();
        Box::pin(async { Some(last) })
    }
}

/// Runs that end between commit and confirm: the next one knows what it is told again.
#[tokio::test(flavor = "multi_thread")]
async fn what_an_earlier_run_has_kept_is_no_news() {
    let (field, keeper, told) = (field().await, Arc::new(InMemory::default()), Told::default());
    let run = || Memories::default().of_gateway(Some(Arc::clone(&keeper) as Arc<dyn Keeper>));
    let is_of_output = |entry: &&SequenceEntry| entry.address == "analog-output:0";
    let kept = |keeper: &InMemory| keeper.0.lock().unwrap().iter().filter(is_of_output).count();
    let gateway = listen(&field, run(), &told, false).await;
    count_up(&field, 1..=4);
    until("they are told", || told.count() == 4).await;
    // No confirm gets through.
    field.cut();
    until("they are kept", || {
        told.receipts.lock().unwrap().drain(..).for_each(|receipt| receipt.stored());
        kept(&keeper) == 4
    })
    .await;
    drop(gateway);
    field.mend().await;
    assert!(backlog(&field) >= 4);
    let _gateway = listen(&field, run(), &told, true).await;
    count_up(&field, 5..=6);
    until("what is new is told", || told.count() >= 6).await;
    told.assert_each_once(6);
    until("all are kept", || kept(&keeper) == 6).await;
    let entries = keeper.0.lock().unwrap();
    let last = entries.iter().rfind(is_of_output).unwrap();
    assert_eq!((last.point.as_deref(), last.state.as_str(), last.flags.as_str()), (Some("set-point"), "6", "online"));
    assert_eq!(u64::try_from(last.at.as_millis()).unwrap(), time(6));
}
