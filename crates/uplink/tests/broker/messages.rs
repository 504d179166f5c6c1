//! Messages made from templates: what they say, when they go, what becomes of them in an outage, and commands that come back.

use crate::rig::{Host, Rig, Run, database};
use interlex_core::{CommandOutcome, FieldEvent, SampleKind, UplinkState, Value};
use interlex_uplink::{FromBroker, UplinkRequest};
use rumqttc::QoS;
use serde_json::json;
use tokio::sync::oneshot;

const TANK: &str = "level,holding:0,uint16,rw#north;wet\nfeed,holding:1,uint16#wet\nstate,holding:2,uint16";

/// An uplink whose message says when, and what was reported since the one before.
fn reports(more: &str) -> String {
    let payload = "{% for sample in samples %}{{ sample.name }}={{ sample.value }} {% endfor %}of{% for point in points %} {{ \
                   point.name }}={{ point.value }}{% endfor %}";
    format!("kind = \"json\"\ngather = \"20ms\"\npayload = '{payload}'\n{more}")
}

async fn online(rig: &Rig) -> Run {
    let run = rig.run().await;
    run.until("it is online", |status| status.state == UplinkState::Online).await;
    run
}

fn value(rig: &Rig, point: &str, value: u64) -> interlex_core::Sample {
    rig.sample(point, Some(Value::Uint(value)), i64::try_from(value).unwrap(), SampleKind::Current)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_message_is_about_a_gateway_a_device_a_label_or_a_point() {
    for (per, topic, messages) in [
        ("gateway", "{{ gateway.name }}", vec!["alderfen-1 level=7 feed=3 of level=7 feed=3 state=null"]),
        ("device", "{{ device.name }}", vec!["tank level=7 feed=3 of level=7 feed=3 state=null"]),
        (
            "label",
            "labels/{{ label }}",
            vec!["labels/north level=7 of level=7", "labels/wet level=7 feed=3 of level=7 feed=3"],
        ),
        (
            "point",
            "points/{{ points[0].name }}",
            vec!["points/level level=7 of level=7", "points/feed feed=3 of feed=3"],
        ),
    ] {
        let settings =
            reports(&format!("topic = \"{topic}\"\nmessage-per = \"{per}\"\nsend = \"change\"\nretain = true\n"));
        let mut rig = Rig::of_kind(TANK, None, &settings).await;
        let host = Host::start(rig.broker.address()).await;
        let run = online(&rig).await;
        run.tell([value(&rig, "level", 7), value(&rig, "feed", 3)]).await;
        for message in &messages {
            host.until(message).await;
        }
        run.until("the broker has them", |status| status.samples_delivered == messages.len() as u64).await;
        run.end().await;
        // Whoever comes later has them, too.
        let later = Host::start(rig.broker.address()).await;
        later.until(messages[0]).await;
        rig.broker.stop().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_period_tells_what_is_there_and_a_message_that_cannot_be_made_is_lost_and_counted() {
    let period = reports("topic = \"works\"\nsend = \"every 50ms\"\n");
    let mut rig = Rig::of_kind(TANK, None, &period).await;
    let host = Host::start(rig.broker.address()).await;
    let run = online(&rig).await;
    host.until("works of level=null feed=null state=null").await;
    run.tell([value(&rig, "level", 7)]).await;
    host.until("works level=7 of level=7 feed=null state=null").await;
    host.until("works of level=7 feed=null state=null").await;
    run.end().await;
    rig.broker.stop().await;

    let failing = "kind = \"json\"\ngather = \"20ms\"\ntopic = \"works\"\nsend = \"change\"\nmessage-per = \"point\"\n\
                   payload = '{{ 60 // points[0].value }}'\n";
    let mut rig = Rig::of_kind(TANK, None, failing).await;
    let host = Host::start(rig.broker.address()).await;
    let run = online(&rig).await;
    run.tell([value(&rig, "level", 0), value(&rig, "feed", 5)]).await;
    host.until("works 12").await;
    run.until("one is lost", |status| status.buffer.lost == 1).await;
    run.until("it says why", |status| {
        status.last_error.as_deref().is_some_and(|why| why.starts_with("payload line 1: "))
    })
    .await;
    let (answer, last) = oneshot::channel();
    run.ask(UplinkRequest::Messages(answer)).await;
    let last = last.await.unwrap();
    let shown: Vec<_> = last.iter().map(|message| (message.payload.as_str(), message.error.is_some())).collect();
    assert_eq!(shown, [("", true), ("12", false)], "both can be looked at");
    run.tell([value(&rig, "level", 2)]).await;
    host.until("works 30").await;
    run.end().await;
    rig.broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_waits_through_outages_and_ends_comes_once_and_in_its_order() {
    let (_directory, mut database, store) = database().await;
    let settings =
        reports("topic = \"works\"\nsend = \"change\"\nmessage-per = \"point\"\njournal-flush = \"100ms\"\n");
    let mut rig = Rig::of_kind(TANK, Some(store.clone()), &settings).await;
    let host = Host::start(rig.broker.address()).await;
    let run = online(&rig).await;
    run.tell([value(&rig, "level", 1)]).await;
    host.until("works level=1 of level=1").await;
    run.until("the broker has it", |status| status.samples_delivered == 1).await;
    rig.broker.stop().await;
    run.until("it is offline", |status| status.state == UplinkState::Offline).await;
    for number in 2..=4 {
        run.tell([value(&rig, "level", number)]).await;
        run.until("it is on disk", |status| status.buffer.durable == number - 1).await;
    }
    run.kill().await;
    // A second start meets the outage, too, and ends in order; a third brings everything.
    let run = rig.run().await;
    run.until("they are known", |status| status.buffer.waiting == 3).await;
    run.tell([value(&rig, "level", 5)]).await;
    run.until("it waits with them", |status| status.buffer.waiting == 4).await;
    run.end().await;
    let run = rig.run().await;
    run.until("they are known", |status| status.buffer.waiting == 4).await;
    rig.broker.restart().await.unwrap();
    let told = host.until("works level=5 of level=5").await;
    let wanted: Vec<_> = (2..=5).map(|number| format!("works level={number} of level={number}")).collect();
    assert_eq!(told, wanted);
    run.until("nothing is left", |status| {
        (status.buffer.waiting, status.buffer.durable, status.buffer.lost) == (0, 0, 0)
    })
    .await;
    run.end().await;
    // Nothing comes again.
    let run = online(&rig).await;
    run.tell([value(&rig, "level", 6)]).await;
    assert_eq!(host.until("works level=6 of level=6").await.len(), 1);
    run.end().await;
    rig.broker.stop().await;
    store.close().await;
    database.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_gathered_for_a_message_outlives_a_sudden_end_before_it_is_due() {
    let (_directory, mut database, store) = database().await;
    let settings = reports("topic = \"works\"\nsend = \"every 1h\"\njournal-flush = \"200ms\"\n");
    let mut rig = Rig::of_kind(TANK, Some(store.clone()), &settings).await;
    let host = Host::start(rig.broker.address()).await;
    let run = online(&rig).await;
    run.tell([value(&rig, "level", 1)]).await;
    run.until("it is on disk", |status| status.buffer.durable == 1).await;
    run.tell([value(&rig, "feed", 2)]).await;
    // What is gathered takes the place of what was gathered before.
    let (mut newest, wanted) = (String::new(), "level=1 feed=2 of ");
    while !newest.contains(wanted) {
        let entries = store.journal_entries("alderfen-1", "cloud").await.unwrap();
        // It may have made room meanwhile.
        let block = store.journal_block(entries.last().unwrap().id).await.unwrap().unwrap_or_default();
        newest = String::from_utf8(block).unwrap();
    }
    run.kill().await;
    let run = online(&rig).await;
    let told = host.until("works level=1 feed=2 of level=1 feed=2 state=null").await;
    assert!(told.len() <= 2, "{told:?}");
    run.until("nothing is left", |status| (status.buffer.waiting, status.buffer.durable) == (0, 0)).await;
    run.end().await;
    rig.broker.stop().await;
    store.close().await;
    database.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn other_points_are_described_and_what_was_gathered_of_the_old_ones_goes_first() {
    let settings = reports("topic = \"works\"\nsend = \"every 1h\"\n");
    let mut rig = Rig::of_kind(TANK, None, &settings).await;
    let host = Host::start(rig.broker.address()).await;
    let run = online(&rig).await;
    run.tell([value(&rig, "level", 1)]).await;
    let other = Rig::of_kind("depth,holding:0,uint16", None, &settings).await;
    run.events.send(FieldEvent::Revised(other.inventory.clone())).await.unwrap();
    host.until("works level=1 of level=1 feed=null state=null").await;
    run.tell([value(&other, "depth", 4)]).await;
    run.end().await;
    // An orderly end tells what was gathered, too.
    host.until("works depth=4 of depth=4").await;
    rig.broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn commands_stand_where_the_mapping_says_and_each_is_replied_to() {
    let settings = reports(
        "topic = \"works\"\nsend = \"change\"\ncommands = true\ncommand-topic = \"to/+/set\"\nreply-topic = \"replies\"\n\
         command-device = \"topic:1\"\ncommand-value = \"/wanted/value\"\n",
    );
    let mut rig = Rig::of_kind(TANK, None, &settings).await;
    let host = Host::start(rig.broker.address()).await;
    let send = async |topic: &str, payload: String, is_kept: bool| {
        host.client.publish(topic, QoS::AtLeastOnce, is_kept, payload).await.unwrap();
    };
    // The broker keeps this one, and hands it to whoever comes.
    send("to/tank/set", json!({ "id": 1, "point": "level", "wanted": { "value": 1 } }).to_string(), true).await;
    host.until("to/tank/set {\"id\":1,\"point\":\"level\",\"wanted\":{\"value\":1}}").await;
    let mut run = online(&rig).await;
    let refused = async |run: &mut Run, id: &str, why: &str| {
        match run.next().await {
            FromBroker::Refused { why: told, .. } => assert!(told.contains(why), "{told}"),
            FromBroker::Command(command) => panic!("{command:?}"),
        }
        let told = host.until("\"}").await;
        let reply = told.last().unwrap();
        assert!(reply.starts_with("replies ") && reply.contains("\"result\":\"refused\""), "{reply}");
        assert!(reply.contains(&format!("\"id\":{id},")) && reply.contains(why), "{reply}");
    };
    refused(&mut run, "1", "retained commands are not taken").await;
    for (topic, payload, id, why) in [
        (
            "to/tank/set",
            "{\"id\":\"a\",\"point\":\"feed\",\"wanted\":{\"value\":1}}",
            "\"a\"",
            "feed takes no commands",
        ),
        ("to/silo/set", "{\"id\":2,\"point\":\"level\",\"wanted\":{\"value\":1}}", "2", "there is no point silo/level"),
        ("to/tank/set", "{\"id\":3,\"point\":\"level\",\"value\":1}", "3", "there is no value at /wanted/value"),
        (
            "to/tank/set",
            "{\"id\":4,\"point\":\"level\",\"wanted\":{\"value\":[1]}}",
            "4",
            "expected a number, true, false or text",
        ),
        ("to/tank/set", "{\"id\":5,\"point\":7,\"wanted\":{\"value\":1}}", "5", "point at /point is 7; expected text"),
        ("to/tank/set", "level = 1", "null", "no JSON"),
    ] {
        send(topic, payload.to_owned(), false).await;
        host.until(&format!("{topic} {payload}")).await;
        refused(&mut run, id, why).await;
    }
    let long = json!({ "id": "x".repeat(300), "point": "level", "wanted": { "value": 1 } }).to_string();
    send("to/tank/set", long.clone(), false).await;
    host.until(&long).await;
    refused(&mut run, "null", "the id at /id is longer than 200 characters").await;
    for (value, outcome, result) in [
        (json!(7), CommandOutcome::Accepted("no read-back".to_owned()), "accepted"),
        (json!(-7.5), CommandOutcome::Refused("out of range".to_owned()), "refused"),
        (json!("7"), CommandOutcome::Unknown("no answer".to_owned()), "unknown"),
    ] {
        let wanted = json!({ "id": { "of": result }, "point": "level", "wanted": { "value": value } });
        send("to/tank/set", wanted.to_string(), false).await;
        let command = run.command().await;
        assert_eq!((command.device.as_str(), command.point.as_str()), ("tank", "level"));
        command.answer(outcome, "said so".to_owned());
        let reply = json!({ "id": { "of": result }, "result": result, "reason": "said so" });
        host.until(&format!("replies {reply}")).await;
    }
    run.end().await;
    rig.broker.stop().await;
}
