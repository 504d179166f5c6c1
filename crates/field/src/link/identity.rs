use interlex_opcua::{Credentials, OwnCertificate, PrivateKey, certificate_details, pem_blocks, public_key, to_pem};
use serde::Serialize;
use std::fs;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};
use tokio::sync::OnceCell;

/// The certificate by which servers know this program: made when it is first needed, and kept from then on.
#[derive(Clone, Debug, Default)]
pub struct OwnIdentity(Arc<Kept>);

#[derive(Debug, Default)]
struct Kept {
    files: Option<OwnCertificateFiles>,
    made: OnceCell<Arc<Identity>>,
}

/// Where certificate and key are kept, in PEM: others may be put in their place.
#[derive(Debug, Clone)]
pub struct OwnCertificateFiles {
    /// The certificate.
    pub certificate: PathBuf,
    /// Its key, for the owner only.
    pub key: PathBuf,
}

/// The certificate that servers are to trust.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct OwnCertificateView {
    /// The certificate, in PEM.
    pub pem: String,
    /// The URI of this program that stands in it.
    pub application_uri: String,
    /// Whose it is.
    pub subject: String,
    /// Its SHA-256, in hexadecimal digits.
    pub fingerprint: String,
    /// Its SHA-1, by which servers name it.
    pub thumbprint: String,
    /// When it ends, in milliseconds since 1970 UTC.
    pub until: i64,
}

/// Who this program is.
#[derive(Debug)]
pub(crate) struct Identity {
    pub(crate) application_uri: String,
    pub(crate) credentials: Credentials,
    /// Its last second, since 1970.
    pub(crate) ends: i64,
}

const DAY: i64 = 86_400;
/// Long: nobody comes by to renew it at every server that trusts it.
const YEARS: i64 = 10;
const BITS: usize = 2048;

impl OwnIdentity {
    /// One that is kept in files.
    #[must_use]
    pub fn kept(files: OwnCertificateFiles) -> Self {
        Self(Arc::new(Kept { files: Some(files), made: OnceCell::new() }))
    }

    pub(crate) async fn get(&self) -> Result<Arc<Identity>, String> {
        let files = self.0.files.clone();
        let made = self.0.made.get_or_try_init(|| async {
            // Keys take a while to be found.
            let making = tokio::task::spawn_blocking(move || read_or_make(files.as_ref()));
            making.await.map_err(|error| error.to_string())?.map(Arc::new)
        });
        made.await.cloned()
    }

    /// The certificate, to be given to servers; it is made now, where there is none.
    ///
    /// # Errors
    /// When it cannot be read or made.
    pub async fn certificate(&self) -> Result<OwnCertificateView, String> {
        let identity = self.get().await?;
        let certificate = &identity.credentials.certificate;
        let details = certificate_details(certificate).map_err(|error| error.to_string())?;
        let hexadecimal = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect();
        Ok(OwnCertificateView {
            pem: to_pem(certificate, "CERTIFICATE"),
            application_uri: identity.application_uri.clone(),
            subject: details.subject,
            fingerprint: hexadecimal(&details.fingerprint),
            thumbprint: hexadecimal(&details.thumbprint),
            until: identity.ends.saturating_mul(1000),
        })
    }
}

fn read_or_make(files: Option<&OwnCertificateFiles>) -> Result<Identity, String> {
    let Some(files) = files else { return made().map(|(identity, _)| identity) };
    if files.certificate.exists() {
        return read(files);
    }
    let (identity, key) = made()?;
    let certificate = to_pem(&identity.credentials.certificate, "CERTIFICATE");
    // The key first: a certificate without one would keep a new one from being made.
    write(&files.key, &key)?;
    write(&files.certificate, &certificate)?;
    tracing::info!(path = %files.certificate.display(), uri = identity.application_uri, "made a certificate of our own");
    Ok(identity)
}

fn write(path: &Path, text: &str) -> Result<(), String> {
    let said = |error: std::io::Error| format!("{}: {error}", path.display());
    let new = path.with_extension("new");
    // One that a run before left half written.
    let _ = fs::remove_file(&new);
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&new).map_err(said)?;
    file.write_all(text.as_bytes()).and_then(|()| file.sync_all()).map_err(said)?;
    fs::rename(&new, path).map_err(said)
}

fn read(files: &OwnCertificateFiles) -> Result<Identity, String> {
    let text = |path: &Path| fs::read_to_string(path).map_err(|error| format!("{}: {error}", path.display()));
    let (certificate, key) = (text(&files.certificate)?, text(&files.key)?);
    let is_none = || format!("{} is no certificate in PEM", files.certificate.display());
    let certificate = pem_blocks(&certificate, "CERTIFICATE").ok_or_else(is_none)?.concat();
    let key = PrivateKey::from_pem(&key).map_err(|_| format!("{} is no key in PKCS #8", files.key.display()))?;
    let details =
        certificate_details(&certificate).map_err(|error| format!("{}: {error}", files.certificate.display()))?;
    if public_key(&certificate).ok() != Some(key.public()) {
        return Err(format!("{} is the key of another certificate", files.key.display()));
    }
    let application_uri = details.uris.into_iter().next();
    let application_uri =
        application_uri.ok_or_else(|| format!("{} has no URI of a program", files.certificate.display()))?;
    Ok(Identity { application_uri, credentials: Credentials { certificate, key }, ends: details.validity.1 })
}

fn made() -> Result<(Identity, String), String> {
    let host = fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let host = Some(host.trim()).filter(|host| !host.is_empty()).unwrap_or("localhost").to_owned();
    // Two on one machine are two programs.
    let application_uri = format!("urn:{host}:interlex:{:08x}", fastrand::u32(..));
    let now = seconds_now();
    let ends = now + YEARS * 365 * DAY;
    let wanted = OwnCertificate {
        application_uri: application_uri.clone(),
        application_name: "Interlex".to_owned(),
        organization: "Interlex".to_owned(),
        hosts: vec![host],
        // Clocks of devices are late.
        validity: (now - DAY, ends),
        bits: BITS,
    };
    let failed = |_| "a certificate of our own cannot be made".to_owned();
    let credentials = wanted.make().map_err(failed)?;
    let key = credentials.key.to_pem().map_err(failed)?;
    Ok((Identity { application_uri, credentials, ends }, key))
}

#[expect(clippy::disallowed_methods, reason = "certificates hold by the time of day")]
pub(crate) fn seconds_now() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_secs()).unwrap_or(i64::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_certificate_is_made_once_and_kept_for_the_owner_alone() {
        use std::os::unix::fs::PermissionsExt;
        let directory = tempfile::tempdir().unwrap();
        let path = |name: &str| directory.path().join(name);
        let files = OwnCertificateFiles { certificate: path("own.pem"), key: path("own.key") };
        let made = OwnIdentity::kept(files.clone()).get().await.unwrap();
        let again = OwnIdentity::kept(files.clone()).get().await.unwrap();
        assert_eq!(made.credentials.certificate, again.credentials.certificate);
        assert_eq!((&made.application_uri, made.ends), (&again.application_uri, again.ends));
        assert_eq!(fs::metadata(&files.key).unwrap().permissions().mode() & 0o777, 0o600);
        fs::write(&files.key, made_key()).unwrap();
        let told = OwnIdentity::kept(files).get().await.unwrap_err();
        assert!(told.ends_with("own.key is the key of another certificate"), "{told}");
    }

    fn made_key() -> String {
        PrivateKey::generate(BITS).unwrap().to_pem().unwrap()
    }
}
