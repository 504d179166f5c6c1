//! From a thousand points to a million: what describing, checking, editing, activating, showing and holding them costs, and
//! whether anybody who does so costs the plant a poll. The running program, with its database and a broker.

use crate::modbus_fleet::start_devices;
use anyhow::{Context, ensure};
use interlex_e2e::Rig;
use interlex_e2e::hostile::resident;
use reqwest::Method;
use serde_json::{Value, json};
use std::fmt::Write as _;
use std::net::SocketAddr;
use std::time::Duration;
use tokio::time::{Instant, sleep};

/// Points, whether each device has a list of its own, and what a person waits for.
const PER_DEVICE: usize = 500;
const SIZES: [(usize, bool); 7] = [
    (1_000, true),
    (10_000, true),
    (50_000, true),
    (200_000, true),
    (1_000_000, true),
    (200_000, false),
    (1_000_000, false),
];
const PATIENCE: Duration = Duration::from_secs(300);
/// How long polls are watched at rest, and while people look.
const WATCHED: Duration = Duration::from_secs(20);

/// Large drafts are let go of a minute after somebody used them.
const LET_GO: Duration = Duration::from_secs(75);

/// What was measured of one size, in the order of the rows.
type Figures = Vec<(&'static str, f64, &'static str)>;

pub(crate) async fn run() -> anyhow::Result<()> {
    // One size a run, where it is said which: `INTERLEX_SCALE=50000`.
    let only = std::env::var("INTERLEX_SCALE").ok().and_then(|size| size.parse::<usize>().ok());
    let mut smaller: Option<(usize, Figures)> = None;
    for (points, own) in SIZES.into_iter().filter(|(points, _)| only.is_none_or(|only| only == *points)) {
        let lists = if own { "lists of their own" } else { "one list for all" };
        anstream::println!("scale: {points} points every 10 s, {} devices, {lists}", points / PER_DEVICE);
        let figures = measured(points, own).await?;
        for (at, (what, figure, unit)) in figures.iter().enumerate() {
            // By how much more it costs than the size before, which had so many times fewer points.
            let before = smaller.as_ref().filter(|(known, _)| own && *known < points);
            let growth = before.and_then(|(known, all)| Some((*known, all.get(at)?.1))).filter(|(_, one)| *one > 0.0);
            #[expect(clippy::cast_precision_loss, reason = "far below 2^53")]
            let growth = growth.map_or_else(String::new, |(known, one)| {
                format!("{:.1} for {:.0} times the points", figure / one, points as f64 / known as f64)
            });
            anstream::println!("  {what:<58} {figure:>12.3} {unit:<6} {growth}");
        }
        smaller = Some((points, figures));
    }
    Ok(())
}

struct Scale {
    rig: Rig,
    http: reqwest::Client,
}

impl Scale {
    async fn call(&self, method: Method, path: &str, body: Option<&Value>) -> anyhow::Result<Value> {
        let request = self.http.request(method, format!("{}/api/v1{path}", self.rig.url)).bearer_auth(&self.rig.token);
        let answer = body.into_iter().fold(request, reqwest::RequestBuilder::json).send().await?;
        let (status, text) = (answer.status(), answer.text().await?);
        let shown: String = text.chars().take(400).collect();
        ensure!(status.is_success(), "{path}: {status} {shown}");
        Ok(serde_json::from_str(&text).unwrap_or_default())
    }

    async fn get(&self, path: &str) -> anyhow::Result<Value> {
        self.call(Method::GET, path, None).await
    }

    async fn timed(&self, method: Method, path: &str, body: Option<&Value>) -> anyhow::Result<(f64, Value)> {
        let begun = Instant::now();
        let told = self.call(method, path, body).await?;
        Ok((begun.elapsed().as_secs_f64(), told))
    }

    async fn version(&self) -> anyhow::Result<Value> {
        Ok(self.get("/gateways").await?.pointer("/0/version").cloned().unwrap_or_default())
    }

    /// Reads a stream to its end and keeps nothing; how many bytes there were.
    async fn read(&self, path: &str) -> anyhow::Result<u64> {
        let request = self.http.get(format!("{}/api/v1{path}", self.rig.url)).bearer_auth(&self.rig.token);
        let mut answer = request.send().await?.error_for_status()?;
        let mut bytes = 0;
        while let Some(part) = answer.chunk().await? {
            bytes += part.len() as u64;
        }
        Ok(bytes)
    }

    async fn are_good(&self, points: usize) -> anyhow::Result<()> {
        let deadline = Instant::now() + PATIENCE;
        loop {
            let status = self.get("/status").await.unwrap_or_default();
            let good = status.pointer("/gateways/0/points_good").and_then(Value::as_u64).unwrap_or_default();
            if usize::try_from(good)? >= points {
                return Ok(());
            }
            ensure!(Instant::now() < deadline, "{good} of {points} are good");
            sleep(Duration::from_millis(50)).await;
        }
    }

    /// How late a poll of the first links was at the most since this was asked last.
    async fn latest_poll(&self, links: usize) -> anyhow::Result<f64> {
        let mut latest = 0.0_f64;
        for link in 0..links.min(10) {
            let path = format!("/gateways/works/links/bus-{link}/statistics");
            latest = latest
                .max(self.get(&path).await?.pointer("/lateness/max_ms").and_then(Value::as_f64).unwrap_or_default());
            self.call(Method::POST, &format!("{path}/reset"), Some(&json!({}))).await?;
        }
        Ok(latest)
    }

    /// The longest that a task of each kind kept a worker busy so far, in seconds; the longest of all.
    async fn busiest(&self) -> anyhow::Result<f64> {
        let text = self.http.get(format!("{}/metrics", self.rig.url)).send().await?.text().await?;
        let busy = text.lines().filter_map(|line| line.strip_prefix("interlex_worker_busy_seconds_max{task="));
        busy.clone().for_each(|line| anstream::println!("  busy: {line}"));
        Ok(busy.filter_map(|line| line.rsplit(' ').next()?.parse::<f64>().ok()).fold(0.0, f64::max))
    }

    /// How many messages the uplink has published.
    async fn messages(&self) -> anyhow::Result<u64> {
        let status = self.get("/status").await?;
        Ok(status.pointer("/gateways/0/uplinks/0/messages").and_then(Value::as_u64).unwrap_or_default())
    }

    /// All births anew, until the last of them is published.
    async fn births(&self, devices: usize) -> anyhow::Result<f64> {
        let (wanted, begun) = (self.messages().await? + devices as u64 + 1, Instant::now());
        let told = self.call(Method::POST, "/gateways/works/uplinks/cloud/births", Some(&json!({}))).await?;
        ensure!(told.get("asked") == Some(&Value::Bool(true)), "no births: {told}");
        while self.messages().await? < wanted {
            ensure!(begun.elapsed() < PATIENCE, "the births do not end");
            sleep(Duration::from_millis(20)).await;
        }
        Ok(begun.elapsed().as_secs_f64())
    }

    async fn activate(&self) -> anyhow::Result<f64> {
        let request = json!({ "version": self.version().await?, "note": "scale" });
        Ok(self.timed(Method::POST, "/gateways/works/activations", Some(&request)).await?.0)
    }

    /// Changes the title of a point in the draft.
    async fn touch(&self, list: &str, key: &str, value: Value) -> anyhow::Result<f64> {
        let point = self.get(&format!("/gateways/works/draft/points?list={list}&limit=8")).await?;
        let point = point.get(7).context("there is no point")?;
        let mut content = point.get("content").cloned().unwrap_or_default();
        if let Some(object) = content.as_object_mut() {
            object.insert(key.to_owned(), value);
        }
        let object = json!({ "class": "point", "list": list, "name": content.get("name") });
        let edits = json!({ "edits": [{ "object": object, "version": point.get("version"), "content": content }] });
        Ok(self.timed(Method::POST, "/gateways/works/draft/edits", Some(&edits)).await?.0)
    }
}

/// The main file, and the lists.
fn described(points: usize, own: bool, ports: &[u16], broker: SocketAddr) -> Vec<(String, String)> {
    let devices = points / PER_DEVICE;
    let links = ports.len().min(devices);
    let mut main = format!(
        "[gateway]\nname = \"works\"\n[rates]\nnormal = \"10s\"\n[[uplink]]\nname = \"cloud\"\nkind = \"sparkplug\"\nurl = \
         \"mqtt://{broker}\"\ngroup = \"alderfen\"\nnode = \"works\"\n"
    );
    for (link, port) in ports.iter().take(links).enumerate() {
        // Writing into a string cannot fail.
        let _ = write!(
            main,
            "[[link]]\nname = \"bus-{link}\"\nprotocol = \"modbus-tcp\"\nhost = \"127.0.0.1\"\nport = {port}\n"
        );
    }
    let mut files = Vec::new();
    for device in 0..devices {
        let (link, unit) = (device % links, device / links + 1);
        let list = if own { format!("points/unit-{device}.csv") } else { "points/meter.csv".to_owned() };
        let _ = write!(
            main,
            "[[device]]\nname = \"unit-{device}\"\nlink = \"bus-{link}\"\nunit = {unit}\npoints = \"{list}\"\n"
        );
        if own || device == 0 {
            let mut text = "name,address,type,scale,unit,rate,title\n".to_owned();
            for point in 0..PER_DEVICE {
                let _ = writeln!(text, "value-{point},holding:{point},uint16,0.1,kW,normal,Value {point}");
            }
            files.push((list, text));
        }
    }
    files.insert(0, ("gateway.toml".to_owned(), main));
    files
}

async fn measured(points: usize, own: bool) -> anyhow::Result<Figures> {
    let (child, ports) = start_devices().await?;
    let mut rig = Rig::bare().await;
    rig.set_up().await;
    let broker = rig.broker.address();
    let mut scale = Scale { rig, http: reqwest::Client::new() };
    let links = ports.len().min(points / PER_DEVICE);
    let mut figures = Figures::new();
    scale.call(Method::POST, "/gateways", Some(&json!({ "name": "works" }))).await?;
    let files = described(points, own, &ports, broker);
    let (begun, list) = (Instant::now(), files.last().map(|(list, _)| list.clone()).unwrap_or_default());
    let upload = scale.call(Method::POST, "/gateways/works/draft/uploads", Some(&json!({}))).await?;
    let upload = format!("/gateways/works/draft/uploads/{}", upload.get("upload").cloned().unwrap_or_default());
    // Twenty files of a device, or one that is large, at a time.
    for some in files.chunks(20) {
        let parts: Vec<_> = some.iter().map(|(path, text)| json!({ "path": path, "at": 0, "text": text })).collect();
        scale.call(Method::PUT, &upload, Some(&json!({ "parts": parts }))).await?;
    }
    let end = json!({ "version": scale.version().await? });
    scale.call(Method::POST, &upload, Some(&end)).await?;
    figures.push(("files into the draft", begun.elapsed().as_secs_f64(), "s"));
    figures.push(("first activation", scale.activate().await?, "s"));
    let begun = Instant::now();
    scale.are_good(points).await?;
    figures.push(("until all are good", begun.elapsed().as_secs_f64(), "s"));
    sleep(WATCHED).await;
    #[expect(clippy::cast_precision_loss, reason = "far below 2^53")]
    let per_point = |bytes: u64| bytes as f64 / points as f64;
    figures.push(("memory a point, at rest", per_point(resident(scale.rig.service.pid())), "B"));
    let _ = scale.latest_poll(links).await?;
    let cpu = cpu_of(scale.rig.service.pid())?;
    sleep(WATCHED).await;
    let share = (cpu_of(scale.rig.service.pid())? - cpu).as_secs_f64() / WATCHED.as_secs_f64();
    figures.push(("processor, at rest", share * 100.0, "%"));
    figures.push(("latest poll, at rest", scale.latest_poll(links).await?, "ms"));
    figures.push(("all births anew", scale.births(points / PER_DEVICE).await?, "s"));
    figures.push(("latest poll meanwhile", scale.latest_poll(links).await?, "ms"));

    figures.push(("one point edited, first", scale.touch(&list, "title", "Edited".into()).await?, "s"));
    figures.push(("one point edited", scale.touch(&list, "title", "Edited again".into()).await?, "s"));
    figures.push(("check", scale.timed(Method::GET, "/gateways/works/draft/check", None).await?.0, "s"));
    let (took, told) = scale.timed(Method::GET, "/gateways/works/difference", None).await?;
    ensure!(
        told.get("objects").and_then(Value::as_array).map_or(0, Vec::len) == 1,
        "another number of objects differs"
    );
    figures.push(("difference", took, "s"));
    figures.push(("activation of one title", scale.activate().await?, "s"));
    scale.touch(&list, "deadband", 0.5.into()).await?;
    figures.push(("activation of one deadband, not looked at before", scale.activate().await?, "s"));
    scale.touch(&list, "address", "holding:600".into()).await?;
    figures.push(("activation of one address", scale.activate().await?, "s"));
    figures.push(("latest poll during activations", scale.latest_poll(links).await?, "ms"));
    figures.push(("a worker was busy at a time, at the most", scale.busiest().await?, "s"));
    let begun = Instant::now();
    scale.read("/points").await?;
    figures.push(("all points listed", begun.elapsed().as_secs_f64(), "s"));
    let window = "/points/window?q=value-7&sort=value&from=100&limit=100";
    figures.push(("rows in view, filtered and sorted, first", scale.timed(Method::GET, window, None).await?.0, "s"));
    figures.push(("rows in view, filtered and sorted", scale.timed(Method::GET, window, None).await?.0, "s"));
    let cpu = cpu_of(scale.rig.service.pid())?;
    let looking = async {
        let request = scale.http.get(format!("{}/api/v1/live?q=value-7", scale.rig.url)).bearer_auth(&scale.rig.token);
        let mut answer = request.send().await?.error_for_status()?;
        while answer.chunk().await?.is_some() {}
        anyhow::Ok(())
    };
    let _ = tokio::time::timeout(WATCHED, looking).await;
    let share = (cpu_of(scale.rig.service.pid())? - cpu).as_secs_f64() / WATCHED.as_secs_f64();
    figures.push(("processor, while a filtered stream runs", share * 100.0, "%"));
    figures.push(("latest poll while people look", scale.latest_poll(links).await?, "ms"));
    sleep(LET_GO).await;
    figures.push((
        "memory a point, once nobody has the draft open any more",
        per_point(resident(scale.rig.service.pid())),
        "B",
    ));

    scale.rig.stop_service().await;
    let begun = Instant::now();
    scale.rig.restart_service().await;
    scale.are_good(points).await?;
    figures.push(("restart, until all are good", begun.elapsed().as_secs_f64(), "s"));
    sleep(WATCHED).await;
    figures.push(("memory a point, after the restart", per_point(resident(scale.rig.service.pid())), "B"));
    // Nothing is known of the draft any more.
    figures.push(("first check", scale.timed(Method::GET, "/gateways/works/draft/check", None).await?.0, "s"));
    scale.touch(&list, "title", "Edited at last".into()).await?;
    figures.push(("activation of one title after it", scale.activate().await?, "s"));
    sleep(LET_GO).await;
    figures.push(("memory a point, once that is let go of", per_point(resident(scale.rig.service.pid())), "B"));
    drop(child);
    Ok(figures)
}

/// The processor time of a process so far.
fn cpu_of(pid: u32) -> anyhow::Result<Duration> {
    crate::report::cpu_time_of(&pid.to_string())
}
