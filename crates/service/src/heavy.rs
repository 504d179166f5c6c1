use crate::auth::Viewer;
use crate::extract::too_large;
use crate::router::LARGE_BODY;
use crate::{ApiError, App};
use axum::body::{Body, HttpBody, to_bytes};
use axum::extract::{FromRequestParts, Request, State};
use axum::http::{StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use parking_lot::Mutex;
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use tokio::runtime::{Builder, Handle, Runtime};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::timeout;

/// Where requests are answered that compute for long or make much text: on a thread of their own, a few at a time. Links,
/// uplinks and everybody else's small requests are not held up by them.
#[derive(Debug)]
pub(crate) struct Heavy {
    handle: Handle,
    runtime: Mutex<Option<Runtime>>,
    turns: Arc<Semaphore>,
    bodies: Arc<Semaphore>,
    waiting: AtomicUsize,
}

/// Each has its body and what is made of it.
const AT_A_TIME: usize = 1;
/// How many bytes bodies may have together that are being read or wait for their turn, and how many count as one.
const BODIES: usize = 24 << 20;
const PIECE: usize = 64 << 10;
/// How long a body may take: a few megabytes over a slow line.
const BODY: Duration = Duration::from_secs(30);
/// More than so many are told to come back.
const WAITING: usize = 64;

impl Heavy {
    pub(crate) fn start() -> io::Result<Self> {
        let runtime = Builder::new_multi_thread().worker_threads(1).thread_name("heavy").enable_all().build()?;
        let (handle, runtime) = (runtime.handle().clone(), Mutex::new(Some(runtime)));
        Ok(Self {
            handle,
            runtime,
            turns: Arc::new(Semaphore::new(AT_A_TIME)),
            bodies: Arc::new(Semaphore::new(BODIES / PIECE)),
            waiting: AtomicUsize::new(0),
        })
    }

    /// Reads the body of a request, and gives the room that it takes.
    async fn read(&self, request: Request) -> Result<(Request, OwnedSemaphorePermit), ApiError> {
        let length = request.headers().get(header::CONTENT_LENGTH).and_then(|text| text.to_str().ok()?.parse().ok());
        // Of a body that does not tell its length it is known that it may not have more.
        let most = if request.body().size_hint().exact() == Some(0) { 0 } else { length.unwrap_or(LARGE_BODY) };
        if most > LARGE_BODY {
            return Err(too_large(length));
        }
        let pieces = u32::try_from(most.div_ceil(PIECE)).unwrap_or(u32::MAX);
        let room = Arc::clone(&self.bodies).acquire_many_owned(pieces).await.map_err(|_| ApiError::Busy)?;
        let (head, body) = request.into_parts();
        let late = |_| ApiError::Rejected(StatusCode::REQUEST_TIMEOUT, "the body did not come in time".into());
        let read = timeout(BODY, to_bytes(body, most)).await.map_err(late)?;
        Ok((Request::from_parts(head, Body::from(read.map_err(|_| too_large(length))?)), room))
    }

    /// At the end, what is still being computed is of no use.
    pub(crate) fn stop(&self) {
        self.runtime.lock().take().into_iter().for_each(Runtime::shutdown_background);
    }
}

impl Drop for Heavy {
    fn drop(&mut self) {
        self.stop();
    }
}

/// Counts one that waits, for as long as it does.
struct Waiting<'a>(&'a AtomicUsize);

impl<'a> Waiting<'a> {
    fn new(count: &'a AtomicUsize) -> Option<Self> {
        let waiting = Self(count);
        (count.fetch_add(1, Ordering::Relaxed) < WAITING).then_some(waiting)
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// Answers a request when it is its turn. Its body is read before, as far as there is room for it: a slow line costs nobody
/// else a turn.
pub(crate) async fn in_turn(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    // Strangers are sent away before anything of theirs is read.
    let (mut head, body) = request.into_parts();
    if let Err(refused) = Viewer::from_request_parts(&mut head, &app).await {
        return refused.into_response();
    }
    let request = Request::from_parts(head, body);
    let heavy = &app.heavy;
    let Some(_waiting) = Waiting::new(&heavy.waiting) else { return ApiError::Busy.into_response() };
    let (request, room) = match heavy.read(request).await {
        Ok(read) => read,
        Err(error) => return error.into_response(),
    };
    let Ok(turn) = Arc::clone(&heavy.turns).acquire_owned().await else { return ApiError::Busy.into_response() };
    let answering = heavy.handle.spawn(async move {
        let _taken = (turn, room);
        next.run(request).await
    });
    answering.await.unwrap_or_else(|error| ApiError::internal(error).into_response())
}
