use super::points::{Pages, SortKey};
use super::{Client, list, points, text, whole};
use crate::exit::{ExitReason, failed};
use crate::options::{Output, Target};
use crate::output::{clock, count, print_csv_rows, print_json_line, say, styled_line, table};
use clap::Args;
use futures_util::StreamExt;
use serde_json::{Map, Value};
use std::collections::HashMap;
use std::io::{IsTerminal, Write};
use std::pin::pin;

#[derive(Debug, Args)]
pub(crate) struct WatchArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Only points with this text in device/name, title or address
    pub(crate) filter: Option<String>,
    /// Only of this device
    #[arg(long)]
    pub(crate) device: Option<String>,
    /// End after so many updates
    #[arg(long)]
    pub(crate) count: Option<u64>,
    /// A table that is drawn anew (terminal only), or a line per change
    #[arg(long, short, value_enum, default_value = "table")]
    pub(crate) output: Output,
}

pub(crate) async fn run(arguments: WatchArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.target)?;
    let wanted = [("q", &arguments.filter), ("device", &arguments.device)];
    let query: Vec<_> = wanted.iter().filter_map(|(key, value)| Some((*key, value.as_deref()?))).collect();
    let (mut pages, mut described) = (Pages::new(&client, query.clone(), SortKey::Listed), Vec::new());
    while let Some(page) = pages.next().await? {
        described.extend(page);
        if described.len() > MOST_WATCHED {
            let told = format!("more than {MOST_WATCHED} points match; expected a text, or --device, that fewer have");
            return Err(failed(ExitReason::Failure, told));
        }
    }
    let mut table = Watched::new(described);
    if table.rows.is_empty() {
        return Err(failed(ExitReason::Failure, "no points match"));
    }
    let draws = arguments.output == Output::Table && std::io::stdout().is_terminal();
    let mut events = pin!(client.events("/api/v1/live", &query).await?);
    let mut updates = 0;
    while let Some(event) = events.next().await {
        let (name, frame) = event?;
        if name != "values" {
            continue;
        }
        let changed = table.take(&frame);
        match arguments.output {
            Output::Table if draws => table.draw(whole(&frame, "at"))?,
            Output::Json => changed.iter().try_for_each(print_json_line)?,
            Output::Table | Output::Csv => changed.iter().try_for_each(|point| print_line(point, arguments.output))?,
        }
        updates += 1;
        if arguments.count.is_some_and(|count| updates >= count) {
            return Ok(());
        }
    }
    Err(failed(ExitReason::Unreachable, "the service ended the stream"))
}

/// As many points as are kept in memory.
const MOST_WATCHED: usize = 20_000;

/// The points as they are known so far.
struct Watched {
    rows: Vec<Value>,
    places: HashMap<String, usize>,
}

impl Watched {
    fn new(rows: Vec<Value>) -> Self {
        let places = rows.iter().enumerate().map(|(at, row)| (text(row, "id").to_owned(), at)).collect();
        Self { rows, places }
    }

    /// Takes the changes of a frame over; gives the points that changed.
    fn take(&mut self, frame: &Value) -> Vec<Value> {
        let mut changed = Vec::new();
        for value in list(frame, "values") {
            let place = self.places.get(text(value, "id")).copied();
            let Some(row) = place.and_then(|at| self.rows.get_mut(at)).and_then(Value::as_object_mut) else { continue };
            row.extend(value.as_object().cloned().unwrap_or_else(Map::new));
            changed.push(Value::Object(row.clone()));
        }
        changed
    }

    fn draw(&self, now: i64) -> std::io::Result<()> {
        let mut shown = table(&points::HEADER).sparing(&points::SPARING);
        for row in &self.rows {
            shown.add_row(points::row(row, now));
        }
        // Home, draw over, clear what is left below: no flicker.
        let count = count(self.rows.len(), "point");
        styled_line(&format!("\x1b[H{count} at {}   Ctrl-C ends\x1b[K\n\x1b[K", clock(now)))?;
        for line in shown.lines() {
            styled_line(&format!("{line}\x1b[K"))?;
        }
        write!(anstream::stdout(), "\x1b[J")
    }
}

fn print_line(point: &Value, output: Output) -> anyhow::Result<()> {
    let at = whole(point, "gateway_at");
    let value = points::value_of(point);
    let reason = point.get("reason").and_then(Value::as_str).map(|reason| format!(": {reason}")).unwrap_or_default();
    let quality = format!("{}{reason}", text(point, "quality"));
    match output {
        Output::Csv => print_csv_rows([vec![at.to_string(), text(point, "id").to_owned(), value, quality]])?,
        Output::Table | Output::Json => {
            say!("{}  {:<40} {value:>16}  {quality}", clock(at), text(point, "id"))?;
        }
    }
    Ok(())
}
