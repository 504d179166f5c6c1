use super::{Client, frames, part, text};
use crate::exit::{ExitReason, failed};
use crate::options::{GatewayTarget, Output};
use crate::output::{plain, print_json, say, with_unit};
use clap::Args;
use serde_json::{Value, json};

#[derive(Debug, Args)]
pub(crate) struct WriteArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    /// A device of the running description
    pub(crate) device: String,
    /// One of its points
    pub(crate) point: String,
    /// The engineering value: a number, true, false, or text
    #[arg(allow_negative_numbers = true, required_unless_present = "relinquish")]
    pub(crate) value: Option<String>,
    /// Give back what was commanded before, so that whoever comes after us in the priorities of the object holds it
    #[arg(long, conflicts_with = "value")]
    pub(crate) relinquish: bool,
}

pub(crate) async fn run(arguments: WriteArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let parts = [&gateway, &arguments.device, &arguments.point].map(|name| part(name));
    // A null gives back what was commanded.
    let body = json!({ "value": arguments.value });
    let outcome = client.put(&format!("/api/v1/points/{}/value", parts.join("/")), &body).await?;
    told(&outcome, arguments.of.output)
}

/// Says what became of a write; not confirmed is a failure.
pub(crate) fn told(outcome: &Value, output: Output) -> anyhow::Result<()> {
    let field = |key: &str| outcome.get(key).unwrap_or(&Value::Null);
    let now = with_unit(field("value"), text(outcome, "unit"), None);
    let written = plain(field("written"));
    if output == Output::Json {
        print_json(outcome)?;
    }
    let address = text(outcome, "address");
    let error = match (field("confirmed").as_bool(), field("read_back_error").as_str()) {
        (Some(true), _) => None,
        (Some(false), _) => Some(format!("{address} took {written}, but says {} now", plain(field("raw")))),
        (None, Some(error)) => Some(format!("{address} took {written}, but could not be read back: {error}")),
        (None, None) => None,
    };
    if let Some(error) = error {
        return Err(failed(ExitReason::Failure, error));
    }
    if output != Output::Json {
        let took = field("answer_ms").as_f64().unwrap_or_default();
        match field("confirmed").as_bool() {
            Some(_) => say!("{address} = {now}, raw {written}   {}   {took:.1} ms", text(outcome, "words"))?,
            None if field("answer").is_string() => say!("{address}   {}   {took:.1} ms", text(outcome, "words"))?,
            None => say!("raw {written} sent to all units; nobody answers that")?,
        }
        frames::print(outcome)?;
    }
    Ok(())
}
