use crate::access::proxy::origin;
use crate::{ApiError, App};
use axum::extract::{ConnectInfo, FromRequestParts};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, header};
use interlex_gateway::wall_clock;
use interlex_store::{AuditEntry, CredentialKind, Role, SignedIn};
use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;

/// Where a request comes from, with TLS or without.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Peer(pub(crate) SocketAddr);

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

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Infallible> {
        let peer = parts.extensions.get::<ConnectInfo<Peer>>();
        let origin = peer.map(|ConnectInfo(Peer(address))| origin(address.ip(), &parts.headers, &app.trusted_proxies));
        Ok(Self(origin.map_or_else(|| "unknown".to_owned(), |address| address.to_string())))
    }
}

/// The right by which somebody streams; it ends with the session, the token, the password or the role.
#[derive(Debug)]
pub(crate) struct Right {
    app: Arc<App>,
    kind: CredentialKind,
    secret: String,
    role: Role,
    /// Whose it is.
    pub(crate) person: String,
}

impl Right {
    /// The right of a request, for a role.
    async fn of(parts: &mut Parts, app: &Arc<App>, role: Role) -> Result<Self, ApiError> {
        let Viewer(who) = Viewer::from_request_parts(parts, app).await?;
        if who.role < role {
            return Err(ApiError::Forbidden(role.word()));
        }
        let (kind, secret) = credential(&parts.headers).ok_or(ApiError::NotSignedIn)?;
        Ok(Self { app: Arc::clone(app), kind, secret: secret.to_owned(), role, person: who.name })
    }

    /// Waits for its end. While the database is away, nothing ends that was not ended before.
    pub(crate) async fn ended(self) {
        let mut changes = self.app.rights.subscribe();
        loop {
            tokio::select! {
                // An error means that the service ends, and its streams with it.
                _ = changes.changed() => {}
                () = tokio::time::sleep(LOOK) => {}
            }
            if !self.app.database.read().up {
                continue;
            }
            match self.app.store.signed_in(self.kind, &self.secret, wall_clock().as_millis()).await {
                Ok(Some(who)) if who.role >= self.role => {}
                Ok(_) => return,
                Err(error) => tracing::debug!(%error, "whether a stream may go on is not known"),
            }
        }
    }
}

/// How often it is looked whether a session has run out; what ends otherwise is told at once.
const LOOK: std::time::Duration = std::time::Duration::from_millis(900);

/// The right to look on for as long as it lasts.
#[derive(Debug)]
pub(crate) struct Watcher(pub(crate) Right);

/// The right of an engineer for as long as it lasts.
#[derive(Debug)]
pub(crate) struct Commissioner(pub(crate) Right);

impl FromRequestParts<Arc<App>> for Watcher {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, ApiError> {
        Right::of(parts, app, Role::Viewer).await.map(Self)
    }
}

impl FromRequestParts<Arc<App>> for Commissioner {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, ApiError> {
        Right::of(parts, app, Role::Engineer).await.map(Self)
    }
}

/// What a request shows that it may: a token, or else a cookie.
fn credential(headers: &HeaderMap) -> Option<(CredentialKind, &str)> {
    let token = bearer(headers).map(|token| (CredentialKind::Token, token));
    token.or_else(|| cookie(headers).map(|cookie| (CredentialKind::Session, cookie)))
}

impl FromRequestParts<Arc<App>> for Viewer {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, ApiError> {
        let (kind, secret) = credential(&parts.headers).ok_or(ApiError::NotSignedIn)?;
        if kind == CredentialKind::Session && !is_safe(&parts.method) && !is_same_origin(&parts.headers) {
            return Err(ApiError::OtherOrigin);
        }
        // While the database is away, asking it would only take time.
        if !app.database.read().up {
            return app.seen.lock().get(secret).cloned().map(Self).ok_or(ApiError::Away);
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
