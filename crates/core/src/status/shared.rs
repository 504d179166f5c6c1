use super::RateMeter;
use crate::Timestamp;
use parking_lot::Mutex;

/// A status with what is needed to compute its rate, behind a lock that is held for moments only.
#[derive(Debug)]
pub struct Shared<T> {
    inner: Mutex<(T, RateMeter)>,
}

impl<T: Clone> Shared<T> {
    /// A status from which nothing was counted yet.
    pub fn new(status: T) -> Self {
        Self { inner: Mutex::new((status, RateMeter::default())) }
    }

    /// Changes it.
    pub fn update(&self, change: impl FnOnce(&mut T, &mut RateMeter)) {
        let mut inner = self.inner.lock();
        let (status, meter) = &mut *inner;
        change(status, meter);
    }

    /// The status, and how many events a second there were lately.
    pub fn read(&self, now: Timestamp) -> (T, f64) {
        let inner = self.inner.lock();
        (inner.0.clone(), inner.1.per_second(now))
    }
}
