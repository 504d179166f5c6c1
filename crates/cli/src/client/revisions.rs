use super::draft::print_difference;
use super::{Client, activation, part, text, whole};
use crate::args::{RevisionsArguments, RevisionsCommand};
use crate::output::{date, print_rows};
use serde_json::{Value, json};

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
