use crate::ProblemDetails;
use crate::access::auth::Viewer;
use crate::api::extract::Json;
use serde::Serialize;

/// A device model that ships with the service: a point list to start from.
#[derive(Debug, Clone, Copy, Serialize, utoipa::ToSchema)]
pub(crate) struct ModelView {
    /// Its name; in a description its list is models/NAME.csv.
    name: &'static str,
    /// What kind of device it is for.
    title: &'static str,
    /// What a device of it sets.
    parameters: &'static str,
    /// The point list, as CSV.
    text: &'static str,
}

/// Made-up devices: those of the simulated works, and two more to try parameters with.
const MODELS: [ModelView; 5] = [
    ModelView {
        name: "heat-meter",
        title: "Heat meter: temperatures, flow, output, energy",
        parameters: "unit; base, for makers that put the map at another address",
        text: include_str!("../../../../demo/points/heat-meter.csv"),
    },
    ModelView {
        name: "gas-meter",
        title: "Gas meter: volume in packed digits, flow, pressure, temperature",
        parameters: "unit",
        text: include_str!("../../../../demo/points/gas-meter.csv"),
    },
    ModelView {
        name: "digester",
        title: "Control of a digester: temperature, level, gas, mixer",
        parameters: "unit",
        text: include_str!("../../../../demo/points/digester.csv"),
    },
    ModelView {
        name: "gas-analyser",
        title: "Gas analyser: methane, carbon dioxide, hydrogen sulphide, oxygen",
        parameters: "unit",
        text: include_str!("../../../../demo/points/gas-analyser.csv"),
    },
    ModelView {
        name: "power-meter",
        title: "Power meter behind current transformers: voltages, currents, power, energy",
        parameters: "unit; ratio, of the current transformers; base",
        text: include_str!("../../models/power-meter.csv"),
    },
];

/// The device models that ship with the service.
#[utoipa::path(get, path = "/api/v1/models", operation_id = "list_models", tag = "draft", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = Vec<ModelView>), (status = 401, body = ProblemDetails)))]
pub(crate) async fn list(_: Viewer) -> Json<&'static [ModelView]> {
    Json(&MODELS)
}

/// The point list of a model.
///
/// # Errors
/// Which ones there are.
pub(super) fn model(name: &str) -> Result<&'static str, String> {
    let found = MODELS.iter().find(|model| model.name == name).map(|model| model.text);
    found.ok_or_else(|| {
        let names = MODELS.map(|model| model.name).join(", ");
        format!("there is no model {name:?}; expected one of {names}")
    })
}
