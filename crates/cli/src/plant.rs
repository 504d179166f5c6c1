use crate::exit::{ExitReason, failed};
use crate::log::{self, LogFormat};
use crate::options::{Output, loopback};
use crate::output::{cell, print_csv, print_json, say, table};
use crate::serve::interrupted;
use clap::{Args, Subcommand, ValueEnum};
use interlex_plant::{Encoding, EngineConfig, Order, Plant, PlantConfig, SIGNALS, Signal, UNITS};
use std::net::{Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use tokio_util::sync::CancellationToken;

#[derive(Debug, Args)]
pub(crate) struct PlantArguments {
    #[command(subcommand)]
    pub(crate) command: Option<PlantCommand>,
    /// Address of loopback to listen on
    #[arg(long, default_value_t = Ipv4Addr::LOCALHOST, value_parser = loopback, global = true)]
    pub(crate) host: Ipv4Addr,
    /// Modbus TCP port
    #[arg(long, default_value_t = 7403)]
    pub(crate) port: u16,
    /// Port of the control interface
    #[arg(long, default_value_t = 7404, global = true)]
    pub(crate) control_port: u16,
    /// OPC UA port of the engine's controller. No engine when it is left out
    #[arg(long, requires = "engine_dir")]
    pub(crate) engine_port: Option<u16>,
    /// Where the engine's controller keeps its key and its certificate
    #[arg(long, requires = "engine_port")]
    pub(crate) engine_dir: Option<PathBuf>,
    /// So many values the engine's controller has beside its own
    #[arg(long, default_value_t = 0)]
    pub(crate) engine_values: u32,
    /// A client that the engine's controller connects to, as ADDRESS:PORT, since that one cannot reach it
    #[arg(long, requires = "engine_port", value_name = "ADDRESS")]
    pub(crate) engine_calls: Option<SocketAddr>,
    /// DNP3 port of the feeder controller of the grid connection. No grid connection when it is left out
    #[arg(long)]
    pub(crate) grid_port: Option<u16>,
    /// BACnet/IP port of the controllers of the heat network and the boiler house. No heating when it is left out
    #[arg(long)]
    pub(crate) heating_port: Option<u16>,
    /// Where the serial line with the meters can be opened; a link is put there. No line when it is left out
    #[arg(long)]
    pub(crate) serial_path: Option<PathBuf>,
    /// The same seed gives the same values
    #[arg(long, default_value_t = 1)]
    pub(crate) seed: u64,
}

#[derive(Debug, Subcommand)]
pub(crate) enum PlantCommand {
    /// Print the register map
    Map {
        /// Form of the output
        #[arg(long, short, value_enum, default_value = "table")]
        output: Output,
    },
    /// Switch a fault of a running plant
    Fault {
        /// The device, such as digester-1 or gas-meter, which `plant map` names; or engine, grid, heat-network, boiler-house
        device: String,
        /// What goes wrong
        #[arg(value_enum)]
        fault: PlantFault,
        /// Switch it off again
        #[arg(long)]
        off: bool,
    },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PlantFault {
    /// The device answers nothing.
    Silent,
    /// The device refuses requests from its first input register.
    WrongRegister,
    /// The device takes 0.4 s for each answer.
    Slow,
    /// Sensors are fifty times as loud as usual (gas analyser).
    NoisySensor,
    /// All sessions are forgotten, once (engine).
    SessionLost,
    /// Another certificate is shown (engine).
    OtherCertificate,
    /// The clock is an hour ahead (engine).
    ClockOff,
    /// Endpoints name a host that nobody reaches (engine).
    OtherHost,
    /// Namespaces have other numbers, after a start anew (engine).
    NamespacesReordered,
    /// Subscriptions cannot be taken over (engine).
    NoTransfer,
    /// Less is done at a time than is said (engine).
    LyingLimits,
    /// History is half a minute behind (engine).
    LateHistory,
    /// The controller restarts, once (grid, heating).
    Restart,
    /// The protection opens the breaker, once (grid).
    Trip,
    /// Somebody operates it by hand: commands are refused (grid), or hold nothing (heating).
    Local,
    /// The sensor of the flow temperature is torn off (heating).
    Sensor,
    /// Changes are not told any more (heating).
    NoChanges,
    /// The clock is an hour behind (grid).
    ClockBack,
}

pub(crate) async fn run(arguments: PlantArguments) -> anyhow::Result<()> {
    match &arguments.command {
        Some(PlantCommand::Map { output }) => print_map(*output),
        Some(PlantCommand::Fault { device, fault, off }) => switch(&arguments, device, *fault, *off).await,
        None => serve(&arguments).await,
    }
}

/// The devices that are no Modbus units.
const OTHERS: [&str; 4] = ["engine", "grid", "heat-network", "boiler-house"];

/// Where its control interface answers.
fn control(arguments: &PlantArguments) -> SocketAddr {
    (arguments.host, arguments.control_port).into()
}

async fn serve(arguments: &PlantArguments) -> anyhow::Result<()> {
    log::to_stderr(LogFormat::Text);
    let stop = CancellationToken::new();
    let modbus = (arguments.host, arguments.port).into();
    let (serial_path, seed) = (arguments.serial_path.clone(), arguments.seed);
    let place = arguments.engine_port.zip(arguments.engine_dir.clone());
    let engine = place.map(|(port, directory)| EngineConfig {
        address: (arguments.host, port).into(),
        directory,
        many: arguments.engine_values,
        calls: arguments.engine_calls,
    });
    let grid = arguments.grid_port.map(|port| (arguments.host, port).into());
    let heating = arguments.heating_port.map(|port| std::net::SocketAddrV4::new(arguments.host, port));
    let config = PlantConfig { modbus, control: control(arguments), serial_path, engine, grid, heating, seed };
    let plant = Plant::start(config, stop.clone()).await?;
    print_map(Output::Table)?;
    say!("\nModbus TCP on {}, control on http://{}. Ctrl-C stops it.", plant.modbus(), plant.control())?;
    if let Some(address) = plant.engine() {
        say!("The engine on opc.tcp://{address}.")?;
    }
    if let Some(address) = plant.grid() {
        say!("The grid connection as DNP3 outstation 10 on {address}.")?;
    }
    if let Some(port) = arguments.heating_port {
        say!("The heating as BACnet devices 4001 and 4002 by {}:{port}.", arguments.host)?;
    }
    if let Some(path) = &arguments.serial_path {
        say!("Modbus RTU at 19200 baud on {}.", path.display())?;
    }
    interrupted().await?;
    stop.cancel();
    plant.ended().await;
    Ok(())
}

const HEADER: [&str; 9] = ["unit", "device", "name", "address", "type", "order", "scale", "unit of value", "title"];

fn row(signal: &Signal) -> Vec<String> {
    let (data_type, order) = encoding(signal.encoding);
    let scale = if data_type == "bool" { String::new() } else { signal.scale.to_string() };
    let texts = [signal.name, &signal.address_text(), data_type, order, &scale, signal.engineering_unit, signal.title];
    [signal.unit.to_string(), signal.device().to_owned()].into_iter().chain(texts.map(str::to_owned)).collect()
}

fn encoding(encoding: Encoding) -> (&'static str, &'static str) {
    let word = |order| match order {
        Order::Abcd => "ABCD",
        Order::Cdab => "CDAB",
        Order::Badc => "BADC",
        Order::Dcba => "DCBA",
    };
    match encoding {
        Encoding::Bit => ("bool", ""),
        Encoding::Int16 => ("int16", ""),
        Encoding::Uint16 => ("uint16", ""),
        Encoding::Uint32(order) => ("uint32", word(order)),
        Encoding::Bcd32(order) => ("bcd32", word(order)),
        Encoding::Float32(order) => ("float32", word(order)),
    }
}

fn print_map(output: Output) -> anyhow::Result<()> {
    let rows = SIGNALS.iter().map(row);
    match output {
        Output::Csv => print_csv(&HEADER, rows),
        Output::Json => {
            let object = |row: Vec<String>| -> serde_json::Map<_, _> {
                HEADER.iter().zip(row).map(|(key, text)| ((*key).to_owned(), text.into())).collect()
            };
            let rows: Vec<_> = rows.map(object).collect();
            print_json(&rows)?;
            Ok(())
        }
        Output::Table => {
            let mut map = table(&HEADER);
            rows.for_each(|row| {
                map.add_row(row.into_iter().map(cell));
            });
            map.print()?;
            Ok(())
        }
    }
}

async fn switch(arguments: &PlantArguments, device: &str, fault: PlantFault, off: bool) -> anyhow::Result<()> {
    let known: Vec<_> = UNITS.iter().map(|(_, name)| *name).chain(OTHERS).collect();
    if !known.contains(&device) {
        return Err(failed(
            ExitReason::Failure,
            format!("there is no device {device:?}; expected {}", known.join(", ")),
        ));
    }
    let word = fault.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default();
    let control = control(arguments);
    let url = format!("http://{control}/faults/{device}/{word}");
    let client = reqwest::Client::new();
    let request = if off { client.delete(&url) } else { client.put(&url) };
    let unreachable = |error| failed(ExitReason::Unreachable, format!("no plant answers at {control}: {error}"));
    let answer = request.send().await.map_err(unreachable)?;
    if answer.status() == reqwest::StatusCode::NOT_FOUND {
        return Err(failed(ExitReason::Failure, format!("{device} does not have the fault {word}")));
    }
    answer.error_for_status()?;
    say!("{device}: {word} {}", if off { "off" } else { "on" })?;
    Ok(())
}
