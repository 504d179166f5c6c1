//! Primary hosts, and commands of hosts.

use super::*;

fn state(node: &mut EdgeNode, online: bool, timestamp: u64, is_retained: bool) -> Vec<EdgeNodeEvent> {
    node.handle_state(9, format!("{{\"online\": {online}, \"timestamp\": {timestamp}}}").as_bytes(), is_retained);
    std::iter::from_fn(|| node.poll_event()).collect()
}

/// Connects a node that has a primary host; gives what its session begins with.
fn session(node: &mut EdgeNode, online: bool, timestamp: u64) -> Vec<EdgeNodeEvent> {
    node.connect(1);
    node.handle_subscribed();
    state(node, online, timestamp, true)
}

#[test]
fn a_primary_host_is_waited_for_and_its_end_is_the_end_of_the_session() {
    let mut node = node(None).with_primary_host("control-room", None);
    assert_eq!(node.subscriptions().last().unwrap(), STATE);
    node.connect(1);
    node.handle_subscribed();
    assert_eq!((node.poll_event(), node.is_awaiting_host()), (None, true));
    assert_eq!(state(&mut node, false, 100, true), [EdgeNodeEvent::HostOffline], "so that another broker may be tried");
    assert!(node.is_awaiting_host() && sent(&mut node).is_empty());
    assert_eq!(state(&mut node, true, 99, false), [], "older than what is known");
    assert_eq!(state(&mut node, true, 100, false), [EdgeNodeEvent::BirthDue]);
    node.birth(2, &Steady);
    assert_eq!(words(&sent(&mut node)), ["NBIRTH Some(0)"]);
    assert_eq!(state(&mut node, false, 99, false), [], "an outdated word changes nothing");
    assert!(node.is_born());
    assert_eq!(state(&mut node, false, 100, false), [EdgeNodeEvent::HostOffline], "its will has the time of its birth");
    assert_eq!((words(&sent(&mut node)), node.is_born()), (vec!["NDEATH None".to_owned()], false));
    assert_eq!(session(&mut node, true, 200), [EdgeNodeEvent::HostRenewed, EdgeNodeEvent::BirthDue]);
    assert!(!node.is_host_doubtful(), "it went and came back in order");
    node.handle_state(9, b"ONLINE", false);
    assert!(matches!(node.poll_event(), Some(EdgeNodeEvent::CommandRefused { .. })), "no JSON");
}

#[test]
fn a_state_from_before_a_broken_connection_proves_nothing() {
    let mut node = node(None).with_primary_host("control-room", None);
    assert_eq!(session(&mut node, true, 100), [EdgeNodeEvent::BirthDue]);
    node.birth(2, &Steady);
    assert_eq!((node.is_host_doubtful(), node.host_known()), (false, Some(100)));
    for repeat in 0..2 {
        node.handle_connection_lost();
        assert_eq!(session(&mut node, true, 100), [EdgeNodeEvent::BirthDue]);
        node.birth(3, &Steady);
        assert!(node.is_host_doubtful(), "the broker has kept it; after {repeat} more breaks");
    }
    assert_eq!(state(&mut node, true, 101, false), [EdgeNodeEvent::HostConfirmed, EdgeNodeEvent::BirthDue]);
    node.birth(4, &Steady);
    assert!(!node.is_host_doubtful());
    node.handle_connection_lost();
    let renewed = [EdgeNodeEvent::HostRenewed, EdgeNodeEvent::BirthDue];
    assert_eq!(session(&mut node, true, 102), renewed, "newer: it was there after the break");
    node.birth(5, &Steady);
    assert_eq!(state(&mut node, true, 103, false), [EdgeNodeEvent::HostAlive], "it says so anew, and was never gone");
    assert_eq!(state(&mut node, true, 102, false), [], "outdated");
    assert!(!node.is_host_doubtful());
    node.handle_connection_lost();
    session(&mut node, true, 103);
    node.birth(6, &Steady);
    node.handle_message(NCMD, &rebirth_command(metric::Value::BooleanValue(true)), &Steady);
    assert_eq!(node.poll_event(), Some(EdgeNodeEvent::HostConfirmed), "somebody asked");
    assert_eq!((node.poll_event(), node.is_host_doubtful()), (Some(EdgeNodeEvent::BirthDue), false));
    node.handle_connection_lost();
    session(&mut node, true, 103);
    node.birth(7, &Steady);
    node.trust_host();
    assert!(!node.is_host_doubtful(), "waited for long enough");
    let mut after_a_kill = self::node(None).with_primary_host("control-room", Some(102));
    session(&mut after_a_kill, true, 102);
    after_a_kill.birth(8, &Steady);
    assert!(after_a_kill.is_host_doubtful(), "an earlier run ended without a word");
}

#[test]
fn the_node_has_metrics_of_its_own() {
    let mut node = node(None);
    let metrics = || spec("", &[100]).metrics;
    let datum = || Datum { metric: 0, now: good(MetricValue::Uint(7)), standing: Standing::Current };
    node.set_metrics(metrics(), &Steady);
    assert_eq!(node.node_data(1, [datum()]), Err(NotSent::NodeNotBorn));
    let names: Vec<_> = born(&mut node)[0].1.metrics.iter().map(|metric| metric.name.clone().unwrap()).collect();
    assert_eq!(names, ["bdSeq", "Node Control/Rebirth", "health/uptime"]);
    node.node_data(3, [datum()]).unwrap();
    let data = sent(&mut node);
    assert_eq!((words(&data), data[0].1.metrics[0].alias), (vec!["NDATA Some(1)".to_owned()], Some(100)));
    node.set_metrics(metrics(), &Steady);
    assert_eq!(node.poll_event(), None);
    node.set_metrics(metrics(), &Other("link/", "%"));
    assert_eq!(node.poll_event(), Some(EdgeNodeEvent::BirthDue), "another name is announced first");
    node.birth(9, &Other("link/", "%"));
    node.set_metrics(spec("", &[100, 101]).metrics, &Other("link/", "%"));
    assert_eq!(node.poll_event(), Some(EdgeNodeEvent::BirthDue), "a new metric is announced first");
}

fn device_command(metric: Metric) -> Vec<u8> {
    encode_payload(&Payload { timestamp: Some(1), metrics: vec![metric], ..Default::default() })
}

#[test]
fn devices_take_commands_by_name_or_alias_for_what_is_writable() {
    let mut node = node(None);
    assert_eq!(node.subscriptions(), [NCMD, "spBv1.0/alderfen/DCMD/works-1/+"]);
    born(&mut node);
    let int = Some(metric::Value::IntValue(7));
    let named = |name: &str| Metric { name: Some(name.to_owned()), value: int.clone(), ..Default::default() };
    let aliased = |alias| Metric { alias: Some(alias), value: int.clone(), ..Default::default() };
    let mut tell = |device: &str, metric| {
        node.handle_message(&format!("spBv1.0/alderfen/DCMD/works-1/{device}"), &device_command(metric), &Steady);
        let event = node.poll_event().unwrap();
        assert_eq!(node.poll_event(), None);
        event
    };
    let value = MetricValue::Uint(7);
    let wanted = EdgeNodeEvent::Command { device: 1, metric: 1, value: Some(value) };
    assert_eq!(tell("gas-analyser", named("b")), wanted);
    assert_eq!(tell("gas-analyser", aliased(3)), wanted);
    // The named datatype decides; without one, what is beyond the announced one is never taken for a negative number.
    let typed = |code: u32, bits: u32| Metric {
        datatype: Some(code),
        value: Some(metric::Value::IntValue(bits)),
        ..named("b")
    };
    for (metric, value) in [
        (typed(3, 40_000), MetricValue::Int(40_000)),
        (typed(6, 50_000), MetricValue::Uint(50_000)),
        (typed(7, u32::MAX), MetricValue::Uint(u32::MAX.into())),
        (typed(3, u32::MAX), MetricValue::Int(-1)),
        (typed(2, 0xFFFE), MetricValue::Int(-2)),
    ] {
        assert_eq!(tell("gas-analyser", metric), EdgeNodeEvent::Command { device: 1, metric: 1, value: Some(value) });
    }
    // Null gives back what was commanded before.
    let null = Metric { value: None, is_null: Some(true), ..named("b") };
    let given_back = EdgeNodeEvent::Command { device: 1, metric: 1, value: None };
    assert_eq!(tell("gas-analyser", null), given_back);
    let of_other_type = metric::Value::StringValue("7".to_owned());
    for (device, metric, why) in [
        ("gas-analyser", named("a"), "metric \"a\" takes no commands"),
        ("gas-analyser", named("c"), "device \"gas-analyser\" has no metric \"c\""),
        ("gas-analyser", aliased(1), "device \"gas-analyser\" has no metric alias 1"),
        ("flare", named("b"), "there is no device \"flare\""),
        ("gas-analyser", Metric { value: None, ..named("b") }, "metric \"b\": neither a value nor is_null"),
        ("gas-analyser", Metric { value: Some(of_other_type), ..named("b") }, "metric \"b\": "),
    ] {
        let event = tell(device, metric);
        assert!(
            matches!(&event, EdgeNodeEvent::CommandRefused { why: told, .. } if told.contains(why)),
            "{why}: {event:?}"
        );
    }
}
