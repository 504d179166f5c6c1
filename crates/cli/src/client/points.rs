use super::{Client, text, whole};
use crate::args::{Output, PointsArguments, SortKey};
use crate::output::{cell, plain, print_csv, print_json, print_table, say, span, table, with_unit};
use comfy_table::{Cell, CellAlignment, Color};
use serde_json::Value;

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
            let mut shown = table(&HEADER);
            points.iter().for_each(|point| {
                shown.add_row(row(point, now));
            });
            print_table(shown)?;
        }
    }
    Ok(())
}

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
        ("bad", Some(reason)) => cell(format!("bad: {reason}")).fg(Color::Red),
        (_, Some(reason)) => cell(format!("{quality}: {reason}")).fg(Color::Yellow),
        (_, None) => cell(quality),
    };
    let never = whole(point, "value_at") == 0;
    let age = if never { "-".to_owned() } else { span(now - whole(point, "value_at")) };
    vec![
        cell(text(point, "device")),
        cell(text(point, "name")),
        cell(value_of(point)).set_alignment(CellAlignment::Right),
        quality_cell,
        cell(age).set_alignment(CellAlignment::Right),
        cell(plain(point.get("raw").unwrap_or(&Value::Null))).set_alignment(CellAlignment::Right),
        cell(text(point, "address")),
    ]
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
