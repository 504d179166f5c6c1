use super::config::{mistakes, print_problems};
use super::{Client, activation, part, text, whole};
use crate::args::{DraftArguments, DraftCommand, Output};
use crate::exit::{ExitReason, failed};
use crate::output::{count, date};
use interlex_core::description::Problem;
use reqwest::Method;
use serde_json::{Value, json};

pub(crate) async fn run(arguments: DraftArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let path = format!("/api/v1/gateways/{}", part(&gateway));
    let output = arguments.of.output;
    let draft = client.get(&format!("{path}/draft"), &[]).await?;
    match arguments.command {
        DraftCommand::Show if output == Output::Json => anstream::println!("{}", serde_json::to_string_pretty(&draft)?),
        DraftCommand::Show => show(&gateway, &draft),
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
        DraftCommand::Discard { yes } => {
            let changes = usize::try_from(whole(&draft, "changes")).unwrap_or_default();
            if !yes {
                let message = format!("this loses {}; say --yes", count(changes, "change"));
                return Err(failed(ExitReason::Failure, message));
            }
            let version = whole(&draft, "version");
            client.do_it(Method::DELETE, &format!("{path}/draft?version={version}"), None).await?;
            anstream::println!("The draft of {gateway} is the active revision again.");
        }
    }
    Ok(())
}

fn show(gateway: &str, draft: &Value) {
    let active = match whole(draft, "active") {
        0 => "was never activated".to_owned(),
        number => format!("runs revision {number}"),
    };
    match whole(draft, "changes") {
        0 => anstream::println!("{gateway} {active}; its draft changes nothing."),
        changes => {
            let (by, at) = (text(draft, "changed_by"), date(whole(draft, "changed_at")));
            let changes = count(usize::try_from(changes).unwrap_or_default(), "change");
            anstream::println!("{gateway} {active}; its draft has {changes}, the last one by {by} at {at}.");
        }
    }
}

async fn check(client: &Client, path: &str, output: Output) -> anyhow::Result<()> {
    let result = client.get(&format!("{path}/draft/check"), &[]).await?;
    let problems: Vec<Problem> = serde_json::from_value(result.get("problems").cloned().unwrap_or_default())?;
    print_problems(&problems, output)?;
    mistakes(&problems, false)?;
    if output == Output::Table {
        anstream::println!("No mistakes.");
    }
    Ok(())
}

/// Prints a difference in the form that was asked for.
pub(crate) fn print_difference(difference: &Value, output: Output) -> anyhow::Result<()> {
    match output {
        Output::Json => anstream::println!("{}", serde_json::to_string_pretty(difference)?),
        Output::Table | Output::Csv => anstream::print!("{}", text(difference, "text")),
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
