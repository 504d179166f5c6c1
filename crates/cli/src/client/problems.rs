use crate::exit::{ExitReason, failed};
use crate::options::Output;
use crate::output::{count, print_csv, print_json, say};
use interlex_core::description::Problem;
use serde_json::json;

/// Prints problems, a line each, in the form that was asked for.
pub(crate) fn print_problems(problems: &[Problem], output: Output) -> anyhow::Result<()> {
    match output {
        Output::Json => print_json(&json!({ "problems": problems }))?,
        Output::Csv => {
            let row = |problem: &Problem| {
                let (line, column) = (problem.line.to_string(), problem.column.to_string());
                let severity = if problem.is_mistake() { "mistake" } else { "warning" };
                let Problem { file, object, field, message, expected, .. } = problem.clone();
                vec![severity.to_owned(), file, line, column, object, field, message, expected]
            };
            let header = ["severity", "file", "line", "column", "object", "field", "message", "expected"];
            print_csv(&header, problems.iter().map(row))?;
        }
        Output::Table => problems.iter().try_for_each(|problem| say!("{problem}"))?,
    }
    Ok(())
}

/// Ends with its own code when something keeps a description from running.
pub(crate) fn mistakes(problems: &[Problem], strict: bool) -> anyhow::Result<()> {
    let counted = problems.iter().filter(|problem| strict || problem.is_mistake()).count();
    match counted {
        0 => Ok(()),
        counted => Err(failed(ExitReason::Mistakes, count(counted, "mistake"))),
    }
}
