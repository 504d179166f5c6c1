use crate::tls::{TlsError, TlsListener, TlsSource};
use crate::vault::{Vault, VaultError};
use crate::{ApiError, App, activation, router};
use axum::extract::connect_info::Connected;
use axum::serve::IncomingStream;
use interlex_core::description::{Description, Files};
use interlex_gateway::wall_clock;
use interlex_store::Store;
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::time::{sleep, timeout};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// What a service needs to run.
#[derive(Debug, Clone)]
pub struct ServiceConfig {
    /// Address and port to listen on.
    pub listen: SocketAddr,
    /// The database.
    pub store: Store,
    /// Directory for what belongs to this machine: the key that secrets are encrypted with.
    pub data_dir: PathBuf,
    /// Where the certificate comes from, when the console is to be reached by TLS.
    pub tls: Option<TlsSource>,
}

/// Why a service did not start.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// The address cannot be listened on.
    #[error("cannot listen on {address}: {source}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// What the system said.
        source: io::Error,
    },
    /// The key for secrets cannot be had.
    #[error(transparent)]
    Vault(#[from] VaultError),
    /// TLS cannot be had.
    #[error(transparent)]
    Tls(#[from] TlsError),
}

/// Where a request comes from, with TLS or without.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Peer(pub(crate) SocketAddr);

impl Connected<IncomingStream<'_, TcpListener>> for Peer {
    fn connect_info(stream: IncomingStream<'_, TcpListener>) -> Self {
        Self(*stream.remote_addr())
    }
}

impl Connected<IncomingStream<'_, TlsListener>> for Peer {
    fn connect_info(stream: IncomingStream<'_, TlsListener>) -> Self {
        Self(*stream.remote_addr())
    }
}

/// A running service.
#[derive(Debug)]
pub struct Service {
    app: Arc<App>,
    address: SocketAddr,
    tasks: TaskTracker,
    stop: CancellationToken,
}

/// How often the database is asked whether it is there.
const PING: Duration = Duration::from_secs(1);
/// How long open requests may take to end when the service stops.
const DRAIN: Duration = Duration::from_secs(2);

impl Service {
    /// Listens, then brings up the database and the gateways in the background: while the database is away, the
    /// service answers and says so.
    ///
    /// # Errors
    /// [`ServiceError`]
    pub async fn start(config: ServiceConfig) -> Result<Self, ServiceError> {
        let vault = Vault::open(&config.data_dir.join("secret.key"))?;
        let tls = config.tls.as_ref().map(TlsSource::config).transpose()?;
        let failed = |source| ServiceError::Listen { address: config.listen, source };
        let listener = TcpListener::bind(config.listen).await.map_err(failed)?;
        let address = listener.local_addr().map_err(failed)?;
        let stop = CancellationToken::new();
        let app = Arc::new(App::new(config.store, vault, tls.is_some(), stop.clone()));
        let tasks = TaskTracker::new();
        let service = router(Arc::clone(&app)).into_make_service_with_connect_info::<Peer>();
        let graceful = stop.clone().cancelled_owned();
        match tls {
            None => tasks.spawn(ended(axum::serve(listener, service).with_graceful_shutdown(graceful))),
            Some(tls) => {
                let listener = TlsListener::start(listener, tls, stop.clone()).map_err(failed)?;
                tasks.spawn(ended(axum::serve(listener, service).with_graceful_shutdown(graceful)))
            }
        };
        let (upbringing, token) = (Arc::clone(&app), stop.clone());
        tasks.spawn(async move {
            tokio::select! {
                () = bring_up(&upbringing, address) => {}
                () = token.cancelled() => {}
            }
        });
        Ok(Self { app, address, tasks, stop })
    }

    /// Where it listens.
    #[must_use]
    pub const fn address(&self) -> SocketAddr {
        self.address
    }

    /// Its address as people type it.
    #[must_use]
    pub fn url(&self) -> String {
        url(&self.app, self.address)
    }

    /// The one-time code of the first set-up, while it is needed.
    #[must_use]
    pub fn setup_code(&self) -> Option<String> {
        self.app.setup_code.lock().clone()
    }

    /// Waits until the database has answered and the gateways have been started.
    pub async fn ready(&self) {
        while !self.app.database.read().up && !self.stop.is_cancelled() {
            sleep(Duration::from_millis(20)).await;
        }
    }

    /// The description of a running gateway.
    #[must_use]
    pub fn description(&self, gateway: &str) -> Option<Description> {
        self.app.gateway(gateway).map(|gateway| gateway.running().description().clone())
    }

    /// Activates a description on behalf of the program itself.
    ///
    /// # Errors
    /// [`ApiError`], as the API would answer.
    pub async fn activate(&self, files: &Files, note: &str) -> Result<u32, ApiError> {
        activation::activate_files(&self.app, files, note).await
    }

    /// Stops in order: requests are drained, gateways stop, connections to the database close.
    pub async fn stop(self) {
        self.stop.cancel();
        self.tasks.close();
        if timeout(DRAIN, self.tasks.wait()).await.is_err() {
            tracing::warn!("some requests were cut off");
        }
        for gateway in self.app.running() {
            gateway.stop().await;
        }
        self.app.store.close().await;
        tracing::info!("stopped");
    }
}

async fn ended(serving: impl IntoFuture<Output = io::Result<()>>) {
    if let Err(error) = serving.await {
        tracing::error!(%error, "the HTTP server ended");
    }
}

/// Waits for the database, prepares it, starts the gateways, then watches the database.
async fn bring_up(app: &App, address: SocketAddr) {
    while let Err(error) = prepare(app, address).await {
        let message = error.to_string();
        if app.note_database(Err(message.clone()), wall_clock()) || app.database.read().last_error.is_none() {
            tracing::error!(error = message, "waiting for the database");
        } else {
            tracing::debug!(error = message, "waiting for the database");
        }
        sleep(PING).await;
    }
    loop {
        let outcome = app.store.ping().await.map_err(|error| error.to_string());
        let error = outcome.clone().err();
        if app.note_database(outcome, wall_clock()) {
            match error {
                Some(error) => tracing::error!(error, "the database is away; polling and publishing go on"),
                None => tracing::info!("the database is back"),
            }
        }
        sleep(PING).await;
    }
}

fn url(app: &App, address: SocketAddr) -> String {
    let scheme = if app.is_tls { "https" } else { "http" };
    format!("{scheme}://{address}")
}

async fn prepare(app: &App, address: SocketAddr) -> Result<(), ApiError> {
    app.store.migrate().await?;
    if app.store.has_nobody().await? && app.setup_code.lock().is_none() {
        let code = app.make_setup_code().map_err(|error| ApiError::Internal(error.to_string()))?;
        tracing::warn!(code, url = %format!("{}/setup?code={code}", url(app, address)), "nobody can sign in yet: set up");
    }
    activation::start_all(app).await?;
    app.note_database(Ok(()), wall_clock());
    Ok(())
}
