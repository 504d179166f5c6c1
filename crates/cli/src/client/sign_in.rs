use super::{Remembered, checked, http, remembered_path, text};
use crate::exit::{ExitReason, failed};
use crate::output::say;
use crate::serve::make_private;
use anyhow::Context;
use clap::Args;
use serde_json::{Value, json};
use std::io::{BufRead, IsTerminal, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;

#[derive(Debug, Args)]
pub(crate) struct SignInArguments {
    /// The service, such as http://127.0.0.1:7400
    pub(crate) url: String,
    /// Name to sign in with; asked for when left out
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// Read the password from standard input instead of asking
    #[arg(long)]
    pub(crate) password_stdin: bool,
    /// The certificate to trust, in PEM form, when the service has a self-made one (tls-cert.pem of its data directory)
    #[arg(long)]
    pub(crate) ca: Option<PathBuf>,
}

pub(crate) async fn run(arguments: SignInArguments) -> anyhow::Result<()> {
    let url = arguments.url.trim_end_matches('/').to_owned();
    let has_terminal = std::io::stdin().is_terminal();
    if !has_terminal && (arguments.name.is_none() || !arguments.password_stdin) {
        let why = "there is no terminal to ask at: say --name NAME, and give the password to --password-stdin";
        return Err(failed(ExitReason::Failure, why));
    }
    let name = match arguments.name {
        Some(name) => name,
        None => {
            anstream::eprint!("Name: ");
            read_line()?
        }
    };
    let password = read_password(arguments.password_stdin)?;
    let label = format!("client of {}", std::env::var("USER").unwrap_or_else(|_| "someone".to_owned()));
    let body = json!({ "name": name, "password": password, "label": label });
    let sent = http(arguments.ca.as_deref())?.post(format!("{url}/api/v1/tokens")).json(&body).send().await;
    let made: Value = checked(sent, &url).await?.json().await?;
    let path = remembered_path()?;
    make_private(path.parent().context("a path without a directory")?)?;
    let ca = arguments.ca.map(|path| path.canonicalize().unwrap_or(path));
    let remembered = Remembered { url: url.clone(), token: text(&made, "token").to_owned(), ca };
    let file = std::fs::OpenOptions::new().create(true).write(true).truncate(true).mode(0o600).open(&path);
    let mut file = file.with_context(|| format!("writing {}", path.display()))?;
    file.write_all(toml::to_string(&remembered)?.as_bytes())?;
    say!("Signed in to {url} as {name}.")?;
    Ok(())
}

/// A password, asked for or read from standard input.
pub(crate) fn read_password(from_stdin: bool) -> anyhow::Result<String> {
    if from_stdin { read_line() } else { Ok(rpassword::prompt_password("Password: ")?) }
}

fn read_line() -> anyhow::Result<String> {
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(line.trim_end_matches(['\r', '\n']).to_owned())
}
