//! The edge node's session against the rules of the specification, watched as a host application would.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_sparkplug::proto::{Metric, metric};
use interlex_sparkplug::{
    DataType, Datum, DeviceSpec, EdgeNode, EdgeNodeEvent, MessageType, MetricProperties, MetricQuality, MetricSpec,
    MetricValue, NotSent, Payload, Snapshot, Snapshots, Standing, Topic, check_payload, decode_payload, encode_payload,
};
use std::borrow::Cow;

mod hosts;
mod laws;

struct Steady;

impl Snapshots for Steady {
    fn snapshot(&self, alias: u64) -> Snapshot<'_> {
        good(MetricValue::Uint(alias))
    }

    fn name(&self, alias: u64) -> Cow<'_, str> {
        let known = [(0, "a"), (1, "b"), (2, "a"), (3, "b"), (10, "speed"), (11, "hours"), (100, "health/uptime")];
        known.iter().find(|(known, _)| *known == alias).map_or("health/cpu", |(_, name)| name).into()
    }

    fn properties(&self, _: u64) -> MetricProperties<'_> {
        vec![("unit", MetricValue::Text("%".into()))]
    }
}

/// The same, under other names or in another unit.
struct Other(&'static str, &'static str);

impl Snapshots for Other {
    fn snapshot(&self, alias: u64) -> Snapshot<'_> {
        Steady.snapshot(alias)
    }

    fn name(&self, alias: u64) -> Cow<'_, str> {
        format!("{}{}", self.0, Steady.name(alias)).into()
    }

    fn properties(&self, _: u64) -> MetricProperties<'_> {
        vec![("unit", MetricValue::Text(self.1.into()))]
    }
}

fn good(value: MetricValue<'_>) -> Snapshot<'_> {
    Snapshot {
        value: Some(value),
        quality: MetricQuality::Good,
        reason: None,
        time_quality: None,
        timestamp: 5,
        arrived: 5,
    }
}

fn node(last_bd_seq: Option<u8>) -> EdgeNode {
    let metric = |alias| MetricSpec { alias, data_type: DataType::UInt16, is_writable: alias % 2 == 1 };
    let device = |id: &str, first| DeviceSpec { id: id.to_owned(), metrics: vec![metric(first), metric(first + 1)] };
    EdgeNode::new("alderfen", "works-1", vec![device("digester-1", 0), device("gas-analyser", 2)], last_bd_seq)
}

fn sent(node: &mut EdgeNode) -> Vec<(Topic, Payload)> {
    std::iter::from_fn(|| node.poll_transmit())
        .map(|out| (out.topic.parse().unwrap(), decode_payload(&out.payload).unwrap()))
        .collect()
}

fn words(sent: &[(Topic, Payload)]) -> Vec<String> {
    sent.iter().map(|(topic, payload)| format!("{} {:?}", topic.message.word(), payload.seq)).collect()
}

fn born(node: &mut EdgeNode) -> Vec<(Topic, Payload)> {
    node.connect(1);
    node.handle_subscribed();
    assert_eq!(node.poll_event(), Some(EdgeNodeEvent::BirthDue));
    node.birth(2, &Steady);
    sent(node)
}

fn spec(id: &str, metrics: &[u64]) -> DeviceSpec {
    let metric = |alias: &u64| MetricSpec { alias: *alias, data_type: DataType::UInt16, is_writable: false };
    DeviceSpec { id: id.to_owned(), metrics: metrics.iter().map(metric).collect() }
}

#[test]
fn devices_come_change_and_go_within_a_session() {
    let mut node = node(None);
    born(&mut node);
    node.device_up(3, 0, &Steady);
    sent(&mut node);
    // Nobody has heard of it yet, so nothing is told until it answers.
    node.set_device(4, 5, Some(spec("pump", &[10])), &Steady);
    assert_eq!(words(&sent(&mut node)), Vec::<String>::new());
    node.device_up(5, 5, &Steady);
    let birth = sent(&mut node);
    assert_eq!((words(&birth), birth[0].0.device.as_deref()), (vec!["DBIRTH Some(2)".to_owned()], Some("pump")));
    // Other metrics: a new birth, without a death, at once.
    node.set_device(6, 5, Some(spec("pump", &[10, 11])), &Steady);
    let birth = sent(&mut node);
    assert_eq!((words(&birth), birth[0].1.metrics.len()), (vec!["DBIRTH Some(3)".to_owned()], 2));
    node.set_device(7, 5, Some(spec("pump", &[10, 11])), &Steady);
    assert_eq!(words(&sent(&mut node)), Vec::<String>::new(), "the same device is no news");
    node.set_device(7, 5, Some(spec("pump", &[10, 11])), &Other("", "bar"));
    assert_eq!(words(&sent(&mut node)), ["DBIRTH Some(4)"], "its unit is");
    node.set_device(7, 5, Some(spec("pump", &[10, 11])), &Other("shaft/", "bar"));
    assert_eq!(words(&sent(&mut node)), ["DBIRTH Some(5)"], "its names are");
    node.set_device(8, 5, None, &Steady);
    assert_eq!(words(&sent(&mut node)), ["DDEATH Some(6)"]);
    let datum = Datum { metric: 0, now: good(MetricValue::Uint(1)), standing: Standing::Current };
    assert_eq!(node.data(9, 5, [datum]), Err(NotSent::DeviceNotBorn));
    node.device_up(10, 5, &Steady);
    assert_eq!(words(&sent(&mut node)), Vec::<String>::new(), "what was taken away stays away");
}

fn rebirth_command(value: metric::Value) -> Vec<u8> {
    let metric = Metric { name: Some("Node Control/Rebirth".to_owned()), value: Some(value), ..Default::default() };
    encode_payload(&Payload { timestamp: Some(1), metrics: vec![metric], ..Default::default() })
}

const NCMD: &str = "spBv1.0/alderfen/NCMD/works-1";

#[test]
fn bd_seq_counts_every_connect_starts_at_zero_and_wraps() {
    let mut node = node(None);
    let first = node.connect(1);
    assert_eq!((first.bd_seq, first.topic.as_str()), (0, "spBv1.0/alderfen/NDEATH/works-1"));
    let will = decode_payload(&first.payload).unwrap();
    assert_eq!((will.seq, will.metrics.len()), (None, 1));
    assert_eq!((will.metrics[0].name.as_deref(), will.metrics[0].datatype), (Some("bdSeq"), Some(4)));
    node.handle_connection_lost();
    assert_eq!(node.connect(1).bd_seq, 1, "a failed attempt counts");
    assert_eq!(self::node(Some(255)).connect(1).bd_seq, 0);
}

#[test]
fn births_come_first_in_order_and_say_everything() {
    let mut node = node(Some(6));
    node.device_up(1, 0, &Steady);
    assert!(sent(&mut node).is_empty(), "nothing before the node is born");
    let births = born(&mut node);
    assert_eq!(words(&births), ["NBIRTH Some(0)", "DBIRTH Some(1)"]);
    let nbirth: Vec<_> = births[0].1.metrics.iter().map(|m| (m.name.as_deref().unwrap(), m.alias)).collect();
    assert_eq!(nbirth, [("bdSeq", None), ("Node Control/Rebirth", None)]);
    assert_eq!(births[0].1.metrics[0].value, Some(metric::Value::LongValue(7)));
    let metric = &births[1].1.metrics[1];
    assert_eq!((metric.name.as_deref(), metric.alias, metric.datatype), (Some("b"), Some(1), Some(6)));
    assert_eq!(metric.properties.as_ref().unwrap().keys, ["Quality", "unit"]);
    node.device_up(3, 1, &Steady);
    assert_eq!(words(&sent(&mut node)), ["DBIRTH Some(2)"]);
}

#[test]
fn an_event_that_comes_late_is_historical_and_its_state_follows_with_the_time_of_arrival() {
    let mut node = node(None);
    born(&mut node);
    node.device_up(3, 0, &Steady);
    sent(&mut node);
    let event = |value, timestamp, arrived| Datum {
        metric: 1,
        now: Snapshot {
            value: Some(MetricValue::Uint(value)),
            quality: MetricQuality::Good,
            reason: None,
            time_quality: None,
            timestamp,
            arrived,
        },
        standing: Standing::Event,
    };
    let mut told = |data: Vec<Datum<'static>>| {
        node.data(100_000, 0, data).unwrap();
        let metrics = sent(&mut node).remove(0).1.metrics;
        let words = |metric: &Metric| {
            let value = match metric.value {
                Some(metric::Value::IntValue(value)) => u64::from(value),
                Some(metric::Value::LongValue(value)) => value,
                _ => panic!("{metric:?}"),
            };
            (value, metric.timestamp.unwrap(), metric.is_historical == Some(true))
        };
        metrics.iter().map(words).collect::<Vec<_>>()
    };
    assert_eq!(told(vec![event(1, 50_000, 60_000)]), [(1, 50_000, false)], "later than the birth");
    let late = vec![event(2, 40_000, 61_000), event(3, 40_001, 61_000), event(4, 50_000, 61_000)];
    assert_eq!(told(late), [(2, 40_000, true), (3, 40_001, true), (4, 50_000, false)], "one millisecond, two changes");
    let late = vec![event(2, 40_000, 61_000), event(3, 40_001, 61_000)];
    let expected = [(2, 40_000, true), (3, 40_001, true), (3, 61_000, false)];
    assert_eq!(told(late), expected, "each at its own time, and the newest state once more");
    assert_eq!(told(vec![event(5, 60_000, 62_000), event(6, 62_500, 62_000)]), [(5, 60_000, true), (6, 62_500, false)]);
    // The device's clock was an hour ahead, and is set back: nothing freezes.
    assert_eq!(told(vec![event(7, 4_000_000, 63_000)]), [(7, 4_000_000, false)]);
    assert_eq!(told(vec![event(8, 64_000, 64_001)]), [(8, 64_000, true), (8, 64_001, false)]);
    assert_eq!(told(vec![event(9, 65_000, 65_001)]), [(9, 65_000, false)]);
    // One that vouches for its times is not believed when it is ahead: history, and nothing follows it that is.
    let vouched = |value, timestamp, arrived| {
        let Datum { metric, now, standing } = event(value, timestamp, arrived);
        Datum { metric, now: Snapshot { time_quality: Some("synchronized"), ..now }, standing }
    };
    assert_eq!(told(vec![vouched(10, 68_000, 66_000)]), [(10, 68_000, false)], "within two seconds");
    assert_eq!(told(vec![vouched(11, 70_002, 68_001)]), [(11, 70_002, true), (11, 68_001, false)]);
    assert_eq!(told(vec![vouched(12, 68_500, 68_500)]), [(12, 68_500, false)]);
}

#[test]
fn data_waits_for_the_births_and_carries_alias_and_news_only() {
    let mut node = node(None);
    let arrived = |quality, timestamp, arrived| Datum {
        metric: 1,
        now: Snapshot {
            value: Some(MetricValue::Uint(9)),
            quality,
            reason: None,
            time_quality: None,
            timestamp,
            arrived,
        },
        standing: Standing::Current,
    };
    let datum = |quality, timestamp| arrived(quality, timestamp, timestamp);
    assert_eq!(node.data(1, 0, [datum(MetricQuality::Good, 4)]), Err(NotSent::NodeNotBorn));
    born(&mut node);
    assert_eq!(node.data(1, 0, [datum(MetricQuality::Good, 4)]), Err(NotSent::DeviceNotBorn));
    node.device_up(3, 0, &Steady);
    let qualities = [MetricQuality::Good, MetricQuality::Bad, MetricQuality::Good, MetricQuality::Good];
    for (quality, timestamp) in qualities.into_iter().zip(14..) {
        node.data(8, 0, [datum(quality, timestamp)]).unwrap();
    }
    // What is to be known of a good value is news as long as it holds, and once more when it does not.
    for (reason, timestamp) in [Some("good: set by hand".to_owned()), None, None].into_iter().zip(18..) {
        let now = Snapshot { reason, ..datum(MetricQuality::Good, timestamp).now };
        node.data(8, 0, [Datum { now, ..datum(MetricQuality::Good, timestamp) }]).unwrap();
    }
    // Overtaken by the birth; of a device whose clock is behind; and from clocks that were set back by an hour.
    node.data(8, 0, [datum(MetricQuality::Good, 4), arrived(MetricQuality::Good, 3, 20)]).unwrap();
    node.data(8, 0, [datum(MetricQuality::Good, 10_000_000)]).unwrap();
    node.data(8, 0, [datum(MetricQuality::Good, 6_400_000)]).unwrap();
    let data = sent(&mut node);
    let told: Vec<_> = data[1..].iter().map(|(_, payload)| payload.metrics[0].properties.is_some()).collect();
    assert_eq!(told[..7], [false, true, true, false, true, true, false]);
    let historical =
        data[1..].iter().flat_map(|(_, payload)| payload.metrics.iter().map(|m| m.is_historical.is_some()));
    assert_eq!(
        historical.collect::<Vec<_>>(),
        [false, false, false, false, false, false, false, true, false, false, false]
    );
    let metric = &data[1].1.metrics[0];
    assert_eq!((metric.name.as_deref(), metric.alias, metric.datatype), (None, Some(1), None));
    assert_eq!((data[1].1.timestamp, metric.timestamp), (Some(8), Some(14)), "sending time and the sample's own");
}

#[test]
fn a_lost_device_dies_and_sends_nothing_until_it_is_born_again() {
    let mut node = node(None);
    node.device_up(1, 0, &Steady);
    born(&mut node);
    node.device_down(2, 1);
    assert!(sent(&mut node).is_empty(), "no death without a birth");
    node.device_down(2, 0);
    assert_eq!(node.data(3, 0, []), Err(NotSent::DeviceNotBorn));
    node.device_up(4, 0, &Steady);
    let messages = sent(&mut node);
    assert_eq!(words(&messages), ["DDEATH Some(2)", "DBIRTH Some(3)"]);
    assert!(messages[0].1.metrics.is_empty());
}

#[test]
fn rebirth_stops_data_then_gives_all_births_with_the_same_bd_seq() {
    let mut node = node(Some(3));
    node.device_up(1, 0, &Steady);
    born(&mut node);
    node.handle_message(NCMD, &rebirth_command(metric::Value::BooleanValue(true)), &Steady);
    assert_eq!(node.poll_event(), Some(EdgeNodeEvent::BirthDue));
    assert_eq!(node.data(5, 0, []), Err(NotSent::NodeNotBorn));
    node.birth(6, &Steady);
    let births = sent(&mut node);
    assert_eq!(words(&births), ["NBIRTH Some(0)", "DBIRTH Some(1)"]);
    assert_eq!(births[0].1.metrics[0].value, Some(metric::Value::LongValue(4)));
}

#[test]
fn odd_commands_are_refused_without_harm() {
    let mut node = node(None);
    born(&mut node);
    let unknown = Metric { alias: Some(77), value: Some(metric::Value::IntValue(1)), ..Default::default() };
    let unknown = encode_payload(&Payload { metrics: vec![unknown], ..Default::default() });
    for (topic, payload) in [
        (NCMD, rebirth_command(metric::Value::BooleanValue(false))),
        (NCMD, rebirth_command(metric::Value::StringValue("true".to_owned()))),
        (NCMD, unknown),
        (NCMD, b"{\"Rebirth\": true}".to_vec()),
        ("spBv1.0/alderfen/NCMD/other", rebirth_command(metric::Value::BooleanValue(true))),
        ("nonsense", Vec::new()),
    ] {
        node.handle_message(topic, &payload, &Steady);
        assert!(matches!(node.poll_event(), Some(EdgeNodeEvent::CommandRefused { .. })), "{topic}");
        assert!(node.is_born());
    }
    node.handle_message(NCMD, &rebirth_command(metric::Value::BooleanValue(true)), &Steady);
    assert_eq!(node.poll_event(), Some(EdgeNodeEvent::BirthDue), "a good one works after all those");
}

const STATE: &str = "spBv1.0/STATE/control-room";

#[test]
fn a_wanted_disconnect_publishes_the_death_and_nothing_after_it() {
    let mut node = node(None);
    node.device_up(1, 0, &Steady);
    born(&mut node);
    node.disconnect(9);
    node.device_down(9, 0);
    assert_eq!(node.data(9, 0, []), Err(NotSent::NodeNotBorn));
    let messages = sent(&mut node);
    assert_eq!(words(&messages), ["NDEATH None"]);
}
