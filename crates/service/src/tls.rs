use axum::serve::Listener;
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::fs;
use std::io::{self, Write};
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;
use tokio::time::timeout;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// Where the certificate of the console comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TlsSource {
    /// PEM files: the certificate with its chain, and its key.
    Files {
        /// The certificates.
        certificate: PathBuf,
        /// The key.
        key: PathBuf,
    },
    /// One that is made at the first start and kept in this directory: browsers warn of it until they are told.
    SelfMade {
        /// The directory.
        directory: PathBuf,
        /// More names and addresses that the console is reached by, beside this machine's own.
        names: Vec<String>,
    },
}

/// Why TLS cannot be had.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    /// A file cannot be read or written.
    #[error("{path}: {source}")]
    File {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// A file does not hold what it should.
    #[error("{path} holds no {wanted} in PEM form: {why}")]
    Content {
        /// The file.
        path: PathBuf,
        /// What it should hold.
        wanted: &'static str,
        /// What is wrong.
        why: String,
    },
    /// Certificate and key do not go together.
    #[error("certificate and key cannot be used: {0}")]
    Unusable(#[from] rustls::Error),
    /// The certificate could not be made.
    #[error("the certificate could not be made: {0}")]
    Make(#[from] rcgen::Error),
}

/// The names of the files of a self-made certificate.
const CERTIFICATE: &str = "tls-cert.pem";
const KEY: &str = "tls-key.pem";

impl TlsSource {
    /// The configuration of a server with this certificate.
    pub(crate) fn config(&self) -> Result<ServerConfig, TlsError> {
        let (certificate, key) = match self {
            Self::Files { certificate, key } => (certificate.clone(), key.clone()),
            Self::SelfMade { directory, names } => {
                let files = (directory.join(CERTIFICATE), directory.join(KEY));
                if !files.0.exists() || !files.1.exists() {
                    make(&files.0, &files.1, names)?;
                }
                files
            }
        };
        let content = |path: &Path, wanted, why: rustls::pki_types::pem::Error| match why {
            rustls::pki_types::pem::Error::Io(source) => TlsError::File { path: path.to_owned(), source },
            other => TlsError::Content { path: path.to_owned(), wanted, why: other.to_string() },
        };
        let failed = |error| content(&certificate, "certificate", error);
        let chain: Vec<CertificateDer<'static>> =
            CertificateDer::pem_file_iter(&certificate).map_err(failed)?.collect::<Result<_, _>>().map_err(failed)?;
        let key = PrivateKeyDer::from_pem_file(&key).map_err(|error| content(&key, "private key", error))?;
        let mut config = ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key)?;
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(config)
    }
}

fn make(certificate: &Path, key: &Path, names: &[String]) -> Result<(), TlsError> {
    let own = ["localhost", "127.0.0.1", "::1"].map(str::to_owned);
    let host = fs::read_to_string("/etc/hostname").map(|name| name.trim().to_owned()).unwrap_or_default();
    let all = own.into_iter().chain(names.iter().cloned()).chain((!host.is_empty()).then_some(host));
    let made = rcgen::generate_simple_self_signed(all.collect::<Vec<_>>())?;
    write(key, &made.signing_key.serialize_pem(), 0o600)?;
    write(certificate, &made.cert.pem(), 0o644)
}

fn write(path: &Path, text: &str, mode: u32) -> Result<(), TlsError> {
    let failed = |source| TlsError::File { path: path.to_owned(), source };
    let mut options = fs::OpenOptions::new();
    let mut file = options.create(true).write(true).truncate(true).mode(mode).open(path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)
}

/// Connections whose handshake is done. Each shakes hands in a task of its own, so that a slow one holds nobody up.
pub(crate) struct TlsListener {
    ready: mpsc::Receiver<(TlsStream<TcpStream>, SocketAddr)>,
    address: SocketAddr,
}

/// Handshakes take two round trips; whoever takes longer is not going to.
const HANDSHAKE: Duration = Duration::from_secs(10);
/// Connections that wait to be served, and handshakes under way at a time.
const WAITING: usize = 64;

impl TlsListener {
    pub(crate) fn start(listener: TcpListener, config: ServerConfig, stop: CancellationToken) -> io::Result<Self> {
        let address = listener.local_addr()?;
        let acceptor = TlsAcceptor::from(Arc::new(config));
        let (sender, ready) = mpsc::channel(WAITING);
        tokio::spawn(async move {
            let handshakes = TaskTracker::new();
            loop {
                let accepted = tokio::select! {
                    accepted = listener.accept(), if handshakes.len() < WAITING => accepted,
                    () = handshakes_end(&handshakes), if handshakes.len() >= WAITING => continue,
                    () = stop.cancelled() => return,
                };
                let Ok((stream, peer)) = accepted else {
                    // Out of file handles, or the peer has gone again: the next one may do better.
                    tokio::time::sleep(Duration::from_millis(10)).await;
                    continue;
                };
                let (acceptor, sender) = (acceptor.clone(), sender.clone());
                handshakes.spawn(async move {
                    match timeout(HANDSHAKE, acceptor.accept(stream)).await {
                        // The server has stopped when nobody takes it.
                        Ok(Ok(stream)) => drop(sender.send((stream, peer)).await),
                        Ok(Err(error)) => tracing::debug!(%peer, %error, "no TLS"),
                        Err(_) => tracing::debug!(%peer, "no TLS in time"),
                    }
                });
            }
        });
        Ok(Self { ready, address })
    }
}

async fn handshakes_end(handshakes: &TaskTracker) {
    while handshakes.len() >= WAITING {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

impl Listener for TlsListener {
    type Io = TlsStream<TcpStream>;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Self::Io, Self::Addr) {
        match self.ready.recv().await {
            Some(ready) => ready,
            None => std::future::pending().await,
        }
    }

    fn local_addr(&self) -> io::Result<Self::Addr> {
        Ok(self.address)
    }
}
