use crate::output::say;
use anyhow::Context;
use clap::{Args, Subcommand};
use interlex_service::certificate_request;
use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

#[derive(Debug, Args)]
pub(crate) struct CertificateArguments {
    #[command(subcommand)]
    pub(crate) command: CertificateCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CertificateCommand {
    /// Make a private key and a certificate request on this machine, without asking any service. Files that are there already
    /// are not touched.
    Request {
        /// Whom the certificate is for (common name), such as works-1
        name: String,
        /// Organization
        #[arg(long)]
        organization: Option<String>,
        /// Where the private key goes; NAME.key when left out
        #[arg(long)]
        key: Option<PathBuf>,
        /// Where the request goes; NAME.csr when left out
        #[arg(long)]
        request: Option<PathBuf>,
    },
}

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
