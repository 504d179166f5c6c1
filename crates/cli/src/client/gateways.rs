use super::{Client, part, text, whole};
use crate::exit::{ExitReason, failed};
use crate::options::{Output, Target};
use crate::output::{date, print_rows, say};
use clap::{Args, Subcommand};
use reqwest::Method;
use serde_json::{Value, json};

#[derive(Debug, Args)]
pub(crate) struct GatewaysArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    #[command(subcommand)]
    pub(crate) command: GatewaysCommand,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table", global = true)]
    pub(crate) output: Output,
}

#[derive(Debug, Subcommand)]
pub(crate) enum GatewaysCommand {
    /// List them
    List,
    /// Add one with an empty draft
    Add {
        /// Its name
        name: String,
    },
    /// Stop one and take it away with its draft; its revisions stay on record
    Remove {
        /// Its name
        name: String,
        /// Yes, take it away
        #[arg(long)]
        yes: bool,
    },
}

pub(crate) async fn run(arguments: GatewaysArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.target)?;
    match arguments.command {
        GatewaysCommand::List => {
            let gateways = client.get("/api/v1/gateways", &[]).await?;
            let rows = gateways.as_array().into_iter().flatten().map(row).collect();
            let header = ["name", "state", "revision", "draft", "title"];
            print_rows(arguments.output, &header, rows, &gateways, "There is no gateway.")
        }
        GatewaysCommand::Add { name } => {
            client.post("/api/v1/gateways", &json!({ "name": name })).await?;
            say!("{name} is there, with an empty draft.")?;
            Ok(())
        }
        GatewaysCommand::Remove { name, yes } => {
            if !yes {
                return Err(failed(ExitReason::Failure, format!("this stops {name} and takes it away; say --yes")));
            }
            client.do_it(Method::DELETE, &format!("/api/v1/gateways/{}", part(&name)), None).await?;
            say!("{name} has been stopped and taken away.")?;
            Ok(())
        }
    }
}

fn row(gateway: &Value) -> Vec<String> {
    let is = |key: &str| gateway.get(key).and_then(Value::as_bool).unwrap_or(false);
    let state = match gateway.get("problem").and_then(Value::as_str) {
        Some(problem) => problem.to_owned(),
        None if is("running") => "running".to_owned(),
        None => "not activated".to_owned(),
    };
    let draft = match is("edited") {
        true => format!("edited by {}, {}", text(gateway, "changed_by"), date(whole(gateway, "changed_at"))),
        false => "-".to_owned(),
    };
    let active = gateway.get("active").and_then(Value::as_i64).map_or("-".to_owned(), |number| number.to_string());
    vec![text(gateway, "name").to_owned(), state, active, draft, text(gateway, "title").to_owned()]
}
