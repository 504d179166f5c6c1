//! Loop checks: points are compared with what their devices show, one by one, by several people; the sheet is what is handed over.

use crate::access::auth::{Operator, Viewer};
use crate::api::extract::{Json, Path};
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use interlex_core::{Value, cell, iso_time};
use interlex_gateway::{Running, wall_clock};
use interlex_store::{AuditEntry, LoopCheck, LoopCheckItem};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::fmt::Write as _;
use std::sync::Arc;

/// A loop check to begin.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct NewLoopCheck {
    /// What people call it.
    title: String,
    /// The devices whose points are compared.
    devices: Vec<String>,
    /// Only these points of theirs, as `DEVICE/POINT`; all when left out.
    #[serde(default)]
    points: Vec<String>,
}

/// A loop check without its points.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct LoopCheckView {
    /// Its number.
    id: u64,
    /// What people call it.
    title: String,
    /// The gateway.
    gateway: String,
    /// The revision that it was begun on.
    revision: u32,
    /// Who began it.
    started_by: String,
    /// When, in milliseconds since 1970 UTC.
    started_at: i64,
    /// Who closed it; `null` while it is open.
    closed_by: Option<String>,
    /// When.
    closed_at: Option<i64>,
    /// How many points it has.
    points: usize,
    /// How many agree.
    agree: usize,
    /// How many differ.
    differ: usize,
    /// How many were skipped.
    skipped: usize,
    /// How many were not looked at.
    open: usize,
}

/// A point of a loop check, as it was described when that began.
#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub(crate) struct LoopPoint {
    /// Its device.
    device: String,
    /// Its name.
    point: String,
    /// What people call it.
    title: String,
    /// Where it lives.
    address: String,
    /// How the device represents it.
    #[serde(rename = "type")]
    data_type: String,
    /// Unit of the value.
    unit: String,
}

/// A line of the sheet.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct LoopLine {
    #[serde(flatten)]
    point: LoopPoint,
    /// The result in a word: agrees, differs, skipped; `null` where nobody looked at it.
    result: Option<String>,
    /// What its display showed, as it was typed.
    expected: String,
    /// What the gateway said then.
    said: String,
    /// The raw value.
    raw: String,
    /// The quality, with its reason.
    quality: String,
    /// What else was written down.
    note: String,
    /// Who.
    person: String,
    /// When, in milliseconds since 1970 UTC.
    at: Option<i64>,
}

/// The whole sheet.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct LoopSheet {
    #[serde(flatten)]
    check: LoopCheckView,
    /// Its points, in their order.
    lines: Vec<LoopLine>,
}

/// What somebody found of a point.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct LoopFinding {
    /// The device.
    device: String,
    /// The point.
    point: String,
    /// agrees, differs or skipped; where it is left out, what was read off the display decides.
    #[serde(default)]
    result: Option<LoopResult>,
    /// What its display shows, as it is typed: a number is compared to half of its last digit.
    #[serde(default)]
    expected: String,
    /// What else is to be written down.
    #[serde(default)]
    note: String,
}

/// What was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub(crate) enum LoopResult {
    /// The gateway says what the display shows.
    Agrees,
    /// It says something else.
    Differs,
    /// Nobody could look.
    Skipped,
}

impl LoopResult {
    const fn word(self) -> &'static str {
        match self {
            Self::Agrees => "agrees",
            Self::Differs => "differs",
            Self::Skipped => "skipped",
        }
    }
}

fn running(app: &App, gateway: &str) -> Result<Arc<Running>, ApiError> {
    let known = app.gateway(gateway).ok_or_else(|| ApiError::NotFound(format!("gateway {gateway:?}")))?;
    Ok(known.running())
}

async fn found(app: &App, gateway: &str, id: u64) -> Result<LoopCheck, ApiError> {
    let check = app.store.loop_check(gateway, id).await?;
    check.ok_or_else(|| ApiError::NotFound(format!("loop check {id} of gateway {gateway:?}")))
}

/// The points of a loop check that is kept.
fn points_of(check: &LoopCheck) -> Vec<LoopPoint> {
    serde_json::from_str(&check.points).unwrap_or_default()
}

fn view(check: &LoopCheck, items: &[LoopCheckItem]) -> LoopCheckView {
    let points = points_of(check);
    let found: HashMap<_, _> = items.iter().map(|item| ((&*item.device, &*item.point), &*item.result)).collect();
    let with = |word: &str| points.iter().filter(|one| found.get(&(&*one.device, &*one.point)) == Some(&word)).count();
    let (agree, differ, skipped) = (with("agrees"), with("differs"), with("skipped"));
    LoopCheckView {
        id: check.id,
        title: check.title.clone(),
        gateway: check.gateway.clone(),
        revision: check.revision,
        started_by: check.started_by.clone(),
        started_at: check.started_at,
        closed_by: check.closed.as_ref().map(|(by, _)| by.clone()),
        closed_at: check.closed.as_ref().map(|(_, at)| *at),
        points: points.len(),
        agree,
        differ,
        skipped,
        open: points.len() - agree - differ - skipped,
    }
}

async fn sheet_of(app: &App, check: &LoopCheck) -> Result<LoopSheet, ApiError> {
    let items = app.store.loop_check_items(check.id).await?;
    let view = view(check, &items);
    let mut found: HashMap<_, _> =
        items.into_iter().map(|item| ((item.device.clone(), item.point.clone()), item)).collect();
    let line = |point: LoopPoint| match found.remove(&(point.device.clone(), point.point.clone())) {
        Some(item) => {
            let LoopCheckItem { result, expected, said, raw, quality, note, person, at, .. } = item;
            LoopLine { point, result: Some(result), expected, said, raw, quality, note, person, at: Some(at) }
        }
        None => LoopLine {
            point,
            result: None,
            expected: String::new(),
            said: String::new(),
            raw: String::new(),
            quality: String::new(),
            note: String::new(),
            person: String::new(),
            at: None,
        },
    };
    Ok(LoopSheet { check: view, lines: points_of(check).into_iter().map(line).collect() })
}

/// The loop checks of a gateway, the last one first.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/loop-checks", operation_id = "list_loop_checks", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path)), responses(
    (status = 200, body = Vec<LoopCheckView>), (status = 401, body = ProblemDetails)))]
pub(crate) async fn list(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
) -> Result<Json<Vec<LoopCheckView>>, ApiError> {
    let mut views = Vec::new();
    for check in app.store.loop_checks(&gateway).await? {
        views.push(view(&check, &app.store.loop_check_items(check.id).await?));
    }
    Ok(Json(views))
}

/// Begins a loop check with points of devices as they run now.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/loop-checks", operation_id = "begin_loop_check", tag = "watch",
    extensions(("x-role" = json!("operator"))), params(("gateway" = String, Path)), request_body = NewLoopCheck, responses(
    (status = 200, body = LoopCheckView), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn begin(
    State(app): State<Arc<App>>,
    Operator(author): Operator,
    Path(gateway): Path<String>,
    Json(wanted): Json<NewLoopCheck>,
) -> Result<Json<LoopCheckView>, ApiError> {
    let running = running(&app, &gateway)?;
    let all = running.points().all();
    if let Some(unknown) = wanted.devices.iter().find(|device| !all.iter().any(|info| *info.device() == **device)) {
        return Err(ApiError::NotFound(format!("device {unknown:?} among those that run")));
    }
    let is_wanted = |info: &&interlex_gateway::PointInfo| {
        let is_named = || wanted.points.iter().any(|named| *named == format!("{}/{}", info.device(), info.name()));
        wanted.devices.iter().any(|device| **device == *info.device()) && (wanted.points.is_empty() || is_named())
    };
    let points: Vec<_> = all
        .iter()
        .filter(is_wanted)
        .map(|info| {
            let point = info.point();
            LoopPoint {
                device: info.device().to_string(),
                point: info.name().to_owned(),
                title: point.settings.title.to_string(),
                address: info.address().to_string(),
                data_type: info.data_type().to_string(),
                unit: point.settings.unit.clone(),
            }
        })
        .collect();
    if points.is_empty() {
        return Err(ApiError::BadRequest("no point is chosen: name devices, or points of theirs".to_owned()));
    }
    let title = match wanted.title.trim() {
        "" => wanted.devices.join(", "),
        title => title.to_owned(),
    };
    let mut check = LoopCheck {
        id: 0,
        gateway: gateway.clone(),
        title,
        revision: running.revision(),
        points: serde_json::to_string(&points).map_err(|error| ApiError::Internal(error.to_string()))?,
        started_by: author.person.clone(),
        started_at: wall_clock().as_millis(),
        closed: None,
    };
    check.id = app.store.add_loop_check(&check).await?;
    let detail = format!("{}: {} points", check.title, points.len());
    app.audit(AuditEntry { action: "begin-loop-check", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    Ok(Json(view(&check, &[])))
}

/// The sheet of a loop check: every point, with what was found of it.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/loop-checks/{id}", operation_id = "loop_check", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), ("id" = u64, Path)), responses(
    (status = 200, body = LoopSheet), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn sheet(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, id)): Path<(String, u64)>,
) -> Result<Json<LoopSheet>, ApiError> {
    Ok(Json(sheet_of(&app, &found(&app, &gateway, id).await?).await?))
}

/// Writes down what was found of a point, beside what the gateway says of it at this moment.
#[utoipa::path(put, path = "/api/v1/gateways/{gateway}/loop-checks/{id}/findings", operation_id = "note_loop_finding", tag = "watch",
    extensions(("x-role" = json!("operator"))), params(("gateway" = String, Path), ("id" = u64, Path)), request_body = LoopFinding,
    responses((status = 200, body = LoopLine), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
pub(crate) async fn note(
    State(app): State<Arc<App>>,
    Operator(author): Operator,
    Path((gateway, id)): Path<(String, u64)>,
    Json(finding): Json<LoopFinding>,
) -> Result<Json<LoopLine>, ApiError> {
    let check = found(&app, &gateway, id).await?;
    let LoopFinding { device, point: name, result, expected, note } = finding;
    let mut points = points_of(&check).into_iter();
    let is_it = |one: &LoopPoint| one.device == device && one.point == name;
    let point =
        points.find(is_it).ok_or_else(|| ApiError::NotFound(format!("point {device}/{name} in this loop check")))?;
    let running = running(&app, &gateway)?;
    let reading = running.points().find(&device, &name).and_then(|info| running.latest().read(info.index));
    let value = reading.as_ref().and_then(|reading| reading.value.clone());
    let expected = expected.trim().to_owned();
    let result = match result {
        Some(result) => result,
        None if expected.is_empty() => {
            let why = "say what its display shows, or that it agrees, differs or is skipped";
            return Err(ApiError::BadRequest(why.to_owned()));
        }
        None if agrees(&expected, value.as_ref()) => LoopResult::Agrees,
        None => LoopResult::Differs,
    };
    let quality = match &reading {
        Some(reading) => crate::api::points::quality_words(reading),
        None => "not running".to_owned(),
    };
    let said = value.as_ref().map_or_else(|| "nothing".to_owned(), ToString::to_string);
    let raw = reading.as_ref().and_then(|reading| reading.raw.as_ref()).map(ToString::to_string).unwrap_or_default();
    let (person, at) = (author.person.clone(), wall_clock().as_millis());
    let result = result.word().to_owned();
    let item = LoopCheckItem { device, point: name, result, expected, said, raw, quality, note, person, at };
    if !app.store.keep_loop_check_item(id, &item).await? {
        return Err(ApiError::Conflict("this loop check is closed; begin another one".to_owned()));
    }
    let LoopCheckItem { result, expected, said, raw, quality, note, person, at, .. } = item;
    Ok(Json(LoopLine { point, result: Some(result), expected, said, raw, quality, note, person, at: Some(at) }))
}

/// Whether a display that shows this shows a value: a number to half of its last digit, all else by its letters.
fn agrees(expected: &str, value: Option<&Value>) -> bool {
    let Some(value) = value else { return false };
    let plain = expected.replace(['\u{202f}', '\u{a0}', ' '], "").replace(',', ".");
    let shown: Option<f64> = plain.parse().ok().filter(|number: &f64| number.is_finite());
    match (shown, value.as_f64()) {
        (Some(shown), Some(value)) => {
            let decimals = plain.split_once('.').map_or(0, |(_, decimals)| decimals.len());
            let last = 10_f64.powi(-i32::try_from(decimals).unwrap_or(0));
            (shown - value).abs() <= last * 0.500_001
        }
        _ => match value {
            Value::Bool(is_on) => {
                let word = expected.to_lowercase();
                let (on, off) = (["on", "1", "true"], ["off", "0", "false"]);
                if *is_on { on.contains(&&*word) } else { off.contains(&&*word) }
            }
            other => other.to_string().eq_ignore_ascii_case(expected),
        },
    }
}

/// Closes a loop check: nothing of it changes any more.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/loop-checks/{id}/close", operation_id = "close_loop_check", tag = "watch",
    extensions(("x-role" = json!("operator"))), params(("gateway" = String, Path), ("id" = u64, Path)), responses(
    (status = 200, body = LoopSheet), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
pub(crate) async fn close(
    State(app): State<Arc<App>>,
    Operator(author): Operator,
    Path((gateway, id)): Path<(String, u64)>,
) -> Result<Json<LoopSheet>, ApiError> {
    let check = found(&app, &gateway, id).await?;
    if !app.store.close_loop_check(id, &author.person, wall_clock().as_millis()).await? {
        return Err(ApiError::Conflict("this loop check is closed already".to_owned()));
    }
    app.audit(AuditEntry { action: "close-loop-check", detail: &check.title, gateway: &gateway, ..author.entry() })
        .await;
    Ok(Json(sheet_of(&app, &found(&app, &gateway, id).await?).await?))
}

/// The sheet as a spreadsheet reads it (`csv`), or as a page to print (`html`).
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/loop-checks/{id}/sheet/{form}", operation_id = "loop_check_sheet", tag = "watch",
    extensions(("x-role" = json!("viewer"))), params(("gateway" = String, Path), ("id" = u64, Path), ("form" = String, Path)), responses(
    (status = 200, content_type = "text/csv"), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn export(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, id, form)): Path<(String, u64, String)>,
) -> Result<impl IntoResponse, ApiError> {
    let sheet = sheet_of(&app, &found(&app, &gateway, id).await?).await?;
    let (kind, text) = match form.as_str() {
        "csv" => ("text/csv; charset=utf-8", csv(&sheet)),
        "html" => ("text/html; charset=utf-8", html(&sheet)),
        other => return Err(ApiError::NotFound(format!("form {other:?} of a sheet: csv and html are there"))),
    };
    let shown = if form == "html" { "inline" } else { "attachment" };
    let place = format!("{shown}; filename=\"loop-check-{id}.{form}\"");
    Ok(([(header::CONTENT_TYPE, kind.to_owned()), (header::CONTENT_DISPOSITION, place)], text))
}

const COLUMNS: [&str; 14] = [
    "device",
    "point",
    "title",
    "address",
    "type",
    "unit",
    "result",
    "display",
    "gateway said",
    "raw",
    "quality",
    "note",
    "who",
    "when",
];

fn cells(line: &LoopLine) -> [String; 14] {
    let LoopPoint { device, point, title, address, data_type, unit } = line.point.clone();
    let result = line.result.clone().unwrap_or_else(|| "not checked".to_owned());
    let (expected, said, raw) = (line.expected.clone(), line.said.clone(), line.raw.clone());
    let (quality, note, person) = (line.quality.clone(), line.note.clone(), line.person.clone());
    let at = line.at.map(iso_time).unwrap_or_default();
    [device, point, title, address, data_type, unit, result, expected, said, raw, quality, note, person, at]
}

fn csv(sheet: &LoopSheet) -> String {
    let row =
        |cells: &[String]| cells.iter().map(|text| cell(text, ',').to_string()).collect::<Vec<_>>().join(",") + "\r\n";
    let header = format!("{}\r\n", COLUMNS.join(","));
    header + &sheet.lines.iter().map(|line| row(&cells(line))).collect::<String>()
}

fn html(sheet: &LoopSheet) -> String {
    let escape =
        |text: &str| text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;");
    let check = &sheet.check;
    let closed = match (&check.closed_by, check.closed_at) {
        (Some(by), Some(at)) => format!("closed by {} at {}", escape(by), iso_time(at)),
        _ => "not closed".to_owned(),
    };
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>Loop check {id}: {title}</title></head>\n<body>\n\
         <h1>Loop check {id}: {title}</h1>\n<p>Gateway {gateway}, revision {revision}. Begun by {by} at {at}; {closed}.</p>\n\
         <p>{points} points: {agree} agree, {differ} differ, {skipped} skipped, {open} not checked.</p>\n<table border=\"1\" \
         cellspacing=\"0\" cellpadding=\"4\">\n<thead><tr>",
        id = check.id,
        title = escape(&check.title),
        gateway = escape(&check.gateway),
        revision = check.revision,
        by = escape(&check.started_by),
        at = iso_time(check.started_at),
        points = check.points,
        agree = check.agree,
        differ = check.differ,
        skipped = check.skipped,
        open = check.open,
    );
    for column in COLUMNS {
        // Writing into a string cannot fail.
        let _ = write!(page, "<th align=\"left\">{column}</th>");
    }
    page.push_str("</tr></thead>\n<tbody>\n");
    for line in &sheet.lines {
        page.push_str("<tr>");
        for text in cells(line) {
            let _ = write!(page, "<td>{}</td>", escape(&text));
        }
        page.push_str("</tr>\n");
    }
    page.push_str("</tbody></table>\n<p>Name: ______________________________ Date: ______________ Signature: ______________________________</p>\n</body></html>\n");
    page
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_display_agrees_to_half_of_its_last_digit() {
        let number = |expected: &str, value: f64| agrees(expected, Some(&Value::Float64(value)));
        assert!(
            number("54.5", 54.53) && number("54,53", 54.53) && number("55", 54.53) && number("7 318 234", 7_318_234.0)
        );
        assert!(!number("54.6", 54.53) && !number("54", 54.53) && !number("", 0.0) && !number("on", 1.0));
        assert!(agrees("ON", Some(&Value::Bool(true))) && !agrees("on", Some(&Value::Bool(false))));
        assert!(agrees("Running", Some(&Value::Text("running".into()))) && !agrees("1", None));
    }
}
