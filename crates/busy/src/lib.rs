//! How long tasks keep a worker busy at a time. A worker that computes for long keeps every other task waiting that it has taken over,
//! polls of the plant among them: what takes long goes [`aside`].
//!
//! Tasks that are [`watched`] are measured each time they have a worker; what they did aside does not count. The longest of each kind
//! is told by [`longest`]. In debug builds whoever takes too long is told in the log, too.

use parking_lot::Mutex;
use pin_project_lite::pin_project;
use std::cell::Cell;
use std::collections::BTreeMap;
use std::future::Future;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};
use tokio::runtime::{Handle, RuntimeFlavor};

/// A tenth of a second is what a poll of the plant may wait for others at the most.
const TOO_LONG: Duration = Duration::from_millis(100);

/// The longest that a task of each kind has kept a worker busy at a time.
static LONGEST: Mutex<BTreeMap<&'static str, Duration>> = Mutex::new(BTreeMap::new());

thread_local! {
    /// How long the task that has this worker was aside since it has it.
    static ASIDE: Cell<Duration> = const { Cell::new(Duration::ZERO) };
}

/// The longest that a task of each kind has kept a worker busy at a time, since the program began.
#[must_use]
pub fn longest() -> BTreeMap<&'static str, Duration> {
    LONGEST.lock().clone()
}

/// Computes something long in place, while other workers take over what else this one has to do.
pub fn aside<T>(work: impl FnOnce() -> T) -> T {
    let has_workers = Handle::try_current().is_ok_and(|handle| handle.runtime_flavor() == RuntimeFlavor::MultiThread);
    if !has_workers {
        return work();
    }
    let begun = now();
    let done = tokio::task::block_in_place(work);
    ASIDE.set(ASIDE.get() + begun.elapsed());
    done
}

#[expect(clippy::disallowed_methods, reason = "measuring time is what this crate does")]
fn now() -> Instant {
    Instant::now()
}

pin_project! {
    /// A future that is measured while it has a worker.
    #[derive(Debug)]
    pub struct Watched<F> {
        kind: &'static str,
        name: String,
        #[pin]
        future: F,
    }
}

/// Measures a task. Its kind is for counting, its name for people: `link`, and `process-bus`.
pub fn watched<F: Future>(kind: &'static str, name: impl Into<String>, future: F) -> Watched<F> {
    Watched { kind, name: name.into(), future }
}

impl<F: Future> Future for Watched<F> {
    type Output = F::Output;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<F::Output> {
        let this = self.project();
        ASIDE.set(Duration::ZERO);
        let begun = now();
        let polled = this.future.poll(context);
        let busy = begun.elapsed().saturating_sub(ASIDE.get());
        // Most turns are short, and need no lock.
        if busy > Duration::from_millis(1) {
            let mut longest = LONGEST.lock();
            let known = longest.entry(this.kind).or_default();
            *known = busy.max(*known);
        }
        if cfg!(debug_assertions) && busy > TOO_LONG {
            tracing::warn!(kind = this.kind, name = this.name.as_str(), ?busy, "kept a worker busy");
        }
        polled
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn spin(span: Duration) {
        let begun = now();
        while begun.elapsed() < span {
            std::hint::spin_loop();
        }
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn what_a_task_does_with_its_worker_counts_and_what_it_does_aside_does_not() {
        let span = Duration::from_millis(50);
        tokio::spawn(watched("busy", "one", async move { spin(span) })).await.unwrap();
        tokio::spawn(watched("polite", "two", async move { aside(|| spin(span)) })).await.unwrap();
        let longest = longest();
        assert!(longest["busy"] >= span, "{longest:?}");
        assert!(longest.get("polite").is_none_or(|busy| *busy < span), "{longest:?}");
    }
}
