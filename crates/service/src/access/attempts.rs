use interlex_core::Timestamp;
use parking_lot::Mutex;
use std::collections::{HashMap, HashSet};
use std::time::Duration;

/// Limits attempts to sign in.
///
/// An attempt is counted before the password is looked at, so that many at the same moment are no more than many one after
/// the other. Each address may mistype a name a few times, and several names some more; from there on each failure doubles
/// the wait. Guesses from many addresses at one name are slowed down, too, but not for the addresses from which that person
/// has signed in before: nobody locks anybody out.
#[derive(Debug, Default)]
pub(crate) struct Attempts {
    inner: Mutex<Inner>,
}

#[derive(Debug, Default)]
struct Inner {
    failures: HashMap<Key, Failures>,
    /// Addresses from which somebody has signed in, with the name.
    known: HashSet<(String, String)>,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Key {
    /// An address and a name.
    Pair(String, String),
    Address(String),
    Name(String),
}

#[derive(Debug, Clone, Copy)]
struct Failures {
    count: u32,
    last: Timestamp,
}

impl Key {
    /// So many failures cost no wait.
    const fn free(&self) -> u32 {
        match self {
            Self::Pair(..) => 5,
            Self::Address(_) => 20,
            Self::Name(_) => 50,
        }
    }
}

/// After this long without an attempt, an address or name starts fresh; no wait is longer.
const FORGET: Duration = Duration::from_secs(300);
/// So many that a flood of made-up names does not fill the memory; the oldest make room.
const MOST: usize = 10_000;
/// Names are remembered to this length.
const LONGEST_NAME: usize = 128;

impl Attempts {
    /// Counts an attempt to be made now.
    ///
    /// # Errors
    /// How long to wait instead.
    pub(crate) fn reserve(&self, address: &str, name: &str, now: Timestamp) -> Result<(), Duration> {
        let inner = &mut *self.inner.lock();
        let keys = inner.keys(address, name);
        let wait = keys.iter().filter_map(|key| inner.wait(key, now)).max();
        if let Some(wait) = wait {
            return Err(wait);
        }
        for key in keys {
            inner.count(key, now);
        }
        Ok(())
    }

    /// The attempt succeeded.
    pub(crate) fn succeeded(&self, address: &str, name: &str) {
        let inner = &mut *self.inner.lock();
        for key in inner.keys(address, name) {
            inner.failures.remove(&key);
        }
        if inner.known.len() >= MOST {
            inner.known.clear();
        }
        inner.known.insert((address.to_owned(), short(name)));
    }

    /// The attempt came to nothing by no fault of who made it.
    pub(crate) fn give_back(&self, address: &str, name: &str) {
        let inner = &mut *self.inner.lock();
        for key in inner.keys(address, name) {
            if let Some(failures) = inner.failures.get_mut(&key) {
                failures.count = failures.count.saturating_sub(1);
            }
        }
    }

    /// Whether somebody has signed in from an address.
    pub(crate) fn knows(&self, address: &str) -> bool {
        self.inner.lock().known.iter().any(|(known, _)| known == address)
    }
}

impl Inner {
    fn keys(&self, address: &str, name: &str) -> Vec<Key> {
        let name = short(name);
        let is_known = self.known.contains(&(address.to_owned(), name.clone()));
        let mut keys = vec![Key::Pair(address.to_owned(), name.clone()), Key::Address(address.to_owned())];
        if !is_known {
            keys.push(Key::Name(name));
        }
        keys
    }

    fn wait(&self, key: &Key, now: Timestamp) -> Option<Duration> {
        let failed = self.failures.get(key)?;
        let beyond = failed.count.checked_sub(key.free())?;
        let wait = Duration::from_secs(1 << beyond.min(9)).min(FORGET);
        wait.checked_sub(now.since(failed.last)).filter(|left| !left.is_zero())
    }

    fn count(&mut self, key: Key, now: Timestamp) {
        if self.failures.len() >= MOST && !self.failures.contains_key(&key) {
            self.failures.retain(|_, failed| now.since(failed.last) < FORGET);
            let oldest = self.failures.iter().min_by_key(|(_, failed)| failed.last).map(|(key, _)| key.clone());
            if let Some(oldest) = oldest.filter(|_| self.failures.len() >= MOST) {
                self.failures.remove(&oldest);
            }
        }
        let failed = self.failures.entry(key).or_insert(Failures { count: 0, last: now });
        if now.since(failed.last) >= FORGET {
            failed.count = 0;
        }
        *failed = Failures { count: failed.count + 1, last: now };
    }
}

fn short(name: &str) -> String {
    name.chars().take(LONGEST_NAME).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_millis(second * 1000)
    }

    #[test]
    fn waits_double_from_the_sixth_attempt_on_and_time_heals() {
        let attempts = Attempts::default();
        let reserve = |second| attempts.reserve("10.0.0.7", "mara", at(second)).map_err(|wait| wait.as_secs());
        assert_eq!([0; 5].map(reserve), [Ok(()); 5]);
        assert_eq!((reserve(0), reserve(1)), (Err(1), Ok(())));
        assert_eq!((reserve(2), reserve(3), reserve(4), reserve(7)), (Err(1), Ok(()), Err(3), Ok(())));
        assert_eq!(attempts.reserve("10.0.0.7", "nils", at(8)), Ok(()), "another name");
        assert_eq!(reserve(400), Ok(()), "it starts fresh");
        attempts.give_back("10.0.0.7", "mara");
        assert_eq!([400; 5].map(reserve), [Ok(()); 5]);
    }

    #[test]
    fn guesses_from_elsewhere_lock_nobody_out_where_they_signed_in_before() {
        let attempts = Attempts::default();
        attempts.succeeded("10.0.0.7", "mara");
        for number in 0..60 {
            let _ = attempts.reserve(&format!("10.9.0.{number}"), "mara", at(0));
        }
        assert!(attempts.reserve("10.8.0.1", "mara", at(0)).is_err(), "an address that nobody knows");
        assert_eq!(attempts.reserve("10.0.0.7", "mara", at(0)), Ok(()));
        assert!(attempts.knows("10.0.0.7") && !attempts.knows("10.8.0.1"));
    }
}
