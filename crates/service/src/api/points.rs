use crate::access::auth::{Operator, Viewer};
use crate::api::array::{Array, PART, Parts, array_of};
use crate::api::extract::{Json, Path, Query};
use crate::api::trials;
use crate::shown::filter::{PointFilter, point_of};
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::response::Response;
use interlex_core::description::CommandConfirm;
use interlex_core::{Quality, Reading, Value};
use interlex_gateway::{
    Gateway, PointInfo, RecentValue, Running, TrialRead, TrialReading, WriteError, WriteOutcome, reason_words, try_read,
};
use interlex_store::AuditEntry;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use tokio::sync::SemaphorePermit;
use tokio::task::yield_now;

/// A point with its newest reading.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub(crate) struct PointView {
    /// `GATEWAY/DEVICE/POINT`
    pub(crate) id: String,
    /// Its gateway.
    gateway: String,
    /// Its device.
    device: String,
    /// Its name.
    pub(crate) name: String,
    /// What people call it.
    title: String,
    /// Where it lives.
    address: String,
    /// How the device represents it.
    #[serde(rename = "type")]
    data_type: String,
    /// Unit of the value.
    unit: String,
    /// How many decimals its values have, where the scale says so.
    decimals: Option<u8>,
    /// Name of its sampling period.
    rate: String,
    /// When it goes up.
    report: String,
    /// Below this the quality is uncertain.
    low: Option<f64>,
    /// Above this the quality is uncertain.
    high: Option<f64>,
    /// Whether it can be commanded.
    writable: bool,
    /// Whether a command to it can be given back.
    relinquishable: bool,
    /// What is asked before somebody commands it by hand.
    confirm: CommandConfirm,
    /// Until when the commanded value holds, in milliseconds since 1970 UTC: then the safe value is written.
    #[serde(skip_serializing_if = "Option::is_none")]
    commanded_until: Option<i64>,
    /// Its newest reading.
    #[serde(flatten)]
    pub(crate) reading: ReadingView,
}

/// The newest reading of a point.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub(crate) struct ReadingView {
    /// The engineering value; the last one known while the quality is bad.
    #[schema(value_type = serde_json::Value)]
    value: Option<Value>,
    /// The value before shaping.
    #[schema(value_type = serde_json::Value)]
    raw: Option<Value>,
    /// good, uncertain or bad.
    pub(crate) quality: &'static str,
    /// Why it is not good, or what is to be known of one that is, in words.
    reason: Option<String>,
    /// When the value arose, in milliseconds since 1970 UTC.
    source_at: i64,
    /// When the gateway last heard, or last failed to hear, of it, in milliseconds since 1970 UTC.
    gateway_at: i64,
    /// When the gateway read the value, in milliseconds since 1970 UTC; 0 when there is none. What is bad keeps its last
    /// value, and this tells how old that is.
    value_at: i64,
}

/// Which of them come in this answer, and what of each.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct PointPage {
    /// Only those behind this one, as `GATEWAY/DEVICE/POINT`: the last one of the page before.
    after: Option<String>,
    /// So many at the most; all without it.
    limit: Option<usize>,
    /// Only these of their fields, with commas between them.
    fields: Option<String>,
}

/// The last minutes of a point.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct PointDetail {
    /// The point.
    #[serde(flatten)]
    point: PointView,
    /// What was read lately, the oldest first; kept in memory only.
    recent: Vec<RecentValue>,
}

/// Points with their newest readings, in the order of the description: all of them as a stream, or a page after the other.
#[utoipa::path(get, path = "/api/v1/points", operation_id = "list_points", tag = "watch", extensions(("x-role" = json!("viewer"))),
    params(PointFilter, PointPage),
    responses((status = 200, body = Vec<PointView>), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails)))]
pub(crate) async fn list(
    State(app): State<Arc<App>>,
    _: Viewer,
    Query(filter): Query<PointFilter>,
    Query(page): Query<PointPage>,
) -> Result<Response, ApiError> {
    filter.checked()?;
    let running: Vec<_> = app.running().into_iter().map(|gateway| (gateway.running(), gateway)).collect();
    let (gateway, point) = match page.after.as_deref() {
        Some(id) => behind(&running, id)?,
        None => (0, 0),
    };
    let (left, fields) = (page.limit.unwrap_or(usize::MAX), page.fields.as_deref().map(fields).transpose()?);
    Ok(array_of(app, Listing { running, filter, gateway, point, left, fields }))
}

/// Waits for the turn to make a piece of what shows many points. `None` would mean that turns have ended.
pub(crate) async fn turn(app: &App) -> Option<SemaphorePermit<'_>> {
    // A reader that is as fast as we are would have a worker for itself.
    yield_now().await;
    app.showing.acquire().await.ok()
}

/// Points on their way to whoever asked.
struct Listing {
    running: Vec<(Arc<Running>, Arc<Gateway>)>,
    filter: PointFilter,
    /// The next gateway, and its next point.
    gateway: usize,
    point: usize,
    /// So many more may come.
    left: usize,
    /// What is told of each; all without it.
    fields: Option<Vec<String>>,
}

impl Parts for Listing {
    fn part(&mut self, array: &mut Array<'_>) -> bool {
        let filter = self.filter.ready();
        for _ in 0..PART {
            let Some((running, gateway)) = self.running.get(self.gateway).filter(|_| self.left > 0) else {
                return false;
            };
            let Some(info) = running.points().all().get(self.point) else {
                (self.gateway, self.point) = (self.gateway + 1, 0);
                continue;
            };
            self.point += 1;
            let shown = filter.admits(running, info).then(|| view(gateway, running, info)).flatten();
            if let Some(shown) = shown.filter(|view| self.filter.has_quality(view.reading.quality)) {
                self.left -= 1;
                match &self.fields {
                    None => array.push(&shown),
                    Some(fields) => only(&shown, fields).iter().for_each(|shown| array.push(shown)),
                }
            }
        }
        true
    }
}

/// The gateway and the place behind a point: where the next page begins.
fn behind(running: &[(Arc<Running>, Arc<Gateway>)], id: &str) -> Result<(usize, usize), ApiError> {
    let place = |(running, _): &(Arc<Running>, _)| running.points().place(point_of(running, id)?.index);
    let found = (0..).zip(running).find_map(|(at, of)| Some((at, place(of)? + 1)));
    let gone =
        || format!("after is {id:?}, and there is no such point, or no more; begin anew, or with GATEWAY/DEVICE/POINT");
    found.ok_or_else(|| ApiError::BadRequest(gone()))
}

const FIELDS: [&str; 24] = [
    "id",
    "gateway",
    "device",
    "name",
    "title",
    "address",
    "type",
    "unit",
    "decimals",
    "rate",
    "report",
    "low",
    "high",
    "writable",
    "relinquishable",
    "confirm",
    "commanded_until",
    "value",
    "raw",
    "quality",
    "reason",
    "source_at",
    "gateway_at",
    "value_at",
];

/// # Errors
/// [`ApiError::BadRequest`] for a field that points have not.
fn fields(text: &str) -> Result<Vec<String>, ApiError> {
    let known = |word: &str| match FIELDS.contains(&word) {
        true => Ok(word.to_owned()),
        false => Err(ApiError::BadRequest(format!("fields has {word:?}; expected some of {}", FIELDS.join(", ")))),
    };
    text.split(',').map(|word| known(word.trim())).collect()
}

/// Of what is told of a point these fields, in the order asked for.
fn only(shown: &PointView, fields: &[String]) -> serde_json::Result<serde_json::Map<String, serde_json::Value>> {
    let serde_json::Value::Object(mut all) = serde_json::to_value(shown)? else { return Ok(serde_json::Map::new()) };
    Ok(fields.iter().filter_map(|field| all.remove_entry(field)).collect())
}

/// One point with its last minutes.
#[utoipa::path(get, path = "/api/v1/points/{gateway}/{device}/{point}", operation_id = "point_detail", tag = "watch", extensions(("x-role" = json!("viewer"))),
    params(("gateway" = String, Path), ("device" = String, Path), ("point" = String, Path)),
    responses((status = 200, body = PointDetail), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn detail(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, device, point)): Path<(String, String, String)>,
) -> Result<Json<PointDetail>, ApiError> {
    let unknown = || ApiError::NotFound(format!("point {gateway}/{device}/{point}"));
    let gateway = app.gateway(&gateway).ok_or_else(unknown)?;
    let running = gateway.running();
    let info = running.points().find(&device, &point).ok_or_else(unknown)?;
    let view = view(&gateway, &running, info).ok_or_else(unknown)?;
    Ok(Json(PointDetail { point: view, recent: gateway.recent().of(info.index) }))
}

/// An engineering value to write.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct PointValue {
    /// A number, true or false, or text; null gives back what was commanded before, where the object has priorities.
    value: serde_json::Value,
}

/// Writes an engineering value to a point of the running description, ahead of the polls, and reads it back. Access,
/// limits and type are checked first.
#[utoipa::path(put, path = "/api/v1/points/{gateway}/{device}/{point}/value", operation_id = "write_point", tag = "watch",
    request_body = PointValue, extensions(("x-role" = json!("operator"))),
    params(("gateway" = String, Path), ("device" = String, Path), ("point" = String, Path)), responses(
    (status = 200, body = WriteOutcome), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails), (status = 502, body = ProblemDetails),
    (status = 504, body = ProblemDetails)))]
pub(crate) async fn write(
    State(app): State<Arc<App>>,
    Operator(author): Operator,
    Path((gateway, device, point)): Path<(String, String, String)>,
    Json(wanted): Json<PointValue>,
) -> Result<Json<WriteOutcome>, ApiError> {
    let id = format!("{gateway}/{device}/{point}");
    let unknown = || ApiError::NotFound(format!("point {id}"));
    let running = app.gateway(&gateway).ok_or_else(unknown)?;
    let info = running.running().points().find(&device, &point).cloned().ok_or_else(unknown)?;
    let value = trials::command_of(&wanted.value, |words| info.value_from_words(words))?;
    let what = format!("{id} = {value}");
    let written = async move {
        let gone = || WriteError::Value("there is no such point any more".to_owned());
        running.commands().write(&device, &point, value).await.unwrap_or_else(|| Err(gone()))
    };
    trials::audited(app, author, ("write", gateway, what), written).await
}

/// What a device said when it was asked for a point.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct PointAsked {
    /// The protocol of its link.
    protocol: &'static str,
    /// What it said.
    reading: TrialReading,
}

/// Asks the device for a point of the running description, now: the value as it comes, and what else is said with it.
#[utoipa::path(post, path = "/api/v1/points/{gateway}/{device}/{point}/ask", operation_id = "ask_point", tag = "watch",
    extensions(("x-role" = json!("operator"))),
    params(("gateway" = String, Path), ("device" = String, Path), ("point" = String, Path)), responses(
    (status = 200, body = PointAsked), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails), (status = 502, body = ProblemDetails)))]
pub(crate) async fn ask(
    State(app): State<Arc<App>>,
    Operator(author): Operator,
    Path((gateway, device, point)): Path<(String, String, String)>,
) -> Result<Json<PointAsked>, ApiError> {
    let id = format!("{gateway}/{device}/{point}");
    let unknown = || ApiError::NotFound(format!("point {id}"));
    let running = app.gateway(&gateway).ok_or_else(unknown)?.running();
    let info = running.points().find(&device, &point).cloned().ok_or_else(unknown)?;
    let description = running.description();
    let known =
        description.devices.iter().find(|known| known.settings.name.as_str() == info.device()).ok_or_else(unknown)?;
    let link = description.links.iter().find(|link| link.settings.name == known.settings.link).ok_or_else(unknown)?;
    let protocol = link.protocol.word();
    let (link, device, point) = (link.clone(), known.clone(), info.point().into_owned());
    let trial = TrialRead { link, device, point, neighbours: true, expected: None };
    let outcome = try_read(&trial, &app.via(Some(&*running))).await;
    app.audit(AuditEntry { action: "ask-point", detail: &id, gateway: &gateway, ..author.entry() }).await;
    outcome.map(|reading| Json(PointAsked { protocol, reading })).map_err(ApiError::Trial)
}

pub(crate) fn view(gateway: &Gateway, running: &Running, info: &PointInfo) -> Option<PointView> {
    let reading = running.latest().read(info.index)?;
    let name = running.description().gateway.name.as_str();
    let point = info.point();
    let settings = &point.settings;
    Some(PointView {
        id: id(name, info),
        gateway: name.to_owned(),
        device: info.device().to_string(),
        name: info.name().to_owned(),
        title: settings.title.to_string(),
        address: info.address().to_string(),
        data_type: info.data_type().to_string(),
        unit: settings.unit.clone(),
        decimals: info.decimals(),
        rate: info.settings().rate.to_string(),
        report: info.settings().report.to_string(),
        low: settings.low,
        high: settings.high,
        writable: info.is_writable(),
        relinquishable: info.is_writable() && point.can_be_relinquished(),
        confirm: settings.confirm,
        commanded_until: gateway.commands().commanded_until(info),
        reading: reading_view(reading),
    })
}

pub(crate) fn id(gateway: &str, info: &PointInfo) -> String {
    format!("{gateway}/{}/{}", info.device(), info.name())
}

/// A quality with its reason, in words.
pub(crate) fn quality_words(reading: &Reading) -> String {
    let class = reading.quality.class();
    reading.quality.reason().map_or_else(|| class.to_string(), |reason| format!("{class}: {}", reason_words(reason)))
}

pub(crate) fn reading_view(reading: Reading) -> ReadingView {
    let quality: Quality = reading.quality;
    ReadingView {
        value: reading.value,
        raw: reading.raw,
        quality: quality.class(),
        reason: quality.reason().map(reason_words),
        source_at: reading.source_time.as_millis(),
        gateway_at: reading.gateway_time.as_millis(),
        value_at: reading.value_time.as_millis(),
    }
}
