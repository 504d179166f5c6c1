use crate::control;
use crate::units::Field;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::time::{MissedTickBehavior, interval};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// How the plant runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PlantConfig {
    /// Modbus TCP port on 127.0.0.1; 0 takes any free one.
    pub modbus_port: u16,
    /// Port of the control interface on 127.0.0.1; 0 takes any free one.
    pub control_port: u16,
    /// The same seed gives the same values.
    pub seed: u64,
}

/// Why the plant does not run.
#[derive(Debug, thiserror::Error)]
pub enum PlantError {
    /// A port cannot be had.
    #[error("port {port} for the plant's {what} cannot be had on 127.0.0.1")]
    Port {
        /// The port.
        port: u16,
        /// What it was for.
        what: &'static str,
        /// What the system said.
        source: io::Error,
    },
}

/// The running plant; it ends with its token.
#[derive(Debug)]
pub struct Plant {
    modbus: SocketAddr,
    control: SocketAddr,
    tasks: TaskTracker,
}

/// Ten steps a second: finer than any rate of the demo.
const STEP: Duration = Duration::from_millis(100);

impl Plant {
    /// Starts the plant.
    ///
    /// # Errors
    /// [`PlantError::Port`]
    pub async fn start(config: PlantConfig, stop: CancellationToken) -> Result<Self, PlantError> {
        let modbus = listen(config.modbus_port, "Modbus").await?;
        let control = listen(config.control_port, "control interface").await?;
        let address = |listener: &TcpListener| {
            listener.local_addr().map_err(|source| PlantError::Port { port: 0, what: "address", source })
        };
        let (modbus_address, control_address) = (address(&modbus)?, address(&control)?);
        let field = Arc::new(Field::new(config.seed));
        let tasks = TaskTracker::new();
        tasks.spawn(run_model(Arc::clone(&field), stop.clone()));
        let (units, modbus_stop) = (Arc::clone(&field), stop.clone());
        tasks.spawn(async move {
            if let Err(error) = interlex_modbus::serve(modbus, units, modbus_stop).await {
                tracing::error!(%error, "the plant's Modbus server ended");
            }
        });
        let router = control::router(field);
        tasks.spawn(async move {
            let serving = axum::serve(control, router).with_graceful_shutdown(stop.cancelled_owned());
            if let Err(error) = serving.await {
                tracing::error!(%error, "the plant's control interface ended");
            }
        });
        tasks.close();
        Ok(Self { modbus: modbus_address, control: control_address, tasks })
    }

    /// Where its Modbus units answer.
    #[must_use]
    pub const fn modbus(&self) -> SocketAddr {
        self.modbus
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

async fn listen(port: u16, what: &'static str) -> Result<TcpListener, PlantError> {
    TcpListener::bind((Ipv4Addr::LOCALHOST, port)).await.map_err(|source| PlantError::Port { port, what, source })
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
