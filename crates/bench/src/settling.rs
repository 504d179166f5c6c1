use crate::buffer::{Counted, HOST, Rig, count};
use crate::report::{cpu_time, now, quantile, resident, row, title};
use anyhow::ensure;
use interlex_gateway::UplinkState;
use parking_lot::Mutex;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::sleep;

/// One and a half times the longest keep-alive of the host, where nothing else is set, and a little more.
const UNTIL_STEADY: Duration = Duration::from_secs(100);
const MEASURED: Duration = Duration::from_secs(30);

/// What a gateway takes in the steady state.
struct Taken {
    cpu: f64,
    memory: u64,
    /// Samples that the broker has read and that are kept all the same.
    kept: u64,
    durable: u64,
    bytes: u64,
    latencies: Vec<Duration>,
}

async fn steady(more: &str, until_steady: Duration) -> anyhow::Result<Taken> {
    let mut rig = Rig::start_with(more).await?;
    let counted = Arc::new(Mutex::new(Counted::default()));
    let host = tokio::spawn(count(rig.broker.address(), Arc::clone(&counted)));
    rig.broker.restart().await?;
    let started = now();
    while rig.uplink()?.state != UplinkState::Online {
        ensure!(started.elapsed() < Duration::from_secs(60), "the broker is not found");
        sleep(Duration::from_millis(5)).await;
    }
    sleep(until_steady).await;
    counted.lock().latencies.clear();
    let (cpu, started) = (cpu_time()?, now());
    sleep(MEASURED).await;
    let cpu = (cpu_time()? - cpu).as_secs_f64() / started.elapsed().as_secs_f64();
    let (memory, buffer) = (resident()?, rig.uplink()?.buffer);
    let mut latencies = std::mem::take(&mut counted.lock().latencies);
    latencies.sort_unstable();
    ensure!(buffer.lost == 0, "{} samples were lost", buffer.lost);
    host.abort();
    rig.gateway.stop().await;
    Ok(Taken { cpu, memory, kept: buffer.unsettled, durable: buffer.durable, bytes: buffer.bytes, latencies })
}

pub(crate) async fn run() -> anyhow::Result<()> {
    let without = steady("", Duration::from_secs(10)).await?;
    let ours = steady(&format!("primary-host = \"{HOST}\"\n"), UNTIL_STEADY).await?;
    let told = "settling: 100,000 samples a second; with a primary host, host-keep-alive 60 s, and without one";
    title(told, ("with", "without"));
    let told = |what: &str, of: fn(&Taken) -> String| row(what, &of(&ours), &of(&without), None);
    told("share of one core, plant and host in the process", |taken| format!("{:.0} %", taken.cpu * 100.0));
    told("memory of the process", |taken| format!("{} MB", taken.memory >> 20));
    told("samples kept though the broker has read them", |taken| taken.kept.to_string());
    told("samples in the database", |taken| taken.durable.to_string());
    told("bytes in the database", |taken| format!("{} MB", taken.bytes >> 20));
    let quantile = |taken: &Taken, part| format!("{:.0} ms", quantile(&taken.latencies, part).as_secs_f64() * 1000.0);
    row("live, from read to host, p50", &quantile(&ours, 0.5), &quantile(&without, 0.5), None);
    row("live, from read to host, p99", &quantile(&ours, 0.99), &quantile(&without, 0.99), None);
    Ok(())
}
