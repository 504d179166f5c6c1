//! A value whose word order and address the manual leaves open is found by asking the device once.
#![allow(clippy::unwrap_used, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::Rig;
use serde_json::Value;

#[tokio::test(flavor = "multi_thread")]
async fn one_look_finds_the_word_order_and_the_address_off_by_one() {
    let rig = Rig::start().await;
    rig.set_plant_running(false).await;
    let shown = rig.truth().await["digester-1"]["gas-flow"].as_f64().unwrap();
    // It is a float with its words swapped at input:4; the manual was read as the register after it.
    // Three decimals, so that no whole number with a scale comes as near by chance.
    let expect = format!("{shown:.3}");
    let read = rig.interlex(&["trial", "read", "digester-1", "30006", "--expect", &expect, "-o", "json"]).await;
    assert_eq!(read.code, 0, "{}", read.err);
    let reading: Value = serde_json::from_str(&read.out).unwrap();
    assert_eq!(reading["shared_connection"], true, "over the connection that is open anyway");
    let first = &reading["alternatives"][0];
    assert_eq!((first["address"].as_str(), first["type"].as_str()), (Some("input:4"), Some("float32")), "{first}");
    assert_eq!((first["order"].as_str(), first["scale"].as_f64()), (Some("CDAB"), Some(1.0)), "{first}");
    assert!((first["value"].as_f64().unwrap() - shown).abs() < 1e-3, "{first}");

    let table = rig.interlex(&["trial", "read", "digester-1", "input:4", "--type", "float32", "--order", "CDAB"]).await;
    assert!(table.out.starts_with("input:4 = ") && table.out.contains("registers "), "{}", table.out);
    let refused = rig.interlex(&["trial", "read", "digester-1", "input:999"]).await;
    assert!(refused.code == 1 && refused.err.contains("exception 02, illegal data address"), "{}", refused.err);
    let wrong = rig.interlex(&["trial", "read", "digester-1", "input:4", "--type", "uint17"]).await;
    assert!(wrong.code == 3 && wrong.err.contains("type is \"uint17\"; expected bool"), "{}", wrong.err);
    assert_eq!(rig.status().await["gateways"][0]["points_good"], 36, "polling goes on");
}
