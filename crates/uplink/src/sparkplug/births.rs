use super::health::{self, HealthMetric};
use super::metric::told;
use super::node::SparkplugNode;
use crate::request::Published;
use crate::session::Base;
use interlex_busy::aside;
use interlex_core::{Quality, Reason, Sample, UplinkState};
use interlex_sparkplug::{Datum, EdgeNodeEvent, Standing};
use std::time::Duration;
use tokio::time::Instant;

/// People in front of a console want to see everything once; hosts should not hear it all the time.
const BETWEEN_ASKED_BIRTHS: Duration = Duration::from_secs(10);

impl SparkplugNode {
    /// People want everything told anew. Tells whether it is.
    pub(super) fn ask_births(&mut self) -> bool {
        let may_be = self.births.last.is_none_or(|last| last.elapsed() >= BETWEEN_ASKED_BIRTHS);
        let is_asked = self.node.is_born() && may_be;
        if is_asked {
            self.node.ask_births();
            self.expect_births();
        }
        is_asked
    }

    /// Gives births at once that became due for a reason on this side.
    fn expect_births(&mut self) {
        while let Some(event) = self.node.poll_event() {
            if event == EdgeNodeEvent::BirthDue {
                self.births.due = Some(Instant::now());
            }
        }
    }

    pub(super) fn birth_if_due(&mut self, base: &mut Base<Sample>) {
        let now = Instant::now();
        if !self.births.take_due(now) {
            return;
        }
        self.doubt.has_host();
        self.health_at = now;
        self.tell_health(base);
        // The births tell what is newer than what was to go out as live.
        base.backlog.queue.live_is_history();
        let at = base.now();
        let current = self.sources.current(base, at);
        aside(|| self.node.birth(at.as_unsigned_millis(), &current));
        let born: Vec<_> = (0..base.backlog.context.slots()).map(|slot| self.node.is_device_born(slot)).collect();
        self.remember_births(base, |slot| born.get(slot).is_some_and(|is_born| *is_born));
        self.tell_unborn(base);
        let is_doubtful = self.node.is_host_doubtful();
        self.doubt.begin_grace(is_doubtful.then(|| now + Duration::from(self.own.host_grace)));
        tracing::info!(uplink = base.name(), is_doubtful, "births published");
        base.status.update(|status, _| status.host_in_doubt = is_doubtful);
        base.enter(UplinkState::Online);
    }

    /// Births publish the points that somebody asks about, too: those of the devices that are born.
    pub(super) fn remember_births(&mut self, base: &Base<Sample>, is_born: impl Fn(usize) -> bool) {
        let at = base.now().as_millis();
        for (point, published) in &mut self.published {
            let is_told = base.backlog.context.get(*point).is_some_and(|info| is_born(info.device_slot()));
            let reading =
                self.sources.latest.read(*point).filter(|_| is_told && self.announced.place(*point).is_some());
            if let Some(reading) = reading.filter(|reading| reading.quality != Quality::Bad(Reason::NeverRead)) {
                let (value, timestamp) = (reading.value, reading.source_time.as_millis());
                *published = Some(Published { at, value, timestamp, historical: false });
            }
        }
    }

    /// Tells what changed of the node's own metrics, when it is time to.
    pub(super) fn tell_health(&mut self, base: &Base<Sample>) {
        let now = Instant::now();
        if now < self.health_at {
            return;
        }
        self.health_at = now + Duration::from(self.own.health);
        let (at, before) = (base.now(), std::mem::take(&mut self.sources.health));
        let buffer = base.backlog.state(base.delivered);
        self.sources.health = self.health.look(&self.links, &(self.link_health)(), &buffer, at);
        let current = self.sources.current(base, at);
        self.node.set_metrics(health::specs(&self.sources.health), &current);
        let has_changed = |(place, metric): &(usize, &HealthMetric)| before.get(*place) != Some(*metric);
        let changed = self.sources.health.iter().enumerate().filter(has_changed);
        let datum = |(metric, now): (usize, &HealthMetric)| Datum {
            metric,
            now: told(now.value.clone(), at),
            standing: Standing::Current,
        };
        // What is not told now is in the birth.
        let _ = self.node.node_data(at.as_unsigned_millis(), changed.map(datum));
        self.expect_births();
    }
}
