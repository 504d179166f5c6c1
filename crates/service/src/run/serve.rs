use crate::access::proxy::AddressRange;
use crate::api::router::router;
use crate::draft::vault::{Vault, VaultError};
use crate::draft::{activation, drafts};
use crate::run::tls::{TlsError, TlsSource};
use crate::run::{connections, outages};
use crate::{ApiError, App};
use arc_swap::ArcSwap;
use interlex_busy::watched;
use interlex_core::description::{Description, Files};
use interlex_gateway::{OwnCertificateFiles, OwnIdentity, wall_clock};
use interlex_store::{Lease, LeaseHolder, Secret, Store};
use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpSocket};
use tokio::sync::watch;
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
    /// Proxies in front of the service, whose `X-Forwarded-For` says where a request comes from.
    pub trusted_proxies: Vec<AddressRange>,
    /// Whether nothing is written to the field while the audit trail does not take entries. Without it, entries wait in
    /// memory while the database is away.
    pub is_audit_required: bool,
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
    /// The system gives no threads.
    #[error("threads cannot be started: {0}")]
    Threads(#[source] io::Error),
    /// The key for secrets cannot be had.
    #[error(transparent)]
    Vault(#[from] VaultError),
    /// The data directory cannot be used.
    #[error("{path}: {source}")]
    DataDir {
        /// The directory.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// TLS cannot be had.
    #[error(transparent)]
    Tls(#[from] TlsError),
}

/// A running service.
#[derive(Debug)]
pub struct Service {
    app: Arc<App>,
    address: SocketAddr,
    tasks: TaskTracker,
    stop: CancellationToken,
    holder: LeaseHolder,
    gave_up: watch::Receiver<Option<String>>,
}

/// How long the lease of the database lasts without being renewed.
const LEASE: Duration = Duration::from_secs(15);
/// How often certificates are looked at: whether they are renewed, or to be.
const CERTIFICATES: Duration = Duration::from_secs(12 * 3600);

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
        let identity = OwnIdentity::kept(OwnCertificateFiles {
            certificate: config.data_dir.join("opcua-certificate.pem"),
            key: config.data_dir.join("opcua-key.pem"),
        });
        let tls = config.tls.as_ref().map(TlsSource::config).transpose()?;
        let failed = |source| ServiceError::Listen { address: config.listen, source };
        let listener = listen(config.listen).map_err(failed)?;
        let address = listener.local_addr().map_err(failed)?;
        let stop = CancellationToken::new();
        let holder = lease_holder(&config.data_dir, address)
            .map_err(|source| ServiceError::DataDir { path: config.data_dir.clone(), source })?;
        let mut app = App::new(config.store, (vault, identity), tls.is_some(), config.trusted_proxies, stop.clone())
            .map_err(ServiceError::Threads)?;
        app.is_audit_required = config.is_audit_required;
        let app = Arc::new(app);
        let tasks = TaskTracker::new();
        let tls = tls.map(|tls| Arc::new(ArcSwap::from_pointee(tls)));
        if let (Some(source), Some(tls)) = (config.tls, &tls) {
            tasks.spawn(watched("service", "certificate", keep_certificate(source, Arc::clone(tls), stop.clone())));
        }
        let service = router(Arc::clone(&app));
        let serving = connections::serve(listener, tls, (Arc::clone(&app), service), stop.clone());
        tasks.spawn(watched("service", "connections", serving));
        let (idle, token) = (Arc::clone(&app), stop.clone());
        tasks.spawn(watched("service", "drafts", async move {
            tokio::select! {
                () = drafts::let_go(&idle) => {}
                () = token.cancelled() => {}
            }
        }));
        let (upbringing, token, own) = (Arc::clone(&app), stop.clone(), holder.clone());
        let (tell, told) = watch::channel(None);
        tasks.spawn(watched("service", "start", async move {
            tokio::select! {
                why = bring_up(&upbringing, address, &own) => {
                    // Nobody listens any more when it is being stopped.
                    let _ = tell.send(Some(why));
                }
                () = token.cancelled() => {}
            }
        }));
        Ok(Self { app, address, tasks, stop, holder, gave_up: told })
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

    /// Waits until the service cannot go on, and says why: somebody else works with its database.
    pub async fn gave_up(&self) -> String {
        let mut gave_up = self.gave_up.clone();
        let told = gave_up.wait_for(Option::is_some).await;
        match told.map(|why| why.clone()) {
            Ok(Some(why)) => why,
            // It is being stopped.
            _ => std::future::pending().await,
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
        if self.app.trail.flush().await.is_err() {
            tracing::error!(entries = self.app.trail.waiting(), "not written to the audit trail: no database");
        }
        if let Err(error) = self.app.store.end_lease(&self.holder).await {
            tracing::debug!(%error, "the lease of the database runs out by itself");
        }
        self.app.store.close().await;
        tracing::info!("stopped");
    }
}

/// Takes up certificates that were renewed, and renews those that are made here.
async fn keep_certificate(source: TlsSource, tls: Arc<ArcSwap<rustls::ServerConfig>>, stop: CancellationToken) {
    loop {
        tokio::select! {
            () = sleep(CERTIFICATES) => {}
            () = stop.cancelled() => return,
        }
        match source.config() {
            Ok(config) => tls.store(Arc::new(config)),
            Err(error) => tracing::error!(%error, "the certificate of before goes on being used"),
        }
    }
}

/// Who this is, for the lease of the database: the data directory remembers it over starts.
fn lease_holder(data_dir: &Path, address: SocketAddr) -> io::Result<LeaseHolder> {
    let path = data_dir.join("installation");
    let random = || Secret::generate().map(|secret| secret.reveal().get(..32).unwrap_or_default().to_owned());
    let installation = match std::fs::read_to_string(&path) {
        Ok(known) if known.trim().len() == 32 => known.trim().to_owned(),
        _ => {
            let made = random().map_err(io::Error::other)?;
            std::fs::write(&path, format!("{made}\n"))?;
            made
        }
    };
    let host = std::fs::read_to_string("/etc/hostname").unwrap_or_default();
    let words = format!("the service on {} at {address}, process {}", host.trim(), std::process::id());
    Ok(LeaseHolder { installation, run: random().map_err(io::Error::other)?, words })
}

/// Waits for the database, prepares it, starts the gateways, then watches the database. It ends when somebody else works with
/// it, and says who.
async fn bring_up(app: &App, address: SocketAddr, own: &LeaseHolder) -> String {
    let taken = |holder: &str| format!("the database is in use by {holder}; one service at a time works with it");
    loop {
        let error = match app.store.prepare_lease(own, LEASE).await {
            Ok(Lease::Taken { holder }) => return taken(&holder),
            Ok(Lease::Held) => match prepare(app, address).await {
                Ok(()) => break,
                Err(error) => error,
            },
            Err(error) => error.into(),
        };
        let message = error.to_string();
        if app.note_database(Err(message.clone()), wall_clock()) || app.database.read().last_error.is_none() {
            tracing::error!(error = message, "waiting for the database");
        } else {
            tracing::debug!(error = message, "waiting for the database");
        }
        sleep(PING).await;
    }
    tokio::select! {
        holder = watch_database(app, own) => taken(&holder),
        never = outages::follow(app) => match never {},
    }
}

/// Renews the lease of the database, until somebody else has it: gives who.
async fn watch_database(app: &App, own: &LeaseHolder) -> String {
    loop {
        let outcome = match app.store.renew_lease(own, LEASE).await {
            Ok(Lease::Taken { holder }) => return holder,
            Ok(Lease::Held) => Ok(()),
            Err(error) => Err(error.to_string()),
        };
        if outcome.is_ok() && app.trail.waiting() > 0 {
            // What it does not take now it takes a moment later.
            let _ = app.trail.flush().await;
        }
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
        app.make_setup_code().map_err(|error| ApiError::Internal(error.to_string()))?;
        // The code itself is for the terminal and the data directory, not for the log.
        tracing::warn!(url = %format!("{}/setup", url(app, address)), "nobody can sign in yet: set up with the one-time code");
    }
    outages::note_start(app).await?;
    activation::start_all(app).await?;
    app.note_database(Ok(()), wall_clock());
    Ok(())
}

/// So many connections may wait to be accepted: one that is turned away here comes again a second later at the soonest.
const BACKLOG: u32 = 1024;

fn listen(address: SocketAddr) -> io::Result<TcpListener> {
    let socket = if address.is_ipv4() { TcpSocket::new_v4() } else { TcpSocket::new_v6() }?;
    // As a listener of the library does: what was closed a moment ago does not keep the port.
    socket.set_reuseaddr(true)?;
    socket.bind(address)?;
    socket.listen(BACKLOG)
}
