use super::{Client, list, names, part, text, whole};
use crate::options::{GatewayTarget, Output};
use crate::output::{clock, paint, print_csv, print_csv_rows, print_json, print_json_line, safe, say, styled_line};
use anstyle::AnsiColor;
use anyhow::Context;
use clap::Args;
use serde_json::Value;
use std::path::PathBuf;
use std::time::Duration;

#[derive(Debug, Args)]
pub(crate) struct FramesArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    /// A running link
    pub(crate) link: String,
    /// Go on with what comes; Ctrl-C ends
    #[arg(long, short)]
    pub(crate) follow: bool,
    /// Only frames of this device
    #[arg(long)]
    pub(crate) device: Option<String>,
    /// Only what tells of something wrong
    #[arg(long)]
    pub(crate) errors: bool,
    /// Only the last so many
    #[arg(long, default_value_t = 40)]
    pub(crate) last: usize,
    /// Save all recorded frames of the link as a pcapng file
    #[arg(long, value_name = "FILE", conflicts_with_all = ["follow", "device", "errors"])]
    pub(crate) save: Option<PathBuf>,
    /// Save what the link secured on its way for everybody to read (for engineers)
    #[arg(long, requires = "save")]
    pub(crate) in_the_clear: bool,
}

/// How often it is asked what is new: several times a second looks live to a person.
const LOOK: Duration = Duration::from_millis(300);

pub(crate) async fn run(arguments: FramesArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let path = format!("/api/v1/gateways/{}/links/{}", part(&gateway), part(&arguments.link));
    if let Some(file) = &arguments.save {
        let query = if arguments.in_the_clear { "?in-the-clear=true" } else { "" };
        let bytes = client.file(&format!("{path}/frames.pcapng{query}")).await?;
        std::fs::write(file, &bytes).with_context(|| format!("writing {}", file.display()))?;
        say!("{} bytes written to {}", bytes.len(), file.display())?;
        return Ok(());
    }
    let path = format!("{path}/frames");
    let errors = arguments.errors.to_string();
    let mut query = vec![("errors", errors.as_str())];
    query.extend(arguments.device.as_deref().map(|device| ("device", device)));
    let all = client.get(&path, &query).await?;
    let frames = all.as_array().map(Vec::as_slice).unwrap_or_default();
    let mut newest = frames.last().map_or(0, |frame| whole(frame, "number"));
    let frames = frames.get(frames.len().saturating_sub(arguments.last)..).unwrap_or_default();
    match arguments.of.output {
        Output::Json => print_json(frames)?,
        Output::Csv => print_csv(&HEADER, frames.iter().map(cells))?,
        Output::Table => frames.iter().try_for_each(|frame| styled_line(&line(frame)))?,
    }
    if !arguments.follow {
        return Ok(());
    }
    loop {
        tokio::time::sleep(LOOK).await;
        let after = newest.to_string();
        let mut query = query.clone();
        query.push(("after", &after));
        let new = client.get(&path, &query).await?;
        for frame in new.as_array().into_iter().flatten() {
            newest = newest.max(whole(frame, "number"));
            match arguments.of.output {
                Output::Json => print_json_line(frame)?,
                Output::Csv => print_csv_rows([cells(frame)])?,
                Output::Table => styled_line(&line(frame))?,
            }
        }
    }
}

const HEADER: [&str; 7] = ["number", "at", "direction", "device", "answer ms", "text", "hex"];

fn cells(frame: &Value) -> Vec<String> {
    let took = frame.get("answer_ms").filter(|took| !took.is_null()).map(ToString::to_string).unwrap_or_default();
    let texts = [direction(frame), &who(frame), &took, text(frame, "text"), text(frame, "hex")].map(str::to_owned);
    [whole(frame, "number").to_string(), whole(frame, "at").to_string()].into_iter().chain(texts).collect()
}

fn direction(frame: &Value) -> &'static str {
    if frame.get("sent").and_then(Value::as_bool).unwrap_or(false) { "sent" } else { "received" }
}

fn who(frame: &Value) -> String {
    Some(names(frame, "devices")).filter(|names| !names.is_empty()).unwrap_or_else(|| text(frame, "peer").to_owned())
}

/// One frame on two lines: what it says, and its bytes below.
pub(crate) fn line(frame: &Value) -> String {
    let arrow = if direction(frame) == "sent" { "→" } else { "←" };
    let took = frame.get("answer_ms").and_then(Value::as_f64).map(|took| format!("  {took:.1} ms")).unwrap_or_default();
    let is_error = frame.get("error").and_then(Value::as_bool).unwrap_or(false);
    let asked = if is_error { text(frame, "request") } else { "" };
    let asked = if asked.is_empty() { String::new() } else { format!("  ({asked})") };
    let says = paint(&format!("{}{asked}", text(frame, "text")), is_error.then_some(AnsiColor::Red));
    let bytes = match text(frame, "hex") {
        "" => String::new(),
        hex => format!("\n                {}", paint(hex, Some(AnsiColor::BrightBlack))),
    };
    format!("{} {arrow} {:<20} {says}{took}{bytes}", clock(whole(frame, "at")), safe(&who(frame)))
}

/// One frame as `line` tells it, without colours.
pub(super) fn plain_line(frame: &Value) -> String {
    anstream::adapter::strip_str(&line(frame)).to_string()
}

/// All frames of an exchange, under a heading.
pub(crate) fn print(exchange: &Value) -> std::io::Result<()> {
    let frames = list(exchange, "frames");
    if !frames.is_empty() {
        say!("\nOn the line:")?;
        frames.iter().try_for_each(|frame| styled_line(&format!("  {}", line(frame))))?;
    }
    Ok(())
}
