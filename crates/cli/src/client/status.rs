use super::{Client, list, text, whole};
use crate::options::{Output, Target};
use crate::output::{cell, count, print_csv, print_json, say, span, state_cell, table};
use clap::Args;
use serde_json::Value;

#[derive(Debug, Args)]
pub(crate) struct StatusArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table")]
    pub(crate) output: Output,
}

pub(crate) async fn run(arguments: StatusArguments) -> anyhow::Result<()> {
    let status = Client::new(&arguments.target)?.get("/api/v1/status", &[]).await?;
    match arguments.output {
        Output::Json => print_json(&status)?,
        Output::Csv => print_csv(&HEADER, rows(&status).into_iter().map(Row::cells))?,
        Output::Table => print(&status)?,
    }
    Ok(())
}

const HEADER: [&str; 6] = ["what", "name", "state", "since", "activity", "last error"];

struct Row {
    depth: usize,
    what: &'static str,
    name: String,
    state: String,
    since: String,
    activity: String,
    error: String,
}

impl Row {
    fn cells(self) -> Vec<String> {
        vec![self.what.to_owned(), self.name, self.state, self.since, self.activity, self.error]
    }
}

/// One row for everything that has a state, in the way of a sample: field, gateway, broker, database.
fn rows(status: &Value) -> Vec<Row> {
    let now = whole(status, "at");
    let row = |depth, what, name: String, object: &Value, state: &str, activity| Row {
        depth,
        what,
        name,
        state: state.to_owned(),
        since: span(now - whole(object, "since")),
        activity,
        error: error(object, now),
    };
    let mut rows = Vec::new();
    for gateway in list(status, "gateways") {
        let revision = whole(gateway, "revision");
        let activity = format!("{} of {} points good", whole(gateway, "points_good"), whole(gateway, "points"));
        let name = format!("{} (revision {revision})", text(gateway, "name"));
        rows.push(row(0, "gateway", name, gateway, "running", activity));
        for link in list(gateway, "links") {
            let name = format!("{} → {}", text(link, "name"), text(link, "target"));
            rows.push(row(1, "link", name, link, text(link, "state"), link_activity(link)));
            for device in list(link, "devices") {
                let number = |key: &str| usize::try_from(whole(device, key)).unwrap_or_default();
                let (points, requests) = (count(number("points"), "point"), count(number("requests"), "request"));
                let activity = format!("{points} in {requests}");
                rows.push(row(2, "device", text(device, "name").to_owned(), device, text(device, "state"), activity));
            }
        }
        for uplink in list(gateway, "uplinks") {
            let name = format!("{} → {}", text(uplink, "name"), text(uplink, "url"));
            rows.push(row(1, "uplink", name, uplink, text(uplink, "state"), uplink_activity(uplink, now)));
        }
    }
    if let Some(database) = status.get("database") {
        let is_up = database.get("up").and_then(Value::as_bool).unwrap_or(false);
        let state = if is_up { "up" } else { "away" };
        let mut database_row = row(0, "database", "MariaDB".to_owned(), database, state, String::new());
        if is_up {
            database_row.error.clear();
        } else {
            database_row.error = text(database, "last_error").to_owned();
        }
        rows.push(database_row);
    }
    rows
}

fn rate(object: &Value, key: &str) -> String {
    format!("{:.1}", object.get(key).and_then(Value::as_f64).unwrap_or_default())
}

fn link_activity(link: &Value) -> String {
    let mut activity = format!("{} requests/s", rate(link, "requests_per_second"));
    for (key, word) in [("timeouts", "timeouts"), ("refusals", "refusals")] {
        if whole(link, key) > 0 {
            activity.push_str(&format!(", {} {word}", whole(link, key)));
        }
    }
    activity
}

fn uplink_activity(uplink: &Value, now: i64) -> String {
    let mut activity = format!(
        "{} samples/s, {} delivered, {} waiting",
        rate(uplink, "samples_per_second"),
        whole(uplink, "samples_delivered"),
        whole(buffer(uplink), "waiting")
    );
    if whole(buffer(uplink), "lost") > 0 {
        activity.push_str(&format!(", {} lost", whole(buffer(uplink), "lost")));
    }
    if uplink.get("host_in_doubt") == Some(&Value::Bool(true)) {
        activity.push_str(", primary host in doubt");
    }
    let days = |until: i64| (until - now) / 86_400_000;
    if let Some(left) = uplink.get("certificate_until").and_then(Value::as_i64).map(days).filter(|left| *left < 30) {
        activity.push_str(&match left {
            ..0 => ", its certificate has ended".to_owned(),
            left => format!(", its certificate ends in {left} d"),
        });
    }
    activity
}

/// What waits for the broker of an uplink.
pub(super) fn buffer(uplink: &Value) -> &Value {
    uplink.get("buffer").unwrap_or(&Value::Null)
}

fn error(object: &Value, now: i64) -> String {
    match object.get("last_error").and_then(Value::as_str) {
        Some(error) if !error.is_empty() && object.get("last_error_at").is_some() => {
            format!("{error} ({} ago)", span(now - whole(object, "last_error_at")))
        }
        _ => String::new(),
    }
}

fn print(status: &Value) -> std::io::Result<()> {
    let rows = rows(status);
    for need in list(status, "needs") {
        let since = need
            .get("since")
            .and_then(Value::as_i64)
            .map(|since| format!(" for {}", span(whole(status, "at") - since)));
        let at = [text(need, "gateway"), text(need, "kind"), text(need, "name")].join(" ");
        say!("{}{}: {}", at.trim_start(), since.unwrap_or_default(), text(need, "what"))?;
        say!("  {}", text(need, "action"))?;
    }
    if !list(status, "needs").is_empty() {
        say!()?;
    }
    if rows.iter().all(|row| row.what == "database") {
        say!("No gateway runs. Apply a description: interlex config apply DIR --activate --note TEXT\n")?;
    }
    let mut shown = table(&HEADER).sparing(&["activity"]);
    for row in rows {
        // Spaces that do not break keep the depth when a name is wrapped.
        let name = format!("{}{}", "\u{a0}\u{a0}".repeat(row.depth), row.name);
        let cells = [row.what, &name].map(cell).into_iter();
        let rest = [&row.since, &row.activity, &row.error].map(cell);
        shown.add_row(cells.chain([state_cell(&row.state)]).chain(rest));
    }
    shown.print()
}
