use crate::{ApiError, App};
use axum::extract::{Request, State};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use parking_lot::Mutex;
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio::runtime::{Builder, Handle, Runtime};
use tokio::sync::Semaphore;

/// Where requests are answered that compute for long or make much text: on a thread of their own, a few at a time. Links,
/// uplinks and everybody else's small requests are not held up by them.
#[derive(Debug)]
pub(crate) struct Heavy {
    handle: Handle,
    runtime: Mutex<Option<Runtime>>,
    turns: Arc<Semaphore>,
    waiting: AtomicUsize,
}

/// Each may have a large body and what is made of it.
const AT_A_TIME: usize = 2;
/// More than so many are told to come back.
const WAITING: usize = 64;

impl Heavy {
    pub(crate) fn start() -> io::Result<Self> {
        let runtime = Builder::new_multi_thread().worker_threads(1).thread_name("heavy").enable_all().build()?;
        let (handle, runtime) = (runtime.handle().clone(), Mutex::new(Some(runtime)));
        Ok(Self { handle, runtime, turns: Arc::new(Semaphore::new(AT_A_TIME)), waiting: AtomicUsize::new(0) })
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

/// Answers a request when it is its turn: before that, nothing of its body is read.
pub(crate) async fn in_turn(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let turn = {
        let Some(_waiting) = Waiting::new(&app.heavy.waiting) else { return ApiError::Busy.into_response() };
        Arc::clone(&app.heavy.turns).acquire_owned().await
    };
    let answering = app.heavy.handle.spawn(async move {
        let _turn = turn;
        next.run(request).await
    });
    answering.await.unwrap_or_else(|error| ApiError::internal(error).into_response())
}
