//! A host and a broker that send anything to an edge node.
#![no_main]

use interlex_sparkplug::{DataType, DeviceSpec, EdgeNode, MetricQuality, MetricSpec, MetricValue, Snapshot, Snapshots};
use libfuzzer_sys::fuzz_target;

struct Ones;

impl Snapshots for Ones {
    fn snapshot(&self, _: u64) -> Snapshot<'_> {
        Snapshot { value: None, quality: MetricQuality::Stale, reason: None, timestamp: 1, arrived: 1 }
    }
}

fuzz_target!(|data: &[u8]| {
    let metric = |alias, data_type| MetricSpec {
        name: format!("m{alias}"),
        alias,
        data_type,
        is_writable: true,
        properties: vec![("unit", MetricValue::Text("kW".into()))],
    };
    let types = [DataType::Boolean, DataType::Int16, DataType::UInt64, DataType::Float, DataType::String];
    let metrics = (1..).zip(types).map(|(alias, data_type)| metric(alias, data_type)).collect();
    let devices = vec![DeviceSpec { id: "d".to_owned(), metrics }];
    let mut node = EdgeNode::new("g", "n", devices, Some(3)).with_primary_host("h", None);
    node.connect(1);
    node.handle_subscribed();
    let mut rest = data;
    while let [action, length, more @ ..] = rest {
        let (payload, after) = more.split_at(usize::from(*length).min(more.len()));
        rest = after;
        match action % 4 {
            0 => node.handle_message("spBv1.0/g/NCMD/n", payload),
            1 => node.handle_message("spBv1.0/g/DCMD/n/d", payload),
            2 => node.handle_state(u64::from(*action), payload, action % 8 == 2),
            _ => node.handle_message(&String::from_utf8_lossy(payload), payload),
        }
        node.birth(5, &Ones);
        while node.poll_event().is_some() {}
        while node.poll_transmit().is_some() {}
    }
});
