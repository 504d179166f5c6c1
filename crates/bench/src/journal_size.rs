//! What the journal takes of the disk: samples of a plant of 50,000 points through the real journal.

use crate::report::{header, row};
use anyhow::Context;
use interlex_core::description::{Description, read};
use interlex_core::{
    Clock, FieldEvent, Inventory, LatestTable, PointTable, Quality, Sample, SampleKind, Shared, TimeQuality, Timestamp,
    Value,
};
use interlex_gateway::{SystemClock, reason_words};
use interlex_sidecar::{Database, own_socket};
use interlex_store::Store;
use interlex_uplink::{BrokerCommands, EVENT_QUEUE, LinkHealth, UplinkStart, initial_status, start};
use std::fmt::Write as _;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

const DEVICES: usize = 100;
const POINTS: usize = 500;
/// Every value of the plant, so many times.
const ROUNDS: u32 = 4;

/// Of ten points four are counters, four are scaled 16-bit values, one is a float32, and one a state.
fn description() -> anyhow::Result<Description> {
    // Nobody listens at port 1: everything waits in the journal.
    let mut main = "[gateway]\nname = \"works\"\n[rates]\nr = \"1s\"\n[[uplink]]\nname = \"cloud\"\nkind = \"sparkplug\"\nurl = \
                    \"mqtt://127.0.0.1:1\"\ngroup = \"alderfen\"\nnode = \"works-1\"\njournal-flush = \"100ms\"\n[[link]]\nname = \"bus\"\n\
                    protocol = \"modbus-tcp\"\nhost = \"127.0.0.1\"\n"
        .to_owned();
    for device in 0..DEVICES {
        let _ = write!(
            main,
            "[[device]]\nname = \"unit-{device}\"\nlink = \"bus\"\nunit = {}\npoints = \"p.csv\"\n",
            device + 1
        );
    }
    let mut list = "name,address,type,scale,rate\n".to_owned();
    for point in 0..POINTS {
        let (data_type, scale, table) = match point % 10 {
            0..4 => ("uint32", "", "holding"),
            4..8 => ("int16", "0.1", "input"),
            8 => ("float32", "", "holding"),
            _ => ("", "", "coil"),
        };
        let _ = writeln!(list, "value-{point},{table}:{},{data_type},{scale},r", point * 2);
    }
    let files = [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), list)].into();
    read(&files).map_err(|problems| anyhow::anyhow!("{problems:?}"))
}

fn value(point: usize, round: u32) -> Value {
    let seed = u32::try_from(point).unwrap_or(0).wrapping_mul(2_654_435_761);
    match point % 10 {
        0..4 => Value::Uint(u64::from(seed / 4 + round * 17)),
        4..8 => Value::Float64(
            f64::from(i16::from_le_bytes([seed.to_le_bytes()[3], seed.to_le_bytes()[2]])) / 10.0 + f64::from(round),
        ),
        8 => Value::Float32(f32::from_bits(0x4100_0000 | seed >> 9) + 0.1),
        _ => Value::Bool(seed & 1 == 0),
    }
}

pub(crate) async fn run() -> anyhow::Result<()> {
    let directory = tempfile::tempdir()?;
    let mut database = Database::start(directory.path(), own_socket()?).await?;
    let store = Store::new(&database.url("interlex"))?;
    store.migrate().await?;
    let description = description()?;
    let points = Arc::new(PointTable::new(&description, &PointTable::default()));
    let latest = Arc::new(LatestTable::new(points.indices()));
    let uplink = description.uplinks.first().context("an uplink")?.clone();
    let clock: Arc<dyn Clock> = Arc::new(SystemClock);
    let status = Arc::new(Shared::new(initial_status(&uplink, clock.now()).await));
    let ((events, taken), (_requests, asked)) = (mpsc::channel(EVENT_QUEUE), mpsc::channel(1));
    let (commands, _receiver) = BrokerCommands::channel();
    let stop = CancellationToken::new();
    let task = start(
        UplinkStart {
            gateway: "works".to_owned(),
            title: String::new(),
            uplink,
            inventory: Inventory::new(&description, Arc::clone(&points), latest),
            status: Arc::clone(&status),
            clock: Arc::clone(&clock),
            links: LinkHealth::new(Vec::new),
            words: reason_words,
            store: Some(store.clone()),
            commands,
            requests: asked,
        },
        taken,
        stop.clone(),
    )
    .await;
    let all = u64::from(ROUNDS) * points.all().len() as u64;
    for round in 0..ROUNDS {
        // As many as one request brings, all read at one time.
        for batch in points.all().chunks(60) {
            let at = clock.now();
            events
                .send(FieldEvent::Samples(batch.iter().map(|info| sample(info.index.position(), round, at)).collect()))
                .await?;
        }
    }
    let kept = tokio::time::timeout(Duration::from_secs(120), async {
        loop {
            let buffer = status.read(clock.now()).0.buffer;
            if buffer.durable >= all {
                return buffer;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    })
    .await
    .context("the journal does not get it all")?;
    #[expect(clippy::cast_precision_loss, reason = "a ratio")]
    let per_sample = kept.bytes as f64 / all as f64;
    header("journal-size: 50,000 points, 40 % counters, 40 % scaled 16-bit, 10 % float32, 10 % states");
    row("bytes a sample", &format!("{per_sample:.2}"), "6", Some(per_sample / 6.0));
    row("samples", &all.to_string(), "-", None);
    stop.cancel();
    task.await?;
    store.close().await;
    database.stop().await;
    Ok(())
}

fn sample(point: usize, round: u32, at: Timestamp) -> Sample {
    let index = interlex_core::PointIndex(u32::try_from(point).unwrap_or(u32::MAX));
    let (quality, time_quality, kind) = (Quality::Good, TimeQuality::Unsaid, SampleKind::Current);
    Sample {
        point: index,
        value: Some(value(point, round)),
        quality,
        source_time: at,
        gateway_time: at,
        time_quality,
        kind,
    }
}
