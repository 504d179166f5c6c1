//! The sequence of events: what devices told of changes, with their own times.

use crate::access::auth::{Viewer, Watcher};
use crate::access::openings::Opening;
use crate::api::extract::{Json, Path, Query};
use crate::{ApiError, App, ProblemDetails};
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::stream::{self, Stream, StreamExt};
use interlex_core::TimeQuality;
use interlex_store::{FieldEventFilter, FieldEventRecord, StoreError};
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::watch;
use tokio::time::sleep;

/// Which changes to give.
#[derive(Debug, Clone, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct EventQuery {
    /// Not before, in milliseconds since 1970 UTC, by the time of the change.
    from: Option<i64>,
    /// Before, in milliseconds since 1970 UTC.
    to: Option<i64>,
    /// Only of this device.
    device: Option<String>,
    /// Only of this point, or of this address.
    point: Option<String>,
    /// Only states, and no numbers.
    #[serde(default)]
    states: bool,
    /// Only what comes behind this one in the list, to go on where a page ended: the `at` of its last one.
    behind_at: Option<i64>,
    /// And the `id` of that.
    behind_id: Option<u64>,
    /// So many at the most, up to 1000; 200 when left out.
    limit: Option<u32>,
}

/// A change that a device told.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct EventView {
    /// Its number: those with higher ones were told later.
    id: u64,
    /// When, by the device, in milliseconds since 1970 UTC; when it arrived, where the device did not say.
    at: i64,
    /// What that time is worth: synchronized, unsynchronized, or arrival.
    time: &'static str,
    /// When it arrived, in milliseconds since 1970 UTC.
    arrived: i64,
    /// The device.
    device: String,
    /// The point; none for what nobody has described.
    point: Option<String>,
    /// Where it lives, in the protocol's words.
    address: String,
    /// What it became, in words.
    state: String,
    /// What the device says of it, in the protocol's words.
    flags: String,
}

const PAGE: u32 = 200;
const LARGEST_PAGE: u32 = 1000;

impl EventQuery {
    fn filter(self) -> FieldEventFilter {
        let Self { from, to, device, point, states, behind_at, behind_id, limit } = self;
        let behind = behind_at.map(|at| (at, behind_id.unwrap_or(0)));
        let limit = limit.unwrap_or(PAGE).clamp(1, LARGEST_PAGE);
        FieldEventFilter { from, to, device, point, only_states: states, behind, limit }
    }
}

fn view(FieldEventRecord { id, event }: FieldEventRecord) -> EventView {
    let time = TimeQuality::of_number(event.time_quality).word().unwrap_or_default();
    let (at, arrived, device, point) = (event.at, event.arrived, event.device, event.point);
    EventView { id, at, time, arrived, device, point, address: event.address, state: event.state, flags: event.flags }
}

fn known(app: &App, gateway: &str) -> Result<(), ApiError> {
    app.gateway(gateway).map(drop).ok_or_else(|| ApiError::NotFound(format!("gateway {gateway:?}")))
}

/// The sequence of events of a gateway, the last change first by its own time; of one moment, the one that was told last. A device that
/// was out of reach tells its changes later, with the times that they had.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/events", operation_id = "list_events", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), EventQuery), responses(
    (status = 200, body = Vec<EventView>), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn list(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
    Query(query): Query<EventQuery>,
) -> Result<Json<Vec<EventView>>, ApiError> {
    known(&app, &gateway)?;
    let events = app.store.field_events(&gateway, &query.filter()).await?;
    Ok(Json(events.into_iter().map(view).collect()))
}

const HEADER: &str = "id,at,time,arrived,device,point,address,state,flags\r\n";

/// All of them that fit, as a spreadsheet reads them: times as in ISO 8601, with milliseconds, in UTC.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/events.csv", operation_id = "export_events", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), EventQuery), responses(
    (status = 200, content_type = "text/csv"), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn export(
    State(app): State<Arc<App>>,
    Viewer(who): Viewer,
    Path(gateway): Path<String>,
    Query(query): Query<EventQuery>,
) -> Result<impl IntoResponse, ApiError> {
    known(&app, &gateway)?;
    let opening = app.live.open(&who.name)?;
    let first = FieldEventFilter { limit: LARGEST_PAGE, ..query.filter() };
    let pages = stream::unfold(Some((app, gateway, first, opening)), |state| async move {
        let (app, gateway, filter, opening) = state?;
        let page = match app.store.field_events(&gateway, &filter).await {
            Ok(page) => page,
            // Whoever reads it finds that it was cut.
            Err(error) => return Some((Err(error), None)),
        };
        let last = page.last().map(|record| (record.event.at, record.id))?;
        let rows: String = page.into_iter().map(row).collect();
        let next = FieldEventFilter { behind: Some(last), ..filter };
        Some((Ok::<_, StoreError>(Bytes::from(rows)), Some((app, gateway, next, opening))))
    });
    let body = Body::from_stream(stream::once(async { Ok(Bytes::from_static(HEADER.as_bytes())) }).chain(pages));
    let headers = [
        (header::CONTENT_TYPE, "text/csv; charset=utf-8"),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"events.csv\""),
    ];
    Ok((headers, body))
}

fn row(record: FieldEventRecord) -> String {
    let EventView { id, at, time, arrived, device, point, address, state, flags } = view(record);
    let moment = interlex_core::iso_time;
    let cells =
        [moment(at), time.to_owned(), moment(arrived), device, point.unwrap_or_default(), address, state, flags];
    let cells: Vec<_> = cells.iter().map(|text| interlex_core::cell(text, ',')).collect();
    format!("{id},{}\r\n", cells.join(","))
}

/// So many are looked for at once.
const AT_ONCE: u32 = 500;
/// How long to wait before the database is tried again.
const AGAIN: Duration = Duration::from_secs(1);

/// Somebody who is told what comes.
struct Following {
    app: Arc<App>,
    gateway: String,
    filter: FieldEventFilter,
    last: u64,
    additions: watch::Receiver<u64>,
    waiting: VecDeque<EventView>,
    _opening: Opening,
}

/// A live stream (server-sent events) of what is told from now on, in the order in which it is told: `event` with each.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/events/live", operation_id = "follow_events", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), EventQuery), responses(
    (status = 200, content_type = "text/event-stream"), (status = 401, body = ProblemDetails),
    (status = 404, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
pub(crate) async fn follow(
    State(app): State<Arc<App>>,
    Watcher(right): Watcher,
    Path(gateway): Path<String>,
    Query(query): Query<EventQuery>,
) -> Result<Sse<impl Stream<Item = Result<Event, ApiError>>>, ApiError> {
    let running = app.gateway(&gateway).ok_or_else(|| ApiError::NotFound(format!("gateway {gateway:?}")))?;
    let additions = running.sequence_additions().ok_or_else(|| ApiError::NotFound("sequence of events".to_owned()))?;
    let opening = app.live.open(&right.person)?;
    let last = app.store.last_field_event(&gateway).await?;
    let filter = FieldEventFilter { behind: None, limit: AT_ONCE, ..query.filter() };
    let waiting = VecDeque::new();
    let following = Following { app, gateway, filter, last, additions, waiting, _opening: opening };
    let events = stream::unfold(following, Following::next);
    Ok(Sse::new(events.take_until(Box::pin(right.ended()))).keep_alive(KeepAlive::default()))
}

impl Following {
    async fn next(mut self) -> Option<(Result<Event, ApiError>, Self)> {
        loop {
            if let Some(next) = self.waiting.pop_front() {
                let event = Event::default().event("event").json_data(next);
                return Some((event.map_err(|error| ApiError::Internal(error.to_string())), self));
            }
            // What is added from here on is told by another change.
            self.additions.mark_unchanged();
            match self.app.store.field_events_after(&self.gateway, self.last, &self.filter).await {
                Ok(events) => {
                    self.last = events.last().map_or(self.last, |record| record.id);
                    self.waiting.extend(events.into_iter().map(view));
                }
                Err(error) => {
                    tracing::debug!(%error, "following waits for the database");
                    sleep(AGAIN).await;
                    self.additions.mark_changed();
                }
            }
            if self.waiting.is_empty() {
                tokio::select! {
                    changed = self.additions.changed() => changed.ok()?,
                    () = self.app.stop.cancelled() => return None,
                }
            }
        }
    }
}
