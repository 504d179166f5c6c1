use super::SHORTEST;
use super::filter::Filter;
use crate::server::limits::ServerLimits;
use crate::service::{
    MonitoredItemNotification, MonitoringMode, MonitoringParameters, ReadValueId, TimestampsToReturn,
};
use crate::space::Space;
use crate::types::{DataValue, DateTime, StatusCode};
use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// What a subscription watches.
#[derive(Debug)]
pub(super) struct Item {
    pub(super) watched: ReadValueId,
    pub(super) mode: MonitoringMode,
    pub(super) times: TimestampsToReturn,
    pub(super) client_handle: u32,
    /// Zero: every change.
    pub(super) sampling: Duration,
    /// When it is looked at next, where it is not told of every change.
    pub(super) due: Option<Instant>,
    pub(super) queue_size: usize,
    discard_oldest: bool,
    filter: Filter,
    queue: VecDeque<DataValue>,
    /// What was taken last.
    last: Option<DataValue>,
}

/// In a status: it is one of a value, and values were lost before it.
///
/// Source: OPC 10000-4, section 7.39.1.
const OVERFLOW: u32 = 0x0480;

impl Item {
    pub(super) fn new(
        space: &Space,
        limits: &ServerLimits,
        watched: ReadValueId,
        wanted: &MonitoringParameters,
        publishing: Duration,
    ) -> Result<Self, StatusCode> {
        let mut item = Self {
            watched,
            mode: MonitoringMode::Disabled,
            times: TimestampsToReturn::Both,
            client_handle: 0,
            sampling: Duration::ZERO,
            due: None,
            queue_size: 1,
            discard_oldest: true,
            filter: Filter::default(),
            queue: VecDeque::new(),
            last: None,
        };
        item.set(space, limits, wanted, publishing)?;
        Ok(item)
    }

    /// Takes other parameters; nothing is changed where one is wrong.
    pub(super) fn set(
        &mut self,
        space: &Space,
        limits: &ServerLimits,
        wanted: &MonitoringParameters,
        publishing: Duration,
    ) -> Result<(), StatusCode> {
        self.filter = Filter::read(space, &self.watched, wanted)?;
        self.client_handle = wanted.client_handle;
        self.sampling = sampling(space, limits, &self.watched, wanted.sampling_interval, publishing);
        self.queue_size = usize::try_from(wanted.queue_size.clamp(1, limits.queue.max(1))).unwrap_or(1);
        self.discard_oldest = wanted.discard_oldest;
        while self.queue.len() > self.queue_size {
            self.drop_one();
        }
        Ok(())
    }

    /// Looks at the value, and takes it where it is another; tells whether there was nothing to be told before.
    pub(super) fn sample(&mut self, space: &Space, now: DateTime) -> bool {
        if self.mode == MonitoringMode::Disabled {
            return false;
        }
        let value = space.read(&self.watched, TimestampsToReturn::Both, now);
        if self.last.as_ref().is_some_and(|last| !self.filter.is_change(last, &value)) {
            return false;
        }
        self.last = Some(value.clone());
        self.take(value)
    }

    /// Takes the present value once more, for whoever has taken the subscription over.
    pub(super) fn repeat(&mut self) -> bool {
        let value = self.last.clone().filter(|_| self.queue.is_empty());
        value.is_some_and(|value| self.take(value))
    }

    fn take(&mut self, value: DataValue) -> bool {
        let was_empty = self.queue.is_empty();
        self.queue.push_back(value);
        while self.queue.len() > self.queue_size {
            self.drop_one();
        }
        was_empty && self.mode == MonitoringMode::Reporting
    }

    /// Source: OPC 10000-4, section 5.13.1.5.
    fn drop_one(&mut self) {
        let lost = if self.discard_oldest { 0 } else { self.queue.len().saturating_sub(2) };
        self.queue.remove(lost);
        let marked = if self.discard_oldest { self.queue.front_mut() } else { self.queue.back_mut() };
        if let Some(value) = marked.filter(|_| self.queue_size > 1) {
            value.status = Some(StatusCode(value.status().0 | OVERFLOW));
        }
    }

    /// Whether it has something to be told.
    pub(super) fn is_ready(&self) -> bool {
        self.mode == MonitoringMode::Reporting && !self.queue.is_empty()
    }

    /// Sets whether it is sampled and told; without being sampled, it forgets.
    pub(super) fn set_mode(&mut self, mode: MonitoringMode) {
        if mode == MonitoringMode::Disabled {
            self.queue.clear();
            self.last = None;
        }
        self.mode = mode;
    }

    /// The oldest that it has to tell.
    pub(super) fn next(&mut self) -> Option<MonitoredItemNotification> {
        let value = self.queue.pop_front()?;
        let value = crate::space::timed(value, self.times);
        Some(MonitoredItemNotification { client_handle: self.client_handle, value })
    }
}

/// How often a value is looked at: as is asked for, within the limits, and no more often than it can be another.
fn sampling(
    space: &Space,
    limits: &ServerLimits,
    watched: &ReadValueId,
    wanted: f64,
    publishing: Duration,
) -> Duration {
    let least = space.variable(&watched.node_id).map_or(0.0, |variable| variable.minimum_sampling_interval);
    let least = Duration::try_from_secs_f64(least / 1000.0).unwrap_or_default();
    let wanted = match wanted {
        wanted if wanted < 0.0 || wanted.is_nan() => publishing,
        wanted if wanted == 0.0 && least.is_zero() => return Duration::ZERO,
        wanted => Duration::try_from_secs_f64(wanted / 1000.0).unwrap_or(limits.sampling_interval.1),
    };
    let (shortest, longest) = limits.sampling_interval;
    if longest.is_zero() {
        return Duration::ZERO;
    }
    let shortest = shortest.max(SHORTEST);
    wanted.max(least).clamp(shortest, longest.max(shortest))
}
