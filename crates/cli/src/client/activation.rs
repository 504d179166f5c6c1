//! Activates, waits for what was touched to come up, and tells how it went.

use super::{Client, list, part, text, whole};
use crate::exit::{ExitReason, failed};
use crate::options::{Output, span_of_time};
use crate::output::{print_json, say};
use clap::Args;
use interlex_core::description::Span;
use serde_json::{Value, json};
use std::time::Duration;
use tokio::time::{Instant, sleep};

/// How to wait for what was activated.
#[derive(Debug, Args)]
pub(crate) struct WaitArguments {
    /// How long to wait for links and uplinks to come up, such as 10s
    #[arg(long, default_value = "10s", value_parser = span_of_time)]
    pub(crate) wait: Span,
    /// Activate the revision before again when something does not come up in that time
    #[arg(long)]
    pub(crate) or_return: bool,
    /// Activate also when samples that wait for a broker are lost by it, since their uplink or point is gone
    #[arg(long)]
    pub(crate) drop_waiting: bool,
}

/// How often the service is asked how far it has come.
const LOOK: Duration = Duration::from_millis(200);

/// Activates what `request` names, and follows it to its end.
pub(crate) async fn activate(
    client: &Client,
    gateway: &str,
    request: &Value,
    wait: &WaitArguments,
    output: Output,
) -> anyhow::Result<()> {
    let before = active(client, gateway).await?;
    let path = format!("/api/v1/gateways/{}/activations", part(gateway));
    let mut request = request.clone();
    if let Some(request) = request.as_object_mut() {
        request.insert("drop_waiting".to_owned(), wait.drop_waiting.into());
    }
    let activated = client.post(&path, &request).await?;
    let revision = whole(&activated, "revision");
    let outcome = follow(client, gateway, wait.wait.into()).await?;
    let is_up = text(&outcome, "progress") == "done";
    match output {
        Output::Json => {
            let told = json!({ "gateway": gateway, "revision": revision, "outcome": outcome });
            print_json(&told)?;
        }
        Output::Table | Output::Csv => {
            say!("{gateway} runs revision {revision}.")?;
            print(&outcome)?;
        }
    }
    match before.filter(|_| !is_up && wait.or_return) {
        _ if is_up => Ok(()),
        Some(number) => {
            let note = format!("return to revision {number}: revision {revision} did not come up");
            let back = client.post(&path, &json!({ "revision": number, "note": note, "drop_waiting": true })).await?;
            let message = format!(
                "revision {revision} did not come up; {gateway} runs revision {} again, as revision {}",
                number,
                whole(&back, "revision")
            );
            Err(failed(ExitReason::NotUp, message))
        }
        None => {
            let hint = before.map(|number| format!("; go back: interlex revisions activate {number} --note TEXT"));
            let message = format!("not everything came up; it goes on trying{}", hint.unwrap_or_default());
            Err(failed(ExitReason::NotUp, message))
        }
    }
}

async fn active(client: &Client, gateway: &str) -> anyhow::Result<Option<i64>> {
    let gateways = client.get("/api/v1/gateways", &[]).await?;
    let known = gateways.as_array().into_iter().flatten().find(|known| text(known, "name") == gateway);
    Ok(known.and_then(|known| known.get("active")).and_then(Value::as_i64))
}

/// Waits until nothing that was touched is waiting or failing any more, or the time is over.
async fn follow(client: &Client, gateway: &str, within: Duration) -> anyhow::Result<Value> {
    let deadline = Instant::now() + within;
    loop {
        let outcome = client.get(&format!("/api/v1/gateways/{}/outcome", part(gateway)), &[]).await?;
        if text(&outcome, "progress") == "done" || Instant::now() >= deadline {
            return Ok(outcome);
        }
        sleep(LOOK).await;
    }
}

fn print(outcome: &Value) -> std::io::Result<()> {
    for (what, key) in [("link", "links"), ("uplink", "uplinks")] {
        for part in list(outcome, key) {
            let state = match (text(part, "fate"), text(part, "state")) {
                ("untouched", state) => format!("untouched, {state}"),
                (fate, "") => fate.to_owned(),
                (fate, state) => format!("{fate}, {state}"),
            };
            let error = part.get("error").and_then(Value::as_str).map(|error| format!(": {error}")).unwrap_or_default();
            say!("  {what} {}: {state}{error}", text(part, "name"))?;
        }
    }
    Ok(())
}
