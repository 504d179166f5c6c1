use crate::access::auth::{Engineer, Viewer};
use crate::api::extract::{Json, Path, Query};
use crate::api::gateways::DescriptionFiles;
use crate::draft::activation;
use crate::draft::activation::Why;
use crate::draft::drafts;
use crate::draft::opened::OpenDraft;
use crate::draft::vault::masked;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::http::StatusCode;
use interlex_busy::watched;
use interlex_core::description::{Difference, Draft, Keeping, difference};
use interlex_gateway::{Outcome, WaitingLoss};
use interlex_store::RevisionSummary;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// One revision of a gateway.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct RevisionView {
    /// Its number.
    number: u32,
    /// Who activated it.
    author: String,
    /// When, in milliseconds since 1970 UTC.
    activated_at: i64,
    /// Why.
    note: String,
}

/// What to compare.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Sides {
    /// `active` (when left out), `draft`, `nothing`, or the number of a revision.
    before: Option<String>,
    /// `draft` (when left out), `active`, or the number of a revision.
    after: Option<String>,
}

/// What one description would change in the place of another.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct DifferenceView {
    /// The version of the draft when it was compared.
    version: u64,
    /// Everything that differs.
    #[serde(flatten)]
    difference: Difference,
    /// The same as text.
    text: String,
    /// The samples that wait for brokers and that an activation of the draft would lose.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    losses: Vec<WaitingLoss>,
    /// For how long uplinks of the draft keep what their brokers do not take.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    keeping: Vec<Keeping>,
}

/// What to activate.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct ActivationRequest {
    /// The version of the draft that was looked at. Needed unless `revision` is given.
    version: Option<u64>,
    /// The number of an earlier revision to activate again, in place of the draft.
    revision: Option<u32>,
    /// Why.
    #[serde(default)]
    note: String,
    /// Whether samples may be lost that wait for a broker, and whose uplinks or points are gone then. Without it the
    /// activation waits for them to be sent, and is refused when they are not.
    #[serde(default)]
    drop_waiting: bool,
}

/// What was activated.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct ActivationView {
    /// The gateway.
    gateway: String,
    /// The number of the new revision.
    revision: u32,
    /// What it changed.
    difference: Difference,
}

/// What would change: the draft against the active revision, or any two of draft and revisions.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/difference", operation_id = "compare", tag = "draft",
    params(("gateway" = String, Path), Sides), extensions(("x-role" = json!("viewer"))), responses(
    (status = 200, body = DifferenceView), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 404, body = ProblemDetails)))]
pub(crate) async fn compare(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
    Query(sides): Query<Sides>,
) -> Result<Json<DifferenceView>, ApiError> {
    let opened = drafts::open(&app, &gateway).await?;
    let before = side(&app, &opened, sides.before.as_deref().unwrap_or("active")).await?;
    let after = side(&app, &opened, sides.after.as_deref().unwrap_or("draft")).await?;
    let difference = difference(before.as_deref(), &after.unwrap_or_default());
    let is_draft = sides.after.as_deref().unwrap_or("draft") == "draft";
    // A draft with mistakes cannot be activated, and so neither loses nor keeps anything.
    let description = match is_draft && !difference.objects.is_empty() {
        true => drafts::check(&app, &opened).await?.into_result().ok(),
        false => None,
    };
    let losses = match (&description, app.gateway(&gateway)) {
        (Some(description), Some(running)) => running.would_lose(description).await,
        _ => Vec::new(),
    };
    let keeping = description.map(|description| description.keeping()).unwrap_or_default();
    let told =
        losses.iter().map(|loss| format!("{loss}\n")).chain(keeping.iter().map(|keeping| format!("{keeping}\n")));
    let text = std::iter::once(difference.to_string()).chain(told).collect();
    Ok(Json(DifferenceView { version: opened.record.version, difference, text, losses, keeping }))
}

async fn side(app: &App, opened: &OpenDraft, word: &str) -> Result<Option<Arc<Draft>>, ApiError> {
    let name = &opened.record.name;
    match (word, opened.record.active) {
        ("draft", _) => Ok(Some(opened.canonical())),
        ("nothing", _) | ("active", None) => Ok(None),
        ("active", Some(number)) => drafts::revision(app, name, number).await.map(|(draft, _)| Some(draft)),
        (number, _) => match number.parse() {
            Ok(number) => drafts::revision(app, name, number).await.map(|(draft, _)| Some(draft)),
            Err(_) => {
                let message =
                    format!("{word:?} cannot be compared; expected active, draft, nothing or a revision's number");
                Err(ApiError::BadRequest(message))
            }
        },
    }
}

/// The revisions of a gateway, the newest first.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/revisions", operation_id = "list_revisions", tag = "revisions", params(("gateway" = String, Path)),
    extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = Vec<RevisionView>), (status = 401, body = ProblemDetails)))]
pub(crate) async fn list(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
) -> Result<Json<Vec<RevisionView>>, ApiError> {
    let view = |summary: RevisionSummary| RevisionView {
        number: summary.number,
        author: summary.author,
        activated_at: summary.activated_at,
        note: summary.note,
    };
    Ok(Json(app.store.revisions(&gateway).await?.into_iter().map(view).collect()))
}

/// The files of a revision, with a placeholder for every secret.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/revisions/{number}", operation_id = "revision_files", tag = "revisions",
    params(("gateway" = String, Path), ("number" = u32, Path)), extensions(("x-role" = json!("viewer"))), responses(
    (status = 200, body = DescriptionFiles), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn files(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path((gateway, number)): Path<(String, u32)>,
) -> Result<Json<DescriptionFiles>, ApiError> {
    let (draft, _) = drafts::revision(&app, &gateway, number).await?;
    Ok(Json(DescriptionFiles { files: masked(Draft::clone(&draft)).to_files() }))
}

/// Activates the draft, or an earlier revision again, as the next revision. Only what differs is touched. What became of
/// it is told by `outcome`.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/activations", operation_id = "activate", tag = "revisions", request_body = ActivationRequest,
    params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 201, body = ActivationView), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails),
    (status = 422, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
pub(crate) async fn activate(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<ActivationRequest>,
) -> Result<(StatusCode, Json<ActivationView>), ApiError> {
    // Activation goes on to its end even if the client breaks off: a gateway must not be left half changed.
    let activating = tokio::spawn(watched("activation", gateway.clone(), async move {
        let why = Why { note: &wanted.note, drop_waiting: wanted.drop_waiting };
        let activated = match (wanted.revision, wanted.version) {
            (Some(number), _) => activation::activate_revision(&app, &gateway, number, &author, why).await?,
            (None, Some(seen)) => activation::activate_draft(&app, &gateway, seen, &author, why).await?,
            (None, None) => {
                let message = "give the version of the draft that was looked at, or a revision to activate again";
                return Err(ApiError::BadRequest(message.to_owned()));
            }
        };
        Ok(ActivationView { gateway, revision: activated.revision, difference: activated.difference })
    }));
    let activated: ActivationView = activating.await.map_err(ApiError::internal)??;
    Ok((StatusCode::CREATED, Json(activated)))
}

/// What became of the last activation so far, link by link and uplink by uplink.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/outcome", operation_id = "activation_outcome", tag = "revisions", params(("gateway" = String, Path)),
    extensions(("x-role" = json!("viewer"))), responses((status = 200, body = Outcome),
    (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn outcome(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
) -> Result<Json<Outcome>, ApiError> {
    let running = app.gateway(&gateway).ok_or_else(|| ApiError::NotFound(format!("running gateway {gateway:?}")))?;
    Ok(Json(running.outcome()))
}
