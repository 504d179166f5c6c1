//! Hosts that command, that ask for births, and that the node waits for.

use crate::rig::{Host, Rig, Run, UP};
use interlex_core::{CommandOutcome, CommandValue, SampleKind, UplinkState, Value};
use interlex_sparkplug::proto::{Metric, Payload, metric};
use interlex_sparkplug::{DataType, encode_payload};
use interlex_uplink::FromBroker;
use rumqttc::QoS;

const DCMD: &str = "spBv1.0/alderfen/DCMD/works-1/tank";
const NCMD: &str = "spBv1.0/alderfen/NCMD/works-1";
const STATE: &str = "spBv1.0/STATE/plant-host";

async fn send(host: &Host, topic: &str, metrics: Vec<Metric>, is_retained: bool) {
    let payload = Payload { timestamp: Some(1), metrics, ..Payload::default() };
    host.client.publish(topic, QoS::AtLeastOnce, is_retained, encode_payload(&payload)).await.unwrap();
}

fn named(name: &str, value: metric::Value) -> Metric {
    Metric { name: Some(name.to_owned()), value: Some(value), ..Metric::default() }
}

async fn refusal(run: &mut Run) -> String {
    match run.next().await {
        FromBroker::Command(command) => panic!("{command:?}"),
        FromBroker::Refused { why, .. } => why,
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn commands_reach_the_field_as_they_were_meant_and_what_became_of_them_goes_back() {
    let rows = "speed,holding:0,int16,rw\nlevel,holding:1,uint16";
    let mut rig = Rig::with(rows, None, "commands = true\n").await;
    let host = Host::start(rig.broker.address()).await;
    let mut run = rig.run().await;
    run.until("it is online", |status| status.state == UplinkState::Online).await;
    run.tell([rig.sample("speed", Some(Value::Int(3)), 10, SampleKind::Current)]).await;
    run.events.send(UP).await.unwrap();
    host.until("DBIRTH tank speed:Int16=Int(3) @10 level:UInt16=null command/result:String=Text(\"\") @1000").await;
    // By name; and by alias with another type, which is read as what it says and checked in the field.
    send(&host, DCMD, vec![named("speed", metric::Value::IntValue(7))], false).await;
    let wanted = run.command().await;
    assert_eq!(
        (wanted.device.as_str(), wanted.point.as_str(), &wanted.value),
        ("tank", "speed", &Value::Int(7).into())
    );
    let alias = u64::from(rig.points.find("tank", "speed").unwrap().index.0);
    let wide = Metric {
        alias: Some(alias),
        datatype: Some(DataType::Int32.code()),
        value: Some(metric::Value::IntValue(40_000)),
        ..Metric::default()
    };
    send(&host, DCMD, vec![wide], false).await;
    assert_eq!(run.command().await.value, Value::Int(40_000).into(), "it does not become negative on the way");
    // A null gives back what was commanded.
    let nothing = Metric { alias: Some(alias), is_null: Some(true), ..Metric::default() };
    send(&host, DCMD, vec![nothing], false).await;
    assert_eq!(run.command().await.value, CommandValue::Relinquish);
    wanted.answer(CommandOutcome::Accepted("no read-back".to_owned()), "tank/speed = 7: accepted".to_owned());
    host.until("DDATA tank command/result=Text(\"tank/speed = 7: accepted\") @1000").await;
    // What cannot be is refused before the field hears of it, in words for the host and for the audit trail.
    for (metric, why) in [
        (named("speed", metric::Value::IntValue(40_000)), "out of the range of Int16"),
        (named("speed", metric::Value::StringValue("7".to_owned())), "does not stand in the field of Int16"),
        (named("level", metric::Value::IntValue(7)), "metric \"level\" takes no commands"),
        (named("depth", metric::Value::IntValue(7)), "device \"tank\" has no metric \"depth\""),
    ] {
        send(&host, DCMD, vec![metric], false).await;
        let told = refusal(&mut run).await;
        assert!(told.starts_with("refused: ") && told.contains(why), "{told}");
    }
    send(&host, "spBv1.0/alderfen/DCMD/works-1/silo", vec![named("speed", metric::Value::IntValue(1))], false).await;
    assert!(refusal(&mut run).await.contains("there is no device \"silo\""));
    host.client.publish(DCMD, QoS::AtLeastOnce, false, vec![0xFF; 40]).await.unwrap();
    assert!(refusal(&mut run).await.starts_with("refused: "), "what is no payload at all");
    // One that the broker keeps would be carried out at every connection.
    send(&host, DCMD, vec![named("speed", metric::Value::IntValue(9))], true).await;
    assert_eq!(run.command().await.value, Value::Int(9).into(), "as it comes, it is not a kept one");
    let before = host.node.lock().unwrap().len();
    rig.broker.kill().await;
    run.until("it is offline", |status| status.state == UplinkState::Offline).await;
    rig.broker.restart().await.unwrap();
    run.until("it is online again", |status| status.state == UplinkState::Online).await;
    assert!(host.node.lock().unwrap().len() >= before);
    run.end().await;
    rig.broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn births_that_are_asked_for_without_end_are_given_at_most_once_a_second() {
    let mut rig = Rig::new("level,holding:0,uint16", None).await;
    let host = Host::start(rig.broker.address()).await;
    let mut run = rig.run().await;
    run.until("it is online", |status| status.state == UplinkState::Online).await;
    run.tell([rig.sample("level", Some(Value::Uint(1)), 10, SampleKind::Current)]).await;
    run.events.send(UP).await.unwrap();
    let birth = "DBIRTH tank level:UInt16=Uint(1) @10";
    host.until(birth).await;
    let began = tokio::time::Instant::now();
    for _ in 0..200 {
        send(&host, NCMD, vec![named("Node Control/Rebirth", metric::Value::BooleanValue(true))], false).await;
    }
    host.until(birth).await;
    send(&host, NCMD, vec![named("Node Control/Rebirth", metric::Value::BooleanValue(false))], false).await;
    assert!(refusal(&mut run).await.contains("Rebirth takes the Boolean true"));
    send(&host, NCMD, vec![named("Node Control/Reboot", metric::Value::BooleanValue(true))], false).await;
    assert!(refusal(&mut run).await.contains("\"Node Control/Reboot\" is no command of this node"));
    run.tell([rig.sample("level", Some(Value::Uint(2)), 20, SampleKind::Current)]).await;
    host.until("DDATA tank level=Uint(2) @20").await;
    let births = host.node.lock().unwrap().iter().filter(|kind| *kind == "NBIRTH").count();
    let most = 2 + usize::try_from(began.elapsed().as_secs()).unwrap();
    assert!((2..=most).contains(&births), "{births} births in {:?}", began.elapsed());
    run.end().await;
    rig.broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn without_its_primary_host_a_node_says_nothing_and_loses_nothing() {
    let mut rig = Rig::with("level,holding:0,uint16", None, "primary-host = \"plant-host\"\n").await;
    let host = Host::start(rig.broker.address()).await;
    let run = rig.run().await;
    let state = async |is_online: bool, at: u64| {
        let told = format!("{{\"online\":{is_online},\"timestamp\":{at}}}");
        host.client.publish(STATE, QoS::AtLeastOnce, true, told).await.unwrap();
    };
    run.until("it waits for the host", |status| status.state == UplinkState::Waiting).await;
    run.events.send(UP).await.unwrap();
    let value = |value: u64| {
        let millis = i64::try_from(value).unwrap() * 10;
        rig.sample("level", Some(Value::Uint(value)), millis, SampleKind::Event)
    };
    run.tell([value(1), value(2)]).await;
    run.until("they wait", |status| status.buffer.waiting == 2).await;
    assert!(host.node.lock().unwrap().is_empty(), "not even a birth");
    state(true, 1).await;
    host.until("DDATA tank level=Uint(1) @10 historical level=Uint(2) @20 historical").await;
    run.until("it is online", |status| status.state == UplinkState::Online).await;
    run.tell([value(3)]).await;
    host.until("DDATA tank level=Uint(3) @30").await;
    // What is older than what is known of the host proves nothing.
    state(false, 0).await;
    run.tell([value(4)]).await;
    host.until("DDATA tank level=Uint(4) @40").await;
    state(false, 2).await;
    run.until("it waits again", |status| status.state == UplinkState::Waiting).await;
    run.tell([value(5)]).await;
    run.until("it is kept", |status| status.buffer.waiting > 0).await;
    assert_eq!(host.node.lock().unwrap().last().map(String::as_str), Some("NDEATH"));
    state(true, 3).await;
    // What it may have missed since it was there for certain comes once more, in its order.
    let told = host.until(" level=Uint(5) @50 historical").await;
    assert!(told.last().unwrap().starts_with("DDATA tank level=Uint("), "{told:?}");
    assert!(told.iter().any(|line| line.starts_with("DBIRTH tank level:UInt16=Uint(5) @50")), "{told:?}");
    run.until("nothing waits", |status| status.buffer.waiting == 0 && status.buffer.lost == 0).await;
    run.end().await;
    rig.broker.stop().await;
}
