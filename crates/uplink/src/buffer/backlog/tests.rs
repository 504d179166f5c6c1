use super::*;
use interlex_core::description::{Files, Span, WhenFull, read};
use interlex_core::{ManualClock, PointIndex, PointTable, Quality, Sample, SampleKind, TimeQuality, Value};
use interlex_sidecar::{Database, own_socket};

const NOW: Timestamp = Timestamp::from_millis(1_800_000_000_000);

fn points() -> Arc<PointTable> {
    let main = "[gateway]\nname = \"g\"\n[rates]\nr = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \
                \"h\"\n[[device]]\nname = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
    let rows = "name,address,type,rate\na,input:0,string(20),r\nb,input:10,string(20),r\n";
    let files: Files = [("gateway.toml".into(), main.into()), ("p.csv".into(), rows.into())].into();
    Arc::new(PointTable::new(&read(&files).unwrap(), &PointTable::default()))
}

fn settings(when_full: WhenFull) -> JournalSettings {
    JournalSettings {
        journal_flush: Span::from_millis(1),
        keep_for: Span::from_millis(86_400_000),
        keep_megabytes: 1,
        when_full,
        history_share: 50,
    }
}

/// The n-th sample of all: of two points in turn.
fn sample(n: u64) -> Sample {
    let at = Timestamp::from_millis(NOW.as_millis() - 1_000_000 + i64::try_from(n).unwrap());
    let point = PointIndex(u32::try_from(n % 2).unwrap());
    Sample {
        point,
        value: Some(Value::Text(format!("{n:020}").into())),
        quality: Quality::Good,
        source_time: at,
        gateway_time: at,
        time_quality: TimeQuality::Unsaid,
        kind: SampleKind::Current,
    }
}

/// Lets the database do what it has been told, and what follows from it.
async fn settle(backlog: &mut Backlog<Sample>) {
    loop {
        backlog.maintain(true);
        if backlog.ledger.is_at_rest() && backlog.journal.is_idle() && backlog.fetching == 0 {
            return;
        }
        if let Ok(news) = tokio::time::timeout(Duration::from_millis(20), backlog.news()).await {
            backlog.handle_news(news);
        }
    }
}

/// Takes everything out as history, as a broker that proves at once would have it.
async fn drain(backlog: &mut Backlog<Sample>) -> Vec<u64> {
    let mut values = Vec::new();
    while backlog.waiting() > 0 {
        while let Some((_, samples)) = backlog.take_history(300, |_| true) {
            values.extend(
                samples.iter().map(|sample| sample.value.as_ref().unwrap().to_string().parse::<u64>().unwrap()),
            );
            assert!(backlog.queue.len() < 3000, "{} in memory", backlog.queue.len());
        }
        if backlog.queue.ask() {
            backlog.proven();
        }
        settle(backlog).await;
    }
    values
}

#[tokio::test]
async fn more_than_the_memory_holds_goes_through_the_database_in_order() {
    let directory = tempfile::tempdir().unwrap();
    let mut database = Database::start(directory.path(), own_socket().unwrap()).await.unwrap();
    let store = Store::new(&database.url("interlex")).unwrap();
    store.migrate().await.unwrap();
    let bytes = sample(0).bytes();
    let memory = Memory { usual: 1000 * bytes, most: 5000 * bytes, fetch_below: 500 * bytes };
    let open = async |uplink: &str, when_full| {
        let backlog = Backlog::new(
            ("g", uplink),
            &settings(when_full),
            points(),
            Some(&store),
            None,
            Arc::new(ManualClock::new(NOW)),
        )
        .await;
        Backlog { memory, ..backlog }
    };

    let mut backlog = open("cloud", WhenFull::LoseOldest).await;
    for n in 0..6000 {
        backlog.push_history(0, &sample(n));
        if n % 300 == 0 {
            settle(&mut backlog).await;
        }
    }
    settle(&mut backlog).await;
    assert_eq!((backlog.waiting(), backlog.ledger.durable(), backlog.losses.count()), (6000, 6000, 0));
    assert!(backlog.queue.len() <= 1300, "{} in memory", backlog.queue.len());
    // Some are sent and proved, some are sent and come back, and others come meanwhile.
    let (_, first) = backlog.take_history(100, |_| true).unwrap();
    assert_eq!((first.len(), backlog.queue.ask(), backlog.proven()), (100, true, (100, 100)));
    backlog.take_history(50, |_| true).unwrap();
    backlog.queue.nothing_arrived();
    backlog.push_history(0, &sample(6000));
    settle(&mut backlog).await;
    drop(backlog);

    let mut again = open("cloud", WhenFull::LoseOldest).await;
    // A block stays until all of it is proved: what was proved of the second one comes again.
    assert!(again.waiting() >= 6000, "{:?}", again.state(0));
    let mut drained = drain(&mut again).await;
    assert!([0, 1].iter().all(|point| drained.iter().filter(|n| **n % 2 == *point).is_sorted()), "in order");
    drained.sort_unstable();
    drained.retain(|n| *n > 0);
    assert_eq!(drained, (1..6001).collect::<Vec<_>>());
    assert!(store.journal_entries("g", "cloud").await.unwrap().is_empty());

    for (when_full, uplink) in [(WhenFull::LoseOldest, "oldest"), (WhenFull::LoseNewest, "newest")] {
        let mut full = open(uplink, when_full).await;
        for n in 0..200_000 {
            full.push_history(0, &sample(n));
            if n % 2000 == 0 {
                settle(&mut full).await;
            }
        }
        settle(&mut full).await;
        let state = full.state(0);
        assert!(state.bytes <= 1_050_000 && state.lost > 50_000, "{state:?}");
        assert_eq!(state.waiting + state.lost, 200_000, "every one is accounted for");
        assert_eq!(full.view(0).gaps.iter().map(|gap| gap.count).sum::<u64>(), state.lost);
        let kept = drain(&mut full).await;
        let (first, last) = (kept[0], *kept.last().unwrap());
        assert!(kept.windows(2).all(|pair| pair[1] > pair[0]), "in order");
        assert_eq!(
            (first == 0, last == 199_999),
            (when_full == WhenFull::LoseNewest, when_full == WhenFull::LoseOldest)
        );
        full.push_history(0, &sample(1));
        assert_eq!((full.purge(), full.waiting()), (1, 0));
    }
    a_wall_clock_that_leaps_ages_nothing(&store).await;
    store.close().await;
    database.stop().await;
}

async fn a_wall_clock_that_leaps_ages_nothing(store: &Store) {
    let clock = Arc::new(ManualClock::new(NOW));
    let open = async |clock: &Arc<ManualClock>| {
        let clock: Arc<dyn Clock> = Arc::clone(clock) as Arc<dyn Clock>;
        Backlog::new(("g", "leaps"), &settings(WhenFull::LoseOldest), points(), Some(store), None, clock).await
    };
    let mut backlog = open(&clock).await;
    for n in 0..100 {
        backlog.push_history(0, &sample(n));
    }
    settle(&mut backlog).await;
    let days = |days: i64| Timestamp::from_millis(NOW.as_millis() + days * 86_400_000);
    for leap in [days(30), days(-30), days(0)] {
        clock.set(leap);
        settle(&mut backlog).await;
        assert_eq!((backlog.waiting(), backlog.losses.count()), (100, 0), "{leap:?}");
    }
    drop(backlog);
    clock.set(days(2));
    let mut again = open(&clock).await;
    settle(&mut again).await;
    assert_eq!((again.waiting(), again.losses.count()), (0, 100), "a day is what is kept, and two have gone by");
    let numbered = store.journal_points("g", 0).await.unwrap();
    let names: Vec<_> = numbered.iter().map(|known| (known.device.as_str(), known.point.as_str())).collect();
    assert_eq!(names, [("d", "a"), ("d", "b")], "each once, for all uplinks and runs");
}
