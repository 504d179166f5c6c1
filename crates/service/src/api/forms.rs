use crate::ProblemDetails;
use crate::access::auth::Viewer;
use crate::api::extract::Json;
use interlex_core::description::{self, ObjectKind, Protocol};
use interlex_gateway::OfferSource;
use serde::Serialize;
use serde_json::Value;

/// A kind of link or uplink, chosen by the word in one of its keys.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct KindForm {
    /// The word in the files.
    word: &'static str,
    /// What people call it.
    title: &'static str,
    /// For a link: the protocol. Links of one protocol have devices and points of the same kinds.
    protocol: &'static str,
    /// The JSON Schema of its objects. `x-advanced` marks what most people leave as it is, `x-refers` what names
    /// another object, `x-unit` the unit of a number.
    schema: Value,
    /// For a link: the schema of the devices behind it.
    device: Value,
    /// For a link: the schema of the points of these devices.
    point: Value,
    /// For a link: in which ways it and its devices tell what they have.
    sources: Vec<OfferSource>,
    /// For a link: how addresses of its points are written.
    addresses: &'static str,
}

/// What every object of a description is made of: enough to draw a form for it.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct Forms {
    /// The gateway itself.
    gateway: Value,
    /// A rate, with `name` and `period`.
    rate: Value,
    /// Links, by the key `protocol`.
    links: Vec<KindForm>,
    /// Uplinks, by the key `kind`.
    uplinks: Vec<KindForm>,
    /// A point, with what those of any protocol have; that of a device's link says which are its own.
    point: Value,
}

/// The schemas of all objects, for forms: labels, help, defaults, ranges.
#[utoipa::path(get, path = "/api/v1/forms", tag = "draft", extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = Forms), (status = 401, body = ProblemDetails)))]
pub(crate) async fn forms(_: Viewer) -> Json<Forms> {
    let schema = |kind| description::schema(kind).clone();
    let link = |protocol: Protocol, (word, title): &(&'static str, &'static str)| KindForm {
        word,
        title,
        protocol: protocol.title(),
        schema: schema(ObjectKind::Link(word)),
        device: schema(ObjectKind::Device(protocol)),
        point: schema(ObjectKind::Point(protocol)),
        sources: interlex_gateway::sources(protocol),
        addresses: protocol.address_form(),
    };
    let links = |protocol: Protocol| protocol.links().iter().map(move |kind| link(protocol, kind));
    let uplink = |word, title, kind| KindForm {
        word,
        title,
        protocol: "",
        schema: schema(kind),
        device: Value::Null,
        point: Value::Null,
        sources: Vec::new(),
        addresses: "",
    };
    Json(Forms {
        gateway: schema(ObjectKind::Gateway),
        rate: schema(ObjectKind::Rate),
        links: Protocol::ALL.into_iter().flat_map(links).collect(),
        uplinks: vec![
            uplink("sparkplug", "Sparkplug B", ObjectKind::SparkplugUplink),
            uplink("json", "Messages from templates", ObjectKind::JsonUplink),
        ],
        point: schema(ObjectKind::Row),
    })
}

/// The JSON Schema of gateway.toml, for editors.
#[utoipa::path(get, path = "/api/v1/schema", tag = "draft", responses((status = 200, body = serde_json::Value)))]
pub(crate) async fn file_schema() -> Json<Value> {
    Json(description::file_schema())
}
