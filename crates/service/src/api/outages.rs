//! The record of outages: what did not work, from when to when, and what became of the samples meanwhile.

use crate::access::auth::Viewer;
use crate::api::extract::{Json, Query};
use crate::{ApiError, App, ProblemDetails};
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use futures_util::stream::{self, StreamExt};
use interlex_store::{OutageFilter, OutageRecord, StoreError};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Which outages to give.
#[derive(Debug, Clone, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct OutageQuery {
    /// Only of this gateway; those of the whole service are told with each.
    gateway: Option<String>,
    /// Only of this kind: service, link, device, uplink.
    kind: Option<String>,
    /// Only of the part of this name.
    name: Option<String>,
    /// Those that were not over before, in milliseconds since 1970 UTC.
    from: Option<i64>,
    /// Those that began before, in milliseconds since 1970 UTC.
    to: Option<i64>,
    /// Only what comes behind this one in the list, to go on where a page ended: the `from` of its last one.
    behind_from: Option<i64>,
    /// And the `id` of that.
    behind_id: Option<u64>,
    /// So many at the most, up to 1000; 200 when left out.
    limit: Option<u32>,
}

/// A part did not work for a while.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct OutageView {
    /// Its number.
    id: u64,
    /// The gateway; empty where all of the service was away.
    gateway: String,
    /// What did not work: service, link, device, uplink.
    kind: String,
    /// Its name.
    name: String,
    /// From when, in milliseconds since 1970 UTC.
    from: i64,
    /// Until when; `null` while it lasts.
    to: Option<i64>,
    /// What broke.
    why: String,
    /// Samples (messages of a message uplink) that were kept meanwhile; `null` where nothing is kept.
    kept: Option<u64>,
    /// How many of them were sent later, so far.
    sent_later: Option<u64>,
    /// How many were lost.
    lost: Option<u64>,
    /// Whether nothing of it changes any more.
    settled: bool,
}

const PAGE: u32 = 200;
const LARGEST_PAGE: u32 = 1000;

impl OutageQuery {
    fn filter(self) -> OutageFilter {
        let Self { gateway, kind, name, from, to, behind_from, behind_id, limit } = self;
        let behind = behind_from.map(|from| (from, behind_id.unwrap_or(0)));
        OutageFilter { gateway, kind, name, from, to, behind, limit: limit.unwrap_or(PAGE).clamp(1, LARGEST_PAGE) }
    }
}

fn view(OutageRecord { id, outage }: OutageRecord) -> OutageView {
    let interlex_store::Outage { gateway, kind, name, from, to, why, kept, sent_later, lost, is_settled } = outage;
    OutageView { id, gateway, kind, name, from, to, why, kept, sent_later, lost, settled: is_settled }
}

/// Outages, the last one first.
#[utoipa::path(get, path = "/api/v1/outages", operation_id = "list_outages", tag = "watch", extensions(("x-role" = json!("viewer"))),
    params(OutageQuery), responses((status = 200, body = Vec<OutageView>), (status = 401, body = ProblemDetails)))]
pub(crate) async fn list(
    State(app): State<Arc<App>>,
    _: Viewer,
    Query(query): Query<OutageQuery>,
) -> Result<Json<Vec<OutageView>>, ApiError> {
    Ok(Json(app.store.outages(&query.filter()).await?.into_iter().map(view).collect()))
}

const HEADER: &str = "id,gateway,kind,name,from,to,seconds,why,kept,sent_later,lost\r\n";

/// All of them that fit, as a spreadsheet reads them: times as in ISO 8601, with milliseconds, in UTC.
#[utoipa::path(get, path = "/api/v1/outages.csv", operation_id = "export_outages", tag = "watch", extensions(("x-role" = json!("viewer"))),
    params(OutageQuery), responses((status = 200, content_type = "text/csv"), (status = 401, body = ProblemDetails)))]
pub(crate) async fn export(
    State(app): State<Arc<App>>,
    Viewer(who): Viewer,
    Query(query): Query<OutageQuery>,
) -> Result<impl IntoResponse, ApiError> {
    let opening = app.live.open(&who.name)?;
    let first = OutageFilter { limit: LARGEST_PAGE, ..query.filter() };
    let pages = stream::unfold(Some((app, first, opening)), |state| async move {
        let (app, filter, opening) = state?;
        let page = match app.store.outages(&filter).await {
            Ok(page) => page,
            // Whoever reads it finds that it was cut.
            Err(error) => return Some((Err(error), None)),
        };
        let last = page.last().map(|record| (record.outage.from, record.id))?;
        let rows: String = page.into_iter().map(row).collect();
        let next = OutageFilter { behind: Some(last), ..filter };
        Some((Ok::<_, StoreError>(Bytes::from(rows)), Some((app, next, opening))))
    });
    let body = Body::from_stream(stream::once(async { Ok(Bytes::from_static(HEADER.as_bytes())) }).chain(pages));
    let headers = [
        (header::CONTENT_TYPE, "text/csv; charset=utf-8"),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"outages.csv\""),
    ];
    Ok((headers, body))
}

fn row(record: OutageRecord) -> String {
    let OutageView { id, gateway, kind, name, from, to, why, kept, sent_later, lost, .. } = view(record);
    let moment = interlex_core::iso_time;
    let seconds = to.map(|to| ((to - from) / 1000).to_string());
    let count = |count: Option<u64>| count.map(|count| count.to_string()).unwrap_or_default();
    let cells = [
        gateway,
        kind,
        name,
        moment(from),
        to.map(moment).unwrap_or_default(),
        seconds.unwrap_or_default(),
        why,
        count(kept),
        count(sent_later),
        count(lost),
    ];
    let cells: Vec<_> = cells.iter().map(|text| interlex_core::cell(text, ',')).collect();
    format!("{id},{}\r\n", cells.join(","))
}
