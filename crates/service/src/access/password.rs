use crate::ApiError;
use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio::sync::Semaphore;

/// The least length of a password: NIST SP 800-63B asks for 8 and for no other rule.
const SHORTEST: usize = 8;
/// Longer ones only cost time to hash.
const LONGEST: usize = 256;

/// Hashes a password with Argon2id and a random salt, off the async threads.
pub(crate) async fn hash(password: String) -> Result<String, ApiError> {
    if !(SHORTEST..=LONGEST).contains(&password.chars().count()) {
        return Err(ApiError::BadRequest(format!("a password has {SHORTEST} to {LONGEST} characters")));
    }
    let hashing = move || Argon2::default().hash_password(password.as_bytes()).map(|hash| hash.to_string());
    run(hashing).await?.map_err(|error| ApiError::Internal(error.to_string()))
}

/// Whether a password fits a hash. Without a hash, as much time is spent for nothing, so that unknown names
/// answer no faster than known ones.
pub(crate) async fn verify(password: String, hash: Option<String>) -> Result<bool, ApiError> {
    run(move || match hash {
        Some(hash) => Argon2::default().verify_password(password.as_bytes(), hash.as_str()).is_ok(),
        None => {
            // Only the time matters.
            let _ = Argon2::default().hash_password(password.as_bytes());
            false
        }
    })
    .await
}

/// Each hash takes some 20 MB and a core for a moment: so many at a time, also when those who asked have gone.
const AT_A_TIME: usize = 1;
/// So many may wait for their turn; more are told to come back.
const WAITING: usize = 8;
static TURNS: Semaphore = Semaphore::const_new(AT_A_TIME);
static IN_LINE: AtomicUsize = AtomicUsize::new(0);

/// A place in the line, given back when it is dropped.
struct Place;

impl Place {
    fn take() -> Result<Self, ApiError> {
        let place = Self;
        if IN_LINE.fetch_add(1, Ordering::Relaxed) >= AT_A_TIME + WAITING { Err(ApiError::Busy) } else { Ok(place) }
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        IN_LINE.fetch_sub(1, Ordering::Relaxed);
    }
}

async fn run<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, ApiError> {
    let place = Place::take()?;
    let turn = TURNS.acquire().await.map_err(ApiError::internal)?;
    let working = move || {
        let _taken = (place, turn);
        work()
    };
    tokio::task::spawn_blocking(working).await.map_err(|error| ApiError::Internal(error.to_string()))
}
