use crate::ApiError;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;

/// Counts what is open for a while, such as live streams: so many for each person, and so many in all.
#[derive(Debug, Clone)]
pub(crate) struct Openings {
    what: &'static str,
    each: usize,
    all: usize,
    open: Arc<Mutex<HashMap<String, usize>>>,
}

/// One of them; closed when it is dropped.
#[derive(Debug)]
pub(crate) struct Opening {
    key: String,
    of: Openings,
}

impl Openings {
    pub(crate) fn new(what: &'static str, each: usize, all: usize) -> Self {
        Self { what, each, all, open: Arc::default() }
    }

    /// Opens one more.
    ///
    /// # Errors
    /// [`ApiError::TooMany`]
    pub(crate) fn open(&self, key: &str) -> Result<Opening, ApiError> {
        let mut open = self.open.lock();
        let (of_key, all) = (open.get(key).copied().unwrap_or(0), open.values().sum::<usize>());
        if of_key >= self.each || all >= self.all {
            let (what, limit) = (self.what, if of_key >= self.each { self.each } else { self.all });
            return Err(ApiError::TooMany(format!("{limit} {what} are open already; close one first")));
        }
        *open.entry(key.to_owned()).or_default() += 1;
        Ok(Opening { key: key.to_owned(), of: self.clone() })
    }
}

impl Drop for Opening {
    fn drop(&mut self) {
        let mut open = self.of.open.lock();
        if let Some(count) = open.get_mut(&self.key) {
            *count -= 1;
            if *count == 0 {
                open.remove(&self.key);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_has_a_limit_and_all_together_have_one() {
        let openings = Openings::new("taps", 2, 3);
        let held = ["mara", "mara", "nils"].map(|name| openings.open(name).unwrap());
        assert_eq!(openings.open("mara").unwrap_err().to_string(), "2 taps are open already; close one first");
        assert_eq!(openings.open("nils").unwrap_err().to_string(), "3 taps are open already; close one first");
        drop(held);
        assert!(openings.open("mara").is_ok() && openings.open.lock().is_empty());
    }
}
