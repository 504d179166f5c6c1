use crate::access::auth::Engineer;
use crate::api::extract::{Json, Query};
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use interlex_store::{AuditFilter, AuditRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Which entries to give.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct AuditQuery {
    /// Not before, in milliseconds since 1970 UTC.
    from: Option<i64>,
    /// Before, in milliseconds since 1970 UTC.
    to: Option<i64>,
    /// Only of this person.
    person: Option<String>,
    /// Only this action.
    action: Option<String>,
    /// Only about this gateway.
    gateway: Option<String>,
    /// Only with this text in detail or object, whatever the case.
    q: Option<String>,
    /// Only entries with lower numbers: the number of the last entry of the page before.
    below: Option<u64>,
    /// So many at the most, up to 1000; 200 when left out.
    limit: Option<u32>,
}

/// Something that somebody did.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct AuditView {
    /// Its number.
    id: u64,
    /// When, in milliseconds since 1970 UTC.
    at: i64,
    /// Who; empty for nobody who is known.
    person: String,
    /// From where: an address.
    source: String,
    /// What, as a word.
    action: String,
    /// What exactly.
    detail: String,
    /// The gateway, or empty.
    gateway: String,
    /// The object, or empty.
    object: String,
    /// What it was, as JSON or text, secrets left out.
    before: Option<String>,
    /// What it became.
    after: Option<String>,
}

const PAGE: u32 = 200;
const LARGEST_PAGE: u32 = 1000;

/// The audit trail, the newest entry first. Nothing in it can be changed.
#[utoipa::path(get, path = "/api/v1/audit", operation_id = "list_audit", tag = "audit", params(AuditQuery), extensions(("x-role" = json!("engineer"))),
    responses((status = 200, body = Vec<AuditView>), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails)))]
pub(crate) async fn list(
    State(app): State<Arc<App>>,
    _: Engineer,
    Query(query): Query<AuditQuery>,
) -> Result<Json<Vec<AuditView>>, ApiError> {
    let filter = AuditFilter {
        from: query.from,
        to: query.to,
        person: query.person,
        action: query.action,
        gateway: query.gateway,
        text: query.q,
        below: query.below,
        limit: query.limit.unwrap_or(PAGE).min(LARGEST_PAGE),
    };
    let view = |record: AuditRecord| {
        let AuditRecord { id, at, person, source, action, detail, gateway, object, before, after } = record;
        AuditView { id, at, person, source, action, detail, gateway, object, before, after }
    };
    Ok(Json(app.store.audit(&filter).await?.into_iter().map(view).collect()))
}
