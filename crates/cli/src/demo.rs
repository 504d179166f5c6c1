use crate::exit::{ExitReason, failed};
use crate::log;
use crate::log::LogFormat;
use crate::options::loopback;
use crate::output;
use crate::serve::{interrupted, keep_setup_link, make_private};
use anyhow::Context;
use clap::Args;
use indicatif::{ProgressBar, ProgressStyle};
use interlex_core::description::{
    self, BacnetIpLink, Description, Dnp3Link, Files, Fingerprint, HostPort, LinkProtocol, MAIN_FILE, OpcUaLink,
};
use interlex_plant::{EngineConfig, Plant, PlantConfig};
use interlex_service::{Service, ServiceConfig};
use interlex_sidecar::{Broker, Database, is_free};
use interlex_store::Store;
use serde::{Deserialize, Serialize};
use std::io::IsTerminal;
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4};
use std::path::{Path, PathBuf};
use std::time::Duration;
use tokio_util::sync::CancellationToken;

/// How the demo runs.
#[derive(Debug, Args)]
#[command(
    after_help = "Everything listens on loopback only. Data is kept between starts; remove the directory to begin anew.\nCtrl-C stops everything in \
                        order: deaths are published, what was not delivered is kept."
)]
pub(crate) struct DemoArguments {
    /// Where the database and the logs live
    #[arg(long, env = "INTERLEX_DEMO_DIR", default_value = ".interlex/demo")]
    pub(crate) data_dir: PathBuf,
    /// Address of loopback to listen on
    #[arg(long, env = "INTERLEX_DEMO_HOST", default_value_t = Ipv4Addr::LOCALHOST, value_parser = loopback)]
    pub(crate) host: Ipv4Addr,
    /// First of six ports: console and API, database, broker, plant, plant control, engine
    #[arg(long, env = "INTERLEX_DEMO_PORTS", default_value_t = 7400, value_parser = clap::value_parser!(u16).range(1024..=65529))]
    pub(crate) ports_from: u16,
    /// Seed of the plant: the same seed gives the same values
    #[arg(long, default_value_t = 1)]
    pub(crate) seed: u64,
    /// Form of the log in DATA_DIR/interlex.log
    #[arg(long, env = "INTERLEX_LOG_FORMAT", value_enum, default_value = "text")]
    pub(crate) log_format: LogFormat,
}

const GATEWAY: &str = "alderfen-1";
/// Where the files that ship say that everything is.
const SHIPPED: Places = Places::from(Ipv4Addr::LOCALHOST, 7400);
const SHIPPED_LINE: &str = "/dev/ttyUSB0";

/// The description that the demo starts with.
fn files() -> Files {
    [
        (MAIN_FILE, include_str!("../../../demo/gateway.toml")),
        ("points/digester.csv", include_str!("../../../demo/points/digester.csv")),
        ("points/gas-analyser.csv", include_str!("../../../demo/points/gas-analyser.csv")),
        ("points/heat-meter.csv", include_str!("../../../demo/points/heat-meter.csv")),
        ("points/gas-meter.csv", include_str!("../../../demo/points/gas-meter.csv")),
        ("points/engine.csv", include_str!("../../../demo/points/engine.csv")),
        ("points/grid.csv", include_str!("../../../demo/points/grid.csv")),
        ("points/heat-network.csv", include_str!("../../../demo/points/heat-network.csv")),
        ("points/boiler-house.csv", include_str!("../../../demo/points/boiler-house.csv")),
    ]
    .map(|(path, text)| (path.to_owned(), text.to_owned()))
    .into()
}

#[derive(Debug, Clone, Copy)]
struct Places {
    console: SocketAddr,
    database: SocketAddr,
    broker: SocketAddr,
    plant: SocketAddr,
    control: SocketAddr,
    engine: SocketAddr,
    grid: SocketAddr,
    /// Where the gateway speaks BACnet, and where the heating answers.
    building: SocketAddrV4,
    heating: SocketAddrV4,
}

impl Places {
    const fn from(host: Ipv4Addr, first: u16) -> Self {
        const fn at(host: Ipv4Addr, port: u16) -> SocketAddr {
            SocketAddr::V4(SocketAddrV4::new(host, port))
        }
        Self {
            console: at(host, first),
            database: at(host, first + 1),
            broker: at(host, first + 2),
            plant: at(host, first + 3),
            control: at(host, first + 4),
            engine: at(host, first + 5),
            grid: at(host, first + 6),
            building: SocketAddrV4::new(host, first + 7),
            heating: SocketAddrV4::new(host, first + 8),
        }
    }

    fn check(self) -> anyhow::Result<()> {
        let all = [
            (self.console, "console"),
            (self.database, "database"),
            (self.broker, "broker"),
            (self.plant, "plant"),
            (self.control, "plant control"),
            (self.engine, "engine"),
            (self.grid, "grid connection"),
        ];
        let taken = all.iter().filter(|(place, _)| !is_free(*place));
        let taken: Vec<_> = taken.map(|(place, what)| format!("{} ({what})", place.port())).collect();
        if taken.is_empty() {
            return Ok(());
        }
        let message = format!(
            "taken on {}: port {}; is the demo running already? Choose other ports with --ports-from, such as \
             --ports-from {}",
            self.console.ip(),
            taken.join(", "),
            self.console.port().saturating_add(100)
        );
        Err(failed(ExitReason::Failure, message))
    }
}

pub(crate) async fn run(arguments: DemoArguments) -> anyhow::Result<()> {
    let places = Places::from(arguments.host, arguments.ports_from);
    places.check()?;
    make_private(&arguments.data_dir)?;
    let log = arguments.data_dir.join("interlex.log");
    log::to_file(arguments.log_format, &log)?;

    let step = Step::begin("database");
    let mut database = Database::start(&arguments.data_dir.join("database"), places.database).await?;
    step.done(&format!("MariaDB on port {}", places.database.port()));

    let step = Step::begin("broker");
    let mut broker = Broker::start(&arguments.data_dir.join("broker"), places.broker).await?;
    step.done(&format!("Mosquitto on port {}", places.broker.port()));

    let step = Step::begin("plant");
    let stop_plant = CancellationToken::new();
    let line = std::path::absolute(arguments.data_dir.join("meter-line"))?;
    let config = PlantConfig {
        modbus: places.plant,
        control: places.control,
        serial_path: Some(line.clone()),
        engine: Some(EngineConfig {
            address: places.engine,
            directory: arguments.data_dir.join("engine"),
            many: 0,
            calls: None,
        }),
        grid: Some(places.grid),
        heating: Some(places.heating),
        seed: arguments.seed,
    };
    let plant = Plant::start(config, stop_plant.clone()).await?;
    step.done(&format!(
        "ten devices, Modbus TCP on port {}, RTU on {}, OPC UA on port {}, DNP3 on port {}, BACnet on port {}",
        places.plant.port(),
        line.display(),
        places.engine.port(),
        places.grid.port(),
        places.heating.port()
    ));

    let step = Step::begin("service");
    let store = Store::new(&database.url("interlex"))?;
    let service = Service::start(ServiceConfig {
        listen: places.console,
        store,
        data_dir: arguments.data_dir.clone(),
        tls: None,
        trusted_proxies: Vec::new(),
        is_audit_required: false,
    })
    .await?;
    service.ready().await;
    let engine = plant.engine().zip(plant.engine_certificate().and_then(fingerprint));
    let (line, grid) = (line.display().to_string(), Some(places.grid));
    let heating = Some((places.building, places.heating));
    let placed = Placed { plant: places.plant, broker: places.broker, line, engine, grid, heating };
    prepare(&service, &placed, &arguments.data_dir.join(PLACED)).await?;
    step.done(&format!("gateway {GATEWAY} runs"));

    let link = keep_setup_link(&service, &arguments.data_dir)?;
    welcome(&service, link.as_deref(), places);
    interrupted().await?;

    let step = Step::begin("stopping");
    service.stop().await;
    step.done("deaths published, journal flushed");
    stop_plant.cancel();
    plant.ended().await;
    broker.stop().await;
    database.stop().await;
    tell(&format!("Everything has stopped; the data is kept in {}.", arguments.data_dir.display()));
    Ok(())
}

/// Where the demo put what its description names.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Placed {
    plant: SocketAddr,
    broker: SocketAddr,
    line: String,
    /// The engine, and the fingerprint of its certificate.
    #[serde(default)]
    engine: Option<(SocketAddr, String)>,
    /// The grid connection.
    #[serde(default)]
    grid: Option<SocketAddr>,
    /// From where BACnet is spoken, and where the heating is.
    #[serde(default)]
    heating: Option<(SocketAddrV4, SocketAddrV4)>,
}

/// Where that is kept, in the data directory.
const PLACED: &str = "placed.json";

impl Placed {
    /// Puts what is where `self` says to where `now` is; what somebody has pointed elsewhere stays there.
    fn moved(&self, description: &mut Description, now: &Self) {
        for link in &mut description.links {
            let modbus = match &mut link.protocol {
                LinkProtocol::Modbus(modbus) => modbus,
                LinkProtocol::OpcUa(own) => {
                    self.engine_moved(own, now);
                    continue;
                }
                LinkProtocol::Bacnet(own) => {
                    self.heating_moved(own, now);
                    continue;
                }
                LinkProtocol::Dnp3(own) => {
                    if let (Some(before), Some(at), Dnp3Link::Tcp(own)) = (self.grid, now.grid, own)
                        && own.host.as_deref().is_some_and(|host| is_at(host, own.port, before))
                    {
                        (own.host, own.port) = (Some(at.ip().to_string()), at.port());
                    }
                    continue;
                }
            };
            if let Some(tcp) = modbus.tcp_mut()
                && is_at(&tcp.host, tcp.port, self.plant)
            {
                (tcp.host, tcp.port) = (now.plant.ip().to_string(), now.plant.port());
            }
            if let Some(serial) = modbus.serial_mut()
                && serial.device_path == self.line
            {
                serial.device_path.clone_from(&now.line);
            }
        }
        for uplink in &mut description.uplinks {
            let url = &mut uplink.settings.url;
            if is_at(&url.host, url.port, self.broker) {
                (url.host, url.port) = (now.broker.ip().to_string(), now.broker.port());
            }
        }
    }
}

impl Placed {
    /// The demo has looked at the certificate of its own engine, and trusts it.
    fn engine_moved(&self, own: &mut OpcUaLink, now: &Self) {
        let (Some((before, known)), Some((at, shown))) = (&self.engine, &now.engine) else { return };
        if is_at(&own.url.host, own.url.port, *before) {
            (own.url.host, own.url.port) = (at.ip().to_string(), at.port());
            if own.server_certificate.is_none_or(|trusted| trusted.to_string() == *known) {
                own.server_certificate = shown.parse().ok();
            }
        }
    }
}

impl Placed {
    fn heating_moved(&self, own: &mut BacnetIpLink, now: &Self) {
        let (Some((from, heating)), Some((at, heated))) = (self.heating, now.heating) else { return };
        if own.interface == from.ip().to_string() && own.port == from.port() {
            (own.interface, own.port) = (at.ip().to_string(), at.port());
        }
        if own.bbmd.is_some_and(|bbmd| bbmd.or_port(own.port) == heating) {
            own.bbmd = Some(HostPort { host: *heated.ip(), port: Some(heated.port()) });
        }
    }
}

fn fingerprint(certificate: &[u8]) -> Option<String> {
    Some(Fingerprint(interlex_opcua::certificate_details(certificate).ok()?.fingerprint).to_string())
}

fn is_at(host: &str, port: u16, place: SocketAddr) -> bool {
    host == place.ip().to_string() && port == place.port()
}

/// Activates the demo's description at the first start, and again when it has moved.
async fn prepare(service: &Service, placed: &Placed, path: &Path) -> anyhow::Result<()> {
    let (mut description, note) = match service.description(GATEWAY) {
        Some(running) => (running, "the demo moved"),
        None => {
            let shipped = description::read(&files());
            let problems = |problems: Vec<_>| failed(ExitReason::Mistakes, format!("{problems:?}"));
            (shipped.map_err(problems)?, "the demo as it ships")
        }
    };
    let before = description.clone();
    // At the first start everything is where the files that ship say.
    let known = match service.description(GATEWAY).and_then(|_| std::fs::read(path).ok()) {
        Some(json) => serde_json::from_slice(&json).with_context(|| format!("reading {}", path.display()))?,
        None => Placed {
            plant: SHIPPED.plant,
            broker: SHIPPED.broker,
            line: SHIPPED_LINE.to_owned(),
            engine: Some((SHIPPED.engine, String::new())),
            grid: Some(SHIPPED.grid),
            heating: Some((SHIPPED.building, SHIPPED.heating)),
        },
    };
    known.moved(&mut description, placed);
    if service.description(GATEWAY).is_none() || description != before {
        service.activate(&description::write(&description), note).await.context("activating the demo")?;
    }
    std::fs::write(path, serde_json::to_vec(placed)?).with_context(|| format!("writing {}", path.display()))
}

fn welcome(service: &Service, setup_link: Option<&str>, places: Places) {
    let console = format!("http://{}", service.address());
    tell("");
    match setup_link {
        Some(link) => {
            tell("Nobody can sign in yet. Open this link once, to name the administrator:");
            tell(&format!("\n  {link}\n"));
        }
        None => tell(&format!("Console: {console}  (sign in with the name and password that you chose)\n")),
    }
    // As it was called, so that the lines can be pasted.
    let program = std::env::args().next().unwrap_or_else(|| "interlex".to_owned());
    let (host, port) = (places.control.ip(), places.control.port());
    let mut control = if port == SHIPPED.control.port() { String::new() } else { format!(" --control-port {port}") };
    if host != SHIPPED.control.ip() {
        control.push_str(&format!(" --host {host}"));
    }
    let hints = [
        (format!("sign-in {console}"), "sign the client in"),
        ("status".to_owned(), "what runs, since when, and why not"),
        ("watch gas".to_owned(), "values, live"),
        ("tap".to_owned(), "what arrives at the broker"),
        ("plant map".to_owned(), "what the registers should say"),
        (format!("plant fault gas-analyser silent{control}"), "pull a plug; add --off to mend it"),
    ];
    tell("Then, in another terminal:");
    for (command, what) in hints {
        tell(&format!("  {program} {command}\n      {what}"));
    }
    tell("\nCtrl-C stops everything.");
}

/// Says a line. That nobody reads it any more is no reason to stop the plant.
fn tell(text: &str) {
    let _ = output::line(format_args!("{text}"));
}

/// One step of the start: a spinner on a terminal, a line elsewhere.
struct Step {
    name: &'static str,
    bar: Option<ProgressBar>,
}

impl Step {
    fn begin(name: &'static str) -> Self {
        let bar = std::io::stderr().is_terminal().then(|| {
            let bar = ProgressBar::new_spinner().with_message(name);
            bar.set_style(ProgressStyle::default_spinner());
            bar.enable_steady_tick(Duration::from_millis(100));
            bar
        });
        Self { name, bar }
    }

    fn done(self, what: &str) {
        if let Some(bar) = self.bar {
            bar.finish_and_clear();
        }
        tell(&format!("{:<9} {what}", self.name));
    }
}
