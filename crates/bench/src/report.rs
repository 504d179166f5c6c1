use anyhow::Context;
use std::time::{Duration, Instant};

/// The clock of the measurements.
#[expect(clippy::disallowed_methods, reason = "measuring time is what this program does")]
pub(crate) fn now() -> Instant {
    Instant::now()
}

/// Prints one row per figure: what, ours, raw, ratio.
pub(crate) fn row(what: &str, ours: &str, raw: &str, ratio: Option<f64>) {
    let ratio = ratio.map_or_else(|| "-".to_owned(), |ratio| format!("{ratio:.2}"));
    anstream::println!("{what:<44} {ours:>18} {raw:>18} {ratio:>7}");
}

pub(crate) fn header(scenario: &str) {
    title(scenario, ("Interlex", "raw limit"));
}

pub(crate) fn title(scenario: &str, (ours, other): (&str, &str)) {
    anstream::println!("{scenario}");
    row("", ours, other, None);
}

/// How many a second.
pub(crate) fn rate(count: u32, took: Duration) -> f64 {
    f64::from(count) / took.as_secs_f64()
}

/// The best of several runs of each side, taken in turn, so that a busy moment hits both.
pub(crate) fn best(mut ours: impl FnMut() -> f64, mut raw: impl FnMut() -> f64) -> (f64, f64) {
    (0..5).fold((0.0_f64, 0.0_f64), |(a, b), _| (a.max(ours()), b.max(raw())))
}

/// The value below which `part` of the sorted values lie.
pub(crate) fn quantile(sorted: &[Duration], part: f64) -> Duration {
    #[expect(
        clippy::cast_precision_loss,
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "a position"
    )]
    let at = (sorted.len() as f64 * part) as usize;
    sorted.get(at.min(sorted.len().saturating_sub(1))).copied().unwrap_or_default()
}

/// The processor time of this process so far.
pub(crate) fn cpu_time() -> anyhow::Result<Duration> {
    cpu_time_of("self")
}

/// The processor time of a process so far.
pub(crate) fn cpu_time_of(pid: &str) -> anyhow::Result<Duration> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat"))?;
    // Behind the name, which may hold spaces: fields 14 and 15 are user and system time in ticks of a hundredth second.
    let fields: Vec<_> = stat.rsplit_once(") ").context("no name")?.1.split(' ').collect();
    let ticks = |at: usize| fields.get(at).and_then(|field| field.parse::<u64>().ok()).context("no such field");
    Ok(Duration::from_millis((ticks(11)? + ticks(12)?) * 10))
}

/// The memory of this process that is in use, in bytes.
pub(crate) fn resident() -> anyhow::Result<u64> {
    let status = std::fs::read_to_string("/proc/self/status")?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).context("no VmRSS")?;
    let kilobytes: u64 = line.trim().trim_end_matches(" kB").parse()?;
    Ok(kilobytes * 1024)
}
