use crate::access::auth::Watcher;
use crate::api::extract::Query;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::stream::{self, Stream, StreamExt};
use interlex_gateway::{SystemClock, Tap};
use interlex_store::Secret;
use serde::Deserialize;
use std::sync::Arc;

/// Which broker to listen at.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct TapFilter {
    /// The gateway; needed when there are several.
    gateway: Option<String>,
    /// The uplink; the first one when left out.
    uplink: Option<String>,
    /// Which topics, with + and # for any level; those of the uplink when left out.
    filter: Option<String>,
}

/// A live stream (server-sent events) of what arrives at the broker, decoded: events `message`, and `lost` when the
/// broker goes away, which ends the stream.
#[utoipa::path(get, path = "/api/v1/tap", tag = "watch", extensions(("x-role" = json!("viewer"))), params(TapFilter),
    responses((status = 200, content_type = "text/event-stream"), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 429, body = ProblemDetails)))]
pub(crate) async fn tap(
    State(app): State<Arc<App>>,
    Watcher(right): Watcher,
    Query(filter): Query<TapFilter>,
) -> Result<Sse<impl Stream<Item = Result<Event, ApiError>>>, ApiError> {
    let opening = app.taps.open(&right.person)?;
    let tap = open(&app, &filter).await?;
    let stream = stream::unfold((Some(tap), app, opening), |(tap, app, opening)| async move {
        let mut tap = tap?;
        let next = tokio::select! {
            next = tap.next() => next,
            () = app.stop.cancelled() => return None,
        };
        Some(match next {
            Ok(message) => {
                let event = Event::default().event("message").json_data(message);
                (event.map_err(|error| ApiError::Internal(error.to_string())), (Some(tap), app, opening))
            }
            Err(error) => (Ok(Event::default().event("lost").data(error.to_string())), (None, app, opening)),
        })
    });
    Ok(Sse::new(stream.take_until(Box::pin(right.ended()))).keep_alive(KeepAlive::default()))
}

async fn open(app: &App, filter: &TapFilter) -> Result<Tap, ApiError> {
    let running = app.running();
    let gateway = match &filter.gateway {
        Some(name) => app.gateway(name).ok_or_else(|| ApiError::NotFound(format!("gateway {name:?}")))?,
        None => match running.as_slice() {
            [only] => Arc::clone(only),
            [] => return Err(ApiError::NotFound("gateway running".to_owned())),
            _ => return Err(ApiError::BadRequest("there are several gateways; name one".to_owned())),
        },
    };
    let running = gateway.running();
    let uplinks = &running.description().uplinks;
    let uplink = match &filter.uplink {
        Some(name) => uplinks.iter().find(|uplink| uplink.settings.name.as_str() == name),
        None => uplinks.first(),
    };
    let wanted = || format!("uplink {}", filter.uplink.as_deref().unwrap_or("described"));
    let uplink = uplink.ok_or_else(|| ApiError::NotFound(wanted()))?;
    let id = Secret::generate().map_err(|error| ApiError::Internal(error.to_string()))?;
    // Where it is connected right now, of several brokers.
    let status = gateway.status();
    let url =
        status.uplinks.iter().find(|status| status.name == uplink.settings.name.as_str()).map(|status| &status.url);
    let broker = uplink.urls().position(|known| Some(&known.to_string()) == url).unwrap_or(0);
    let id = id.reveal().get(..8).unwrap_or_default();
    let own = (id, filter.filter.as_deref().filter(|filter| !filter.is_empty()));
    Tap::start(&uplink.at(broker), running.points(), &running.inventory().links, own, Arc::new(SystemClock))
        .await
        .map_err(|error| ApiError::BadRequest(error.to_string()))
}
