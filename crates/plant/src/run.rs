use crate::control;
use crate::engine::{self, Controller, Coupling, EngineConfig};
use crate::grid::{self, Feeder};
use crate::heating::{self, Controllers};
use crate::line::SerialLine;
use crate::units::{Field, Side, Units};
use interlex_dnp3::OutstationHost;
use interlex_modbus::Framing;
use interlex_opcua::Host;
use std::io;
use std::net::{SocketAddr, SocketAddrV4};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::time::{MissedTickBehavior, interval};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// How the plant runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlantConfig {
    /// Where its Modbus TCP units answer; port 0 takes any free one.
    pub modbus: SocketAddr,
    /// Where its control interface answers; port 0 takes any free one.
    pub control: SocketAddr,
    /// Where the serial line with the meters can be opened: a link to a terminal device, made anew at every start. None
    /// where there is no such line.
    pub serial_path: Option<PathBuf>,
    /// The controller of the engine. None where there is none.
    pub engine: Option<EngineConfig>,
    /// Where the feeder controller of the grid connection answers. None where there is none.
    pub grid: Option<SocketAddr>,
    /// Where the controllers of the heat network and the boiler house answer. None where there are none.
    pub heating: Option<SocketAddrV4>,
    /// The same seed gives the same values.
    pub seed: u64,
}

/// Why the plant does not run.
#[derive(Debug, thiserror::Error)]
pub enum PlantError {
    /// An address cannot be had.
    #[error("{address} for the plant's {what} cannot be had")]
    Address {
        /// Where it was to listen.
        address: SocketAddr,
        /// What it was for.
        what: &'static str,
        /// What the system said.
        source: io::Error,
    },
    /// The controller of the engine has no key or no certificate.
    #[error("the engine's controller has no certificate in {path}")]
    Identity {
        /// Where they were to be.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The controllers of the heating have no place.
    #[error("the heating's controllers do not answer")]
    Heating(#[source] interlex_bacnet::BindError),
    /// The serial line cannot be had.
    #[error("the plant's serial line cannot be made at {path}")]
    Line {
        /// Where it was to be.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
}

/// The running plant; it ends with its token.
#[derive(Debug)]
pub struct Plant {
    modbus: SocketAddr,
    control: SocketAddr,
    engine: Option<(SocketAddr, Vec<u8>)>,
    grid: Option<SocketAddr>,
    tasks: TaskTracker,
}

/// The speed of the serial line, as the demo describes it.
const BAUD: u32 = 19_200;
/// The engine waits so long before it calls again.
const CALL: Duration = Duration::from_secs(1);
/// Ten steps a second: finer than any rate of the demo.
const STEP: Duration = Duration::from_millis(100);

impl Plant {
    /// Starts the plant.
    ///
    /// # Errors
    /// [`PlantError::Address`], [`PlantError::Line`]
    pub async fn start(config: PlantConfig, stop: CancellationToken) -> Result<Self, PlantError> {
        let (modbus, modbus_address) = listen(config.modbus, "Modbus").await?;
        let (control, control_address) = listen(config.control, "control interface").await?;
        let seed = config.seed;
        let field = Arc::new(Field::new(seed));
        let tasks = TaskTracker::new();
        tasks.spawn(run_model(Arc::clone(&field), stop.clone()));
        if let Some(path) = config.serial_path {
            let source = |source| PlantError::Line { path: path.clone(), source };
            let line = SerialLine::open().map_err(source)?;
            link_to(&line, &path).map_err(source)?;
            let units = Arc::new(Units { field: Arc::clone(&field), side: Side::Line });
            let (framing, stop) = (Framing::Rtu, stop.clone());
            tasks.spawn(async move {
                let serving = interlex_modbus::serve_wire(line, framing, framing.silence(BAUD), units, stop);
                if let Err(error) = serving.await {
                    tracing::error!(%error, "the plant's serial line ended");
                }
            });
        }
        let units = Arc::new(Units { field: Arc::clone(&field), side: Side::Network });
        let modbus_stop = stop.clone();
        tasks.spawn(async move {
            if let Err(error) = interlex_modbus::serve(modbus, units, modbus_stop).await {
                tracing::error!(%error, "the plant's Modbus server ended");
            }
        });
        let (coupling, mut feeder, mut grid_address) = (Arc::new(Coupling::default()), None, None);
        if let Some(address) = config.grid {
            let (listener, address) = listen(address, "grid connection").await?;
            let host = grid::controller(seed);
            tasks.spawn(run_grid(Arc::clone(&host), Arc::clone(&coupling), stop.clone()));
            (feeder, grid_address) = (Some(Arc::clone(&host)), Some(address));
            let stop = stop.clone();
            tasks.spawn(async move {
                if let Err(error) = host.serve(listener, stop).await {
                    tracing::error!(%error, "the feeder controller ended");
                }
            });
        }
        let heating = config.heating.map(|address| heating::controllers(address, seed));
        let heating = heating.transpose().map_err(PlantError::Heating)?;
        if let Some(controllers) = heating.clone() {
            let serving = Arc::clone(&controllers.host).serve(stop.clone());
            tasks.spawn(async move {
                if let Err(error) = serving.await {
                    tracing::error!(%error, "the heating's controllers ended");
                }
            });
            tasks.spawn(run_heating(controllers, stop.clone()));
        }
        let (mut engine_address, mut faults) = (None, None);
        if let Some(config) = config.engine {
            let (listener, address) = listen(config.address, "engine").await?;
            let made = tokio::task::spawn_blocking({
                let config = config.clone();
                move || engine::controller(config, address, seed)
            });
            let failed = |source| PlantError::Identity { path: config.directory.clone(), source };
            let made = made.await.map_err(|error| failed(io::Error::other(error)))?.map_err(failed)?;
            let host = Arc::clone(&made.host);
            faults = Some(made);
            let own = host.with(|server, _, _| server.sessions().description().own.clone());
            engine_address = Some((address, own.map(|own| own.certificate).unwrap_or_default()));
            tasks.spawn(run_engine(Arc::clone(&host), Arc::clone(&coupling), stop.clone()));
            if let Some(client) = config.calls {
                tasks.spawn(Arc::clone(&host).call(client, CALL, stop.clone()));
            }
            let stop = stop.clone();
            tasks.spawn(async move {
                if let Err(error) = host.serve(listener, stop).await {
                    tracing::error!(%error, "the engine's server ended");
                }
            });
        }
        let router = control::router(field, faults, feeder, heating);
        tasks.spawn(async move {
            let serving = axum::serve(control, router).with_graceful_shutdown(stop.cancelled_owned());
            if let Err(error) = serving.await {
                tracing::error!(%error, "the plant's control interface ended");
            }
        });
        tasks.close();
        let (engine, grid) = (engine_address, grid_address);
        Ok(Self { modbus: modbus_address, control: control_address, engine, grid, tasks })
    }

    /// Where its Modbus units answer.
    #[must_use]
    pub const fn modbus(&self) -> SocketAddr {
        self.modbus
    }

    /// Where the controller of its engine answers, if it has one.
    #[must_use]
    pub fn engine(&self) -> Option<SocketAddr> {
        self.engine.as_ref().map(|(address, _)| *address)
    }

    /// Where its feeder controller answers, if it has one.
    #[must_use]
    pub const fn grid(&self) -> Option<SocketAddr> {
        self.grid
    }

    /// The certificate that the controller of its engine shows, if it has one.
    #[must_use]
    pub fn engine_certificate(&self) -> Option<&[u8]> {
        self.engine.as_ref().map(|(_, certificate)| &**certificate)
    }

    /// Where its control interface answers.
    #[must_use]
    pub const fn control(&self) -> SocketAddr {
        self.control
    }

    /// Waits until it has ended.
    pub async fn ended(&self) {
        self.tasks.wait().await;
    }
}

/// Puts a link to the line where it can be found at every start.
fn link_to(line: &SerialLine, path: &Path) -> io::Result<()> {
    match std::fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    std::os::unix::fs::symlink(line.path(), path)
}

/// A listener, and its address with the port that it has.
async fn listen(address: SocketAddr, what: &'static str) -> Result<(TcpListener, SocketAddr), PlantError> {
    let error = |source| PlantError::Address { address, what, source };
    let listener = TcpListener::bind(address).await.map_err(error)?;
    let bound = listener.local_addr().map_err(error)?;
    Ok((listener, bound))
}

/// Moves the model by a fixed step, so that a seed gives the same values on every machine.
async fn run_model(field: Arc<Field>, stop: CancellationToken) {
    let mut ticks = interval(STEP);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = ticks.tick() => field.step(STEP.as_secs_f64()),
            () = stop.cancelled() => return,
        }
    }
}

/// Moves the engine on, as [`run_model`] does.
async fn run_engine(host: Arc<Host<Controller>>, coupling: Arc<Coupling>, stop: CancellationToken) {
    let mut ticks = interval(STEP);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = ticks.tick() => {
                let by = (STEP.as_secs_f64(), &*coupling);
                host.with(|server, controller, now| engine::step(server, controller, now, by));
            }
            () = stop.cancelled() => return,
        }
    }
}

/// Moves the heating on, as [`run_model`] does.
async fn run_heating(controllers: Controllers, stop: CancellationToken) {
    let mut ticks = interval(STEP);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = ticks.tick() => controllers.step(STEP.as_secs_f64()),
            () = stop.cancelled() => return,
        }
    }
}

/// Moves the grid connection on, as [`run_model`] does.
async fn run_grid(host: Arc<OutstationHost<Feeder>>, coupling: Arc<Coupling>, stop: CancellationToken) {
    let mut ticks = interval(STEP);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = ticks.tick() => {
                let generated = *coupling.generated.lock();
                let is_connected = grid::step(&host, STEP.as_secs_f64(), generated);
                coupling.is_cut.store(!is_connected, Ordering::Relaxed);
            }
            () = stop.cancelled() => return,
        }
    }
}
