use crate::ApiError;
use interlex_core::description::Files;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::time::Instant;

/// Descriptions that come in parts: more than one request may have.
#[derive(Debug, Default)]
pub(crate) struct Uploads {
    open: Mutex<HashMap<u64, Upload>>,
    last: AtomicU64,
}

#[derive(Debug)]
struct Upload {
    person: String,
    gateway: String,
    files: Files,
    /// How many bytes of files have come.
    bytes: usize,
    touched: Instant,
}

/// Whose upload, and of which gateway.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Of<'a> {
    pub(crate) person: &'a str,
    pub(crate) gateway: &'a str,
    pub(crate) number: u64,
}

/// A million rows have about seventy megabytes.
const MOST_BYTES: usize = 256 << 20;
const LONGEST_PATH: usize = 200;
const MOST_OPEN: usize = 4;
/// One of which nothing has come for so long is given up.
const IDLE: Duration = Duration::from_secs(600);

/// What a file takes beside what is in it.
const FILE: usize = 256;

impl Upload {
    /// What it takes in memory.
    fn size(&self) -> usize {
        self.bytes + self.files.len() * FILE
    }
}

impl Uploads {
    /// Begins one; gives its number.
    ///
    /// # Errors
    /// [`ApiError::TooMany`]
    pub(crate) fn begin(&self, person: &str, gateway: &str) -> Result<u64, ApiError> {
        let mut open = self.open.lock();
        open.retain(|_, upload| upload.touched.elapsed() < IDLE);
        if open.len() >= MOST_OPEN {
            let told = format!("{MOST_OPEN} uploads are under way; expected one of them finished or given up first");
            return Err(ApiError::TooMany(told));
        }
        let number = self.last.fetch_add(1, Ordering::Relaxed) + 1;
        let (person, gateway) = (person.to_owned(), gateway.to_owned());
        open.insert(number, Upload { person, gateway, files: Files::new(), bytes: 0, touched: Instant::now() });
        Ok(number)
    }

    /// Takes a part of a file, of which so many bytes have come before. One that has come already is no mistake. Gives how many bytes
    /// have come in all.
    ///
    /// # Errors
    /// [`ApiError::NotFound`], [`ApiError::Conflict`] where parts are missing, [`ApiError::Rejected`] when it is too much
    pub(crate) fn take(&self, of: Of<'_>, path: &str, at: usize, text: &str) -> Result<usize, ApiError> {
        let mut open = self.open.lock();
        let all: usize = open.values().map(Upload::size).sum();
        let upload = open.get_mut(&of.number).filter(|upload| upload.is(of)).ok_or_else(|| unknown(of))?;
        upload.touched = Instant::now();
        let known = upload.files.get(path).map_or("", String::as_str);
        if known.len() > at && known.get(at..) == Some(text) {
            return Ok(upload.bytes);
        }
        if known.len() != at {
            let told = format!("of {path} {} bytes have come; expected at {}, not {at}", known.len(), known.len());
            return Err(ApiError::Conflict(told));
        }
        if all + text.len() + FILE > MOST_BYTES || path.len() > LONGEST_PATH {
            let told = format!(
                "uploads may have {} MB together, and paths {LONGEST_PATH} bytes; describe several gateways",
                MOST_BYTES >> 20
            );
            return Err(ApiError::Rejected(axum::http::StatusCode::PAYLOAD_TOO_LARGE, told));
        }
        upload.files.entry(path.to_owned()).or_default().push_str(text);
        upload.bytes += text.len();
        Ok(upload.bytes)
    }

    /// How many bytes of one have come.
    ///
    /// # Errors
    /// [`ApiError::NotFound`]
    pub(crate) fn bytes(&self, of: Of<'_>) -> Result<usize, ApiError> {
        let open = self.open.lock();
        open.get(&of.number).filter(|upload| upload.is(of)).map(|upload| upload.bytes).ok_or_else(|| unknown(of))
    }

    /// Ends one; gives what has come.
    ///
    /// # Errors
    /// [`ApiError::NotFound`]
    pub(crate) fn end(&self, of: Of<'_>) -> Result<Files, ApiError> {
        let mut open = self.open.lock();
        match open.get(&of.number).is_some_and(|upload| upload.is(of)) {
            true => Ok(open.remove(&of.number).map(|upload| upload.files).unwrap_or_default()),
            false => Err(unknown(of)),
        }
    }
}

impl Upload {
    fn is(&self, of: Of<'_>) -> bool {
        self.person == of.person && self.gateway == of.gateway
    }
}

fn unknown(of: Of<'_>) -> ApiError {
    ApiError::NotFound(format!("upload {} of gateway {:?}", of.number, of.gateway))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_come_in_order_again_where_they_were_lost_and_from_one_person() {
        let uploads = Uploads::default();
        let number = uploads.begin("ada", "works").unwrap();
        let of = Of { person: "ada", gateway: "works", number };
        assert_eq!(uploads.take(of, "a.csv", 0, "one").unwrap(), 3);
        assert_eq!(uploads.take(of, "b.csv", 0, "2").unwrap(), 4);
        assert_eq!(uploads.take(of, "a.csv", 0, "one").unwrap(), 4, "its answer was lost");
        assert_eq!(uploads.take(of, "a.csv", 3, "two").unwrap(), 7);
        let gap = uploads.take(of, "a.csv", 9, "x").unwrap_err().to_string();
        assert!(gap.contains("expected at 6, not 9"), "{gap}");
        assert!(uploads.take(of, &"x".repeat(LONGEST_PATH + 1), 0, "").is_err());
        assert!(uploads.take(Of { person: "eve", ..of }, "a.csv", 6, "x").is_err());
        assert!(uploads.end(Of { gateway: "office", ..of }).is_err());
        assert_eq!(uploads.end(of).unwrap()["a.csv"], "onetwo");
        assert!(uploads.take(of, "a.csv", 6, "x").is_err(), "it is over");
        let all: Vec<_> = std::iter::repeat_with(|| uploads.begin("ada", "works")).take(MOST_OPEN + 1).collect();
        assert!(all[MOST_OPEN].is_err() && all[MOST_OPEN - 1].is_ok());
    }
}
