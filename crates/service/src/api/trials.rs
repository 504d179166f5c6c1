use crate::access::auth::{Author, Commissioner, Engineer};
use crate::api::extract::{Json, Path};
use crate::draft::drafts;
use crate::{ApiError, App, ProblemDetails};
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use interlex_core::description::{
    Device, DeviceProtocol, Draft, Link, ModbusAddress, ModbusTable, ObjectClass, Point, Uplink, UplinkKind, list_of,
};
use interlex_core::value_from_words;
use interlex_gateway::{
    BrokerTrial, PointWrite, Running, Scan, ScanEvent, SunSpecOffer, TrialIdentity, TrialMessage, TrialRead,
    TrialReading, WriteError, WriteOutcome, preview, try_read, try_write,
};
use interlex_store::AuditEntry;
use serde::Deserialize;
use serde_json::{Value, json};
use std::convert::Infallible;
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio_stream::StreamExt;
use tokio_stream::wrappers::ReceiverStream;

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
    let (link, device, point) = described(&app, &gateway, link, device, point).await?;
    let trial = TrialRead { link, device, point, neighbours, expected };
    let outcome = try_read(&trial, running.as_deref()).await;
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
    /// The engineering value: a number, true or false, or text.
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
    let (link, device, point) = described(&app, &gateway, link, device, point).await?;
    let value = value_of(&value, |words| value_from_words(&point, words))?;
    let write = PointWrite { link, device, point, value, index: None };
    let what = format!("{} = {} at {}", write.point.address, write.value, write.link.protocol.target());
    let written = async move { try_write(&write, running.as_deref()).await };
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
    let task = tokio::spawn(async move {
        let outcome = written.await;
        let detail = match &outcome {
            Ok(outcome) => format!("{what}: {}", outcome.words),
            Err(error) => format!("{what}: {}", error.outcome()),
        };
        app.audit(AuditEntry { action, detail: &detail, gateway: &gateway, ..author.entry() }).await;
        outcome
    });
    task.await.map_err(ApiError::internal)?.map(Json).map_err(ApiError::from)
}

/// A value as JSON says it.
pub(crate) fn value_of(
    value: &Value,
    words: impl Fn(&str) -> interlex_core::Value,
) -> Result<interlex_core::Value, ApiError> {
    use interlex_core::Value as Raw;
    let number = |number: &serde_json::Number| {
        let whole = number.as_u64().map(Raw::Uint).or_else(|| number.as_i64().map(Raw::Int));
        whole.or_else(|| number.as_f64().map(Raw::Float64))
    };
    let known = match value {
        Value::Bool(bit) => Some(Raw::Bool(*bit)),
        Value::String(text) => Some(words(text)),
        Value::Number(known) => number(known),
        Value::Null | Value::Array(_) | Value::Object(_) => None,
    };
    known.ok_or_else(|| ApiError::BadRequest(format!("value is {value}; expected a number, true, false or text")))
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

/// A unit to ask who it is.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct TrialIdentifyRequest {
    /// A link.
    link: Value,
    /// A device. Its name, link and point list may be left out.
    device: Value,
}

/// Asks a unit once, now, who it is (function 43/14).
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
    let (link, device, _) = described(&app, &gateway, wanted.link, wanted.device, any_point()).await?;
    let DeviceProtocol::Modbus(modbus) = &device.protocol;
    let outcome = interlex_gateway::identify(&link, modbus.unit, running.as_deref()).await;
    let what = format!("unit {} at {}", modbus.unit, link.protocol.target());
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

/// A unit whose SunSpec models are looked for.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct TrialSunSpecRequest {
    /// A link.
    link: Value,
    /// A device. Its name, link and point list may be left out.
    device: Value,
    /// The rate that the points are to be sampled at.
    rate: String,
}

/// Finds the SunSpec marker of a unit, walks its models, and offers its points as a list.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/trials/sunspec", operation_id = "trial_sunspec", tag = "draft",
    request_body = TrialSunSpecRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = SunSpecOffer), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 422, body = ProblemDetails), (status = 502, body = ProblemDetails)))]
pub(crate) async fn sunspec(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<TrialSunSpecRequest>,
) -> Result<Json<SunSpecOffer>, ApiError> {
    let running = running(&app, &gateway).await?;
    let (link, device, _) = described(&app, &gateway, wanted.link, wanted.device, any_point()).await?;
    let outcome = interlex_gateway::sunspec(&link, &device, &wanted.rate, running.as_deref()).await;
    let DeviceProtocol::Modbus(modbus) = &device.protocol;
    let what = format!("unit {} at {}", modbus.unit, link.protocol.target());
    let detail = match &outcome {
        Ok(offer) => format!("{what}: {} models from {} on", offer.models.len(), offer.base),
        Err(error) => format!("{what}: {error}"),
    };
    app.audit(AuditEntry { action: "trial-sunspec", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    outcome.map(Json).map_err(ApiError::Trial)
}

/// What to look for on a link: units, or addresses of one unit.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct TrialScanRequest {
    /// A link.
    link: Value,
    /// The unit whose addresses are looked for; units are looked for when it is left out.
    #[serde(default)]
    unit: Option<u8>,
    /// The table whose addresses are looked for: coil, discrete, input or holding.
    #[serde(default)]
    table: Option<String>,
    /// The first unit or address.
    #[serde(default)]
    first: Option<u16>,
    /// The last unit or address.
    #[serde(default)]
    last: Option<u16>,
    /// How many requests a second it may take, 1 to 100.
    #[serde(default = "usual_pace")]
    #[schema(minimum = 1, maximum = 100)]
    per_second: u32,
}

/// Fast enough to scan a line in a minute, slow enough that polls go on.
fn usual_pace() -> u32 {
    20
}

impl TrialScanRequest {
    fn scan(&self) -> Result<Scan, ApiError> {
        let Some(unit) = self.unit else {
            // Units 248 to 255 are reserved: MODBUS over Serial Line V1.02, section 2.2.
            let (first, last) = (self.first.unwrap_or(1), self.last.unwrap_or(247));
            let both = u8::try_from(first).ok().zip(u8::try_from(last).ok()).filter(|(first, last)| first <= last);
            let told = || ApiError::BadRequest(format!("units {first} to {last}; expected some of 0 to 255"));
            return both.map(|(first, last)| Scan::Units(first..=last)).ok_or_else(told);
        };
        let word = self.table.as_deref().unwrap_or("holding");
        let table = ModbusTable::from_word(word).ok_or_else(|| {
            ApiError::BadRequest(format!("table is {word:?}; expected coil, discrete, input or holding"))
        })?;
        let (first, last) = (self.first.unwrap_or(0), self.last.unwrap_or(999));
        match first <= last {
            true => Ok(Scan::Addresses { unit, table, range: first..=last }),
            false => Err(ApiError::BadRequest(format!("addresses {first} to {last}; expected the lower one first"))),
        }
    }
}

/// Looks which units answer on a link, or which addresses of a unit exist. One event a line, as it finds them; closing the
/// connection ends it.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/trials/scan", operation_id = "trial_scan", tag = "draft",
    request_body = TrialScanRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, content_type = "application/x-ndjson", body = ScanEvent), (status = 401, body = ProblemDetails),
    (status = 400, body = ProblemDetails), (status = 403, body = ProblemDetails), (status = 422, body = ProblemDetails),
    (status = 429, body = ProblemDetails)))]
pub(crate) async fn scan(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Commissioner(right): Commissioner,
    Path(gateway): Path<String>,
    Json(wanted): Json<TrialScanRequest>,
) -> Result<impl IntoResponse, ApiError> {
    let running = running(&app, &gateway).await?;
    let scan = wanted.scan()?;
    if !(1..=100).contains(&wanted.per_second) {
        let message = format!("per_second is {}; expected 1 to 100", wanted.per_second);
        return Err(ApiError::BadRequest(message));
    }
    let (link, ..) = described(&app, &gateway, wanted.link, json!({ "unit": 1 }), any_point()).await?;
    let opening = app.scans.open(&link.protocol.target())?;
    let detail = format!("{scan} at {}", link.protocol.target());
    app.audit(AuditEntry { action: "trial-scan", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    // A reader who is slow slows the scan down.
    let (sender, receiver) = mpsc::channel(16);
    tokio::spawn(async move {
        let _opening = opening;
        let failed =
            interlex_gateway::scan(scan, &link, running.as_deref(), wanted.per_second, sender.clone()).await.err();
        if let Some(error) = failed {
            // Whoever listened may have gone.
            let _ = sender.send(ScanEvent::Failed { why: error.to_string() }).await;
        }
    });
    let events = futures_util::StreamExt::take_until(ReceiverStream::new(receiver), Box::pin(right.ended()));
    let lines = events.map(|event| {
        let line = serde_json::to_string(&event).unwrap_or_default() + "\n";
        Ok::<_, Infallible>(Bytes::from(line))
    });
    Ok(([(header::CONTENT_TYPE, "application/x-ndjson")], Body::from_stream(lines)))
}

/// What runs of a gateway, which has to exist.
async fn running(app: &App, gateway: &str) -> Result<Option<Arc<Running>>, ApiError> {
    app.store.gateway(gateway).await?.ok_or_else(|| drafts::unknown(gateway))?;
    Ok(app.gateway(gateway).map(|gateway| gateway.running()))
}

const NAME: &str = "trial";

/// A point that is not used, where only link and device matter.
fn any_point() -> Value {
    json!({ "address": "holding:0", "type": "uint16" })
}

/// Whether an address is that of a register, and not of a bit.
fn is_register(address: Option<&Value>) -> bool {
    let address = address.and_then(Value::as_str).and_then(|text| text.parse::<ModbusAddress>().ok());
    address.is_some_and(|address| !address.table.is_bits() && address.bits.is_none_or(|(low, high)| low < high))
}

/// The objects as a description of one point, checked like every other.
async fn described(
    app: &App,
    gateway: &str,
    mut link: Value,
    mut device: Value,
    mut point: Value,
) -> Result<(Link, Device, Point), ApiError> {
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
        // Whoever does not know the type yet asks for the register as it is.
        if point.get("type").is_none_or(Value::is_null) && is_register(point.get("address")) {
            point.insert("type".to_owned(), "uint16".into());
        }
    }
    let mut draft = Draft::new(NAME);
    if let Some(device) = device.as_object_mut() {
        // The list of the real device may say what this point does not.
        device.remove("points");
    }
    draft.rates.insert(NAME.to_owned(), "1s".into());
    let list = list_of(&device).into_owned();
    draft.push(ObjectClass::Link, "", link);
    draft.push(ObjectClass::Device, "", device);
    draft.push(ObjectClass::Point, &list, point);
    let opened = drafts::open(app, gateway).await?;
    let mut description = drafts::for_trial(app, draft, &opened.draft)?;
    let parts = (description.links.pop(), description.devices.pop());
    let (Some(link), Some(mut device)) = parts else {
        return Err(ApiError::BadRequest("name a link and a device".to_owned()));
    };
    let point = device.points.pop().ok_or_else(|| ApiError::BadRequest("name a point".to_owned()))?;
    Ok((link, device, Arc::unwrap_or_clone(point)))
}
