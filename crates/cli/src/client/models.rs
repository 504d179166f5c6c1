use super::{Client, text};
use crate::exit::{ExitReason, failed};
use crate::options::{Output, Target};
use crate::output::{print_rows, print_text};
use clap::Args;

#[derive(Debug, Args)]
pub(crate) struct ModelsArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    /// Print this one as CSV
    pub(crate) name: Option<String>,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table")]
    pub(crate) output: Output,
}

pub(crate) async fn run(arguments: ModelsArguments) -> anyhow::Result<()> {
    let models = Client::new(&arguments.target)?.get("/api/v1/models", &[]).await?;
    let all = models.as_array().map(Vec::as_slice).unwrap_or_default();
    if let Some(name) = arguments.name {
        let model = all.iter().find(|model| text(model, "name") == name);
        let names = || all.iter().map(|model| text(model, "name")).collect::<Vec<_>>().join(", ");
        let model = model.ok_or_else(|| {
            failed(ExitReason::Failure, format!("there is no model {name:?}; expected one of {}", names()))
        })?;
        print_text(text(model, "text"))?;
        return Ok(());
    }
    let rows = all.iter().map(|model| {
        let points = text(model, "text").lines().count().saturating_sub(1);
        let texts = ["name", "title", "parameters"].map(|key| text(model, key).to_owned());
        texts.into_iter().chain([points.to_string()]).collect()
    });
    print_rows(arguments.output, &["name", "what for", "parameters", "points"], rows.collect(), &models, "None ship.")
}
