use super::poll::ModbusPoll;
use super::unit::LineUnit;
use super::words;
use crate::link::{RequestView, Traffic};
use crate::poll::{PlanView, Poll, Schedule};
use interlex_core::{PointInfo, PointTable};
use interlex_modbus::{ClientStats, ReadRequest};
use std::time::Duration;
use tokio::time::Instant;

/// What units are asked again and again, and what was learned, in words.
pub(super) fn views(schedule: &Schedule<ModbusPoll>, units: &[LineUnit], points: &PointTable) -> Vec<RequestView> {
    let milliseconds = |span: Duration| u64::try_from(span.as_millis()).unwrap_or(u64::MAX);
    let view = |plan: PlanView<ModbusPoll>| {
        let is_shared = units.get(plan.device).is_some_and(|unit| unit.names.len() > 1);
        let name = |info: &PointInfo| match points.device(info.device_slot()).filter(|_| is_shared) {
            Some(device) => format!("{device}.{}", info.name()),
            None => info.name().to_owned(),
        };
        let names = plan.poll.points().filter_map(|index| points.get(index)).map(name);
        RequestView {
            devices: units.get(plan.device).map(|unit| unit.names.clone()).unwrap_or_default(),
            reads: reads(plan.poll.request),
            period_ms: milliseconds(plan.poll.period()),
            points: names.collect(),
            as_planned: plan.is_whole,
            bad: plan.bad.map(words::of),
            whole_again_in_ms: plan.retry_in.map(milliseconds),
        }
    };
    schedule.view(Instant::now().into_std()).into_iter().map(view).collect()
}

/// What went over a connection between two looks at what its client counts.
pub(super) const fn traffic(before: ClientStats, after: ClientStats) -> Traffic {
    Traffic {
        requests: after.requests - before.requests,
        answers: after.answers - before.answers,
        refusals: after.exceptions - before.exceptions,
        timeouts: after.timeouts - before.timeouts,
        unmatched: after.unmatched - before.unmatched,
        late: after.late - before.late,
        of_others: after.wrong_unit - before.wrong_unit,
        noise_bytes: after.noise_bytes - before.noise_bytes,
        bytes_sent: after.bytes_sent - before.bytes_sent,
        bytes_received: after.bytes_received - before.bytes_received,
    }
}

/// What a request reads: `holding registers 16 to 20`.
fn reads(request: ReadRequest) -> String {
    let (words, first) = (request.table().words(), request.address());
    match request.quantity() {
        1 => format!("{words} {first}"),
        more => format!("{words} {first} to {}", first + (more - 1)),
    }
}
