//! What is shown of how a device is asked.

use super::{Remote, cut};
use crate::bacnet::item::Item;
use crate::link::RequestView;
use interlex_core::PointTable;
use std::time::Instant;

impl Remote {
    /// What it is asked for again and again, and what is subscribed to.
    pub(in crate::bacnet) fn views(&self, points: &PointTable, now: Instant) -> Vec<RequestView> {
        let device = vec![self.name().to_owned()];
        let name = |item: &Item| {
            item.readers
                .iter()
                .filter_map(|reader| points.get(reader.point))
                .map(|info| info.name().to_owned())
                .collect::<Vec<_>>()
        };
        let mut views = Vec::new();
        let is_watched = |item: &Item| item.is_watchable && self.watches.is_watched(item.watched());
        for item in self.items.iter().filter(|item| is_watched(item)) {
            let own = self.watches.increment(item.watched());
            let increment = own.or_else(|| self.increments.get(&item.object).copied()).filter(|_| item.is_value());
            let increment = increment.filter(|increment| *increment > 0.0);
            let property = if item.is_value() { String::new() } else { format!(" {}", item.reference) };
            let moves = increment.map(|increment| format!(" by {increment} or more")).unwrap_or_default();
            views.push(RequestView {
                devices: device.clone(),
                reads: format!("changes of {}{property}{moves}", item.object),
                period_ms: self.own.check_period.as_millis(),
                points: name(item),
                as_planned: true,
                bad: None,
                whole_again_in_ms: None,
            });
        }
        let mut periods: Vec<_> = self.items.iter().map(|item| item.period).collect();
        periods.sort_unstable();
        periods.dedup();
        for period in periods {
            let polled =
                |(_, item): &(usize, &Item)| item.period == period && !is_watched(item) && item.bad().is_none();
            let due = self.items.iter().enumerate().filter(polled).map(|(at, _)| at);
            for part in cut(&self.items, due, &self.ways) {
                let items: Vec<_> = part.iter().filter_map(|at| self.items.get(*at)).collect();
                let reads = match items.as_slice() {
                    [one] => format!("{} {}", one.object, one.reference),
                    several => format!(
                        "{} properties of {}",
                        several.len(),
                        several.first().map_or_else(String::new, |first| format!("{} and others", first.object))
                    ),
                };
                views.push(RequestView {
                    devices: device.clone(),
                    reads,
                    period_ms: u64::try_from(period.as_millis()).unwrap_or(u64::MAX),
                    points: items.iter().flat_map(|item| name(item)).collect(),
                    as_planned: true,
                    bad: None,
                    whole_again_in_ms: None,
                });
            }
        }
        for item in &self.items {
            let Some(reason) = item.bad() else { continue };
            views.push(RequestView {
                devices: device.clone(),
                reads: format!("{} {}", item.object, item.reference),
                period_ms: u64::try_from(item.period.as_millis()).unwrap_or(u64::MAX),
                points: name(item),
                as_planned: !item.is_left_alone(now),
                bad: Some(crate::bacnet::words(reason)),
                whole_again_in_ms: None,
            });
        }
        views
    }
}
