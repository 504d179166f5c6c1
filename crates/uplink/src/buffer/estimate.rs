use super::backlog::Backlog;
use super::item::Item;
use interlex_core::{BufferState, BufferView, Timestamp};
use std::time::Duration;
use tokio::time::Instant;

impl<T: Item> Backlog<T> {
    pub(super) fn oldest(&self) -> Option<Timestamp> {
        self.queue.oldest().into_iter().chain(self.ledger.oldest()).min()
    }

    /// How things are.
    pub(crate) fn state(&self, delivered: u64) -> BufferState {
        let (into, out) = self.past.rates((self.came, delivered), self.clock.now());
        let (waiting, bytes, durable) = (self.waiting(), self.ledger.bytes(), self.ledger.durable());
        #[expect(clippy::cast_precision_loss, reason = "estimates")]
        let seconds = |amount: u64, per_second: f64| (per_second > 0.0).then(|| amount as f64 / per_second);
        let per_sample = if durable > 0 { bytes.div_ceil(durable) } else { 16 };
        let room = self.byte_limit().saturating_sub(bytes) / per_sample.max(1);
        // Messages that are still being gathered are in the database, but wait for no broker.
        let oldest = self.oldest().filter(|_| waiting > 0);
        // By age, the first ones are lost when the oldest has waited long enough.
        let age = self.ledger.age(Instant::now().into_std()).unwrap_or_default();
        let keep_for = Duration::from(self.settings.keep_for);
        let is_filling = waiting > 0 && durable > 0 && out < into / 2.0;
        let by_size = seconds(room, into - out).filter(|_| is_filling);
        let by_age = is_filling.then(|| keep_for.saturating_sub(age).as_secs_f64());
        BufferState {
            waiting,
            durable,
            bytes,
            lost: self.losses.count(),
            is_full: self.is_full || (is_filling && age >= keep_for),
            unsettled: self.queue.unsettled_len(),
            came: self.came,
            oldest_at: oldest.map(Timestamp::as_millis),
            journal_error: self.error.clone(),
            in_per_second: into,
            out_per_second: out,
            // What waits for a moment only says nothing of how things go.
            seconds_to_full: by_size.into_iter().chain(by_age).min_by(f64::total_cmp),
            seconds_to_drained: seconds(waiting, out - into).filter(|_| waiting > 0 && durable > 0 && self.is_online),
        }
    }

    /// Everything that there is to see.
    pub(crate) fn view(&self, delivered: u64) -> BufferView {
        BufferView { state: self.state(delivered), gaps: self.losses.gaps(), past: self.past.moments() }
    }
}
