use crate::access::auth::{Author, Engineer};
use crate::api::extract::{Json, Path};
use crate::draft::drafts;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use interlex_busy::watched;
use interlex_core::description::{Device, Draft, Link, ObjectClass, Point, Protocol, Uplink, UplinkKind, list_of};
use interlex_core::{CommandValue, Value as Raw, value_from_words};
use interlex_gateway::{
    BrokerTrial, DeviceAct, PointWrite, Relinquish, Running, TrialAct, TrialIdentity, TrialMessage, TrialRead,
    TrialReading, WriteError, WriteOutcome, preview, try_read, try_write,
};
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
    let running = running(&app, &gateway).await?;
    let TrialRequest { link, device, point, neighbours, expected } = wanted;
    let (link, device, point) = described_point(&app, &gateway, link, device, point).await?;
    let trial = TrialRead { link, device, point, neighbours, expected };
    let outcome = try_read(&trial, &app.via(running.as_deref())).await;
    let what = format!("{} at {}", trial.point.address, trial.link.protocol.target());
    let detail = match &outcome {
        Ok(reading) => format!("{what}: {:?}", reading.registers),
        Err(error) => format!("{what}: {error}"),
    };
    app.audit(AuditEntry { action: "trial-read", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    outcome.map(Json).map_err(ApiError::Trial)
}

/// A value to write once, now.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct TrialWriteRequest {
    /// A link.
    link: Value,
    /// A device. Its name, link and point list may be left out.
    device: Value,
    /// A point. Its name, rate and access may be left out.
    point: Value,
    /// The engineering value: a number, true or false, or text; null gives back what was commanded before.
    value: Value,
}

/// Writes a value once, now, without touching draft or revision, and reads it back.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/trials/write", operation_id = "trial_write", tag = "draft",
    request_body = TrialWriteRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = WriteOutcome), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 422, body = ProblemDetails), (status = 502, body = ProblemDetails)))]
pub(crate) async fn write(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<TrialWriteRequest>,
) -> Result<Json<WriteOutcome>, ApiError> {
    let running = running(&app, &gateway).await?;
    let TrialWriteRequest { link, device, mut point, value } = wanted;
    if let Some(point) = point.as_object_mut() {
        point.insert("access".to_owned(), "read-write".into());
    }
    let (link, device, point) = described_point(&app, &gateway, link, device, point).await?;
    let command = command_of(&value, |words| value_from_words(&point, words))?;
    let what = format!("{} = {command} at {}", point.address, link.protocol.target());
    let (value, relinquishes) = match command {
        CommandValue::Set(value) => (value, Relinquish::No),
        CommandValue::Relinquish => (Raw::Text(CommandValue::RELINQUISH.into()), Relinquish::Yes),
    };
    let write = PointWrite { link, device, point, value, relinquishes, index: None };
    let via = app.via(running.as_deref());
    let written = async move { try_write(&write, &via).await };
    audited(app, author, ("trial-write", gateway, what), written).await
}

/// Writes, and tells the audit trail what came of it, also when nobody waits for the answer any more.
pub(crate) async fn audited(
    app: Arc<App>,
    author: Author,
    (action, gateway, what): (&'static str, String, String),
    written: impl Future<Output = Result<WriteOutcome, WriteError>> + Send + 'static,
) -> Result<Json<WriteOutcome>, ApiError> {
    if app.is_audit_required && (!app.database.read().up || app.trail.flush().await.is_err()) {
        return Err(ApiError::AuditAway);
    }
    let task = tokio::spawn(watched("trial", gateway.clone(), async move {
        let outcome = written.await;
        let detail = match &outcome {
            Ok(outcome) => format!("{what}: {}", outcome.words),
            Err(error) => format!("{what}: {}", error.outcome()),
        };
        app.audit(AuditEntry { action, detail: &detail, gateway: &gateway, ..author.entry() }).await;
        outcome
    }));
    task.await.map_err(ApiError::internal)?.map(Json).map_err(ApiError::from)
}

/// A command as JSON says it.
pub(crate) fn command_of(value: &Value, words: impl Fn(&str) -> Raw) -> Result<CommandValue, ApiError> {
    let number = |number: &serde_json::Number| {
        let whole = number.as_u64().map(Raw::Uint).or_else(|| number.as_i64().map(Raw::Int));
        whole.or_else(|| number.as_f64().map(Raw::Float64))
    };
    let known = match value {
        Value::Bool(bit) => Some(Raw::Bool(*bit)),
        Value::String(text) => Some(words(text)),
        Value::Number(known) => number(known),
        Value::Null => return Ok(CommandValue::Relinquish),
        Value::Array(_) | Value::Object(_) => None,
    };
    known
        .map(CommandValue::Set)
        .ok_or_else(|| ApiError::BadRequest(format!("value is {value}; expected a number, true, false, text or null")))
}

/// An uplink whose broker is tried.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct TrialBrokerRequest {
    /// An uplink. Secrets that say that they are stored are those of the draft's uplink of the same name.
    uplink: Value,
    /// Whether to publish, too: a death that hosts pass over, or an empty message to the topic of the first message.
    #[serde(default)]
    publish: bool,
}

/// Goes the way to a broker step by step, and says which step failed and why. A session that runs goes on.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/trials/broker", operation_id = "trial_broker", tag = "draft",
    request_body = TrialBrokerRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = BrokerTrial), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
pub(crate) async fn broker(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(TrialBrokerRequest { uplink, publish }): Json<TrialBrokerRequest>,
) -> Result<Json<BrokerTrial>, ApiError> {
    let opened = drafts::open(&app, &gateway).await?;
    let mut draft = Draft::new(NAME);
    draft.push(ObjectClass::Uplink, "", uplink);
    let mut description = drafts::for_trial(&app, draft, &opened.draft)?;
    let uplink = description.uplinks.pop().ok_or_else(|| ApiError::BadRequest("name an uplink".to_owned()))?;
    let message = if publish { Some(trial_message(&app, &gateway, &uplink).await?) } else { None };
    let trial = interlex_gateway::try_broker(&uplink, message.as_ref()).await;
    let last = trial.steps.last().map_or_else(String::new, |last| format!("{}: {}", last.step, last.said));
    let detail = format!("{}: {last}", uplink.settings.url);
    app.audit(AuditEntry { action: "trial-broker", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    Ok(Json(trial))
}

/// What a trial of an uplink can publish without harm.
async fn trial_message(app: &App, gateway: &str, uplink: &Uplink) -> Result<TrialMessage, ApiError> {
    let running = app.gateway(gateway);
    match &uplink.kind {
        UplinkKind::Sparkplug(own) => {
            let status = running.map(|gateway| gateway.status());
            let same = status
                .iter()
                .flat_map(|status| &status.uplinks)
                .find(|status| status.name == uplink.settings.name.as_str());
            Ok(TrialMessage::of_node(own.group.as_str(), own.node.as_str(), same.and_then(|status| status.bd_seq)))
        }
        UplinkKind::Json(own) => {
            let nothing = || ApiError::BadRequest("the gateway has to run, so that there is a topic".to_owned());
            let first = preview(&running.ok_or_else(nothing)?.running(), own, uplink.broker.select.as_ref())
                .await
                .into_iter()
                .next();
            let first = first.ok_or_else(nothing)?;
            match first.error {
                Some(error) => Err(ApiError::BadRequest(error)),
                None => Ok(TrialMessage { topic: first.topic, payload: Vec::new() }),
            }
        }
    }
}

/// A device to ask who it is.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct TrialIdentifyRequest {
    /// A link.
    link: Value,
    /// A device. Its name, link and point list may be left out.
    device: Value,
}

/// Asks a device once, now, who it is (Modbus: function 43/14).
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/trials/identify", operation_id = "trial_identify", tag = "draft",
    request_body = TrialIdentifyRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = TrialIdentity), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 422, body = ProblemDetails), (status = 502, body = ProblemDetails)))]
pub(crate) async fn identify(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<TrialIdentifyRequest>,
) -> Result<Json<TrialIdentity>, ApiError> {
    let running = running(&app, &gateway).await?;
    let (link, device) = described(&app, &gateway, wanted.link, Some(wanted.device), None).await?;
    let device = device.ok_or_else(no_device)?;
    let outcome = interlex_gateway::identify(&link, &device, &app.via(running.as_deref())).await;
    let what = format!("{} at {}", device.protocol.place(), link.protocol.target());
    let detail = match &outcome {
        Ok(identity) => {
            let said: Vec<_> = identity.objects.iter().map(|object| object.value.as_str()).collect();
            format!("{what}: {}", said.join(", "))
        }
        Err(error) => format!("{what}: {error}"),
    };
    app.audit(AuditEntry { action: "trial-identify", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    outcome.map(Json).map_err(ApiError::Trial)
}

/// Something that a device is told or asked.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct TrialActRequest {
    /// A link.
    link: Value,
    /// A device. Its point list may be left out.
    device: Value,
    /// What it is told or asked.
    act: DeviceAct,
    /// The name of the device once more, where that changes something.
    confirm: Option<String>,
}

/// Tells or asks an outstation something once, now: its link status, everything, a freeze, a restart.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/trials/act", operation_id = "trial_act", tag = "draft",
    request_body = TrialActRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = TrialAct), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 422, body = ProblemDetails), (status = 502, body = ProblemDetails)))]
pub(crate) async fn act(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<TrialActRequest>,
) -> Result<Json<TrialAct>, ApiError> {
    let running = running(&app, &gateway).await?;
    let TrialActRequest { link, device, act, confirm } = wanted;
    let (link, device) = described(&app, &gateway, link, Some(device), None).await?;
    let device = device.ok_or_else(no_device)?;
    let name = device.settings.name.as_str();
    if act.changes() && confirm.as_deref() != Some(name) {
        let wanted = format!("this changes something at the device: confirm has to be its name, {name:?}");
        return Err(ApiError::BadRequest(wanted));
    }
    if act.changes() && app.is_audit_required && (!app.database.read().up || app.trail.flush().await.is_err()) {
        return Err(ApiError::AuditAway);
    }
    let what = format!("{act:?} of {} at {}", device.protocol.place(), link.protocol.target());
    // What was sent is told to the audit trail, also when nobody waits for the answer any more.
    let task = tokio::spawn(watched("trial", gateway.clone(), async move {
        let outcome = interlex_gateway::act(&link, &device, act, &app.via(running.as_deref())).await;
        let said = outcome.as_ref().map_or_else(ToString::to_string, |act| act.said.clone());
        let detail = format!("{what}: {said}");
        app.audit(AuditEntry { action: "trial-act", detail: &detail, gateway: &gateway, ..author.entry() }).await;
        outcome
    }));
    task.await.map_err(ApiError::internal)?.map(Json).map_err(ApiError::Trial)
}

/// What runs of a gateway, which has to exist.
pub(super) async fn running(app: &App, gateway: &str) -> Result<Option<Arc<Running>>, ApiError> {
    app.store.gateway(gateway).await?.ok_or_else(|| drafts::unknown(gateway))?;
    Ok(app.gateway(gateway).map(|gateway| gateway.running()))
}

const NAME: &str = "trial";

fn no_device() -> ApiError {
    ApiError::BadRequest("name a device".to_owned())
}

/// The objects as a description of one point, checked like every other.
async fn described_point(
    app: &App,
    gateway: &str,
    link: Value,
    device: Value,
    point: Value,
) -> Result<(Link, Device, Point), ApiError> {
    let (link, device) = described(app, gateway, link, Some(device), Some(point)).await?;
    let device = device.ok_or_else(no_device)?;
    let point = device.points.last().ok_or_else(|| ApiError::BadRequest("name a point".to_owned()))?;
    let point = Point::clone(point);
    Ok((link, device, point))
}

/// A link, a device behind it and a point of that as a description, checked like every other.
pub(super) async fn described(
    app: &App,
    gateway: &str,
    mut link: Value,
    mut device: Option<Value>,
    mut point: Option<Value>,
) -> Result<(Link, Option<Device>), ApiError> {
    let objects = std::iter::once(&mut link).chain(&mut device).chain(&mut point);
    for object in objects {
        let Some(map) = object.as_object_mut() else {
            return Err(ApiError::BadRequest("link, device and point are JSON objects".to_owned()));
        };
        if map.get("name").and_then(Value::as_str).is_none_or(str::is_empty) {
            map.insert("name".to_owned(), NAME.into());
        }
    }
    let protocol = link.get("protocol").and_then(Value::as_str).and_then(Protocol::of_word);
    let mut draft = Draft::new(NAME);
    draft.rates.insert(NAME.to_owned(), "1s".into());
    if let Some(device) = device.as_mut().and_then(Value::as_object_mut) {
        device.extend(link.get("name").map(|name| ("link".to_owned(), name.clone())));
        // The list of the real device may say what this point does not.
        device.remove("points");
    }
    draft.push(ObjectClass::Link, "", link);
    if let Some(device) = device {
        let list = list_of(&device).into_owned();
        draft.push(ObjectClass::Device, "", device);
        if let Some(mut point) = point {
            if let Some(point) = point.as_object_mut() {
                point.insert("rate".to_owned(), NAME.into());
                // Whoever does not know the type yet asks for what stands there as it is.
                let address = point.get("address").and_then(Value::as_str).unwrap_or_default();
                let plain = protocol.and_then(|protocol| protocol.plain_type(address));
                if let Some(plain) = plain.filter(|_| point.get("type").is_none_or(Value::is_null)) {
                    point.insert("type".to_owned(), plain.to_string().into());
                }
            }
            draft.push(ObjectClass::Point, &list, point);
        }
    }
    draft.complete_lists();
    let opened = drafts::open(app, gateway).await?;
    let mut description = drafts::for_trial(app, draft, &opened.draft)?;
    let link = description.links.pop().ok_or_else(|| ApiError::BadRequest("name a link".to_owned()))?;
    Ok((link, description.devices.pop()))
}
