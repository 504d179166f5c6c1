use super::{Client, before, paged, text, whole};
use crate::options::{Output, Target, span_of_time};
use crate::output::{date, print_rows};
use clap::Args;
use interlex_core::description::Span;
use serde_json::Value;

#[derive(Debug, Args)]
pub(crate) struct AuditArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Only with this text in detail or object
    pub(crate) text: Option<String>,
    /// Only of this person
    #[arg(long)]
    pub(crate) person: Option<String>,
    /// Only this action, such as activate or edit-draft
    #[arg(long)]
    pub(crate) action: Option<String>,
    /// Only about this gateway
    #[arg(long)]
    pub(crate) gateway: Option<String>,
    /// Only of the last span, such as 2d
    #[arg(long, value_parser = span_of_time)]
    pub(crate) last: Option<Span>,
    /// So many entries at the most
    #[arg(long, default_value_t = 50)]
    pub(crate) limit: usize,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table")]
    pub(crate) output: Output,
}

pub(crate) async fn run(arguments: AuditArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.target)?;
    let now = whole(&client.get("/api/v1/status", &[]).await?, "at");
    let wanted = [
        ("q", arguments.text),
        ("person", arguments.person),
        ("action", arguments.action),
        ("gateway", arguments.gateway),
        ("from", before(now, arguments.last)),
    ];
    let below = |last: &Value| vec![("below", whole(last, "id").to_string())];
    let entries = paged(&client, "/api/v1/audit", &wanted, arguments.limit, below).await?;
    let row = |entry: &Value| {
        let cells =
            ["person", "source", "action", "gateway", "object", "detail"].map(|key| text(entry, key).to_owned());
        [date(whole(entry, "at"))].into_iter().chain(cells).collect()
    };
    let rows = entries.iter().map(row).collect();
    let header = ["when", "who", "from", "what", "gateway", "object", "detail"];
    print_rows(arguments.output, &header, rows, &Value::Array(entries.clone()), "No entries.")
}
