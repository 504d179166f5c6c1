use crate::report::{best, header, now, rate, row};
use interlex_sparkplug::{
    DataType, Datum, DeviceSpec, EdgeNode, MetricProperties, MetricQuality, MetricSpec, MetricValue, Snapshot,
    Snapshots, Standing,
};
use std::borrow::Cow;
use std::hint::black_box;

const METRICS: usize = 500;
const MESSAGES: u32 = 4000;
const TIME: u64 = 1_700_000_000_000;

struct Nothing;

impl Snapshots for Nothing {
    fn snapshot(&self, _: u64) -> Snapshot<'_> {
        good(0)
    }

    fn name(&self, alias: u64) -> Cow<'_, str> {
        format!("point-{alias}").into()
    }

    fn properties(&self, _: u64) -> MetricProperties<'_> {
        Vec::new()
    }
}

fn good(number: usize) -> Snapshot<'static> {
    #[expect(clippy::cast_precision_loss, reason = "small numbers")]
    let value = Some(MetricValue::Double(number as f64 * 0.37));
    Snapshot { value, quality: MetricQuality::Good, reason: None, time_quality: None, timestamp: TIME, arrived: TIME }
}

fn node() -> EdgeNode {
    let metric = |alias: u64| MetricSpec { alias, data_type: DataType::Double, is_writable: false };
    let metrics = (0..500).map(metric).collect();
    let mut node = EdgeNode::new("alderfen", "works-1", vec![DeviceSpec { id: "meter".to_owned(), metrics }], None);
    node.connect(TIME);
    node.handle_subscribed();
    node.device_up(TIME, 0, &Nothing);
    node.birth(TIME, &Nothing);
    while node.poll_transmit().is_some() {}
    node
}

fn varint(mut value: u64, out: &mut Vec<u8>) {
    while value >= 0x80 {
        out.push(u8::try_from(value & 0x7F).unwrap_or_default() | 0x80);
        value >>= 7;
    }
    out.push(u8::try_from(value).unwrap_or_default());
}

/// The smallest form that carries alias, time and value: written straight into one buffer.
fn smallest(out: &mut Vec<u8>) {
    out.clear();
    for number in 0..METRICS {
        let alias = u64::try_from(number).unwrap_or_default();
        let length = 2 + if alias >= 0x80 { 1 } else { 0 } + 7 + 9;
        out.push(0x12);
        varint(length, out);
        out.push(0x10);
        varint(alias, out);
        out.push(0x18);
        varint(TIME, out);
        out.push(0x69);
        #[expect(clippy::cast_precision_loss, reason = "small numbers")]
        out.extend_from_slice(&(number as f64 * 0.37).to_le_bytes());
    }
}

pub(crate) fn run() -> anyhow::Result<()> {
    let mut node = node();
    let mut bytes = 0;
    let ours = || {
        let start = now();
        for _ in 0..MESSAGES {
            let data = (0..METRICS).map(|metric| Datum { metric, now: good(metric), standing: Standing::Current });
            if node.data(TIME, 0, data).is_err() {
                return 0.0;
            }
            bytes = node.poll_transmit().map_or(0, |message| black_box(message).payload.len());
        }
        rate(MESSAGES * 500, start.elapsed())
    };
    let mut buffer = Vec::new();
    let mut least = 0;
    let raw = || {
        let start = now();
        for _ in 0..MESSAGES {
            smallest(&mut buffer);
            least = black_box(&buffer).len();
        }
        rate(MESSAGES * 500, start.elapsed())
    };
    let (ours, raw) = best(ours, raw);
    header("sparkplug-encode: 500 doubles a message, by alias, good quality");
    row("metrics/s", &format!("{ours:.0}"), &format!("{raw:.0}"), Some(ours / raw));
    #[expect(clippy::cast_precision_loss, reason = "small numbers")]
    let per_metric = |bytes: usize| bytes as f64 / METRICS as f64;
    let (own, least) = (per_metric(bytes), per_metric(least));
    row("bytes per metric", &format!("{own:.2}"), &format!("{least:.2}"), Some(least / own));
    Ok(())
}
