use crate::serve::Peer;
use crate::{ApiError, App};
use axum::extract::{ConnectInfo, FromRequestParts};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, header};
use interlex_gateway::wall_clock;
use interlex_store::{AuditEntry, CredentialKind, Role, SignedIn};
use std::convert::Infallible;
use std::sync::Arc;

/// The name of the session cookie.
pub(crate) const COOKIE: &str = "interlex_session";

/// A person who is signed in, by cookie or by token. Every role may look.
#[derive(Debug)]
pub(crate) struct Viewer(pub(crate) SignedIn);

/// A person who may write values.
#[derive(Debug)]
pub(crate) struct Operator(pub(crate) Author);

/// A person who may edit and activate.
#[derive(Debug)]
pub(crate) struct Engineer(pub(crate) Author);

/// A person who may also see to people and everybody's tokens.
#[derive(Debug)]
pub(crate) struct Administrator(pub(crate) Author);

/// Who does something, and from where.
#[derive(Debug, Clone)]
pub(crate) struct Author {
    pub(crate) person: String,
    pub(crate) source: String,
}

impl Author {
    /// An entry of the audit trail, to be filled.
    pub(crate) fn entry(&self) -> AuditEntry<'_> {
        AuditEntry { person: &self.person, source: &self.source, ..AuditEntry::default() }
    }
}

/// Where a request comes from: the peer's address.
#[derive(Debug)]
pub(crate) struct Source(pub(crate) String);

impl FromRequestParts<Arc<App>> for Source {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &Arc<App>) -> Result<Self, Infallible> {
        let peer = parts.extensions.get::<ConnectInfo<Peer>>();
        Ok(Self(peer.map_or_else(|| "unknown".to_owned(), |ConnectInfo(Peer(address))| address.ip().to_string())))
    }
}

impl FromRequestParts<Arc<App>> for Viewer {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, ApiError> {
        let token = bearer(&parts.headers);
        let (kind, secret) = match (token, cookie(&parts.headers)) {
            (Some(token), _) => (CredentialKind::Token, token),
            (None, Some(cookie)) => (CredentialKind::Session, cookie),
            (None, None) => return Err(ApiError::NotSignedIn),
        };
        if kind == CredentialKind::Session && !is_safe(&parts.method) && !is_same_origin(&parts.headers) {
            return Err(ApiError::OtherOrigin);
        }
        // While the database is away, asking it would only take time.
        if !app.database.read().up {
            return app.seen.lock().get(secret).cloned().map(Self).ok_or(ApiError::NotSignedIn);
        }
        let found = app.store.signed_in(kind, secret, wall_clock().as_millis()).await;
        match found {
            Ok(Some(who)) => {
                app.remember(secret, &who);
                Ok(Self(who))
            }
            Ok(None) => {
                app.seen.lock().remove(secret);
                Err(ApiError::NotSignedIn)
            }
            Err(error) => app.seen.lock().get(secret).cloned().map(Self).ok_or(ApiError::Store(error)),
        }
    }
}

/// A role as an extractor: whoever may less is refused before the body is read.
macro_rules! role {
    ($extractor:ident, $role:expr) => {
        impl FromRequestParts<Arc<App>> for $extractor {
            type Rejection = ApiError;

            async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, ApiError> {
                let Viewer(who) = Viewer::from_request_parts(parts, app).await?;
                if who.role < $role {
                    return Err(ApiError::Forbidden($role.word()));
                }
                let Ok(Source(source)) = Source::from_request_parts(parts, app).await;
                Ok(Self(Author { person: who.name, source }))
            }
        }
    };
}

role!(Operator, Role::Operator);
role!(Engineer, Role::Engineer);
role!(Administrator, Role::Administrator);

pub(crate) fn cookie(headers: &HeaderMap) -> Option<&str> {
    let lines = headers.get_all(header::COOKIE).iter().filter_map(|line| line.to_str().ok());
    lines.flat_map(|line| line.split(';')).find_map(|pair| pair.trim().strip_prefix(COOKIE)?.strip_prefix('='))
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

fn is_safe(method: &Method) -> bool {
    matches!(*method, Method::GET | Method::HEAD)
}

/// Whether the browser says that a page of this very server sent the request.
pub(crate) fn is_same_origin(headers: &HeaderMap) -> bool {
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok());
    match (text(header::ORIGIN), text(header::HOST)) {
        (Some(origin), Some(host)) => origin.split_once("://").is_some_and(|(_, authority)| authority == host),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(pairs: &[(header::HeaderName, &str)]) -> HeaderMap {
        pairs.iter().map(|(name, value)| (name.clone(), value.parse().unwrap())).collect()
    }

    #[test]
    fn the_cookie_is_found_among_others() {
        let found = headers(&[(header::COOKIE, "a=1; interlex_session=s3cret; interlex_session2=x")]);
        assert_eq!(cookie(&found), Some("s3cret"));
        assert_eq!(cookie(&headers(&[(header::COOKIE, "interlex_sessionx=1")])), None);
    }

    #[test]
    fn only_pages_of_this_server_may_change_things() {
        let same = |origin, host| is_same_origin(&headers(&[(header::ORIGIN, origin), (header::HOST, host)]));
        assert!(same("http://127.0.0.1:7400", "127.0.0.1:7400"));
        assert!(!same("http://evil.example", "127.0.0.1:7400"));
        assert!(!same("null", "127.0.0.1:7400"));
        assert!(!is_same_origin(&headers(&[(header::HOST, "127.0.0.1:7400")])));
    }
}
