use super::{Client, list, text, whole};
use crate::exit::{ExitReason, failed};
use crate::options::{Output, Target};
use crate::output::{clock, plain, print_csv, print_csv_rows, print_json_line, safe, say, span, with_unit};
use clap::Args;
use futures_util::StreamExt;
use serde_json::Value;
use std::pin::pin;

#[derive(Debug, Args)]
pub(crate) struct TapArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    /// The gateway; needed when there are several
    #[arg(long)]
    pub(crate) gateway: Option<String>,
    /// The uplink; the first one when left out
    #[arg(long)]
    pub(crate) uplink: Option<String>,
    /// Which topics, with + and # for any level; those of the uplink when left out
    #[arg(long)]
    pub(crate) filter: Option<String>,
    /// End after so many messages
    #[arg(long)]
    pub(crate) count: Option<u64>,
    /// Lines for people, or a JSON object a line
    #[arg(long, short, value_enum, default_value = "table")]
    pub(crate) output: Output,
}

pub(crate) async fn run(arguments: TapArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.target)?;
    let wanted = [("gateway", &arguments.gateway), ("uplink", &arguments.uplink), ("filter", &arguments.filter)];
    let query: Vec<_> = wanted.iter().filter_map(|(key, value)| Some((*key, value.as_deref()?))).collect();
    let mut events = pin!(client.events("/api/v1/tap", &query).await?);
    let mut messages = 0;
    while let Some(event) = events.next().await {
        let (name, message) = event?;
        if name == "lost" {
            return Err(failed(ExitReason::Failure, format!("the broker is away: {}", plain(&message))));
        }
        match arguments.output {
            Output::Json => print_json_line(&message)?,
            Output::Csv => print_metrics(&message, messages == 0)?,
            Output::Table => print(&message)?,
        }
        messages += 1;
        if arguments.count.is_some_and(|count| messages >= count) {
            return Ok(());
        }
    }
    Err(failed(ExitReason::Unreachable, "the service ended the stream"))
}

/// A head line per message, a line per metric.
fn print(message: &Value) -> std::io::Result<()> {
    let seq = message.get("seq").and_then(Value::as_u64).map(|seq| format!("  seq {seq}")).unwrap_or_default();
    let (at, topic) = (whole(message, "at"), safe(text(message, "topic")));
    say!("{}  {}{seq}  {} bytes", clock(at), topic, whole(message, "bytes"))?;
    if let Some(error) = message.get("error").and_then(Value::as_str) {
        say!("  broken: {error}")?;
    }
    for line in text(message, "text").lines() {
        say!("  {line}")?;
    }
    let metrics = list(message, "metrics");
    let name = |metric| safe(text(metric, "name"));
    let widest = metrics.iter().map(|metric| name(metric).chars().count()).max().unwrap_or(0);
    for metric in metrics {
        let value = with_unit(metric.get("value").unwrap_or(&Value::Null), text(metric, "unit"), None);
        let value = safe(&value);
        let age = metric.get("timestamp").and_then(Value::as_i64).map(|arose| span(at - arose)).unwrap_or_default();
        let mut notes = vec![text(metric, "data_type").to_owned()];
        match metric.get("quality").and_then(Value::as_i64) {
            Some(0) => notes.push("bad".to_owned()),
            Some(500) => notes.push("stale".to_owned()),
            _ => {}
        }
        if metric.get("historical").and_then(Value::as_bool).unwrap_or(false) {
            notes.push("historical".to_owned());
        }
        say!("  {:<widest$}  {value:>16}  age {age:>6}  {}", name(metric), notes.join(" "))?;
    }
    Ok(())
}

const HEADER: [&str; 8] = ["at", "topic", "type", "seq", "metric", "value", "timestamp", "historical"];

fn print_metrics(message: &Value, with_header: bool) -> anyhow::Result<()> {
    let of_message = |key| message.get(key).map(plain).unwrap_or_default();
    let rows = list(message, "metrics").iter().map(|metric| {
        let of_metric = |key| metric.get(key).map(plain).unwrap_or_default();
        let head = ["at", "topic", "type", "seq"].map(of_message);
        head.into_iter().chain(["name", "value", "timestamp", "historical"].map(of_metric)).collect()
    });
    if with_header { print_csv(&HEADER, rows) } else { print_csv_rows(rows) }
}
