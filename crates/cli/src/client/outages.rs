use super::{Client, before, paged, text, whole};
use crate::options::{Output, Target, span_of_time};
use crate::output::{date, print_rows, span};
use clap::Args;
use interlex_core::description::Span;
use serde_json::Value;

#[derive(Debug, Args)]
pub(crate) struct OutagesArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Only of the part of this name
    pub(crate) name: Option<String>,
    /// Only of this gateway
    #[arg(long)]
    pub(crate) gateway: Option<String>,
    /// Only of this kind
    #[arg(long, value_parser = ["service", "link", "device", "uplink"])]
    pub(crate) kind: Option<String>,
    /// Only those that were not over before the last span, such as 2d
    #[arg(long, value_parser = span_of_time)]
    pub(crate) last: Option<Span>,
    /// So many at the most
    #[arg(long, default_value_t = 50)]
    pub(crate) limit: usize,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table")]
    pub(crate) output: Output,
}

pub(crate) async fn run(arguments: OutagesArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.target)?;
    let now = whole(&client.get("/api/v1/status", &[]).await?, "at");
    let wanted = [
        ("name", arguments.name),
        ("gateway", arguments.gateway),
        ("kind", arguments.kind),
        ("from", before(now, arguments.last)),
    ];
    let behind = |last: &Value| {
        [("from", "behind_from"), ("id", "behind_id")].map(|(of, key)| (key, whole(last, of).to_string())).to_vec()
    };
    let outages = paged(&client, "/api/v1/outages", &wanted, arguments.limit, behind).await?;
    let rows = outages.iter().map(|outage| row(outage, now)).collect();
    let header = ["from", "for", "what", "name", "gateway", "kept", "sent later", "lost", "why"];
    print_rows(arguments.output, &header, rows, &Value::Array(outages.clone()), "No outages.")
}

fn row(outage: &Value, now: i64) -> Vec<String> {
    let from = whole(outage, "from");
    let lasted = match outage.get("to").and_then(Value::as_i64) {
        Some(to) => span(to - from),
        None => format!("{}, lasts", span(now - from)),
    };
    let number =
        |key: &str| outage.get(key).and_then(Value::as_u64).map_or_else(|| "-".to_owned(), |count| count.to_string());
    let named = ["kind", "name", "gateway"].map(|key| text(outage, key).to_owned());
    let counts = ["kept", "sent_later", "lost"].map(number);
    [date(from), lasted].into_iter().chain(named).chain(counts).chain([text(outage, "why").to_owned()]).collect()
}
