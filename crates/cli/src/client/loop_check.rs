use super::{Client, list, part, text, whole};
use crate::options::{GatewayTarget, Output};
use crate::output::{date, print_json, print_rows, print_text, say};
use clap::{Args, Subcommand, ValueEnum};
use serde_json::{Value, json};

#[derive(Debug, Args)]
pub(crate) struct LoopCheckArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    #[command(subcommand)]
    pub(crate) command: LoopCheckCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum LoopCheckCommand {
    /// List the loop checks of a gateway
    List,
    /// Begin one with the points of devices as they run now
    Begin {
        /// The devices
        #[arg(required = true)]
        devices: Vec<String>,
        /// What people call it; the devices when left out
        #[arg(long, default_value = "")]
        title: String,
    },
    /// Write down what the display of a point shows, beside what the gateway says of it now
    Note {
        /// Its number
        id: u64,
        /// The point, as DEVICE/POINT
        point: String,
        /// What its display shows; a number is compared to half of its last digit
        #[arg(long)]
        display: Option<String>,
        /// What was found, where that is not to be compared
        #[arg(long, value_parser = ["agrees", "differs", "skipped"])]
        result: Option<String>,
        /// What else is to be written down
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Close one: nothing of it changes any more
    Close {
        /// Its number
        id: u64,
    },
    /// Show every point of one, with what was found of it
    Sheet {
        /// Its number
        id: u64,
        /// As a file to hand over, in place of a table
        #[arg(long, value_enum)]
        form: Option<SheetForm>,
    },
}

/// How a sheet is handed over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum SheetForm {
    /// A page to print.
    Html,
    /// As a spreadsheet reads it.
    Csv,
}

pub(crate) async fn run(arguments: LoopCheckArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let path = format!("/api/v1/gateways/{}/loop-checks", part(&gateway));
    let output = arguments.of.output;
    match arguments.command {
        LoopCheckCommand::List => {
            let checks = client.get(&path, &[]).await?;
            let rows = checks.as_array().into_iter().flatten().map(row).collect();
            let header = ["number", "title", "begun", "by", "points", "agree", "differ", "skipped", "open", "state"];
            print_rows(output, &header, rows, &checks, "No loop checks.")
        }
        LoopCheckCommand::Begin { devices, title } => {
            let check = client.post(&path, &json!({ "title": title, "devices": devices })).await?;
            if output == Output::Json {
                return print_json(&check);
            }
            Ok(say!("Loop check {} of {} points is open.", whole(&check, "id"), whole(&check, "points"))?)
        }
        LoopCheckCommand::Note { id, point, display, result, note } => {
            let (device, name) = point.split_once('/').unwrap_or((&point, ""));
            let finding = json!({ "device": device, "point": name, "result": result, "expected": display.unwrap_or_default(), "note": note });
            let line = client.put(&format!("{path}/{id}/findings"), &finding).await?;
            if output == Output::Json {
                return print_json(&line);
            }
            let unit = text(&line, "unit");
            Ok(say!(
                "{point} {}: the gateway says {} {unit}, {}",
                text(&line, "result"),
                text(&line, "said"),
                text(&line, "quality")
            )?)
        }
        LoopCheckCommand::Close { id } => {
            let sheet = client.post(&format!("{path}/{id}/close"), &json!({})).await?;
            if output == Output::Json {
                return print_json(&sheet);
            }
            Ok(say!("Loop check {id} is closed: {}", counts(&sheet))?)
        }
        LoopCheckCommand::Sheet { id, form: Some(form) } => {
            let form = if form == SheetForm::Html { "html" } else { "csv" };
            let sheet = client.file(&format!("{path}/{id}/sheet/{form}")).await?;
            Ok(print_text(&String::from_utf8_lossy(&sheet))?)
        }
        LoopCheckCommand::Sheet { id, form: None } => {
            let sheet = client.get(&format!("{path}/{id}"), &[]).await?;
            let line = |line: &Value| {
                let result = line.get("result").and_then(Value::as_str).unwrap_or("not checked").to_owned();
                let cells = ["device", "point"].map(|key| text(line, key).to_owned());
                let rest =
                    ["expected", "said", "unit", "quality", "note", "person"].map(|key| text(line, key).to_owned());
                cells.into_iter().chain([result]).chain(rest).collect()
            };
            let rows = list(&sheet, "lines").iter().map(line).collect();
            let header = ["device", "point", "result", "display", "gateway said", "unit", "quality", "note", "who"];
            print_rows(output, &header, rows, &sheet, "No points.")?;
            if output == Output::Table {
                say!("{}", counts(&sheet))?;
            }
            Ok(())
        }
    }
}

fn counts(check: &Value) -> String {
    let of = |key: &str| whole(check, key);
    format!("{} agree, {} differ, {} skipped, {} not checked.", of("agree"), of("differ"), of("skipped"), of("open"))
}

fn row(check: &Value) -> Vec<String> {
    let state = if check.get("closed_at").is_some_and(Value::is_i64) { "closed" } else { "open" };
    let number = |key: &str| whole(check, key).to_string();
    vec![
        number("id"),
        text(check, "title").to_owned(),
        date(whole(check, "started_at")),
        text(check, "started_by").to_owned(),
        number("points"),
        number("agree"),
        number("differ"),
        number("skipped"),
        number("open"),
        state.to_owned(),
    ]
}
