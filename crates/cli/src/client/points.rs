use super::{Client, text, whole};
use crate::options::{Output, Target};
use crate::output::{Cell, cell, plain, print_csv, print_json, say, span, table, with_unit};
use clap::{Args, ValueEnum};
use comfy_table::Color;
use serde_json::Value;

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum SortKey {
    /// In the order of the description.
    Listed,
    Name,
    Device,
    Quality,
    /// The oldest first.
    Age,
}

#[derive(Debug, Args)]
pub(crate) struct PointsArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Only points with this text in device/name, title or address
    pub(crate) filter: Option<String>,
    /// Only of this gateway
    #[arg(long)]
    pub(crate) gateway: Option<String>,
    /// Only of this device
    #[arg(long)]
    pub(crate) device: Option<String>,
    /// Only of this quality: good, uncertain or bad
    #[arg(long)]
    pub(crate) quality: Option<String>,
    /// Order of the rows
    #[arg(long, value_enum, default_value = "listed")]
    pub(crate) sort: SortKey,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table")]
    pub(crate) output: Output,
}

pub(crate) async fn run(arguments: PointsArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.target)?;
    let wanted = [
        ("q", &arguments.filter),
        ("gateway", &arguments.gateway),
        ("device", &arguments.device),
        ("quality", &arguments.quality),
    ];
    let query: Vec<_> = wanted.iter().filter_map(|(key, value)| Some((*key, value.as_deref()?))).collect();
    let points = client.get("/api/v1/points", &query).await?;
    let now = whole(&client.get("/api/v1/status", &[]).await?, "at");
    let mut points: Vec<Value> = points.as_array().cloned().unwrap_or_default();
    sort(&mut points, arguments.sort);
    match arguments.output {
        Output::Json => print_json(&points)?,
        Output::Csv => print_csv(&CSV_HEADER, points.iter().map(csv_row))?,
        Output::Table if points.is_empty() => say!("No points match.")?,
        Output::Table => {
            let mut shown = table(&HEADER).sparing(&SPARING);
            points.iter().for_each(|point| {
                shown.add_row(row(point, now));
            });
            shown.print()?;
        }
    }
    Ok(())
}

/// What a narrow terminal goes without first.
pub(crate) const SPARING: [&str; 3] = ["raw", "age", "address"];
pub(crate) const HEADER: [&str; 7] = ["device", "name", "value", "quality", "age", "raw", "address"];
const CSV_HEADER: [&str; 12] = [
    "id",
    "device",
    "name",
    "value",
    "unit",
    "quality",
    "reason",
    "raw",
    "address",
    "source_at",
    "gateway_at",
    "value_at",
];

fn sort(points: &mut [Value], key: SortKey) {
    let rank = |point: &Value| match text(point, "quality") {
        "bad" => 0,
        "uncertain" => 1,
        _ => 2,
    };
    match key {
        SortKey::Listed => {}
        SortKey::Name => points.sort_by(|a, b| text(a, "name").cmp(text(b, "name"))),
        SortKey::Device => points.sort_by(|a, b| text(a, "id").cmp(text(b, "id"))),
        SortKey::Quality => points.sort_by_key(rank),
        SortKey::Age => points.sort_by_key(|point| whole(point, "value_at")),
    }
}

pub(crate) fn row(point: &Value, now: i64) -> Vec<Cell> {
    let quality = text(point, "quality");
    let quality_cell = match (quality, point.get("reason").and_then(Value::as_str)) {
        ("good", Some(reason)) => cell(format!("good: {reason}")),
        ("bad", Some(reason)) => cell(format!("bad: {reason}")).fg(Color::Red),
        (_, Some(reason)) => cell(format!("{quality}: {reason}")).fg(Color::Yellow),
        (_, None) => cell(quality),
    };
    let never = whole(point, "value_at") == 0;
    let age = if never { "-".to_owned() } else { span(now - whole(point, "value_at")) };
    vec![
        cell(text(point, "device")),
        cell(text(point, "name")),
        cell(shortened(value_of(point))).right(),
        quality_cell,
        cell(age).right(),
        cell(shortened(plain(point.get("raw").unwrap_or(&Value::Null)))).right(),
        cell(text(point, "address")),
    ]
}

/// So long is a value in a table; its other forms have it whole.
const WIDEST: usize = 24;

fn shortened(shown: String) -> String {
    if shown.chars().count() <= WIDEST {
        return shown;
    }
    shown.chars().take(WIDEST - 1).chain(['…']).collect()
}

/// The value of a point with its unit.
pub(crate) fn value_of(point: &Value) -> String {
    let decimals = point.get("decimals").and_then(Value::as_u64);
    with_unit(point.get("value").unwrap_or(&Value::Null), text(point, "unit"), decimals)
}

fn csv_row(point: &Value) -> Vec<String> {
    let cell = |key: &&str| match point.get(*key) {
        Some(Value::Null) | None => String::new(),
        Some(value) => plain(value),
    };
    CSV_HEADER.iter().map(cell).collect()
}
