use super::metric::snapshot_of;
use super::node::SparkplugNode;
use crate::mqtt::{Connection, MqttEvent};
use crate::request::Published;
use crate::session::{Base, GOODBYE};
use interlex_core::{Sample, SampleKind};
use interlex_sparkplug::{Datum, Snapshot, Standing};
use tokio::time::{Instant, timeout};

/// The most metrics in one data message: a few tens of kilobytes, so that live values never wait long behind one.
const METRICS_PER_MESSAGE: usize = 500;

impl SparkplugNode {
    /// Hands over what the node has to say, then live samples, as long as the connection takes them.
    pub(super) fn send_live(&mut self, base: &mut Base<Sample>, connection: &Connection) {
        loop {
            self.collect();
            if !self.flush(base, connection) || !self.node.is_born() {
                return;
            }
            let Some((device, samples)) = base.backlog.queue.take_live(METRICS_PER_MESSAGE) else { return };
            self.data(base, device, &samples, false);
        }
    }

    /// Sends what has waited, as much at a time as its share of the connection allows, and asks for the proof at once.
    pub(super) fn send_history(&mut self, base: &mut Base<Sample>, connection: &Connection) {
        if !base.pace.is_free(Instant::now())
            || !self.node.is_born()
            || self.node.is_host_doubtful()
            || !base.backlog.has_history()
        {
            return;
        }
        let (mut left, before) = (base.pace.batch(), base.pace.batch());
        while left > 0 && self.flush(base, connection) {
            let node = &self.node;
            let most = left.min(METRICS_PER_MESSAGE);
            let Some((device, samples)) = base.backlog.take_history(most, |device| node.is_device_born(device)) else {
                break;
            };
            left = left.saturating_sub(samples.len());
            self.data(base, device, &samples, true);
            self.collect();
        }
        if left < before {
            base.pace.sent(left == 0, Instant::now());
            self.flush(base, connection);
            self.ask(base, connection);
        }
    }

    /// Makes one data message of samples in time order.
    fn data(&mut self, base: &mut Base<Sample>, device: usize, samples: &[Sample], is_historical: bool) {
        let now = base.now();
        let (announced, words) = (&self.announced, self.sources.words);
        let datum = |sample: &Sample| {
            let metric = announced.place(sample.point)?;
            let times = (sample.source_time, sample.gateway_time);
            let now = snapshot_of(sample.value.as_ref(), sample.quality, times, words);
            let now = Snapshot { time_quality: sample.time_quality.word(), ..now };
            Some(Datum { metric, now, standing: standing(sample, is_historical) })
        };
        let data: Vec<_> = samples.iter().filter_map(datum).collect();
        if let Err(error) = self.node.data(now.as_unsigned_millis(), device, data) {
            // The device died after these were read: they wait for its birth, as history.
            tracing::debug!(uplink = base.name(), %error, "data withheld");
            base.backlog.queue.take_back(samples.len());
            return;
        }
        if self.published.is_empty() {
            return;
        }
        let at = now.as_millis();
        for sample in samples {
            if let Some(published) = self.published.get_mut(&sample.point) {
                let (value, timestamp) = (sample.value.clone(), sample.source_time.as_millis());
                *published = Some(Published { at, value, timestamp, historical: is_historical });
            }
        }
    }

    /// Asks the broker what it has read; while the primary host is in doubt, that would prove nothing.
    pub(super) fn ask(&self, base: &mut Base<Sample>, connection: &Connection) {
        if self.outbox.is_empty() && !self.node.is_host_doubtful() {
            base.ask(connection);
        }
    }

    /// Sends what is left, publishes the death where there was a birth, and waits for the proof that the broker has read it.
    pub(super) async fn part_in_order(&mut self, base: &mut Base<Sample>, connection: &mut Connection, has_host: bool) {
        let deadline = Instant::now() + GOODBYE;
        self.keep_unborn(base);
        self.send_live(base, connection);
        let is_doubtful = self.node.is_host_doubtful() || !has_host;
        self.node.disconnect(base.now().as_unsigned_millis());
        self.collect();
        // A question that is under way proves less than the next one will.
        base.backlog.queue.proven_nothing();
        let mut is_asked = false;
        loop {
            if self.flush(base, connection) && !is_asked {
                if !is_doubtful {
                    base.backlog.queue.ask();
                }
                is_asked = connection.ask();
            }
            let left = deadline.saturating_duration_since(Instant::now());
            match timeout(left, connection.next()).await {
                Ok(MqttEvent::UnsubAck) if base.asked_at.take().is_none() => {
                    // At an orderly end, with a host that is not known to be gone, the broker's word is what there is.
                    let (_, delivered) = base.backlog.proven();
                    let settled = if is_doubtful { 0 } else { base.backlog.settle(true) };
                    base.has_delivered(delivered + settled);
                    return;
                }
                Ok(MqttEvent::Lost(_)) | Err(_) => return,
                Ok(_) => {}
            }
        }
    }
}

fn standing(sample: &Sample, is_historical: bool) -> Standing {
    match sample.kind {
        _ if is_historical => Standing::Historical,
        SampleKind::Current => Standing::Current,
        SampleKind::Event => Standing::Event,
        SampleKind::Past => Standing::Historical,
    }
}
