use crate::App;
use axum::extract::State;
use axum::http::StatusCode;
use std::sync::Arc;

/// Whether the process answers at all.
#[utoipa::path(get, path = "/healthz", tag = "operate", responses((status = 200, body = String)))]
pub(crate) async fn alive() -> &'static str {
    "alive\n"
}

/// Whether it can do its whole work: the database answers.
#[utoipa::path(get, path = "/readyz", tag = "operate", responses((status = 200, body = String), (status = 503, body = String)))]
pub(crate) async fn ready(State(app): State<Arc<App>>) -> (StatusCode, String) {
    let database = app.database.read().clone();
    if database.up {
        return (StatusCode::OK, "ready\n".to_owned());
    }
    // Strangers may ask: names and addresses are for those who are signed in.
    (StatusCode::SERVICE_UNAVAILABLE, "the database is away\n".to_owned())
}
