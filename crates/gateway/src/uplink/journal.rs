//! What survives the process: samples that the broker has not proved to have read.

use super::sparkplug::{GOODBYE, SparkplugTask};
use interlex_core::{DataType, Quality, Reason, Sample, Timestamp, Value};
use interlex_store::JournalSample;
use tokio::time::timeout;

impl SparkplugTask {
    /// Puts what the broker has not proved to have read into the database.
    pub(super) async fn keep_journal(&mut self) {
        let left = self.buffer.drain();
        let Some(store) = self.store.as_ref().filter(|_| !left.is_empty()) else { return };
        let named = left.iter().filter_map(|(_, sample)| {
            let info = self.points.get(sample.point)?;
            Some(JournalSample {
                device: info.device.to_string(),
                point: info.name().to_owned(),
                value: serde_json::to_value(&sample.value).unwrap_or_default(),
                quality: sample.quality.to_string(),
                at: sample.source_time.as_millis(),
            })
        });
        let samples: Vec<_> = named.collect();
        let keeping = store.add_to_journal(&self.gateway, self.settings.name.as_str(), &samples);
        match timeout(GOODBYE, keeping).await {
            Ok(Ok(())) => tracing::info!(uplink = self.settings.name.as_str(), samples = samples.len(), "journal kept"),
            Ok(Err(error)) => {
                tracing::error!(uplink = self.settings.name.as_str(), %error, samples = samples.len(), "journal lost");
            }
            Err(_) => tracing::error!(uplink = self.settings.name.as_str(), samples = samples.len(), "journal lost"),
        }
    }

    /// Takes the journal of an earlier run in; samples of points that are gone are counted out in the log.
    pub(super) fn restore(&mut self, journal: Vec<JournalSample>) {
        let total = journal.len();
        let mut restored = 0;
        for kept in journal {
            let Some(info) = self.points.find(&kept.device, &kept.point) else { continue };
            let at = Timestamp::from_millis(kept.at);
            let value = value_of(&kept.value, info.value_type);
            let quality = if kept.quality == "good" { Quality::Good } else { Quality::Bad(Reason::Stale) };
            let sample = Sample { point: info.index, value, quality, source_time: at, gateway_time: at };
            self.buffer.push_history(info.device_slot, sample);
            restored += 1;
        }
        if total > 0 {
            tracing::info!(uplink = self.settings.name.as_str(), restored, unknown = total - restored, "journal read");
            self.show_buffer();
        }
    }
}

/// A value of the journal in the type that its point has now.
fn value_of(value: &serde_json::Value, data_type: DataType) -> Option<Value> {
    match value {
        serde_json::Value::Bool(bit) => Some(Value::Bool(*bit)),
        serde_json::Value::String(text) => Some(Value::Text(text.as_str().into())),
        serde_json::Value::Number(number) => match data_type {
            DataType::Int16 | DataType::Int32 | DataType::Int64 => number.as_i64().map(Value::Int),
            DataType::Uint16 | DataType::Uint32 | DataType::Uint64 | DataType::Bcd16 | DataType::Bcd32 => {
                number.as_u64().map(Value::Uint)
            }
            #[expect(clippy::cast_possible_truncation, reason = "it was written from single precision")]
            DataType::Float32 => number.as_f64().map(|float| Value::Float32(float as f32)),
            _ => number.as_f64().map(Value::Float64),
        },
        _ => None,
    }
}
