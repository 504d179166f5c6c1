//! What devices, links and models offer: told as a stream, and put into the draft.

use super::check::rows_fit;
use super::trials::{described, running};
use crate::access::auth::{Commissioner, Engineer};
use crate::api::extract::{Json, Path};
use crate::api::models::model;
use crate::draft::drafts;
use crate::{ApiError, App, ProblemDetails};
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use futures_util::StreamExt;
use interlex_busy::{aside, watched};
use interlex_core::description::{
    self, Files, MAIN_FILE, OffersImport, Problem, TakenOffers, difference, import_offers, list_of,
};
use interlex_core::{NameRule, Offer, OfferDifference, OfferEvent, differences, offers_of};
use interlex_gateway::{OfferRequest, Offering, Running, ask_for_offers};
use interlex_store::AuditEntry;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::convert::Infallible;
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio_stream::wrappers::ReceiverStream;

/// What is to be told.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct OffersRequest {
    /// The word of a source: one of those that `forms` tells for the kind of link, or `model`.
    source: String,
    /// What the form of the source wants to know; for `model` its `name`.
    #[serde(default)]
    with: Value,
    /// The link that is asked; none for a model.
    #[serde(default)]
    link: Value,
    /// The device that is asked, for sources of one device. Its name, link and point list may be left out.
    #[serde(default)]
    device: Value,
}

/// Lets a device, a link or a model tell what it has. One event a line, as it comes; closing the connection ends it. Polls go on
/// meanwhile.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/offers", operation_id = "ask_for_offers", tag = "draft",
    request_body = OffersRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, content_type = "application/x-ndjson", body = OfferEvent), (status = 400, body = ProblemDetails),
    (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails),
    (status = 413, body = ProblemDetails), (status = 422, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
pub(crate) async fn ask(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Commissioner(right): Commissioner,
    Path(gateway): Path<String>,
    Json(wanted): Json<OffersRequest>,
) -> Result<impl IntoResponse, ApiError> {
    let running = running(&app, &gateway).await?;
    // A reader who is slow slows the asking down.
    let (events, told) = mpsc::channel(16);
    if wanted.source == "model" {
        let offers = of_model(wanted.with.get("name").and_then(Value::as_str).unwrap_or_default())?;
        // There is room for three.
        for event in [OfferEvent::Points { offers }, OfferEvent::Done { requests: 0 }] {
            events.try_send(event).map_err(ApiError::internal)?;
        }
    } else {
        let with = if wanted.with.is_null() { Value::Object(serde_json::Map::new()) } else { wanted.with };
        let device = Some(wanted.device).filter(|device| !device.is_null());
        let (link, device) = described(&app, &gateway, wanted.link, device, None).await?;
        let who = device.as_ref().map(|device| format!("{} at ", device.protocol.place())).unwrap_or_default();
        let target = link.protocol.target();
        let request = OfferRequest { link, device, source: wanted.source, filled: with };
        let offering = Offering::new(&request, events).map_err(ApiError::BadRequest)?;
        let opening = app.scans.open(&target)?;
        let detail = format!("{} of {who}{target}", request.source);
        app.audit(AuditEntry { action: "ask-for-offers", detail: &detail, gateway: &gateway, ..author.entry() }).await;
        let via = app.via(running.as_deref());
        tokio::spawn(watched("offers", target, async move {
            let _opening = opening;
            ask_for_offers(offering, &via).await;
        }));
    }
    Ok(as_lines(told, right.ended()))
}

/// What is told, a line each, until somebody loses the right to hear it.
fn as_lines<T: Serialize + Send + 'static>(
    told: mpsc::Receiver<T>,
    ended: impl Future<Output = ()> + Send + 'static,
) -> impl IntoResponse {
    let lines = ReceiverStream::new(told).take_until(Box::pin(ended)).map(|one| {
        let line = serde_json::to_string(&one).unwrap_or_default() + "\n";
        Ok::<_, Infallible>(Bytes::from(line))
    });
    ([(header::CONTENT_TYPE, "application/x-ndjson")], Body::from_stream(lines))
}

/// Which devices are asked whether they are like the one that was chosen from.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct CompareRequest {
    /// The word of the source that was asked.
    source: String,
    /// What its form was filled in with.
    #[serde(default)]
    with: Value,
    /// The devices of the draft that are asked, one after the other.
    devices: Vec<String>,
    /// What was chosen.
    offers: Vec<Offer>,
}

/// What a device says otherwise.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct Sibling {
    /// The device.
    device: String,
    /// What it says otherwise, of what was chosen.
    differences: Vec<OfferDifference>,
    /// Why it said nothing.
    #[serde(skip_serializing_if = "Option::is_none")]
    failed: Option<String>,
}

/// Asks other devices for what was chosen from one like them, and tells what differs. One device a line, as it answers; closing the
/// connection ends it.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/offers/compare", operation_id = "compare_offers", tag = "draft",
    request_body = CompareRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, content_type = "application/x-ndjson", body = Sibling), (status = 400, body = ProblemDetails),
    (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails),
    (status = 413, body = ProblemDetails), (status = 422, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
pub(crate) async fn compare(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Commissioner(right): Commissioner,
    Path(gateway): Path<String>,
    Json(wanted): Json<CompareRequest>,
) -> Result<impl IntoResponse, ApiError> {
    let running = running(&app, &gateway).await?;
    let opened = drafts::open(&app, &gateway).await?;
    let CompareRequest { source, with, devices, offers } = wanted;
    let with = if with.is_null() { Value::Object(serde_json::Map::new()) } else { with };
    let mut asked = Vec::new();
    for name in &devices {
        let named = |objects: &[Value], name: &str| {
            objects.iter().find(|object| object.get("name").and_then(Value::as_str) == Some(name)).cloned()
        };
        let unknown = || ApiError::BadRequest(format!("there is no device {name:?} in the draft"));
        let device = named(&opened.draft.devices, name).ok_or_else(unknown)?;
        let link = device.get("link").and_then(Value::as_str).and_then(|link| named(&opened.draft.links, link));
        let (link, device) = described(&app, &gateway, link.ok_or_else(unknown)?, Some(device), None).await?;
        asked.push((name.clone(), OfferRequest { link, device, source: source.clone(), filled: with.clone() }));
    }
    let detail = format!("{source} of {}, beside each other", devices.join(", "));
    app.audit(AuditEntry { action: "ask-for-offers", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    let (lines, told) = mpsc::channel(4);
    tokio::spawn(watched("offers", devices.join(", "), async move {
        for (device, request) in asked {
            // A device that is asked for somebody who is gone is asked no further.
            let there = tokio::select! {
                there = told_by(&app, running.as_deref(), &request) => there,
                () = lines.closed() => return,
            };
            let sibling = match there {
                Ok(there) => Sibling { device, differences: differences(&offers, &there), failed: None },
                Err(why) => Sibling { device, differences: Vec::new(), failed: Some(why) },
            };
            if lines.send(sibling).await.is_err() {
                return;
            }
        }
    }));
    Ok(as_lines(told, right.ended()))
}

/// All points that a device offers.
async fn told_by(app: &App, running: Option<&Running>, request: &OfferRequest) -> Result<Vec<Offer>, String> {
    let (events, mut told) = mpsc::channel(16);
    let offering = Offering::new(request, events)?;
    let _opening = app.scans.open(&request.link.protocol.target()).map_err(|error| error.to_string())?;
    let via = app.via(running);
    let name = request.link.protocol.target();
    let asking = tokio::spawn(watched("offers", name, async move { ask_for_offers(offering, &via).await }));
    let (mut all, mut end) = (Vec::new(), Err("the answer ended before its end".to_owned()));
    while let Some(event) = told.recv().await {
        match event {
            OfferEvent::Points { offers } => all.extend(offers),
            OfferEvent::Failed { why } => end = Err(why),
            OfferEvent::Done { .. } => end = Ok(()),
            _ => {}
        }
    }
    // Whoever asks is gone when nothing is told any more.
    let _ = asking.await;
    end.map(|()| all)
}

fn of_model(name: &str) -> Result<Vec<Offer>, ApiError> {
    let text = model(name).map_err(ApiError::BadRequest)?;
    let list = "model.csv";
    let files = [(MAIN_FILE.to_owned(), "[gateway]\n".to_owned()), (list.to_owned(), text.to_owned())];
    let draft = description::parse(&Files::from(files)).map_err(ApiError::Description)?;
    Ok(offers_of(draft.rows(list)).collect())
}

/// A name has no more characters.
const LONGEST_PREFIX: usize = 64;

/// Offers to put into a draft.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct TakeOffersRequest {
    /// The devices whose lists they go to.
    #[serde(default)]
    devices: Vec<String>,
    /// More lists that they go to, by their paths.
    #[serde(default)]
    lists: Vec<String>,
    /// What was chosen.
    offers: Vec<Offer>,
    /// How they are named.
    #[serde(default)]
    names: NameRule,
    /// The rate of those that bring none.
    rate: String,
    /// The version of the draft that was looked at. Without one nothing is changed: what would change is told.
    #[serde(default)]
    version: Option<u64>,
}

/// Puts offers into the lists of devices, all of them or nothing, or tells what that would change.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/draft/offers", operation_id = "take_offers", tag = "draft",
    request_body = TakeOffersRequest, params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = TakenOffers), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails),
    (status = 413, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
pub(crate) async fn take(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<TakeOffersRequest>,
) -> Result<Json<TakenOffers>, ApiError> {
    let opened = drafts::open(&app, &gateway).await?;
    let lists = lists_of(&opened.draft, &wanted)?;
    rows_fit(wanted.offers.len().saturating_mul(lists.len()))?;
    if wanted.names.prefix.chars().count() > LONGEST_PREFIX {
        let message = format!("the prefix of the names is longer than {LONGEST_PREFIX} characters, and so are they");
        return Err(ApiError::BadRequest(message));
    }
    let known = opened.known();
    let (after, taken) =
        aside(|| import_offers((&opened.draft, &known), &lists, &wanted.offers, &wanted.names, &wanted.rate));
    let Some(version) = wanted.version else { return Ok(Json(taken)) };
    if opened.record.version != version {
        return Err(drafts::edit_failed(interlex_store::EditError::Moved));
    }
    if taken.lists.iter().flat_map(|list| &list.import.problems).any(Problem::is_mistake) {
        let all = taken.lists.into_iter().flat_map(|list| list.import.problems);
        return Err(ApiError::Description(all.collect()));
    }
    let told = difference(Some(&opened.draft), &after);
    if !told.is_empty() {
        drafts::lay(&app, &opened, &author.person, &after).await?;
        let counts = taken.lists.iter().map(|OffersImport { list, import, .. }| {
            format!("{list}: {} added, {} changed", import.added.len(), import.changed.len())
        });
        let (detail, after) = (counts.collect::<Vec<_>>().join("; "), Some(told.to_string()));
        let entry = AuditEntry { action: "take-offers", detail: &detail, gateway: &gateway, after, ..author.entry() };
        app.audit(entry).await;
    }
    Ok(Json(taken))
}

/// The lists that offers go to, each once.
fn lists_of(draft: &description::Draft, wanted: &TakeOffersRequest) -> Result<Vec<String>, ApiError> {
    let named = |name: &str| {
        let has_name = |device: &&Value| device.get("name").and_then(Value::as_str) == Some(name);
        let device = draft.devices.iter().find(has_name);
        device.map(|device| list_of(device).into_owned()).ok_or_else(|| {
            let names = draft.devices.iter().filter_map(|device| device.get("name")?.as_str()).take(12);
            let names: Vec<_> = names.collect();
            ApiError::BadRequest(format!("there is no device {name:?}; expected one of {}", names.join(", ")))
        })
    };
    let mut lists: Vec<String> = Vec::new();
    for list in wanted.devices.iter().map(|name| named(name)).chain(wanted.lists.iter().cloned().map(Ok)) {
        let list = list?;
        if !lists.contains(&list) {
            lists.push(list);
        }
    }
    match lists.is_empty() {
        true => {
            Err(ApiError::BadRequest("there are neither devices nor lists; expected where the points go".to_owned()))
        }
        false => Ok(lists),
    }
}
