use crate::units::{Fault, Field};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::routing::{get, put};
use axum::{Json, Router};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;

#[derive(Debug, Deserialize)]
struct Running {
    running: bool,
}

/// The control interface; it listens on loopback only and is no part of the field.
pub(crate) fn router(field: Arc<Field>) -> Router {
    Router::new()
        .route("/truth", get(truth))
        .route("/running", put(set_running))
        .route("/faults/{device}/{fault}", put(switch_on).delete(switch_off))
        .with_state(field)
}

async fn truth(State(field): State<Arc<Field>>) -> Json<BTreeMap<&'static str, BTreeMap<&'static str, f64>>> {
    Json(field.truth())
}

async fn set_running(State(field): State<Arc<Field>>, Json(wanted): Json<Running>) -> StatusCode {
    field.set_running(wanted.running);
    StatusCode::NO_CONTENT
}

async fn switch_on(State(field): State<Arc<Field>>, Path((device, fault)): Path<(String, Fault)>) -> StatusCode {
    switch(&field, &device, fault, true)
}

async fn switch_off(State(field): State<Arc<Field>>, Path((device, fault)): Path<(String, Fault)>) -> StatusCode {
    switch(&field, &device, fault, false)
}

fn switch(field: &Field, device: &str, fault: Fault, is_on: bool) -> StatusCode {
    if field.set_fault(device, fault, is_on) { StatusCode::NO_CONTENT } else { StatusCode::NOT_FOUND }
}
