use crate::access::auth::Viewer;
use crate::api::extract::{BODY, LARGE_BODY, SMALL_BODY, too_large};
use crate::turns::{Heavy, PIECE, Waiting};
use crate::{ApiError, App};
use axum::body::{Body, HttpBody, to_bytes};
use axum::extract::{FromRequestParts, Request, State};
use axum::http::request::Parts;
use axum::http::{StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use http_body_util::BodyExt;
use std::sync::Arc;
use std::thread;
use std::time::Duration;
use tokio::runtime::Handle;
use tokio::sync::{OwnedSemaphorePermit, oneshot};
use tokio::time::timeout;

/// How much of a body that is refused is taken in, and for how long.
const PASSED_OVER: usize = 4 * LARGE_BODY;
const PATIENCE: Duration = Duration::from_secs(10);

/// Reads the body of a request, and gives the room that it takes.
async fn read(heavy: &Heavy, head: &Parts, body: Body) -> Result<(Body, OwnedSemaphorePermit), ApiError> {
    let length = head.headers.get(header::CONTENT_LENGTH).and_then(|text| text.to_str().ok()?.parse().ok());
    // Of a body that does not tell its length it is known that it may not have more.
    let most = if body.size_hint().exact() == Some(0) { 0 } else { length.unwrap_or(LARGE_BODY) };
    if most > LARGE_BODY {
        pass_over(body).await;
        return Err(too_large(length));
    }
    let pieces = if most > SMALL_BODY { u32::try_from(most.div_ceil(PIECE)).unwrap_or(u32::MAX) } else { 0 };
    let room = Arc::clone(&heavy.bodies).acquire_many_owned(pieces).await.map_err(|_| ApiError::Busy)?;
    let late = |_| ApiError::Rejected(StatusCode::REQUEST_TIMEOUT, "the body did not come in time".into());
    let read = timeout(BODY, to_bytes(body, most)).await.map_err(late)?;
    Ok((Body::from(read.map_err(|_| too_large(length))?), room))
}

/// Takes in what is not wanted, as it comes, and keeps nothing of it: whoever is still sending reads no answer, and would only
/// see the connection end.
async fn pass_over(mut body: Body) {
    let passing = async {
        let mut passed = 0;
        while let Some(Ok(frame)) = body.frame().await {
            passed += frame.data_ref().map_or(0, |data| data.len());
            if passed > PASSED_OVER {
                return;
            }
        }
    };
    let _ = timeout(PATIENCE, passing).await;
}

/// Answers a request when it is its turn. Its body is read before, as far as there is room for it: a slow line costs nobody
/// else a turn.
pub(crate) async fn in_turn(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    // Strangers are sent away before anything of theirs is read.
    let (mut head, body) = request.into_parts();
    if let Err(refused) = Viewer::from_request_parts(&mut head, &app).await {
        pass_over(body).await;
        return refused.into_response();
    }
    let heavy = &app.heavy;
    let Some(_waiting) = Waiting::new(&heavy.waiting) else {
        pass_over(body).await;
        return ApiError::Busy.into_response();
    };
    let (body, room) = match read(heavy, &head, body).await {
        Ok(read) => read,
        Err(error) => return error.into_response(),
    };
    let request = Request::from_parts(head, body);
    let Ok(turn) = Arc::clone(&heavy.turns).acquire_owned().await else { return ApiError::Busy.into_response() };
    let (runtime, (answer, answered)) = (Handle::current(), oneshot::channel());
    let answering = move || {
        let _taken = (turn, room);
        // Whoever asked may have gone.
        let _ = answer.send(runtime.block_on(next.run(request)));
    };
    if let Err(error) = thread::Builder::new().name("heavy".to_owned()).spawn(answering) {
        return ApiError::internal(error).into_response();
    }
    answered.await.unwrap_or_else(|error| ApiError::internal(error).into_response())
}
