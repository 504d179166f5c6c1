use super::{Client, list, text, whole};
use crate::options::{Output, Target};
use crate::output::{Cell, JsonArray, cell, plain, print_csv, print_csv_rows, say, span, table, with_unit};
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
    /// Only of this quality: good, uncertain, bad or not-good
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
    let now = whole(&client.get("/api/v1/status", &[]).await?, "at");
    let mut pages = Pages::new(&client, query, arguments.sort);
    match arguments.output {
        Output::Json => {
            let mut array = JsonArray::default();
            while let Some(page) = pages.next().await? {
                page.iter().try_for_each(|point| array.print(point))?;
            }
            array.end()?;
        }
        Output::Csv => {
            // What goes wrong at once is no output.
            let mut next = pages.next().await?;
            print_csv(&CSV_HEADER, std::iter::empty())?;
            while let Some(page) = next {
                print_csv_rows(page.iter().map(csv_row))?;
                next = pages.next().await?;
            }
        }
        Output::Table => {
            let (mut shown, mut count) = (table(&HEADER).sparing(&SPARING), 0);
            while let Some(page) = pages.next().await? {
                let fitting = page.iter().take(MOST_SHOWN - count);
                fitting.for_each(|point| shown.add_row(row(point, now)));
                count += page.len();
                if count > MOST_SHOWN {
                    break;
                }
            }
            match count {
                0 => say!("No points match.")?,
                _ => shown.print()?,
            }
            if count > MOST_SHOWN {
                say!("There are more than these {MOST_SHOWN}: narrow them, or take them all with -o csv or -o json.")?;
            }
        }
    }
    Ok(())
}

/// As many rows as a table has.
const MOST_SHOWN: usize = 5000;
/// As many points as come at once: of a million, few are in memory. Of those in another order than the description's, the service
/// gives fewer.
const PAGE: usize = 2000;
const SORTED_PAGE: usize = 500;

/// Points that fit a query, a page after the other.
pub(super) struct Pages<'a> {
    client: &'a Client,
    query: Vec<(&'static str, &'a str)>,
    sort: SortKey,
    /// The last one of the page before, and how many there were so far.
    after: Option<String>,
    count: usize,
    is_over: bool,
}

impl<'a> Pages<'a> {
    pub(super) const fn new(client: &'a Client, query: Vec<(&'static str, &'a str)>, sort: SortKey) -> Self {
        Self { client, query, sort, after: None, count: 0, is_over: false }
    }

    pub(super) async fn next(&mut self) -> anyhow::Result<Option<Vec<Value>>> {
        if self.is_over {
            return Ok(None);
        }
        let (page, most) = match self.sort {
            SortKey::Listed => (self.listed().await?, PAGE),
            SortKey::Name => (self.window("name", "false").await?, SORTED_PAGE),
            SortKey::Device => (self.window("device", "false").await?, SORTED_PAGE),
            SortKey::Quality => (self.window("quality", "false").await?, SORTED_PAGE),
            SortKey::Age => (self.window("age", "true").await?, SORTED_PAGE),
        };
        self.is_over = page.len() < most;
        self.count += page.len();
        self.after = page.last().map(|point| text(point, "id").to_owned());
        Ok((!page.is_empty()).then_some(page))
    }

    async fn listed(&self) -> anyhow::Result<Vec<Value>> {
        let limit = PAGE.to_string();
        let mut query = self.query.clone();
        query.push(("limit", &limit));
        query.extend(self.after.as_deref().map(|after| ("after", after)));
        let page = self.client.get("/api/v1/points", &query).await?;
        Ok(page.as_array().cloned().unwrap_or_default())
    }

    async fn window(&self, sort: &str, descending: &str) -> anyhow::Result<Vec<Value>> {
        let (from, limit) = (self.count.to_string(), SORTED_PAGE.to_string());
        let mut query = self.query.clone();
        query.extend([("sort", sort), ("descending", descending), ("from", &from), ("limit", &limit)]);
        let page = self.client.get("/api/v1/points/window", &query).await?;
        Ok(list(&page, "rows").to_vec())
    }
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
