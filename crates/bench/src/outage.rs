//! Everything between plant and host breaks again and again, for minutes: is anything lost?

use crate::report::now;
use anyhow::Context;
use interlex_core::description::{Files, read};
use interlex_faults::{BreakableLine, CountingPlant, Recorder, Verdict};
use interlex_gateway::{Gateway, GatewayOptions, UplinkStatus};
use interlex_sidecar::{Broker, Database, own_socket};
use interlex_store::Store;
use std::fmt::Write as _;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::{sleep, timeout};

const UNITS: u8 = 10;
const MINUTES: u64 = 5;
const SEED: u64 = 20;
/// How long a fault lasts, and the time to the next, in milliseconds, at the most.
const LASTS: u64 = 8000;
const PAUSE: u64 = 6000;

fn files(plant: SocketAddr, line: SocketAddr) -> Files {
    let (plant_ip, plant_port) = (plant.ip(), plant.port());
    let mut main = format!(
        "[gateway]\nname = \"works\"\n[rates]\nfast = \"50ms\"\n[[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost = \
         \"{plant_ip}\"\nport = {plant_port}\n"
    );
    for unit in 1..=UNITS {
        // Writing into a string cannot fail.
        let _ =
            write!(main, "[[device]]\nname = \"meter-{unit}\"\nlink = \"bus\"\nunit = {unit}\npoints = \"p.csv\"\n");
    }
    let _ = write!(
        main,
        "[[uplink]]\nname = \"cloud\"\nkind = \"sparkplug\"\nurl = \"mqtt://{line}\"\ngroup = \"bench\"\nnode = \
         \"works\"\nkeep-alive = \"2s\"\nprimary-host = \"control-room\"\nhost-grace = \"2s\"\n"
    );
    [
        ("gateway.toml".to_owned(), main),
        ("p.csv".to_owned(), "name,address,type,rate\ncount,holding:0,uint32,fast\n".to_owned()),
    ]
    .into()
}

pub(crate) async fn run() -> anyhow::Result<()> {
    let directory = tempfile::tempdir()?;
    let mut broker = Broker::start(&directory.path().join("broker"), own_socket()?).await?;
    let mut database = Database::start(&directory.path().join("database"), own_socket()?).await?;
    let store = Store::new(&database.url("interlex"))?;
    store.migrate().await?;
    let (plant, line) = (CountingPlant::start().await?, BreakableLine::start(broker.address()).await?);
    let mut host = Recorder::new(broker.address(), "control-room");
    host.come();
    let description =
        read(&files(plant.address(), line.address())).map_err(|problems| anyhow::anyhow!("{problems:?}"))?;
    let options = GatewayOptions { revision: 1, store: Some(store.clone()), ..GatewayOptions::default() };
    let gateway = Gateway::start(Arc::new(description), options).await;
    let uplink =
        || -> anyhow::Result<UplinkStatus> { gateway.status().uplinks.into_iter().next().context("no uplink") };

    let mut random = fastrand::Rng::with_seed(SEED);
    let mut faults = [0_u32; 5];
    let (started, mut most) = (now(), 0);
    while started.elapsed() < Duration::from_secs(60 * MINUTES) {
        sleep(Duration::from_millis(random.u64(500..PAUSE))).await;
        let (fault, lasts) = (random.usize(0..faults.len()), Duration::from_millis(random.u64(50..LASTS)));
        if let Some(count) = faults.get_mut(fault) {
            *count += 1;
        }
        match fault {
            0 => line.cut(),
            1 => {
                line.freeze(true);
                sleep(lasts).await;
                line.freeze(false);
            }
            2 => {
                broker.freeze(true);
                sleep(lasts).await;
                broker.freeze(false);
            }
            3 => {
                broker.kill().await;
                sleep(lasts).await;
                broker.restart().await?;
            }
            _ => {
                database.kill().await;
                line.cut();
                sleep(lasts).await;
                database.restart().await?;
            }
        }
        most = most.max(uplink()?.buffer.waiting);
    }
    let last: Vec<_> = (1..=UNITS).map(|unit| u64::from(plant.reads(unit)).saturating_sub(1)).collect();
    let metric = |unit: u8| format!("meter-{unit}/count");
    let all_there = async {
        loop {
            let newest = |unit| host.arrivals(&metric(unit)).iter().map(|arrival| arrival.value).max().unwrap_or(0);
            let is_there = (1..=UNITS).zip(&last).all(|(unit, last)| newest(unit) >= *last);
            if is_there && uplink().is_ok_and(|uplink| uplink.buffer.waiting < 50) {
                return;
            }
            sleep(Duration::from_millis(100)).await;
        }
    };
    timeout(Duration::from_secs(120), all_there).await.context("not everything arrives")?;
    sleep(Duration::from_secs(1)).await;
    let judged = (1..=UNITS).zip(&last).map(|(unit, last)| Verdict::of(&host.arrivals(&metric(unit)), *last));
    let verdict = judged.reduce(Verdict::and).unwrap_or_default();
    let [cuts, frozen_lines, frozen_brokers, killed_brokers, killed_databases] = faults;
    anstream::println!("outage: {UNITS} counters read every 50 ms, {MINUTES} minutes of faults, seed {SEED}");
    anstream::println!(
        "line cut {cuts}, line frozen {frozen_lines}, broker frozen {frozen_brokers}, broker killed {killed_brokers}, database \
         killed with the line cut {killed_databases}; each up to {LASTS} ms"
    );
    anstream::println!("{verdict}; at most {most} waited after a fault; given up: {}", uplink()?.buffer.lost);
    gateway.stop().await;
    store.close().await;
    database.stop().await;
    broker.stop().await;
    anyhow::ensure!(verdict.is_clean(), "missing: {:?}", verdict.missing);
    Ok(())
}
