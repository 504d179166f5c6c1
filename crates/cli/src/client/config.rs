use super::{Client, list, text, whole};
use crate::args::{ConfigArguments, ConfigCommand, Output};
use crate::exit::{ExitReason, failed};
use crate::output::print_csv;
use anyhow::Context;
use interlex_core::description::{self, Files, MAIN_FILE, Problem};
use serde_json::{Value, json};
use std::fs;
use std::path::{Component, Path};

pub(crate) async fn run(arguments: ConfigArguments) -> anyhow::Result<()> {
    match &arguments.command {
        ConfigCommand::Check { directory, output } => check(directory, *output),
        ConfigCommand::Apply { directory, activate, note } => {
            apply(&Client::new(&arguments.target)?, directory, note.as_deref().filter(|_| *activate)).await
        }
        ConfigCommand::Export { directory, gateway, force } => {
            export(&Client::new(&arguments.target)?, directory, gateway.as_deref(), *force).await
        }
    }
}

fn check(directory: &Path, output: Output) -> anyhow::Result<()> {
    let checked = description::read(&read_files(directory)?);
    let problems = checked.as_ref().err().cloned().unwrap_or_default();
    match output {
        Output::Json => anstream::println!("{}", serde_json::to_string_pretty(&json!({ "problems": problems }))?),
        Output::Csv => {
            let row = |problem: &Problem| {
                let (line, column) = (problem.line.to_string(), problem.column.to_string());
                let Problem { file, object, message, expected, .. } = problem.clone();
                vec![file, line, column, object, message, expected]
            };
            print_csv(&["file", "line", "column", "object", "message", "expected"], problems.iter().map(row))?;
        }
        Output::Table => problems.iter().for_each(|problem| anstream::println!("{problem}")),
    }
    match checked {
        Ok(found) => {
            if output == Output::Table {
                let points: usize = found.devices.iter().map(|device| device.points.len()).sum();
                let (links, devices) = (found.links.len(), found.devices.len());
                anstream::println!("No mistakes: {links} links, {devices} devices, {points} points.");
            }
            Ok(())
        }
        Err(problems) => Err(mistakes(problems.len())),
    }
}

fn mistakes(count: usize) -> anyhow::Error {
    let word = if count == 1 { "mistake" } else { "mistakes" };
    failed(ExitReason::Mistakes, format!("{count} {word}"))
}

async fn apply(client: &Client, directory: &Path, note: Option<&str>) -> anyhow::Result<()> {
    let files = read_files(directory)?;
    let Some(note) = note else {
        let result = client.post("/api/v1/check", &json!({ "files": files })).await?;
        let problems: Vec<Problem> = serde_json::from_value(json!(list(&result, "problems")))?;
        problems.iter().for_each(|problem| anstream::println!("{problem}"));
        if !problems.is_empty() {
            return Err(mistakes(problems.len()));
        }
        anstream::println!("No mistakes. Nothing was activated; add --activate --note TEXT.");
        return Ok(());
    };
    let activated = client.post("/api/v1/revisions", &json!({ "files": files, "note": note })).await?;
    anstream::println!("{} runs revision {}.", text(&activated, "gateway"), whole(&activated, "revision"));
    Ok(())
}

async fn export(client: &Client, directory: &Path, gateway: Option<&str>, force: bool) -> anyhow::Result<()> {
    let gateway = match gateway {
        Some(name) => name.to_owned(),
        None => only_gateway(client).await?,
    };
    let exported = client.get(&format!("/api/v1/gateways/{gateway}/files"), &[]).await?;
    let files: Files = serde_json::from_value(exported.get("files").cloned().unwrap_or_default())?;
    let there: Vec<_> = files.keys().filter(|path| directory.join(path).exists()).cloned().collect();
    if !there.is_empty() && !force {
        let message = format!("there already: {}; --force writes over them", there.join(", "));
        return Err(failed(ExitReason::Failure, message));
    }
    for (path, text) in &files {
        // A service must not be able to write outside the directory.
        if !Path::new(path).components().all(|part| matches!(part, Component::Normal(_))) {
            return Err(failed(ExitReason::Failure, format!("the service names a file outside: {path:?}")));
        }
        let target = directory.join(path);
        if let Some(parent) = target.parent() {
            fs::create_dir_all(parent).with_context(|| format!("making {}", parent.display()))?;
        }
        fs::write(&target, text).with_context(|| format!("writing {}", target.display()))?;
    }
    anstream::println!("{} files of {gateway} in {}.", files.len(), directory.display());
    Ok(())
}

async fn only_gateway(client: &Client) -> anyhow::Result<String> {
    let status: Value = client.get("/api/v1/status", &[]).await?;
    match list(&status, "gateways") {
        [only] => Ok(text(only, "name").to_owned()),
        [] => Err(failed(ExitReason::Failure, "no gateway runs")),
        several => {
            let names: Vec<_> = several.iter().map(|gateway| text(gateway, "name")).collect();
            Err(failed(ExitReason::Failure, format!("name a gateway: --gateway {}", names.join(" or "))))
        }
    }
}

/// All TOML and CSV files of a directory, by their path in it.
fn read_files(directory: &Path) -> anyhow::Result<Files> {
    if !directory.join(MAIN_FILE).is_file() {
        let message = format!("{} has no {MAIN_FILE}", directory.display());
        return Err(failed(ExitReason::Mistakes, message));
    }
    let mut files = Files::new();
    let mut waiting = vec![directory.to_owned()];
    while let Some(next) = waiting.pop() {
        for entry in fs::read_dir(&next).with_context(|| format!("reading {}", next.display()))? {
            let path = entry?.path();
            let is_ours = path.extension().is_some_and(|ending| ending == "toml" || ending == "csv");
            if path.is_dir() {
                waiting.push(path);
            } else if is_ours {
                let bytes = fs::read(&path).with_context(|| format!("reading {}", path.display()))?;
                let name = path.strip_prefix(directory)?.to_string_lossy().into_owned();
                files.insert(name, utf8(&path, bytes)?);
            }
        }
    }
    Ok(files)
}

fn utf8(path: &Path, bytes: Vec<u8>) -> anyhow::Result<String> {
    String::from_utf8(bytes).map_err(|error| {
        let before = error.as_bytes().get(..error.utf8_error().valid_up_to()).unwrap_or_default();
        let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
        let message = format!("{}:{line}: not UTF-8; save the file with that encoding", path.display());
        failed(ExitReason::Mistakes, message)
    })
}
