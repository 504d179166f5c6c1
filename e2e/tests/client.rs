//! The client as people and their scripts use it: every look in every form, what it refuses and how, and people and tokens.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{PASSWORD, Rig, run, wait_for};
use serde_json::Value;

/// Commands that only look, and what their tables say of the demo.
const LOOKS: [(&str, &[&str]); 19] = [
    ("status", &["process-bus →", "digester-1", "cloud → mqtt://", "36 of 36 points good"]),
    ("points", &["digester-2", "temperature-set-point", "°C", "holding:0"]),
    ("points gas-flow", &["digester-1", "m³/h", "input:4"]),
    ("gateways list", &["alderfen-1  running", "Alderfen biogas works"]),
    ("people list", &["ada   administrator"]),
    ("tokens list", &["ada", "good until"]),
    ("revisions list", &["first"]),
    ("draft show", &["alderfen-1 runs revision 1; its draft changes nothing."]),
    ("draft check", &["No mistakes."]),
    ("draft diff", &["Nothing changes."]),
    ("models", &["heat-meter", "packed digits"]),
    ("audit", &["activate", "revision 1: first", "sign-in"]),
    ("buffer", &["cloud    online", "notices  online"]),
    ("buffer gaps cloud", &["No sample is missing since the uplink runs."]),
    ("link process-bus", &["all devices", "99 %", "input registers"]),
    ("frames process-bus", &["read input registers", "→ digester-1"]),
    ("messages notices", &["alderfen/notices/digester-1", "\"values\""]),
    ("trial reports digester-1", &["would be sent", "mixer-speed"]),
    ("trial messages notices", &["alderfen/notices/gas-analyser"]),
];

/// Commands that go wrong: with which exit code, and in which words.
const MISTAKES: [(&str, i32, &str); 26] = [
    ("points --quality rotten", 1, "quality is \"rotten\"; expected good, uncertain, bad or not-good"),
    ("watch no-such-point --count 1", 1, "no points match"),
    ("link nowhere", 1, "there is no running link alderfen-1/nowhere"),
    ("frames nowhere", 1, "nowhere"),
    ("messages nowhere", 1, "there is no running uplink alderfen-1/nowhere"),
    ("messages cloud", 1, "there is no message from templates at uplink \"cloud\", which publishes Sparkplug B"),
    ("buffer gaps nowhere", 1, "there is no running uplink alderfen-1/nowhere"),
    ("models nothing", 1, "expected one of heat-meter, gas-meter, digester"),
    ("write digester-1 temperature-set-point warm", 1, "warm is no number"),
    ("write digester-1 temperature-set-point 400000", 1, "400000"),
    ("write digester-1 temperature 5", 1, "the point is read only; its access would have to be read-write"),
    ("write digester-1 nothing 5", 1, "nothing"),
    ("write nobody temperature 5", 1, "nobody"),
    ("trial reports nowhere", 1, "there is no device \"nowhere\""),
    ("offers nothing --link process-bus", 1, "source is \"nothing\"; expected one of units, addresses, sunspec"),
    ("revisions diff 1 9", 1, "there is no revision 9 of gateway \"alderfen-1\""),
    ("revisions activate 9 --note again", 1, "there is no revision 9 of gateway \"alderfen-1\""),
    ("draft diff --gateway nowhere", 1, "there is no gateway \"nowhere\""),
    ("draft import nowhere /dev/null", 1, "nowhere"),
    ("config check /nowhere", 3, "/nowhere has no gateway.toml"),
    ("gateways add alderfen-1", 6, "gateway alderfen-1 is there already"),
    ("gateways remove alderfen-1", 1, "this stops alderfen-1 and takes it away; say --yes"),
    ("people role ada viewer", 6, "somebody has to stay administrator; make another one first"),
    ("people remove ada --yes", 6, "somebody has to stay administrator; make another one first"),
    ("people add eve --role king", 2, "possible values: viewer, operator, engineer, administrator"),
    ("tokens remove nothing", 1, "there is no token \"nothing\""),
];

fn words(line: &str) -> Vec<&str> {
    line.split(' ').collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_look_comes_as_a_table_as_json_and_as_csv_and_every_mistake_says_what_would_be_right() {
    let rig = Rig::start().await;
    wait_for("a message", || async {
        rig.interlex(&["messages", "notices"]).await.out.contains("digester-1").then_some(())
    })
    .await;
    for (command, says) in LOOKS {
        let table = rig.interlex(&words(command)).await;
        assert!(table.code == 0 && table.err.is_empty(), "{command}: {table:?}");
        let missing: Vec<_> = says.iter().filter(|text| !table.out.contains(**text)).collect();
        assert!(missing.is_empty(), "{command}: {missing:?} in\n{}", table.out);
        let json = rig.interlex(&[&words(command)[..], &["-o", "json"]].concat()).await;
        let value: Result<Value, _> = serde_json::from_str(&json.out);
        assert!(json.code == 0 && value.is_ok(), "{command}: {json:?}");
        let csv = rig.interlex(&[&words(command)[..], &["-o", "csv"]].concat()).await;
        assert_eq!((csv.code, csv.err.as_str()), (0, ""), "{command}");
    }
    for (command, code, says) in MISTAKES {
        let told = rig.interlex(&words(command)).await;
        assert!(told.code == code && told.err.contains(says), "{command}: {told:?}");
        assert!(told.out.is_empty(), "{command}: what goes wrong is no output: {told:?}");
    }
    // None of it has changed anything.
    assert_eq!(rig.status().await["gateways"][0]["points_good"], 36);
    assert_eq!(rig.interlex(&["draft", "show"]).await.out, "alderfen-1 runs revision 1; its draft changes nothing.\n");
    a_list_is_taken_over_and_thrown_away_again(&rig).await;
    people_come_and_go_and_their_tokens_with_them(&rig).await;
}

async fn a_list_is_taken_over_and_thrown_away_again(rig: &Rig) {
    let file = rig.home().join("list.csv").display().to_string();
    let import = async |rows: &str, more: &[&str]| {
        std::fs::write(&file, format!("name,address,type,rate,unit\n{rows}")).unwrap();
        rig.interlex(&[&["draft", "import", "digester-1", &file], more].concat()).await
    };
    let wrong = import("mix,holding:300,uint17,fast,rpm\n", &[]).await;
    assert!(
        wrong.code == 3 && wrong.err.contains("uint17") && wrong.err.contains("points/digester.csv:2:17"),
        "{wrong:?}"
    );
    let dry = import("mix,holding:300,uint16,fast,rpm\n", &["--dry-run"]).await;
    assert!(dry.code == 0 && dry.out.contains("+ mix"), "{dry:?}");
    let unchanged = "alderfen-1 runs revision 1; its draft changes nothing.\n";
    assert_eq!(rig.interlex(&["draft", "show"]).await.out, unchanged, "neither of them did anything");
    let done = import("mix,holding:300,uint16,fast,rpm\n", &[]).await;
    assert!(done.out.contains("1 added, 0 changed, 0 removed"), "{done:?}");
    let diff = rig.interlex(&["draft", "diff"]).await;
    // Two digesters use one list.
    assert!(diff.out.contains("+ point mix of digester-1, digester-2 added: holding:300 uint16 rpm"), "{diff:?}");
    assert!(diff.out.contains("stays connected, changed for points of digester-1"), "{diff:?}");
    let refused = rig.interlex(&["draft", "discard"]).await;
    assert!(refused.code == 1 && refused.err.contains("this loses 1 change; say --yes"), "{refused:?}");
    assert_eq!(rig.interlex(&["draft", "discard", "--yes"]).await.code, 0);
    assert_eq!(rig.interlex(&["draft", "show"]).await.out, unchanged);
}

async fn people_come_and_go_and_their_tokens_with_them(rig: &Rig) {
    let own = rig.home();
    let hers = own.join("grace");
    let secret = "digester-43\n";
    let short = run(&["people", "add", "grace", "--role", "viewer", "--password-stdin"], &own, "short\n").await;
    assert!(short.code == 1 && short.err.contains("a password has 8 to 256 characters"), "{short:?}");
    let added = run(&["people", "add", "grace", "--role", "viewer", "--password-stdin"], &own, secret).await;
    assert_eq!(added.out, "grace can sign in as viewer.\n", "{added:?}");
    let sign_in =
        async |secret: &str| run(&["sign-in", &rig.url, "--name", "grace", "--password-stdin"], &hers, secret).await;
    let wrong = sign_in(&format!("{PASSWORD}\n")).await;
    assert!(wrong.code == 4 && !wrong.err.contains("grace is"), "{wrong:?}");
    assert_eq!(sign_in(secret).await.code, 0);
    let may = async |command: &str| run(&words(command), &hers, "").await.code;
    let write = "write digester-1 temperature-set-point 44";
    assert_eq!((may("status").await, may(write).await, may("people list").await), (0, 4, 4), "a viewer looks");
    assert_eq!(rig.interlex(&["people", "role", "grace", "operator"]).await.code, 0);
    assert_eq!((may(write).await, may("draft discard --yes").await), (0, 4), "an operator writes, and edits nothing");
    // A token that is removed is good for nothing, in this very moment.
    let tokens = run(&["tokens", "list", "-o", "json"], &hers, "").await;
    let tokens: Value = serde_json::from_str(&tokens.out).unwrap();
    assert_eq!(tokens.as_array().unwrap().len(), 1, "of others nothing is to be seen: {tokens}");
    let id = tokens[0]["id"].as_str().unwrap();
    assert_eq!(rig.interlex(&["tokens", "remove", id]).await.code, 0);
    assert_eq!(may("status").await, 4);
    // Another password, or the end, signs her out everywhere.
    assert_eq!(sign_in(secret).await.code, 0);
    let set = run(&["people", "password", "grace", "--password-stdin"], &own, "digester-44\n").await;
    assert_eq!((set.code, may("status").await), (0, 4), "{set:?}");
    assert_eq!((sign_in(secret).await.code, sign_in("digester-44\n").await.code), (4, 0));
    assert_eq!((rig.interlex(&["people", "remove", "grace", "--yes"]).await.code, may("status").await), (0, 4));
    let trail = rig.interlex(&["audit", "--person", "grace"]).await.out;
    assert!(trail.contains("write") && trail.contains("sign-in"), "what she did stays on record:\n{trail}");
}
