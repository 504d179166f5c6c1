use interlex_opcua::{Credentials, OwnCertificate, PrivateKey, SecurityError, certificate_details};
use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::net::IpAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::time::{SystemTime, UNIX_EPOCH};

const KEY: &str = "engine-key.pem";
const CERTIFICATE: &str = "engine-certificate.der";
const DAY: i64 = 86_400;
const YEARS: i64 = 5 * 365 * DAY;

/// The key and the certificate of the controller: those of last time, or new ones, as for another address.
pub(super) fn identity(directory: &Path, application_uri: &str, host: IpAddr) -> io::Result<Credentials> {
    let (key_path, certificate_path) = (directory.join(KEY), directory.join(CERTIFICATE));
    if let (Ok(key), Ok(certificate)) = (fs::read_to_string(&key_path), fs::read(&certificate_path))
        && certificate_details(&certificate).is_ok_and(|details| details.hosts.contains(&host.to_string()))
    {
        return Ok(Credentials { certificate, key: PrivateKey::from_pem(&key).map_err(useless)? });
    }
    let now = now();
    let own = OwnCertificate {
        application_uri: application_uri.to_owned(),
        application_name: "Engine controller".to_owned(),
        organization: "Alderfen".to_owned(),
        hosts: vec![host.to_string(), "localhost".to_owned()],
        validity: (now - DAY, now + YEARS),
        bits: 2048,
    };
    let made = own.make().map_err(useless)?;
    fs::create_dir_all(directory)?;
    let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&key_path)?;
    file.write_all(made.key.to_pem().map_err(useless)?.as_bytes())?;
    fs::write(&certificate_path, &made.certificate)?;
    Ok(made)
}

fn useless(error: SecurityError) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, error)
}

#[expect(clippy::disallowed_methods, reason = "a certificate is made for a time of day")]
fn now() -> i64 {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(now.as_secs()).unwrap_or(i64::MAX)
}
