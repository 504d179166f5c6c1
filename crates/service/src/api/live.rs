use crate::access::auth::Watcher;
use crate::access::openings::Opening;
use crate::api::extract::Query;
use crate::api::points::{ReadingView, id, reading_view, turn};
use crate::api::status;
use crate::shown::filter::{PointFilter, point_of};
use crate::shown::views::Looking;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::stream::{self, Stream, StreamExt};
use interlex_core::PointIndex;
use interlex_gateway::{Running, aside, wall_clock};
use serde::{Deserialize, Serialize};
use std::future::pending;
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

/// How a stream is told what to tell.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct LiveChoice {
    /// Whether it tells only those points that its viewer has in view, in place of all that the filter admits: its first event,
    /// `opened`, says its number, to which `PUT /api/v1/live/{stream}` says which those are.
    #[serde(default)]
    view: bool,
}

/// The first event of a stream that follows what is in view.
#[derive(Debug, Serialize)]
struct Opened {
    stream: u64,
}

/// What one viewer has seen. It looks at the table when it is its turn: a slow viewer gets the newest values,
/// fewer of them, and holds nobody up.
struct Watching {
    app: Arc<App>,
    filter: PointFilter,
    /// What is in view, where only that is told.
    looking: Option<Looking>,
    /// Whether it was said how the stream is called.
    is_opened: bool,
    ticks: Interval,
    frames: u64,
    seen: Vec<Seen>,
    /// Whether the status comes next.
    is_status_due: bool,
    /// So many more events may come in this frame; one at a time is made, when the one before was taken.
    left: usize,
    _opening: Opening,
}

struct Seen {
    running: Weak<Running>,
    /// The points that are shown, and of the versions that were seen what tells one from the next.
    points: Vec<(PointIndex, u32)>,
    /// Where to go on: those behind have had their turn.
    next: usize,
}

/// So many values an event has at the most, and so many events a frame. With very many points, what does not fit follows in
/// the next one.
const VALUES: usize = 1000;
const EVENTS: usize = 10;

/// A live stream (server-sent events): `values` with the points that changed, and `status` every second.
#[utoipa::path(get, path = "/api/v1/live", tag = "watch", extensions(("x-role" = json!("viewer"))), params(PointFilter, LiveChoice),
    responses((status = 200, content_type = "text/event-stream"), (status = 401, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
pub(crate) async fn live(
    State(app): State<Arc<App>>,
    Watcher(right): Watcher,
    Query(filter): Query<PointFilter>,
    Query(choice): Query<LiveChoice>,
) -> Result<Sse<impl Stream<Item = Result<Event, ApiError>>>, ApiError> {
    let opening = app.live.open(&right.person)?;
    let mut ticks = interval(FRAME);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let looking = choice.view.then(|| app.views.open(&right.person));
    let watching = Watching {
        app,
        filter,
        looking,
        is_opened: false,
        ticks,
        frames: 0,
        seen: Vec::new(),
        is_status_due: false,
        left: 0,
        _opening: opening,
    };
    let frames = stream::unfold(watching, Watching::next);
    Ok(Sse::new(frames.take_until(Box::pin(right.ended()))).keep_alive(KeepAlive::default()))
}

fn event(name: &str, body: &impl Serialize) -> Option<Event> {
    let event = Event::default().event(name).json_data(body);
    event.inspect_err(|error| tracing::error!(%error, name, "an event could not be written")).ok()
}

impl Watching {
    async fn next(mut self) -> Option<(Result<Event, ApiError>, Self)> {
        loop {
            let event = if let Some(looking) = self.looking.as_ref().filter(|_| !self.is_opened) {
                self.is_opened = true;
                event("opened", &Opened { stream: looking.number })
            } else if self.is_status_due {
                self.is_status_due = false;
                let app = Arc::clone(&self.app);
                let _turn = turn(&app).await;
                event("status", &status::now(&app))
            } else if self.left > 0 {
                let app = Arc::clone(&self.app);
                let _turn = turn(&app).await;
                let values = self.changed();
                self.left = if values.len() < VALUES { 0 } else { self.left - 1 };
                let frame = Frame { at: wall_clock().as_millis(), values };
                if frame.values.is_empty() { None } else { event("values", &frame) }
            } else {
                tokio::select! {
                    _ = self.ticks.tick() => {
                        self.is_status_due = self.frames.is_multiple_of(STATUS_FRAMES);
                        self.frames += 1;
                    }
                    () = moved(&mut self.looking) => self.seen.clear(),
                    () = self.app.stop.cancelled() => return None,
                }
                self.left = EVENTS;
                None
            };
            if let Some(event) = event {
                return Some((Ok(event), self));
            }
        }
    }

    fn changed(&mut self) -> Vec<FrameValue> {
        let running: Vec<_> = self.app.running().iter().map(|gateway| gateway.running()).collect();
        // After an activation there are other points; what was seen before counts for nothing.
        self.seen.retain(|seen| running.iter().any(|running| seen.is_of(running)));
        let mut values = Vec::new();
        for running in &running {
            if !self.seen.iter().any(|seen| seen.is_of(running)) {
                self.seen.push(match &self.looking {
                    Some(looking) => Seen::of_view(running, &looking.points.borrow()),
                    None => aside(|| Seen::new(running, &self.filter)),
                });
            }
            let Some(seen) = self.seen.iter_mut().find(|seen| seen.is_of(running)) else { continue };
            let name = running.description().gateway.name.as_str();
            let start = seen.next;
            for place in (start..seen.points.len()).chain(0..start) {
                if values.len() == VALUES {
                    seen.next = place;
                    break;
                }
                let Some((index, version)) = seen.points.get_mut(place) else { continue };
                if short(running.latest().version(*index)) == *version {
                    continue;
                }
                let told = running.points().get(*index).zip(running.latest().read(*index));
                if let Some((info, reading)) = told {
                    *version = short(reading.version);
                    values.push(FrameValue { id: id(name, info), reading: reading_view(reading) });
                }
            }
        }
        values
    }
}

/// The part of a version that is kept: a viewer for very many points has many of them.
#[expect(clippy::cast_possible_truncation, reason = "one is told from the next by it")]
const fn short(version: u64) -> u32 {
    version as u32
}

/// Waits until something else is in view.
async fn moved(looking: &mut Option<Looking>) {
    match looking {
        // It is moved by what is open as long as this end is.
        Some(looking) => _ = looking.points.changed().await,
        None => pending().await,
    }
}

impl Seen {
    /// Nothing was seen yet. Which points the filter admits is found out once: it looks into many texts.
    fn new(running: &Arc<Running>, filter: &PointFilter) -> Self {
        let filter = filter.ready();
        let admitted = running.points().all().iter().filter(|info| filter.admits(running, info));
        Self { running: Arc::downgrade(running), points: admitted.map(|info| (info.index, 0)).collect(), next: 0 }
    }

    /// Nothing of what is in view was seen yet.
    fn of_view(running: &Arc<Running>, points: &[String]) -> Self {
        let known = points.iter().filter_map(|id| point_of(running, id));
        // Of a point that was never read that is told.
        let points = known.map(|info| (info.index, u32::MAX)).collect();
        Self { running: Arc::downgrade(running), points, next: 0 }
    }

    fn is_of(&self, running: &Arc<Running>) -> bool {
        self.running.as_ptr() == Arc::as_ptr(running)
    }
}
