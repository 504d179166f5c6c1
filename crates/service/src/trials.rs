use crate::auth::Engineer;
use crate::drafts;
use crate::extract::{Json, Path};
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use interlex_core::description::{Draft, ObjectClass, check, list_of};
use interlex_gateway::{TrialRead, TrialReading};
use interlex_store::AuditEntry;
use serde::Deserialize;
use serde_json::Value;
use std::sync::Arc;

/// A point to read once, now: objects with the keys of the files, which need not be saved anywhere.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct TrialRequest {
    /// A link.
    link: Value,
    /// A device. Its name, link and point list may be left out.
    device: Value,
    /// A point. Its name and rate may be left out.
    point: Value,
    /// Whether its neighbours are read too, and every plausible type and order told side by side.
    #[serde(default)]
    neighbours: bool,
    /// The value that the device's own display shows: what comes near it is marked.
    #[serde(default)]
    expected: Option<f64>,
}

/// Reads a point once, now, without touching draft or revision.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/trials", operation_id = "trial_read", tag = "draft", request_body = TrialRequest,
    params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = TrialReading), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 422, body = ProblemDetails), (status = 502, body = ProblemDetails)))]
pub(crate) async fn read(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<TrialRequest>,
) -> Result<Json<TrialReading>, ApiError> {
    app.store.gateway(&gateway).await?.ok_or_else(|| drafts::unknown(&gateway))?;
    let trial = described(wanted)?;
    let running = app.gateway(&gateway).map(|gateway| gateway.running());
    let outcome = trial.run(running.as_deref()).await;
    let what = format!("{} at {}", trial.point.address, trial.link.protocol.target());
    let detail = match &outcome {
        Ok(reading) => format!("{what}: {:?}", reading.registers),
        Err(error) => format!("{what}: {error}"),
    };
    app.audit(AuditEntry { action: "trial-read", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    outcome.map(Json).map_err(ApiError::Trial)
}

const NAME: &str = "trial";

/// The objects as a description of one point, checked like every other.
fn described(wanted: TrialRequest) -> Result<TrialRead, ApiError> {
    let TrialRequest { mut link, mut device, mut point, neighbours, expected } = wanted;
    let objects = [&mut link, &mut device, &mut point];
    for object in objects {
        let Some(map) = object.as_object_mut() else {
            return Err(ApiError::BadRequest("link, device and point are JSON objects".to_owned()));
        };
        if map.get("name").and_then(Value::as_str).is_none_or(str::is_empty) {
            map.insert("name".to_owned(), NAME.into());
        }
    }
    if let (Some(device), Some(name)) = (device.as_object_mut(), link.get("name").cloned()) {
        device.insert("link".to_owned(), name);
    }
    if let Some(point) = point.as_object_mut() {
        point.insert("rate".to_owned(), NAME.into());
    }
    let mut draft = Draft::new(NAME);
    draft.rates.insert(NAME.to_owned(), "1s".into());
    let list = list_of(&device).into_owned();
    draft.push(ObjectClass::Link, "", link);
    draft.push(ObjectClass::Device, "", device);
    draft.push(ObjectClass::Point, &list, point);
    let mut description = check(&draft).into_result().map_err(ApiError::Description)?;
    let parts = (description.links.pop(), description.devices.pop());
    let (Some(link), Some(mut device)) = parts else {
        return Err(ApiError::BadRequest("name a link and a device".to_owned()));
    };
    let point = device.points.pop().ok_or_else(|| ApiError::BadRequest("name a point".to_owned()))?;
    Ok(TrialRead { link, device, point, neighbours, expected })
}
