use crate::api::extract::{LARGE_BODY, SMALL_BODY};
use crate::api::{
    audit, certificates, check, console, contract, draft, events, forms, gateways, health, heavy, imports, links,
    lists, live, loop_checks, metrics, models, offers, outages, people, points, revisions, session, setup, status, tap,
    trials, uplinks, uploads, views, window,
};
use crate::{ApiError, App};
use axum::Router;
use axum::extract::{DefaultBodyLimit, Request, State};
use axum::http::{HeaderName, HeaderValue, header};
use axum::middleware::{self, Next};
use axum::response::Response;
use axum::routing::{any, get};
use bytes::Bytes;
use std::sync::Arc;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate};
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

#[derive(OpenApi)]
#[openapi(info(
    title = "Interlex",
    description = "Times are milliseconds since 1970-01-01T00:00:00Z. Errors are problem details (RFC 9457). \
                   Clients send a token, Authorization: Bearer TOKEN; the console has a cookie."
))]
struct Document;

/// The OpenAPI document, made from the handlers.
#[must_use]
pub fn openapi() -> utoipa::openapi::OpenApi {
    let (small, heavy) = api();
    contract::complete(small.merge(heavy).into_openapi())
}

/// The whole service as a router.
pub fn router(app: Arc<App>) -> Router {
    let (small, heavy) = api();
    let heavy = heavy.layer(middleware::from_fn_with_state(Arc::clone(&app), heavy::in_turn));
    // What is told bit by bit goes as it comes; all else that is large is compressed.
    let whole = DefaultPredicate::new().and(NotForContentType::const_new("application/x-ndjson"));
    let heavy = heavy.layer(CompressionLayer::new().compress_when(whole));
    let console = any(console::file).layer(CompressionLayer::new());
    let (router, document) = small.merge(heavy).split_for_parts();
    // Once for all: routers copy what their routes hold.
    let document = Bytes::from(serde_json::to_vec(&contract::complete(document)).unwrap_or_default());
    let document = move || async move { ([(header::CONTENT_TYPE, "application/json")], document) };
    router
        .route("/api/v1/openapi.json", get(document))
        .fallback_service(console.with_state(()))
        .method_not_allowed_fallback(|| async { ApiError::Method })
        .layer(middleware::from_fn_with_state(Arc::clone(&app), guard))
        .with_state(app)
}

/// The calls that are answered at once, and those that take their turn.
fn api() -> (OpenApiRouter<Arc<App>>, OpenApiRouter<Arc<App>>) {
    let small = OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(setup::state, setup::carry_out))
        .routes(routes!(session::who, session::sign_in, session::sign_out))
        .routes(routes!(people::change_password))
        .routes(routes!(people::tokens, session::make_token))
        .routes(routes!(people::remove_token))
        .routes(routes!(people::list, people::add))
        .routes(routes!(people::change, people::remove))
        .routes(routes!(audit::list))
        .routes(routes!(status::status))
        .routes(routes!(points::detail))
        .routes(routes!(window::window))
        .routes(routes!(live::live))
        .routes(routes!(views::look))
        .routes(routes!(events::list))
        .routes(routes!(events::export))
        .routes(routes!(events::follow))
        .routes(routes!(outages::list))
        .routes(routes!(outages::export))
        .routes(routes!(loop_checks::list, loop_checks::begin))
        .routes(routes!(loop_checks::sheet))
        .routes(routes!(loop_checks::note))
        .routes(routes!(loop_checks::close))
        .routes(routes!(loop_checks::export))
        .routes(routes!(tap::tap))
        .routes(routes!(gateways::list, gateways::add))
        .routes(routes!(gateways::remove))
        .routes(routes!(draft::presence))
        .routes(routes!(uploads::begin))
        .routes(routes!(trials::read))
        .routes(routes!(trials::write))
        .routes(routes!(trials::broker))
        .routes(routes!(trials::identify))
        .routes(routes!(trials::act))
        .routes(routes!(lists::ede))
        .routes(routes!(links::frames))
        .routes(routes!(links::capture))
        .routes(routes!(links::statistics))
        .routes(routes!(links::requests))
        .routes(routes!(links::relearn))
        .routes(routes!(links::reset_statistics))
        .routes(routes!(uplinks::buffer))
        .routes(routes!(uplinks::purge))
        .routes(routes!(uplinks::published))
        .routes(routes!(uplinks::births))
        .routes(routes!(certificates::make))
        .routes(routes!(certificates::own))
        .routes(routes!(uplinks::messages))
        .routes(routes!(uplinks::try_messages))
        .routes(routes!(points::ask))
        .routes(routes!(points::write))
        .routes(routes!(revisions::list))
        .routes(routes!(revisions::activate))
        .routes(routes!(revisions::outcome))
        .routes(routes!(forms::forms))
        .routes(routes!(models::list))
        .routes(routes!(forms::file_schema))
        .routes(routes!(health::alive))
        .routes(routes!(health::ready))
        .routes(routes!(metrics::metrics))
        .layer(DefaultBodyLimit::max(SMALL_BODY));
    let heavy = OpenApiRouter::new()
        .routes(routes!(points::list))
        .routes(routes!(draft::read, draft::discard))
        .routes(routes!(draft::points))
        .routes(routes!(check::check))
        .routes(routes!(gateways::files))
        .routes(routes!(revisions::compare))
        .routes(routes!(revisions::files))
        .routes(routes!(uplinks::try_reports))
        .layer(DefaultBodyLimit::max(SMALL_BODY));
    let large = OpenApiRouter::new()
        .routes(routes!(draft::edit))
        .routes(routes!(draft::files, draft::replace))
        .routes(routes!(check::check_files))
        .routes(routes!(imports::import))
        .routes(routes!(uploads::parts, uploads::end, uploads::drop))
        .routes(routes!(offers::ask))
        .routes(routes!(offers::compare))
        .routes(routes!(offers::take))
        .layer(DefaultBodyLimit::max(LARGE_BODY));
    (small, heavy.merge(large))
}

/// A body of so many bytes is read before anybody looks at it.
const LEFT_UNREAD: usize = 4096;

/// Headers that keep a browser from doing what the console never asks for.
async fn guard(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    const HEADERS: [(&str, &str); 4] = [
        (
            "content-security-policy",
            "default-src 'self'; img-src 'self' data:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; \
             form-action 'self'",
        ),
        ("x-content-type-options", "nosniff"),
        ("referrer-policy", "same-origin"),
        ("x-frame-options", "DENY"),
    ];
    let is_api = request.uri().path().starts_with("/api/");
    let length =
        request.headers().get(header::CONTENT_LENGTH).and_then(|text| text.to_str().ok()?.parse::<usize>().ok());
    let mut response = next.run(request).await;
    if response.status().is_client_error() && length.is_some_and(|length| length > LEFT_UNREAD) {
        // A body that was refused may not have been read, and the connection ends with it: nobody is to send more over it.
        response.headers_mut().insert(header::CONNECTION, HeaderValue::from_static("close"));
    }
    if is_api {
        // Values, names and keys are nobody else's, and stay in no cache.
        response.headers_mut().entry(header::CACHE_CONTROL).or_insert(HeaderValue::from_static("no-store"));
    }
    for (name, value) in HEADERS {
        response.headers_mut().insert(HeaderName::from_static(name), HeaderValue::from_static(value));
    }
    if app.is_tls {
        let year = HeaderValue::from_static("max-age=31536000");
        response.headers_mut().insert(header::STRICT_TRANSPORT_SECURITY, year);
    }
    response
}
