use crate::args::{CertificateArguments, CertificateCommand};
use crate::output::say;
use anyhow::Context;
use interlex_service::certificate_request;
use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

pub(crate) fn run(arguments: CertificateArguments) -> anyhow::Result<()> {
    let CertificateCommand::Request { name, organization, key, request } = arguments.command;
    let key_path = key.unwrap_or_else(|| PathBuf::from(format!("{name}.key")));
    let request_path = request.unwrap_or_else(|| PathBuf::from(format!("{name}.csr")));
    let made = certificate_request(&name, organization.as_deref()).context("making the key")?;
    write(&key_path, &made.key, 0o600)?;
    write(&request_path, &made.request, 0o644)?;
    say!("Private key, for the uplink's key:    {}", key_path.display())?;
    say!("Request, for the broker's authority:  {}", request_path.display())?;
    say!("What the authority sends back is the uplink's certificate.")?;
    Ok(())
}

/// A key that is there already may be in use somewhere.
fn write(path: &Path, text: &str, mode: u32) -> anyhow::Result<()> {
    let file = OpenOptions::new().write(true).create_new(true).mode(mode).open(path);
    let mut file = file.with_context(|| format!("making {}", path.display()))?;
    file.write_all(text.as_bytes()).with_context(|| format!("writing {}", path.display()))
}
