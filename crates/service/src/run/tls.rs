use rcgen::{CertificateParams, KeyPair};
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;
use x509_cert::der::Decode;

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
                if !files.0.exists() || !files.1.exists() || ends_soon(&files.0) {
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
    let mut params = CertificateParams::new(all.collect::<Vec<_>>())?;
    let now = std::time::UNIX_EPOCH + Duration::from_millis(interlex_gateway::wall_clock().as_unsigned_millis());
    params.not_before = (now - Duration::from_secs(3600)).into();
    params.not_after = (now + GOOD_FOR).into();
    let own_key = KeyPair::generate()?;
    let made = params.self_signed(&own_key)?;
    write(key, &own_key.serialize_pem(), 0o600)?;
    write(certificate, &made.pem(), 0o644)
}

/// Browsers take no certificate that is good for more than 398 days; an hour goes to clocks that are behind.
const GOOD_FOR: Duration = Duration::from_secs(397 * 86_400);
/// So long before its end another one is made.
const RENEW: Duration = Duration::from_secs(30 * 86_400);

/// Whether a certificate ends within the time in which it is to be renewed, or cannot be read.
fn ends_soon(certificate: &Path) -> bool {
    let end = || {
        let der = CertificateDer::from_pem_file(certificate).ok()?;
        let read = x509_cert::Certificate::from_der(&der).ok()?;
        Some(read.tbs_certificate().validity().not_after.to_unix_duration())
    };
    let now = Duration::from_millis(interlex_gateway::wall_clock().as_unsigned_millis());
    end().is_none_or(|end| end < now + RENEW)
}

fn write(path: &Path, text: &str, mode: u32) -> Result<(), TlsError> {
    let failed = |source| TlsError::File { path: path.to_owned(), source };
    let mut options = fs::OpenOptions::new();
    let mut file = options.create(true).write(true).truncate(true).mode(mode).open(path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)
}
