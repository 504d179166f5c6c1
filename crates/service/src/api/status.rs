use crate::access::auth::Viewer;
use crate::api::extract::Json;
use crate::api::needs::{Need, needs};
use crate::app::DatabaseState;
use crate::{App, ProblemDetails};
use axum::extract::State;
use interlex_gateway::{GatewayStatus, wall_clock};
use serde::Serialize;
use std::sync::Arc;

/// What everything is doing.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct Status {
    /// The time of the service, in milliseconds since 1970 UTC: ages are counted from it.
    pub(super) at: i64,
    /// The version of the service.
    pub(super) version: &'static str,
    /// The database.
    pub(super) database: DatabaseState,
    /// The running gateways, by name.
    pub(super) gateways: Vec<GatewayStatus>,
    /// What needs a person, the worst first.
    pub(super) needs: Vec<Need>,
}

/// What gateways, links, devices and uplinks are doing, since when, and why.
#[utoipa::path(get, path = "/api/v1/status", tag = "watch", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = Status), (status = 401, body = ProblemDetails)))]
pub(crate) async fn status(State(app): State<Arc<App>>, _: Viewer) -> Json<Status> {
    Json(now(&app))
}

pub(crate) fn now(app: &App) -> Status {
    let mut status = Status {
        at: wall_clock().as_millis(),
        version: env!("CARGO_PKG_VERSION"),
        database: app.database.read().clone(),
        gateways: app.running().iter().map(|gateway| gateway.status()).collect(),
        needs: Vec::new(),
    };
    status.needs = needs(&status);
    status
}
