//! A gateway with many devices: what it costs, and whether it keeps time.

use crate::report::{cpu_time, header, resident, row};
use anyhow::Context;
use interlex_core::description::{Files, read};
use interlex_gateway::{Gateway, GatewayOptions, HistogramView, LinkState};
use interlex_modbus::{ExceptionCode, ReadData, Refusal, Request, Response, Units, serve};
use std::fmt::Write as _;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio::net::TcpListener;
use tokio::process::{Child, Command};
use tokio::time::{Instant, sleep};
use tokio_util::sync::CancellationToken;

const DEVICES: usize = 100;
const REGISTERS: usize = 500;
const WARM_UP: Duration = Duration::from_secs(5);
const MEASURED: Duration = Duration::from_secs(30);

/// A device whose registers change with every read, so that nothing is spared on the way.
#[derive(Debug, Default)]
struct Changing(AtomicU16);

impl Units for Changing {
    fn answer(&self, _: u8, request: &Request) -> Result<Response, Refusal> {
        let Request::Read(read) = request else { return Err(ExceptionCode::ILLEGAL_FUNCTION.into()) };
        let tick = self.0.fetch_add(1, Ordering::Relaxed);
        let range = read.address()..read.address() + read.quantity();
        Ok(Response::Data(ReadData::Registers(range.map(|address| address.wrapping_add(tick)).collect())))
    }
}

/// Serves the devices, and prints their ports; ends with its standard input.
pub(crate) async fn devices() -> anyhow::Result<()> {
    let stop = CancellationToken::new();
    for _ in 0..DEVICES {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        anstream::println!("{}", listener.local_addr()?.port());
        tokio::spawn(serve(listener, Arc::new(Changing::default()), stop.clone()));
    }
    let mut nothing = String::new();
    BufReader::new(tokio::io::stdin()).read_line(&mut nothing).await?;
    Ok(())
}

pub(crate) async fn start_devices() -> anyhow::Result<(Child, Vec<u16>)> {
    let mut command = Command::new(std::env::current_exe()?);
    let piped = command.arg("fleet-devices").stdin(Stdio::piped()).stdout(Stdio::piped()).kill_on_drop(true);
    let mut child = piped.spawn()?;
    let mut lines = BufReader::new(child.stdout.take().context("no output")?).lines();
    let mut ports = Vec::new();
    while ports.len() < DEVICES {
        ports.push(lines.next_line().await?.context("the devices ended")?.parse()?);
    }
    Ok((child, ports))
}

fn files(ports: &[u16]) -> Files {
    let mut main = "[gateway]\nname = \"works\"\n[rates]\nnormal = \"1s\"\n".to_owned();
    for (device, port) in ports.iter().enumerate() {
        // Writing into a string cannot fail.
        let _ = write!(
            main,
            "[[link]]\nname = \"bus-{device}\"\nprotocol = \"modbus-tcp\"\nhost = \"127.0.0.1\"\nport = {port}\n[[device]]\nname = \
             \"unit-{device}\"\nlink = \"bus-{device}\"\nunit = 1\npoints = \"meter.csv\"\n"
        );
    }
    let mut list = "name,address,type,scale,unit,rate\n".to_owned();
    for point in 0..REGISTERS {
        let _ = writeln!(list, "value-{point},holding:{point},uint16,0.1,kW,normal");
    }
    [("gateway.toml".to_owned(), main), ("meter.csv".to_owned(), list)].into()
}

fn lateness_of(gateway: &Gateway) -> Vec<HistogramView> {
    let (status, running) = (gateway.status(), gateway.running());
    status.links.iter().filter_map(|link| running.statistics(&link.name)).map(|counts| counts.lateness).collect()
}

/// What half and 99 of 100 were late at the most, over all links, to the bounds of the bars.
fn lateness(before: &[HistogramView], after: &[HistogramView], percent: u64) -> String {
    let sum = |all: &[HistogramView], at: usize| {
        all.iter().filter_map(|one| one.bars.get(at)).map(|bar| bar.count).sum::<u64>()
    };
    let bounds = after.first().map(|one| one.bars.as_slice()).unwrap_or_default();
    let counts: Vec<_> = (0..bounds.len()).map(|at| sum(after, at) - sum(before, at)).collect();
    let (mut seen, total) = (0, counts.iter().sum::<u64>());
    for (bar, count) in bounds.iter().zip(counts) {
        seen += count;
        if seen * 100 >= total * percent {
            return bar.up_to_ms.map_or_else(|| "over 10 s".to_owned(), |bound| format!("<= {bound} ms"));
        }
    }
    "-".to_owned()
}

pub(crate) async fn run() -> anyhow::Result<()> {
    let (child, ports) = start_devices().await?;
    let description = Arc::new(read(&files(&ports)).map_err(|problems| anyhow::anyhow!("{problems:?}"))?);
    let points: usize = DEVICES * REGISTERS;
    let before = resident()?;
    let gateway = Gateway::start(description, GatewayOptions::default()).await;
    let deadline = Instant::now() + Duration::from_secs(30);
    while gateway.status().points_good < points {
        anyhow::ensure!(Instant::now() < deadline, "the devices do not come up");
        sleep(Duration::from_millis(50)).await;
    }
    sleep(WARM_UP).await;
    let before_late = lateness_of(&gateway);
    let (cpu, requests) = (cpu_time()?, gateway.status().links.iter().map(|link| link.requests).sum::<u64>());
    let started = Instant::now();
    sleep(MEASURED).await;
    let took = started.elapsed().as_secs_f64();
    let cpu = (cpu_time()? - cpu).as_secs_f64() / took;
    let status = gateway.status();
    let asked = status.links.iter().map(|link| link.requests).sum::<u64>() - requests;
    anyhow::ensure!(status.links.iter().all(|link| link.state == LinkState::Up), "a link is down");
    let after = lateness_of(&gateway);
    let per_point = resident()?.saturating_sub(before) / u64::try_from(points)?;

    header(&format!(
        "modbus-fleet: {DEVICES} devices of {REGISTERS} registers every second, one gateway, {MEASURED:?}"
    ));
    #[expect(clippy::cast_precision_loss, reason = "far below 2^53")]
    row("requests/s", &format!("{:.1}", asked as f64 / took), &format!("{}", DEVICES * REGISTERS.div_ceil(125)), None);
    row("share of one core", &format!("{:.1} %", cpu * 100.0), "-", None);
    row("lateness of polls, p50", &lateness(&before_late, &after, 50), "-", None);
    row("lateness of polls, p99", &lateness(&before_late, &after, 99), "-", None);
    row("memory per point, without the description", &format!("{per_point} B"), "-", None);
    gateway.stop().await;
    drop(child);
    Ok(())
}

const UNITS: usize = 80;
const REQUESTS_OF_A_UNIT: usize = 250;

/// Units with so many registers apart that each is a request of its own, on so many links.
fn apart(ports: &[u16], links: usize) -> Files {
    let mut main = "[gateway]\nname = \"works\"\n[rates]\nnormal = \"10s\"\n".to_owned();
    for (link, port) in ports.iter().take(links).enumerate() {
        // Writing into a string cannot fail.
        let _ = write!(
            main,
            "[[link]]\nname = \"bus-{link}\"\nprotocol = \"modbus-tcp\"\nhost = \"127.0.0.1\"\nport = {port}\n"
        );
    }
    for device in 0..UNITS {
        let (link, unit) = (device % links, device + 1);
        let _ = write!(
            main,
            "[[device]]\nname = \"unit-{unit}\"\nlink = \"bus-{link}\"\nunit = {unit}\npoints = \"meter.csv\"\n"
        );
    }
    let mut list = "name,address,type,rate\n".to_owned();
    for point in 0..REQUESTS_OF_A_UNIT {
        let _ = writeln!(list, "value-{point},holding:{},uint16,normal", point * 2);
    }
    [("gateway.toml".to_owned(), main), ("meter.csv".to_owned(), list)].into()
}

/// Very many requests on one link, beside as many on fifty.
pub(crate) async fn requests() -> anyhow::Result<()> {
    let (child, ports) = start_devices().await?;
    let points = UNITS * REQUESTS_OF_A_UNIT;
    let mut told = Vec::new();
    for links in [1, 50] {
        let description = read(&apart(&ports, links)).map_err(|problems| anyhow::anyhow!("{problems:?}"))?;
        let begun = Instant::now();
        let gateway = Gateway::start(Arc::new(description), GatewayOptions::default()).await;
        while gateway.status().points_good < points {
            anyhow::ensure!(begun.elapsed() < Duration::from_secs(60), "the devices do not come up");
            sleep(Duration::from_millis(5)).await;
        }
        let first = begun.elapsed().as_secs_f64();
        sleep(WARM_UP).await;
        let (cpu, started) = (cpu_time()?, Instant::now());
        sleep(MEASURED).await;
        told.push((first, (cpu_time()? - cpu).as_secs_f64() / started.elapsed().as_secs_f64() * 100.0));
        gateway.stop().await;
    }
    drop(child);
    let [one, fifty] = told.as_slice() else { anyhow::bail!("not measured") };
    crate::report::title(&format!("requests: {points} requests every 10 s"), ("on one link", "on fifty"));
    row("until all are good, s", &format!("{:.2}", one.0), &format!("{:.2}", fifty.0), Some(one.0 / fifty.0));
    row("share of one core", &format!("{:.1} %", one.1), &format!("{:.1} %", fifty.1), Some(one.1 / fifty.1));
    Ok(())
}
