use super::{Client, text, whole};
use crate::exit::{ExitReason, failed};
use crate::options::{GatewayTarget, Output};
use crate::output::{clock, print_rows, say};
use clap::Args;
use serde_json::Value;

#[derive(Debug, Args)]
pub(crate) struct MessagesArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    /// The uplink, of kind json
    pub(crate) uplink: String,
}

pub(crate) async fn run(arguments: MessagesArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let path = format!("/api/v1/gateways/{gateway}/uplinks/{}/messages", arguments.uplink);
    told(&client.get(&path, &[]).await?, arguments.of.output, "No message has been made yet.")
}

/// Prints messages that were made, or that could not be.
pub(super) fn told(messages: &Value, output: Output, nothing: &str) -> anyhow::Result<()> {
    let all: Vec<_> = messages.as_array().into_iter().flatten().collect();
    if output != Output::Table {
        let row = |message: &&Value| {
            let at = whole(message, "at").to_string();
            let texts = ["topic", "payload", "error"].map(|key| text(message, key).to_owned());
            std::iter::once(at).chain(texts).collect()
        };
        return print_rows(
            output,
            &["at", "topic", "payload", "error"],
            all.iter().map(row).collect(),
            messages,
            nothing,
        );
    }
    if all.is_empty() {
        say!("{nothing}")?;
    }
    for message in &all {
        let error = text(message, "error");
        let note = match message.get("is_json").and_then(Value::as_bool) {
            _ if !error.is_empty() => format!("not made: {error}"),
            Some(true) => format!("{} bytes", text(message, "payload").len()),
            _ => format!("{} bytes, not JSON", text(message, "payload").len()),
        };
        say!("{}  {}  {note}", clock(whole(message, "at")), text(message, "topic"))?;
        text(message, "payload").lines().try_for_each(|line| say!("  {line}"))?;
    }
    match all.last().map(|last| text(last, "error")) {
        Some(error) if !error.is_empty() => Err(failed(ExitReason::Failure, error)),
        _ => Ok(()),
    }
}
