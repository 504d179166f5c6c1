use crate::report::{header, row};
use anyhow::ensure;
use interlex_e2e::Rig;
use interlex_e2e::hostile::{self, Felt, PEAK, REST};
use std::time::Duration;

/// How long others may wait, and how late a poll may be.
const WAIT: Duration = Duration::from_millis(100);

/// Attacks the running program, each from a hundred at once and more, beside the same without one.
pub(crate) async fn run() -> anyhow::Result<()> {
    let rig = Rig::start().await;
    header("hostile: the slowest /healthz, under attack and at rest; then memory and the latest poll");
    let (mut broken, mut rest) = (Vec::new(), None);
    hostile::all(&rig, 100, |name, felt: Felt| {
        let rest = *rest.get_or_insert(felt.slowest);
        let ratio = felt.slowest.as_secs_f64() / rest.as_secs_f64();
        let milliseconds = |span: Duration| format!("{:.1} ms", span.as_secs_f64() * 1000.0);
        row(name, &milliseconds(felt.slowest), &milliseconds(rest), Some(ratio));
        let late = format!("late {:.0} ms", felt.late_ms);
        row("", &format!("{} MB, {} left", felt.peak >> 20, felt.left >> 20), &late, None);
        let holds = felt.slowest <= WAIT && felt.late_ms <= 100.0 && felt.peak <= PEAK && felt.left <= REST;
        broken.extend((!holds).then(|| name.to_owned()));
    })
    .await;
    ensure!(broken.is_empty(), "beyond 100 ms, 64 MB or 16 MB left: {}", broken.join(", "));
    Ok(())
}
