use crate::output::safe;
use anyhow::Context as _;
use clap::ValueEnum;
use std::collections::HashMap;
use std::fs::OpenOptions;
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::{LazyLock, Mutex, PoisonError};
use std::time::Duration;
use tokio::time::Instant;
use tracing::callsite::Identifier;
use tracing::{Event, Level, Subscriber};
use tracing_subscriber::filter::Targets;
use tracing_subscriber::fmt::MakeWriter;
use tracing_subscriber::layer::{Context, Layer, SubscriberExt};
use tracing_subscriber::util::SubscriberInitExt;

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum LogFormat {
    /// Lines for people.
    Text,
    /// One JSON object a line.
    Json,
}

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
    let default = [("", Level::INFO), ("sqlx", Level::WARN), ("rumqttc", Level::ERROR)];
    let chosen = std::env::var("RUST_LOG").ok().and_then(|text| text.parse::<Targets>().ok());
    let filter = chosen.unwrap_or_else(|| default.into_iter().collect());
    let lines = tracing_subscriber::fmt::layer().with_writer(writer).with_target(false);
    let registry = tracing_subscriber::registry().with(filter).with(Sparing::default());
    match format {
        LogFormat::Text => registry.with(lines.with_ansi(false)).init(),
        LogFormat::Json => registry.with(lines.json()).init(),
    }
}

/// Lets so many events of one place in the code through in a while: nobody fills the disk with what he makes us say. What is
/// for the audit trail goes through, since it may be nowhere else.
#[derive(Debug, Default)]
struct Sparing {
    places: Mutex<HashMap<Identifier, Said>>,
}

/// What was said at a place.
#[derive(Debug, Clone, Copy)]
struct Said {
    since: Duration,
    times: u64,
}

const MOST: u64 = 100;
const WHILE: Duration = Duration::from_secs(60);

impl Sparing {
    /// Whether one more may be said, and how many were not in the while that has ended.
    fn may(&self, place: Identifier, now: Duration) -> (bool, u64) {
        let mut places = self.places.lock().unwrap_or_else(PoisonError::into_inner);
        let said = places.entry(place).or_insert(Said { since: now, times: 0 });
        let mut missed = 0;
        if now.saturating_sub(said.since) >= WHILE {
            missed = said.times.saturating_sub(MOST);
            *said = Said { since: now, times: 0 };
        }
        said.times += 1;
        (said.times <= MOST, missed)
    }
}

impl<S: Subscriber> Layer<S> for Sparing {
    fn event_enabled(&self, event: &Event<'_>, _: Context<'_, S>) -> bool {
        static START: LazyLock<Instant> = LazyLock::new(Instant::now);
        if event.metadata().target() == "audit" {
            return true;
        }
        let (may, missed) = self.may(event.metadata().callsite(), START.elapsed());
        if missed > 0 {
            let place = event.metadata().name();
            tracing::warn!(missed, place, "so many more events were not written");
        }
        may
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

    #[test]
    fn a_flood_is_cut_and_counted_and_others_are_heard() {
        use tracing::callsite::Callsite;
        let place = |callsite: &'static dyn Callsite| callsite.metadata().callsite();
        let loud = place(tracing::callsite! { name: "loud", kind: tracing::metadata::Kind::EVENT, fields: });
        let other = place(tracing::callsite! { name: "other", kind: tracing::metadata::Kind::EVENT, fields: });
        let sparing = Sparing::default();
        let at = Duration::from_secs;
        let let_through = (0..1000).filter(|_| sparing.may(loud.clone(), at(1)).0).count();
        assert_eq!(let_through, 100);
        assert_eq!(sparing.may(other, at(2)), (true, 0));
        assert_eq!(sparing.may(loud.clone(), at(60)), (false, 0));
        assert_eq!(sparing.may(loud.clone(), at(61)), (true, 901));
        assert_eq!(sparing.may(loud, at(62)), (true, 0));
    }
}
