use crate::auth::Watcher;
use crate::extract::Query;
use crate::openings::Opening;
use crate::points::{PointFilter, ReadingView, id, reading_view};
use crate::{ApiError, App, ProblemDetails, status};
use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::stream::{self, Stream, StreamExt};
use interlex_gateway::{Running, wall_clock};
use serde::Serialize;
use std::collections::VecDeque;
use std::sync::{Arc, Weak};
use std::time::Duration;
use tokio::time::{Interval, MissedTickBehavior, interval};

/// How often a viewer is told what changed: faster than the eye follows a table.
const FRAME: Duration = Duration::from_millis(250);
/// Every how many frames the status goes along.
const STATUS_FRAMES: u64 = 4;

/// Points that changed since the last frame.
#[derive(Debug, Serialize)]
struct Frame {
    /// The time of the service, in milliseconds since 1970 UTC.
    at: i64,
    values: Vec<FrameValue>,
}

#[derive(Debug, Serialize)]
struct FrameValue {
    id: String,
    #[serde(flatten)]
    reading: ReadingView,
}

/// What one viewer has seen. It looks at the table when it is its turn: a slow viewer gets the newest values,
/// fewer of them, and holds nobody up.
struct Watching {
    app: Arc<App>,
    filter: PointFilter,
    ticks: Interval,
    frames: u64,
    seen: Vec<Seen>,
    queue: VecDeque<Event>,
    _opening: Opening,
}

struct Seen {
    running: Weak<Running>,
    versions: Vec<u64>,
    /// Where to go on: those behind have had their turn.
    next: usize,
}

/// So many values an event has at the most, and so many events a frame.
const VALUES: usize = 2000;
const EVENTS: usize = 5;

/// A live stream (server-sent events): `values` with the points that changed, and `status` every second.
#[utoipa::path(get, path = "/api/v1/live", tag = "watch", extensions(("x-role" = json!("viewer"))), params(PointFilter),
    responses((status = 200, content_type = "text/event-stream"), (status = 401, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
pub(crate) async fn live(
    State(app): State<Arc<App>>,
    Watcher(right): Watcher,
    Query(filter): Query<PointFilter>,
) -> Result<Sse<impl Stream<Item = Result<Event, ApiError>>>, ApiError> {
    let opening = app.live.open(&right.person)?;
    let mut ticks = interval(FRAME);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let watching =
        Watching { app, filter, ticks, frames: 0, seen: Vec::new(), queue: VecDeque::new(), _opening: opening };
    let frames = stream::unfold(watching, Watching::next);
    Ok(Sse::new(frames.take_until(Box::pin(right.ended()))).keep_alive(KeepAlive::default()))
}

impl Watching {
    async fn next(mut self) -> Option<(Result<Event, ApiError>, Self)> {
        loop {
            if let Some(event) = self.queue.pop_front() {
                return Some((Ok(event), self));
            }
            tokio::select! {
                _ = self.ticks.tick() => {}
                () = self.app.stop.cancelled() => return None,
            }
            self.look();
        }
    }

    fn look(&mut self) {
        if self.frames.is_multiple_of(STATUS_FRAMES) {
            self.push("status", &status::now(&self.app));
        }
        self.frames += 1;
        // With very many points, what does not fit into a few events follows in the next frame.
        for _ in 0..EVENTS {
            let values = self.changed();
            let is_last = values.len() < VALUES;
            if !values.is_empty() {
                self.push("values", &Frame { at: wall_clock().as_millis(), values });
            }
            if is_last {
                return;
            }
        }
    }

    fn push(&mut self, name: &str, body: &impl Serialize) {
        match Event::default().event(name).json_data(body) {
            Ok(event) => self.queue.push_back(event),
            Err(error) => tracing::error!(%error, name, "an event could not be written"),
        }
    }

    fn changed(&mut self) -> Vec<FrameValue> {
        let running: Vec<_> = self.app.running().iter().map(|gateway| gateway.running()).collect();
        // After an activation there are other points; what was seen before counts for nothing.
        self.seen.retain(|seen| running.iter().any(|running| seen.is_of(running)));
        let mut values = Vec::new();
        for running in &running {
            if !self.seen.iter().any(|seen| seen.is_of(running)) {
                let versions = vec![0; running.points().all().len()];
                self.seen.push(Seen { running: Arc::downgrade(running), versions, next: 0 });
            }
            let Some(seen) = self.seen.iter_mut().find(|seen| seen.is_of(running)) else { continue };
            let name = running.description().gateway.name.as_str();
            let (all, start) = (running.points().all(), seen.next);
            for place in (start..all.len()).chain(0..start) {
                if values.len() == VALUES {
                    seen.next = place;
                    break;
                }
                let (Some(info), Some(version)) = (all.get(place), seen.versions.get_mut(place)) else { continue };
                if running.latest().version(info.index) == *version || !self.filter.admits(running, info) {
                    continue;
                }
                if let Some(reading) = running.latest().read(info.index) {
                    *version = reading.version;
                    values.push(FrameValue { id: id(name, info), reading: reading_view(reading) });
                }
            }
        }
        values
    }
}

impl Seen {
    fn is_of(&self, running: &Arc<Running>) -> bool {
        self.running.as_ptr() == Arc::as_ptr(running)
    }
}
