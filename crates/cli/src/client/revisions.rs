use super::draft::print_difference;
use super::{Client, activation, part, text, whole};
use crate::client::activation::WaitArguments;
use crate::options::GatewayTarget;
use crate::output::{date, print_rows};
use clap::{Args, Subcommand};
use serde_json::{Value, json};

#[derive(Debug, Args)]
pub(crate) struct RevisionsArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    #[command(subcommand)]
    pub(crate) command: RevisionsCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum RevisionsCommand {
    /// List them, the newest first
    List,
    /// Compare two: numbers, or the words active and draft
    Diff {
        /// The one before
        before: String,
        /// The one after
        #[arg(default_value = "active")]
        after: String,
    },
    /// Activate an earlier one again, under a new number
    Activate {
        /// Its number
        number: u32,
        /// Why, for those who look at the revisions later
        #[arg(long)]
        note: String,
        #[command(flatten)]
        wait: WaitArguments,
    },
}

pub(crate) async fn run(arguments: RevisionsArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let path = format!("/api/v1/gateways/{}", part(&gateway));
    let output = arguments.of.output;
    match arguments.command {
        RevisionsCommand::List => {
            let revisions = client.get(&format!("{path}/revisions"), &[]).await?;
            let row = |revision: &Value| {
                let number = whole(revision, "number").to_string();
                let at = date(whole(revision, "activated_at"));
                vec![number, at, text(revision, "author").to_owned(), text(revision, "note").to_owned()]
            };
            let rows = revisions.as_array().into_iter().flatten().map(row).collect();
            let empty = format!("{gateway} was never activated.");
            print_rows(output, &["number", "activated", "by", "note"], rows, &revisions, &empty)
        }
        RevisionsCommand::Diff { before, after } => {
            let sides = [("before", before.as_str()), ("after", after.as_str())];
            print_difference(&client.get(&format!("{path}/difference"), &sides).await?, output)
        }
        RevisionsCommand::Activate { number, note, wait } => {
            let request = json!({ "revision": number, "note": note });
            activation::activate(&client, &gateway, &request, &wait, output).await
        }
    }
}
