use super::{Client, text, whole};
use crate::exit::{ExitReason, failed};
use crate::options::{GatewayTarget, Output, span_of_time};
use crate::output::{moment, print_csv_rows, print_json_line, print_rows, say};
use clap::Args;
use futures_util::StreamExt;
use interlex_core::description::Span;
use serde_json::Value;
use std::pin::pin;
use std::time::Duration;

#[derive(Debug, Args)]
pub(crate) struct EventsArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    /// Only of this device
    #[arg(long)]
    pub(crate) device: Option<String>,
    /// Only of this point, or of this address
    #[arg(long)]
    pub(crate) point: Option<String>,
    /// Only of the last span, such as 2d, by the times of the changes
    #[arg(long, value_parser = span_of_time)]
    pub(crate) last: Option<Span>,
    /// Numbers, too, and not only states
    #[arg(long)]
    pub(crate) numbers: bool,
    /// So many changes at the most
    #[arg(long, default_value_t = 50)]
    pub(crate) limit: usize,
    /// Go on with what is told from now on
    #[arg(long, short)]
    pub(crate) follow: bool,
}

/// As many as the service gives at once.
const PAGE: usize = 1000;
const HEADER: [&str; 7] = ["when", "time", "device", "point", "address", "state", "flags"];

pub(crate) async fn run(arguments: EventsArguments) -> anyhow::Result<()> {
    let EventsArguments { of, device, point, last, numbers, limit, follow } = arguments;
    let client = Client::new(&of.target)?;
    let gateway = client.gateway(of.gateway.as_deref()).await?;
    let now = whole(&client.get("/api/v1/status", &[]).await?, "at");
    let from = last.map(|span| {
        let millis = i64::try_from(Duration::from(span).as_millis()).unwrap_or(i64::MAX);
        now.saturating_sub(millis).to_string()
    });
    let wanted: Vec<_> =
        [("device", device), ("point", point), ("from", from), ("states", (!numbers).then(|| "true".to_owned()))]
            .into_iter()
            .filter_map(|(key, value)| Some((key, value?)))
            .collect();
    let path = format!("/api/v1/gateways/{gateway}/events");
    // What comes while the list is made is not missed.
    let narrowed: Vec<_> = wanted.iter().map(|(key, value)| (*key, value.as_str())).collect();
    let live = format!("{path}/live");
    let following = if follow { Some(client.events(&live, &narrowed).await?) } else { None };
    let mut events: Vec<Value> = Vec::new();
    while events.len() < limit {
        let mut query = wanted.clone();
        query.push(("limit", (limit - events.len()).min(PAGE).to_string()));
        if let Some(last) = events.last() {
            query.push(("behind_at", whole(last, "at").to_string()));
            query.push(("behind_id", whole(last, "id").to_string()));
        }
        let query: Vec<_> = query.iter().map(|(key, value)| (*key, value.as_str())).collect();
        let page = client.get(&path, &query).await?.as_array().cloned().unwrap_or_default();
        if page.is_empty() {
            break;
        }
        events.extend(page);
    }
    // As it happened: the last one stands at the end, where what follows comes.
    events.reverse();
    let newest = events.iter().map(|event| whole(event, "id")).max().unwrap_or(0);
    let rows = events.iter().map(row).collect();
    match following {
        None => {
            let nothing = "No change was told.";
            print_rows(of.output, &HEADER, rows, &Value::Array(events.clone()), nothing)
        }
        Some(following) => {
            match of.output {
                Output::Json => events.iter().try_for_each(print_json_line)?,
                Output::Csv => {
                    print_csv_rows(std::iter::once(HEADER.map(str::to_owned).to_vec()).chain(rows))?;
                }
                Output::Table => events.iter().try_for_each(print_line)?,
            }
            let mut following = pin!(following);
            while let Some(event) = following.next().await {
                let (_, event) = event?;
                if whole(&event, "id") <= newest {
                    continue;
                }
                match of.output {
                    Output::Json => print_json_line(&event)?,
                    Output::Csv => print_csv_rows([row(&event)])?,
                    Output::Table => print_line(&event)?,
                }
            }
            Err(failed(ExitReason::Unreachable, "the service ended the stream"))
        }
    }
}

fn row(event: &Value) -> Vec<String> {
    let of = |key| text(event, key).to_owned();
    vec![moment(whole(event, "at")), of("time"), of("device"), of("point"), of("address"), of("state"), of("flags")]
}

fn print_line(event: &Value) -> anyhow::Result<()> {
    let what = if text(event, "point").is_empty() { text(event, "address") } else { text(event, "point") };
    let what = format!("{}/{what}", text(event, "device"));
    let (at, state) = (moment(whole(event, "at")), text(event, "state"));
    Ok(say!("{at}  {what:<32} {state:<20} {}, {}", text(event, "flags"), text(event, "time"))?)
}
