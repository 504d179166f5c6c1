use super::status::buffer;
use super::{Client, list, text, whole};
use crate::options::{GatewayTarget, Output, Target};
use crate::output::{count, date, print_rows, say, span};
use clap::{Args, Subcommand};
use serde_json::{Value, json};

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct BufferArguments {
    #[command(subcommand)]
    pub(crate) command: Option<BufferCommand>,
    #[command(flatten)]
    pub(crate) target: Target,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table")]
    pub(crate) output: Output,
}

#[derive(Debug, Subcommand)]
pub(crate) enum BufferCommand {
    /// Show where samples are missing at the broker of an uplink, and why.
    Gaps {
        #[command(flatten)]
        of: GatewayTarget,
        /// The uplink
        uplink: String,
    },
    /// Throw away everything that waits for the broker of an uplink. It cannot be undone.
    Purge {
        #[command(flatten)]
        of: GatewayTarget,
        /// The uplink
        uplink: String,
        /// The name of the uplink once more, to show that you mean it
        #[arg(long)]
        confirm: String,
    },
}

pub(crate) async fn run(arguments: BufferArguments) -> anyhow::Result<()> {
    match arguments.command {
        Some(BufferCommand::Gaps { of, uplink }) => {
            let client = Client::new(&of.target)?;
            let gateway = client.gateway(of.gateway.as_deref()).await?;
            let view = client.get(&format!("/api/v1/gateways/{gateway}/uplinks/{uplink}/buffer"), &[]).await?;
            let gaps = list(&view, "gaps");
            let row = |gap: &Value| {
                let at = |key| date(whole(gap, key));
                vec![at("from"), at("to"), whole(gap, "count").to_string(), text(gap, "why").to_owned()]
            };
            let rows = gaps.iter().map(row).collect();
            let nothing = "No sample is missing since the uplink runs.";
            print_rows(of.output, &["from", "to", "samples", "why"], rows, &json!(gaps), nothing)
        }
        Some(BufferCommand::Purge { of, uplink, confirm }) => {
            let client = Client::new(&of.target)?;
            let gateway = client.gateway(of.gateway.as_deref()).await?;
            let path = format!("/api/v1/gateways/{gateway}/uplinks/{uplink}/purge");
            let purged = client.post(&path, &json!({ "confirm": confirm })).await?;
            let samples = count(usize::try_from(whole(&purged, "samples")).unwrap_or_default(), "sample");
            say!("{samples} thrown away.")?;
            Ok(())
        }
        None => list_all(&arguments).await,
    }
}

async fn list_all(arguments: &BufferArguments) -> anyhow::Result<()> {
    let status = Client::new(&arguments.target)?.get("/api/v1/status", &[]).await?;
    let now = whole(&status, "at");
    let (mut rows, mut kept, mut told) = (Vec::new(), Vec::new(), Vec::new());
    for gateway in list(&status, "gateways") {
        for uplink in list(gateway, "uplinks") {
            rows.push(row(text(gateway, "name"), uplink, now));
            kept.push(uplink.clone());
            told.extend(sentences(uplink));
        }
    }
    let header = [
        "gateway",
        "uplink",
        "state",
        "wait",
        "oldest",
        "in the database",
        "a crash costs",
        "in/s",
        "out/s",
        "lost",
        "delivered",
    ];
    let is_one = list(&status, "gateways").len() < 2;
    if arguments.output == Output::Table && is_one {
        // The column would say the same in every row.
        rows.iter_mut().for_each(|row: &mut Vec<String>| drop(row.remove(0)));
        print_rows(arguments.output, &header[1..], rows, &Value::Array(kept), "No uplink runs.")?;
    } else {
        print_rows(arguments.output, &header, rows, &Value::Array(kept), "No uplink runs.")?;
    }
    if arguments.output == Output::Table {
        told.iter().try_for_each(|sentence| say!("\n{sentence}"))?;
    }
    Ok(())
}

/// What a table cannot say.
fn sentences(uplink: &Value) -> Vec<String> {
    let (name, buffer) = (text(uplink, "name"), buffer(uplink));
    let estimate = |key: &str| {
        let seconds = buffer.get(key).and_then(Value::as_f64)?;
        #[expect(clippy::cast_possible_truncation, reason = "an estimate of at most some years")]
        let milliseconds = (seconds * 1000.0).min(1e14) as i64;
        Some(span(milliseconds))
    };
    let mut told = Vec::new();
    let error = text(buffer, "journal_error");
    if !error.is_empty() {
        told.push(format!("Uplink {name}: the journal waits for the database: {error}"));
    }
    if buffer.get("is_full") == Some(&Value::Bool(true)) {
        told.push(format!("Uplink {name}: there is no more room; see: interlex buffer gaps {name}"));
    } else if let Some(full) = estimate("seconds_to_full") {
        told.push(format!("Uplink {name}: room for about {full} more."));
    }
    if let Some(drained) = estimate("seconds_to_drained") {
        told.push(format!("Uplink {name}: everything will have arrived in about {drained}."));
    }
    if whole(buffer, "unsettled") > 0 {
        let kept = count(usize::try_from(whole(buffer, "unsettled")).unwrap_or_default(), "sample");
        told.push(format!("Uplink {name}: {kept} delivered, and kept until the primary host must have them."));
    }
    if uplink.get("host_in_doubt") == Some(&Value::Bool(true)) {
        told.push(format!("Uplink {name}: the primary host may not be back; what waits is held."));
    }
    told
}

fn row(gateway: &str, uplink: &Value, now: i64) -> Vec<String> {
    let buffer = buffer(uplink);
    let (waiting, durable) = (whole(buffer, "waiting"), whole(buffer, "durable"));
    let oldest = buffer.get("oldest_at").and_then(Value::as_i64);
    let oldest = oldest.map_or_else(|| "-".to_owned(), |at| format!("{} ago", span(now - at)));
    let rate = |key: &str| format!("{:.1}", buffer.get(key).and_then(Value::as_f64).unwrap_or(0.0));
    let texts = [gateway, text(uplink, "name"), text(uplink, "state")].map(str::to_owned);
    let more = [waiting.to_string(), oldest, durable.to_string(), (waiting - durable).max(0).to_string()];
    let rates = [rate("in_per_second"), rate("out_per_second")];
    let counts = [whole(buffer, "lost").to_string(), whole(uplink, "samples_delivered").to_string()];
    texts.into_iter().chain(more).chain(rates).chain(counts).collect()
}
