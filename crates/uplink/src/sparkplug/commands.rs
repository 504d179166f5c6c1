use super::metric::told;
use super::node::SparkplugNode;
use crate::command::{Asker, BrokerCommand};
use crate::session::Base;
use interlex_core::{CommandValue, DataType, Sample, Value, iso_time};
use interlex_sparkplug::{Datum, MetricValue, Standing};
use std::sync::Arc;
use tokio::time::Instant;

impl SparkplugNode {
    /// Hands a command on to the field; what is checked there is told there.
    pub(super) fn command(
        &self,
        base: &Base<Sample>,
        device: usize,
        metric: usize,
        value: Option<MetricValue<'static>>,
    ) {
        let point = self.announced.point(device, metric);
        let Some(info) = point.and_then(|point| base.backlog.context.get(point)) else { return };
        let value = value.map_or(CommandValue::Relinquish, |value| wanted(value, info.data_type()).into());
        let (uplink, answer) = (base.name().to_owned(), Some((Asker::Device(device), base.results.0.clone())));
        let (device, point) = (info.device().to_string(), info.name().to_owned());
        base.commands.send(BrokerCommand { uplink, device, point, value, at: Instant::now(), answer });
    }

    /// Tells hosts what became of a command, in the device's metric for it.
    pub(super) fn tell_result(&mut self, base: &Base<Sample>, slot: usize, words: &str) {
        let words: Arc<str> = words.into();
        self.sources.results.insert(slot, Arc::clone(&words));
        let Some(metric) = self.announced.result_place(slot) else { return };
        let now = base.now();
        let datum =
            Datum { metric, now: told(MetricValue::Text(words.to_string().into()), now), standing: Standing::Current };
        if let Err(error) = self.node.data(now.as_unsigned_millis(), slot, [datum]) {
            tracing::debug!(uplink = base.name(), %error, "the next birth tells what became of a command");
        }
    }
}

/// An engineering value as a host tells it.
fn wanted(value: MetricValue<'_>, data_type: DataType) -> Value {
    match value {
        MetricValue::Bool(bit) => Value::Bool(bit),
        MetricValue::Int(int) => Value::Int(int),
        MetricValue::Uint(moment) if data_type == DataType::DateTime => {
            Value::Text(iso_time(i64::try_from(moment).unwrap_or(i64::MAX)).into())
        }
        MetricValue::Uint(uint) => Value::Uint(uint),
        MetricValue::Float(float) => Value::Float32(float),
        MetricValue::Double(float) => Value::Float64(float),
        MetricValue::Text(text) => Value::Text(text.into()),
    }
}
