use crate::args::LogFormat;
use anyhow::Context;
use std::fs::OpenOptions;
use std::path::Path;
use std::sync::Mutex;
use tracing_subscriber::EnvFilter;
use tracing_subscriber::fmt::MakeWriter;

/// Logs to standard error.
pub(crate) fn to_stderr(format: LogFormat) {
    start(format, std::io::stderr);
}

/// Logs to a file.
pub(crate) fn to_file(format: LogFormat, path: &Path) -> anyhow::Result<()> {
    let opened = OpenOptions::new().create(true).append(true).open(path);
    let file = opened.with_context(|| format!("opening the log {}", path.display()))?;
    start(format, Mutex::new(file));
    Ok(())
}

/// `RUST_LOG` chooses what is logged; information and above by default.
fn start<W: for<'a> MakeWriter<'a> + Send + Sync + 'static>(format: LogFormat, writer: W) {
    // Queries and reconnecting brokers speak through our own messages.
    let default = "info,sqlx=warn,rumqttc=error";
    let filter = EnvFilter::try_from_default_env().unwrap_or_else(|_| EnvFilter::new(default));
    let subscriber = tracing_subscriber::fmt().with_env_filter(filter).with_writer(writer).with_target(false);
    match format {
        LogFormat::Text => subscriber.with_ansi(false).init(),
        LogFormat::Json => subscriber.json().init(),
    }
}
