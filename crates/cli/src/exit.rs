use crate::output::safe;
use std::process::ExitCode;

/// Why the program ends, as its exit code says. 2 is taken by wrong usage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ExitReason {
    Failure = 1,
    Mistakes = 3,
    NotAllowed = 4,
    Unreachable = 5,
    Conflict = 6,
    NotUp = 7,
    Differs = 8,
}

/// What `--help` says about exit codes.
pub(crate) const EXIT_CODES: &str = "Exit codes:
  0  done
  1  failed; the message says why
  2  wrong usage
  3  the description, or an object that was to be tried, has mistakes
  4  not signed in, or not allowed
  5  the service cannot be reached
  6  somebody else has changed it meanwhile
  7  activated, but a link or uplink does not come up
  8  something would change (diff --exit-code)";

impl From<ExitReason> for ExitCode {
    fn from(reason: ExitReason) -> Self {
        Self::from(reason as u8)
    }
}

/// An error that knows its exit code.
#[derive(Debug)]
pub(crate) struct Failed {
    pub(crate) reason: ExitReason,
    pub(crate) message: String,
}

impl std::fmt::Display for Failed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for Failed {}

pub(crate) fn failed(reason: ExitReason, message: impl Into<String>) -> anyhow::Error {
    Failed { reason, message: message.into() }.into()
}

/// Tells what went wrong and gives the exit code.
pub(crate) fn report(error: &anyhow::Error) -> ExitCode {
    // A reader that had enough, such as `head`, is no failure.
    let is_closed_pipe = error
        .chain()
        .filter_map(|cause| match cause.downcast_ref::<csv::Error>().map(csv::Error::kind) {
            Some(csv::ErrorKind::Io(error)) => Some(error),
            _ => cause.downcast_ref::<std::io::Error>(),
        })
        .any(|cause| cause.kind() == std::io::ErrorKind::BrokenPipe);
    if is_closed_pipe {
        return ExitCode::SUCCESS;
    }
    let told = format!("error: {error:#}");
    told.lines().for_each(|line| anstream::eprintln!("{}", safe(line)));
    error.downcast_ref::<Failed>().map_or(ExitReason::Failure, |failed| failed.reason).into()
}
