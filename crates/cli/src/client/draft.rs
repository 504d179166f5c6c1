use super::problems::{mistakes, print_problems};
use super::{Client, activation, part, text, trial, whole};
use crate::client::activation::WaitArguments;
use crate::exit::{ExitReason, failed};
use crate::options::{GatewayTarget, Output};
use crate::output::{count, date, plain, print_json, print_text, say};
use clap::{Args, Subcommand};
use interlex_core::description::Problem;
use reqwest::Method;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::path::PathBuf;

#[derive(Debug, Args)]
pub(crate) struct DraftArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    #[command(subcommand)]
    pub(crate) command: DraftCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum DraftCommand {
    /// Show who changed it last, and whether it differs from what runs
    Show,
    /// Find everything that would not run, or would surprise
    Check,
    /// Show what activating it would change
    Diff {
        /// End with code 8 when something would change
        #[arg(long)]
        exit_code: bool,
    },
    /// Make it the running revision
    Activate {
        /// Why, for those who look at the revisions later
        #[arg(long)]
        note: String,
        #[command(flatten)]
        wait: WaitArguments,
    },
    /// Take the point list of a device over from a CSV file; tells what changes, and nothing is done with mistakes in it
    Import {
        /// A device of the draft
        device: String,
        /// The file, as a spreadsheet writes it
        file: PathBuf,
        /// Points that the file does not name go
        #[arg(long)]
        remove_others: bool,
        /// The rate of rows that have none
        #[arg(long)]
        rate: Option<String>,
        /// What plain numbers are addresses of
        #[arg(long, value_parser = ["holding", "input", "coil", "discrete"])]
        table: Option<String>,
        /// What a column is, such as 'Remark=title', or 'Remark=' to leave it out; others are found by their headings
        #[arg(long = "column", value_name = "HEADING=KEY", value_parser = column)]
        columns: Vec<(String, String)>,
        /// Only tell what would change
        #[arg(long)]
        dry_run: bool,
    },
    /// Throw its edits away
    Discard {
        /// Yes, throw them away
        #[arg(long)]
        yes: bool,
    },
}

pub(crate) async fn run(arguments: DraftArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let path = format!("/api/v1/gateways/{}", part(&gateway));
    let output = arguments.of.output;
    let draft = client.get(&format!("{path}/draft"), &[]).await?;
    match arguments.command {
        DraftCommand::Show if output == Output::Json => print_json(&draft)?,
        DraftCommand::Show => show(&gateway, &draft)?,
        DraftCommand::Check => check(&client, &path, output).await?,
        DraftCommand::Diff { exit_code } => {
            let difference = client.get(&format!("{path}/difference"), &[]).await?;
            print_difference(&difference, output)?;
            differs(&difference, exit_code)?;
        }
        DraftCommand::Activate { note, wait } => {
            let request = json!({ "version": whole(&draft, "version"), "note": note });
            activation::activate(&client, &gateway, &request, &wait, output).await?;
        }
        DraftCommand::Import { device, file, remove_others, rate, table, columns, dry_run } => {
            let text = super::text_file::read(&file)?;
            let device = trial::object(&draft, "device", &device)?;
            let list = interlex_core::description::list_of(device).into_owned();
            let version = if dry_run { Value::Null } else { draft.get("version").cloned().unwrap_or_default() };
            let columns: BTreeMap<_, _> = columns.into_iter().collect();
            let request = json!({
                "list": list, "text": text, "remove_others": remove_others, "version": version,
                "rate": rate, "table": table, "columns": columns,
            });
            let import = client.post(&format!("{path}/draft/import"), &request).await?;
            print_import(&import, output, &list)?;
        }
        DraftCommand::Discard { yes } => {
            let changes = usize::try_from(whole(&draft, "changes")).unwrap_or_default();
            if !yes {
                let message = format!("this loses {}; say --yes", count(changes, "change"));
                return Err(failed(ExitReason::Failure, message));
            }
            let version = whole(&draft, "version");
            client.do_it(Method::DELETE, &format!("{path}/draft?version={version}"), None).await?;
            say!("The draft of {gateway} is the active revision again.")?;
        }
    }
    Ok(())
}

/// What a column is, as it is said on the command line.
fn column(text: &str) -> Result<(String, String), String> {
    let (heading, key) = text.split_once('=').ok_or("say HEADING=KEY, such as 'Data type=type'")?;
    Ok((heading.trim().to_owned(), key.trim().to_owned()))
}

fn print_import(import: &Value, output: Output, list: &str) -> anyhow::Result<()> {
    let problems: Vec<Problem> = serde_json::from_value(import.get("problems").cloned().unwrap_or_default())?;
    if output == Output::Json {
        print_json(import)?;
        return mistakes(&problems, false);
    }
    let columns = super::list(import, "columns").iter().map(|column| match column.get("key").and_then(Value::as_str) {
        Some(key) if key == text(column, "heading") => key.to_owned(),
        Some(key) => format!("{} → {key}", text(column, "heading")),
        None => format!("{} is left out", text(column, "heading")),
    });
    say!("Columns: {}", columns.collect::<Vec<_>>().join(", "))?;
    for (key, what) in
        [("without_rate", "no rate: say --rate"), ("without_table", "a plain number for an address: say --table")]
    {
        if whole(import, key) > 0 {
            say!("{} rows have {what}", whole(import, key))?;
        }
    }
    let names = |key: &str| super::list(import, key).iter().map(plain).collect::<Vec<_>>();
    for (mark, key) in [('+', "added"), ('-', "removed")] {
        names(key).iter().try_for_each(|name| say!("{mark} {name}"))?;
    }
    for change in super::list(import, "changed") {
        let fields = super::list(change, "fields").iter().map(|field| {
            let side = |key: &str| plain(field.get(key).unwrap_or(&Value::Null));
            format!("{} {} → {}", text(field, "field"), side("before"), side("after"))
        });
        say!("~ {}: {}", text(change, "name"), fields.collect::<Vec<_>>().join(", "))?;
    }
    print_problems(&problems, output)?;
    mistakes(&problems, false)?;
    let changed = super::list(import, "changed").len();
    let (added, removed) = (names("added").len(), names("removed").len());
    let same = whole(import, "same");
    say!("{list}: {added} added, {changed} changed, {removed} removed, {same} the same")?;
    Ok(())
}

fn show(gateway: &str, draft: &Value) -> std::io::Result<()> {
    let active = match whole(draft, "active") {
        0 => "was never activated".to_owned(),
        number => format!("runs revision {number}"),
    };
    match whole(draft, "changes") {
        0 => say!("{gateway} {active}; its draft changes nothing."),
        changes => {
            let (by, at) = (text(draft, "changed_by"), date(whole(draft, "changed_at")));
            let changes = count(usize::try_from(changes).unwrap_or_default(), "change");
            say!("{gateway} {active}; its draft has {changes}, the last one by {by} at {at}.")
        }
    }
}

async fn check(client: &Client, path: &str, output: Output) -> anyhow::Result<()> {
    let result = client.get(&format!("{path}/draft/check"), &[]).await?;
    let problems: Vec<Problem> = serde_json::from_value(result.get("problems").cloned().unwrap_or_default())?;
    print_problems(&problems, output)?;
    mistakes(&problems, false)?;
    if output == Output::Table {
        say!("No mistakes.")?;
    }
    Ok(())
}

/// Prints a difference in the form that was asked for.
pub(crate) fn print_difference(difference: &Value, output: Output) -> anyhow::Result<()> {
    match output {
        Output::Json => print_json(difference)?,
        Output::Table | Output::Csv => print_text(text(difference, "text"))?,
    }
    Ok(())
}

/// Ends with a code of its own when something would change and that was asked for.
pub(crate) fn differs(difference: &Value, exit_code: bool) -> anyhow::Result<()> {
    let objects = difference.get("objects").and_then(Value::as_array).map_or(0, Vec::len);
    match exit_code && objects > 0 {
        true => Err(failed(ExitReason::Differs, format!("{} in all", count(objects, "difference")))),
        false => Ok(()),
    }
}
