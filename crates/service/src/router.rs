use crate::{ApiError, App, console, description, health, live, metrics, points, session, setup, status, tap};
use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::http::{HeaderName, HeaderValue};
use axum::middleware::{self, Next};
use axum::response::Response;
use axum::routing::get;
use std::sync::Arc;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

/// A description of fifty thousand points takes about five megabytes.
const LARGEST_BODY: usize = 32 << 20;

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
    api().into_openapi()
}

/// The whole service as a router.
pub fn router(app: Arc<App>) -> Router {
    let (router, document) = api().split_for_parts();
    router
        .route("/api/v1/openapi.json", get(move || async move { axum::Json(document) }))
        .fallback(console::file)
        .method_not_allowed_fallback(|| async { ApiError::Method })
        .layer(DefaultBodyLimit::max(LARGEST_BODY))
        .layer(middleware::from_fn(guard))
        .with_state(app)
}

fn api() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(setup::state, setup::carry_out))
        .routes(routes!(session::who, session::sign_in, session::sign_out))
        .routes(routes!(session::make_token))
        .routes(routes!(status::status))
        .routes(routes!(points::list))
        .routes(routes!(points::detail))
        .routes(routes!(live::live))
        .routes(routes!(tap::tap))
        .routes(routes!(description::check))
        .routes(routes!(description::activate))
        .routes(routes!(description::files))
        .routes(routes!(description::revisions))
        .routes(routes!(description::schemas))
        .routes(routes!(health::alive))
        .routes(routes!(health::ready))
        .routes(routes!(metrics::metrics))
}

/// Headers that keep a browser from doing what the console never asks for.
async fn guard(request: Request, next: Next) -> Response {
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
    let mut response = next.run(request).await;
    for (name, value) in HEADERS {
        response.headers_mut().insert(HeaderName::from_static(name), HeaderValue::from_static(value));
    }
    response
}
