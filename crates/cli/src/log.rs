use crate::args::LogFormat;
use crate::output::safe;
use anyhow::Context;
use std::fs::OpenOptions;
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Mutex;
use tracing_subscriber::EnvFilter;
use tracing_subscriber::fmt::MakeWriter;

/// Logs to standard error.
pub(crate) fn to_stderr(format: LogFormat) {
    start(format, || OneLine(io::stderr()));
}

/// Logs to a file that nobody else can read.
pub(crate) fn to_file(format: LogFormat, path: &Path) -> anyhow::Result<()> {
    let opened = OpenOptions::new().create(true).append(true).mode(0o600).open(path);
    let file = opened.with_context(|| format!("opening the log {}", path.display()))?;
    start(format, Mutex::new(OneLine(file)));
    Ok(())
}

/// Keeps an event on one line, whatever the texts in it hold: an event comes as one piece that ends with its line.
struct OneLine<W>(W);

impl<W: Write> Write for OneLine<W> {
    fn write(&mut self, event: &[u8]) -> io::Result<usize> {
        let text = String::from_utf8_lossy(event);
        let line = safe(text.strip_suffix('\n').unwrap_or(&text)).into_owned() + "\n";
        self.0.write_all(line.as_bytes())?;
        Ok(event.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_event_stays_on_its_line_and_gives_no_orders() {
        let mut log = OneLine(Vec::new());
        log.write_all(b"INFO signed in name=x\nINFO forged \x1b[2J\n").unwrap();
        assert_eq!(log.0, b"INFO signed in name=x\\nINFO forged \\u{1b}[2J\n");
    }
}
