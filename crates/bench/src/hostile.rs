use crate::report::{header, row};
use anyhow::ensure;
use interlex_e2e::Rig;
use interlex_e2e::hostile::{self, Felt, REST};
use std::time::Duration;
use tokio::time::sleep;

/// What an attack may take of memory, and how long others may wait meanwhile.
const PEAK: u64 = 64 << 20;
const WAIT: Duration = Duration::from_millis(100);

/// Attacks the running program, each from a hundred at once and more, beside the same without one.
pub(crate) async fn run() -> anyhow::Result<()> {
    let rig = Rig::start().await;
    let flooded = rig.home().join("flooded");
    let rest = hostile::under(&rig, sleep(Duration::from_secs(5))).await;
    header("hostile: the slowest /healthz, under attack and at rest; then memory and the latest poll");
    let mut broken = Vec::new();
    let mut told = |name: &str, felt: Felt| {
        let ratio = felt.slowest.as_secs_f64() / rest.slowest.as_secs_f64();
        let milliseconds = |span: Duration| format!("{:.1} ms", span.as_secs_f64() * 1000.0);
        row(name, &milliseconds(felt.slowest), &milliseconds(rest.slowest), Some(ratio));
        let late = format!("late {:.0} ms", felt.late_ms);
        row("", &format!("{} MB, {} left", felt.peak >> 20, felt.left >> 20), &late, None);
        let holds = felt.slowest <= WAIT && felt.late_ms <= 100.0 && felt.peak <= PEAK && felt.left <= REST;
        broken.extend((!holds).then(|| name.to_owned()));
    };
    told("100 templates", hostile::under(&rig, hostile::templates(&rig)).await);
    told("300 guesses", hostile::under(&rig, hostile::guesses(&rig)).await);
    // What is made once, such as the schemas, stays.
    hostile::descriptions(&rig).await;
    told("100 descriptions", hostile::under(&rig, hostile::descriptions(&rig)).await);
    told("400 silent connections", hostile::under(&rig, hostile::silence(&rig)).await);
    told("100 listeners that do not read", hostile::under(&rig, hostile::listeners(&rig)).await);
    told("100 heads that do not end", hostile::under(&rig, hostile::slow_heads(&rig)).await);
    told("100 files that do not end", hostile::under(&rig, hostile::endless_files(&rig)).await);
    told("field devices that send without end", hostile::under(&rig, hostile::floods(&rig, &flooded)).await);
    ensure!(broken.is_empty(), "beyond 100 ms, 64 MB or 16 MB left: {}", broken.join(", "));
    Ok(())
}
