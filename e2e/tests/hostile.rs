//! No single request, file, person, broker or field device takes much memory or holds up everybody else.
#![allow(clippy::unwrap_used, clippy::panic, clippy::print_stdout, reason = "tests")]

use interlex_e2e::hostile::{self, Felt, PEAK, REST};
use interlex_e2e::{Rig, wait_for};

fn holds(name: &str, felt: Felt) {
    println!("{name}: {felt:?}");
    assert!(felt.healthy > 0, "{name}: {felt:?}");
    assert!(felt.peak <= PEAK, "{name} took {} MB", felt.peak >> 20);
    assert!(felt.left <= REST, "{name} left {} MB", felt.left >> 20);
}

#[tokio::test(flavor = "multi_thread")]
async fn attacks_take_little_and_leave_nothing() {
    let mut rig = Rig::start().await;
    hostile::all(&rig, 5, holds).await;
    rig.until("all points are good", |status| status["gateways"][0]["points_good"] == 36).await;
    assert_eq!(rig.service.interrupt().await, 0, "{}", rig.service.said());
    assert!(!rig.service.said().contains("panicked"), "{}", rig.service.said());
    rig.restart_service().await;
    wait_for("the administrator is let in again", || async {
        (rig.status().await["database"]["up"] == true).then_some(())
    })
    .await;
}
