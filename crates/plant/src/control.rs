use crate::engine::{EngineFault, EngineFaults};
use crate::grid::{self, Feeder, GridFault};
use crate::heating::{Controllers, HeatingFault};
use crate::units::{Fault, Field};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::routing::{get, put};
use axum::{Json, Router};
use interlex_dnp3::OutstationHost;
use serde::Deserialize;
use serde::de::value::{Error, StrDeserializer};
use serde::de::{DeserializeOwned, IntoDeserializer};
use std::collections::BTreeMap;
use std::sync::Arc;

#[derive(Debug, Deserialize)]
struct Running {
    running: bool,
}

#[derive(Debug)]
struct Controlled {
    field: Arc<Field>,
    engine: Option<EngineFaults>,
    grid: Option<Arc<OutstationHost<Feeder>>>,
    heating: Option<Controllers>,
}

/// The name of the engine's controller among the devices.
const ENGINE: &str = "engine";
/// The name of the feeder controller among them.
const GRID: &str = "grid";

/// The control interface; it listens on loopback only and is no part of the field.
pub(crate) fn router(
    field: Arc<Field>,
    engine: Option<EngineFaults>,
    grid: Option<Arc<OutstationHost<Feeder>>>,
    heating: Option<Controllers>,
) -> Router {
    Router::new()
        .route("/truth", get(truth))
        .route("/running", put(set_running))
        .route("/faults/{device}/{fault}", put(switch_on).delete(switch_off))
        .with_state(Arc::new(Controlled { field, engine, grid, heating }))
}

async fn truth(State(controlled): State<Arc<Controlled>>) -> Json<BTreeMap<&'static str, BTreeMap<&'static str, f64>>> {
    Json(controlled.field.truth())
}

async fn set_running(State(controlled): State<Arc<Controlled>>, Json(wanted): Json<Running>) -> StatusCode {
    controlled.field.set_running(wanted.running);
    StatusCode::NO_CONTENT
}

type DeviceFault = Path<(String, String)>;

async fn switch_on(State(controlled): State<Arc<Controlled>>, Path((device, fault)): DeviceFault) -> StatusCode {
    switch(&controlled, &device, &fault, true).await
}

async fn switch_off(State(controlled): State<Arc<Controlled>>, Path((device, fault)): DeviceFault) -> StatusCode {
    switch(&controlled, &device, &fault, false).await
}

fn fault<T: DeserializeOwned>(word: &str) -> Option<T> {
    let word: StrDeserializer<'_, Error> = word.into_deserializer();
    T::deserialize(word).ok()
}

async fn switch(controlled: &Controlled, device: &str, word: &str, is_on: bool) -> StatusCode {
    if let Some(host) = controlled.grid.as_ref().filter(|_| device == GRID) {
        let Some(fault) = fault::<GridFault>(word) else { return StatusCode::NOT_FOUND };
        grid::switch(host, fault, is_on);
        return StatusCode::NO_CONTENT;
    }
    if let (Some(controllers), Some(fault)) = (&controlled.heating, fault::<HeatingFault>(word))
        && controllers.switch(device, fault, is_on)
    {
        return StatusCode::NO_CONTENT;
    }
    let is_switched = match &controlled.engine {
        Some(engine) if device == ENGINE => match fault::<EngineFault>(word) {
            Some(fault) => match engine.switch(fault, is_on).await {
                Ok(()) => true,
                Err(error) => {
                    tracing::error!(%error, "the engine has no other certificate");
                    return StatusCode::INTERNAL_SERVER_ERROR;
                }
            },
            None => false,
        },
        _ => fault::<Fault>(word).is_some_and(|fault| controlled.field.set_fault(device, fault, is_on)),
    };
    if is_switched { StatusCode::NO_CONTENT } else { StatusCode::NOT_FOUND }
}
