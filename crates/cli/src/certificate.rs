use crate::client::{Client, text};
use crate::options::Target;
use crate::output::say;
use anyhow::Context;
use clap::{Args, Subcommand};
use interlex_service::certificate_request;
use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use x509_cert::der::pem::decode_vec;

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
    /// Save the certificate by which OPC UA servers know the service, for them to trust
    Own {
        #[command(flatten)]
        target: Target,
        /// Where it goes; interlex.pem, or interlex.der with --der, when left out
        #[arg(long)]
        save: Option<PathBuf>,
        /// In DER, as many servers want it
        #[arg(long)]
        der: bool,
    },
}

pub(crate) async fn run(arguments: CertificateArguments) -> anyhow::Result<()> {
    match arguments.command {
        CertificateCommand::Request { name, organization, key, request } => {
            make(&name, organization.as_deref(), (key, request))
        }
        CertificateCommand::Own { target, save, der } => own(&target, save, der).await,
    }
}

async fn own(target: &Target, save: Option<PathBuf>, der: bool) -> anyhow::Result<()> {
    let told = Client::new(target)?.get("/api/v1/own-certificate", &[]).await?;
    let path = save.unwrap_or_else(|| PathBuf::from(if der { "interlex.der" } else { "interlex.pem" }));
    let pem = text(&told, "pem");
    let content =
        if der { decode_vec(pem.as_bytes()).ok().context("the service told no certificate")?.1 } else { pem.into() };
    write(&path, &content, 0o644)?;
    say!("Certificate of {}: {}", text(&told, "application_uri"), path.display())?;
    say!("SHA-1 {}, SHA-256 {}", text(&told, "thumbprint"), text(&told, "fingerprint"))?;
    Ok(())
}

fn make(
    name: &str,
    organization: Option<&str>,
    (key, request): (Option<PathBuf>, Option<PathBuf>),
) -> anyhow::Result<()> {
    let key_path = key.unwrap_or_else(|| PathBuf::from(format!("{name}.key")));
    let request_path = request.unwrap_or_else(|| PathBuf::from(format!("{name}.csr")));
    let made = certificate_request(name, organization).context("making the key")?;
    write(&key_path, made.key.as_bytes(), 0o600)?;
    write(&request_path, made.request.as_bytes(), 0o644)?;
    say!("Private key, for the uplink's key:    {}", key_path.display())?;
    say!("Request, for the broker's authority:  {}", request_path.display())?;
    say!("What the authority sends back is the uplink's certificate.")?;
    Ok(())
}

/// A key that is there already may be in use somewhere.
fn write(path: &Path, content: &[u8], mode: u32) -> anyhow::Result<()> {
    let file = OpenOptions::new().write(true).create_new(true).mode(mode).open(path);
    let mut file = file.with_context(|| format!("making {}", path.display()))?;
    file.write_all(content).with_context(|| format!("writing {}", path.display()))
}
