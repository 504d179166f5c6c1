use super::{Client, list, text, whole};
use crate::args::{BufferArguments, Output};
use crate::output::{print_rows, span};
use serde_json::Value;

pub(crate) async fn run(arguments: BufferArguments) -> anyhow::Result<()> {
    let status = Client::new(&arguments.target)?.get("/api/v1/status", &[]).await?;
    let now = whole(&status, "at");
    let (mut rows, mut kept, mut errors) = (Vec::new(), Vec::new(), Vec::new());
    for gateway in list(&status, "gateways") {
        for uplink in list(gateway, "uplinks") {
            rows.push(row(text(gateway, "name"), uplink, now));
            kept.push(uplink.clone());
            let error = text(uplink, "journal_error");
            if !error.is_empty() {
                errors.push(format!("uplink {}: the journal waits for the database: {error}", text(uplink, "name")));
            }
        }
    }
    let header = [
        "gateway",
        "uplink",
        "state",
        "wait",
        "of at most",
        "oldest",
        "in the database",
        "a crash costs",
        "lost",
        "delivered",
    ];
    print_rows(arguments.output, &header, rows, &Value::Array(kept), "No uplink runs.")?;
    if arguments.output == Output::Table {
        errors.iter().for_each(|error| anstream::println!("\n{error}"));
    }
    Ok(())
}

fn row(gateway: &str, uplink: &Value, now: i64) -> Vec<String> {
    let (waiting, durable) = (whole(uplink, "samples_waiting"), whole(uplink, "samples_durable"));
    let oldest = uplink.get("oldest_waiting_at").and_then(Value::as_i64);
    let oldest = oldest.map_or_else(|| "-".to_owned(), |at| format!("{} ago", span(now - at)));
    let numbers = [(waiting - durable).max(0), whole(uplink, "samples_lost"), whole(uplink, "samples_delivered")];
    let texts = [gateway, text(uplink, "name"), text(uplink, "state")].map(str::to_owned);
    let more = [waiting.to_string(), whole(uplink, "samples_limit").to_string(), oldest, durable.to_string()];
    texts.into_iter().chain(more).chain(numbers.map(|number| number.to_string())).collect()
}
