//! From an address to a session.

use super::discovery::day;
use super::endpoint;
use super::facts::ServerFacts;
use super::frames::{OpcUaFrame, OpcUaFrames};
use super::memory::ServerMemory;
use super::reach::{Reach, Reached};
use super::trust;
use crate::link::{FrameRing, Keeper, Lost, OwnIdentity, seconds_now};
use interlex_core::Clock;
use interlex_core::description::{OpcUaLink, OpcUaSecurity};
use interlex_opcua::{
    ClientChannelConfig, ClientSession, ClientSessionConfig, Connection, ConnectionError, Credentials,
    EndpointDescription, MessageSecurityMode, SecurityPolicy, TransportLimits, UserIdentity, certificate_details,
    endpoints_of,
};
use parking_lot::Mutex;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::{Instant, timeout_at};

/// A session that outlives its connections, while there is none.
pub(super) type KeptSession = Arc<Mutex<Option<ClientSession>>>;

/// All that it takes to reach a server.
pub(super) struct Way {
    pub(super) link: OpcUaLink,
    pub(super) reach: Reach,
    pub(super) name: String,
    pub(super) identity: OwnIdentity,
    pub(super) kept: KeptSession,
    pub(super) memory: Arc<ServerMemory>,
    pub(super) place: String,
    pub(super) keeper: Option<Arc<dyn Keeper>>,
    pub(super) frames: Arc<FrameRing<OpcUaFrames>>,
    pub(super) clock: Arc<dyn Clock>,
}

/// A session over a connection.
pub(crate) struct OpcUaSession {
    pub(super) connection: Connection,
    pub(super) session: ClientSession,
    /// Whether the server knows nothing of the one before.
    pub(super) is_new: bool,
    pub(super) facts: ServerFacts,
    /// The bytes that were told of: sent, and received.
    pub(super) counted: (u64, u64),
    /// Certificates that end soon, in words.
    pub(super) ending: Vec<String>,
    /// Whether the connection is gone.
    pub(super) is_down: bool,
}

/// So long the keys of a channel are used.
const TOKEN: Duration = Duration::from_secs(3600);
/// So many seconds before its end a certificate is warned about.
const MONTH: i64 = 30 * 86_400;

/// The ways that a server offers, and by what it wants to be called.
pub(super) async fn endpoints(reach: &Reach, deadline: Instant) -> Result<(Vec<EndpointDescription>, String), String> {
    let Reached { stream, url } = reach.stream(deadline).await?;
    let patience = deadline.saturating_duration_since(Instant::now());
    let endpoints = endpoints_of(stream, &url, patience).await.map_err(|error| error.to_string())?;
    if endpoints.is_empty() {
        return Err("the server tells of no way to reach it".to_owned());
    }
    Ok((endpoints, url))
}

impl Way {
    /// Connects: with the session of before, where there is one, else with a new one.
    pub(super) async fn enter(self) -> Result<OpcUaSession, Lost> {
        self.memory.load(self.keeper.as_ref(), &self.place).await;
        // Making a certificate, once, is no part of reaching the server.
        if self.link.security != OpcUaSecurity::None {
            self.identity.get().await.map_err(Lost)?;
        }
        let deadline = Instant::now() + Duration::from(self.link.connect_timeout);
        let known = self.kept.lock().take();
        let mut session = match known {
            Some(session) => session,
            None => ClientSession::new(self.agree(deadline).await.map_err(Lost)?),
        };
        let stream = match self.reach.stream(deadline).await {
            // What a caller says of itself now changes nothing of what was agreed.
            Ok(Reached { stream, .. }) => stream,
            Err(why) => {
                *self.kept.lock() = Some(session);
                return Err(Lost(why));
            }
        };
        let mut connection = Connection::new(stream, &mut session);
        let entered = timeout_at(deadline, connection.entered(&mut session)).await;
        record(&self.frames, &mut session);
        let is_new = match entered {
            Ok(Ok(is_new)) => is_new,
            // The session may be there all the same.
            Ok(Err(ConnectionError::Lost(error))) => return Err(self.keep(session, refused(&error))),
            Err(_) => return Err(self.keep(session, "the server does not answer in time".to_owned())),
            // What was agreed does not hold any more: it is agreed anew.
            Ok(Err(error)) => return Err(Lost(explained(&error))),
        };
        let timeout = self.link.timeout.into();
        let asked = connection.ask(&mut session, ServerFacts::request(), timeout).await;
        record(&self.frames, &mut session);
        match asked {
            Ok(response) => {
                let facts = ServerFacts::read(response, self.clock.now().as_millis()).map_err(Lost)?;
                let ending = self.ending(&session).await;
                Ok(OpcUaSession { connection, session, is_new, facts, counted: (0, 0), ending, is_down: false })
            }
            Err(error) => Err(self.keep(session, error.to_string())),
        }
    }

    /// The certificates that somebody has to see to before long.
    async fn ending(&self, session: &ClientSession) -> Vec<String> {
        if self.link.security == OpcUaSecurity::None {
            return Vec::new();
        }
        let own = self.identity.get().await.ok().map(|own| ("our own certificate", own.ends));
        let server = certificate_details(session.server_certificate()).ok();
        let server = server.map(|details| ("the certificate of the server", details.validity.1));
        ending([own, server].into_iter().flatten(), seconds_now())
    }

    fn keep(&self, mut session: ClientSession, why: String) -> Lost {
        session.disconnected();
        *self.kept.lock() = Some(session);
        Lost(why)
    }

    /// Finds out how the server is talked to, and whether it is the right one.
    async fn agree(&self, deadline: Instant) -> Result<ClientSessionConfig, String> {
        let link = &self.link;
        let (endpoints, url) = endpoints(&self.reach, deadline).await?;
        let agreed = self.memory.agreed();
        let ((mode, policy), endpoint) = endpoint::choose(&endpoints, link.security, agreed)?;
        let (endpoint, user) = (endpoint.clone(), endpoint::user(link)?);
        let chain = endpoint.server_certificate.as_bytes();
        // A password goes to nobody who is not trusted, also where the channel has no security.
        let is_shown = policy != SecurityPolicy::None || !matches!(user, UserIdentity::Anonymous);
        if is_shown && !(chain.is_empty() && policy == SecurityPolicy::None) {
            let uri = trust::application_uri(link, &endpoint);
            let faults = trust::objections(link, (chain, policy), uri, seconds_now());
            if !faults.is_empty() {
                return Err(trust::refusal(link, chain, &faults));
            }
        }
        if link.security == OpcUaSecurity::Auto {
            self.memory.agree((mode, policy));
        }
        self.config((mode, policy), (endpoint, url), endpoints, user).await
    }

    async fn config(
        &self,
        (mode, policy): (MessageSecurityMode, SecurityPolicy),
        (endpoint, url): (EndpointDescription, String),
        endpoints: Vec<EndpointDescription>,
        user: UserIdentity,
    ) -> Result<ClientSessionConfig, String> {
        let (application_uri, own): (String, Option<Credentials>) = match policy {
            SecurityPolicy::None => ("urn:interlex".to_owned(), None),
            _ => {
                let identity = self.identity.get().await?;
                if identity.ends < seconds_now() {
                    return Err("our own certificate has ended: put another one in its place".to_owned());
                }
                (identity.application_uri.clone(), Some(identity.credentials.clone()))
            }
        };
        let timeout = self.link.timeout.into();
        Ok(ClientSessionConfig {
            channel: ClientChannelConfig {
                url,
                policy,
                mode,
                own,
                server_certificate: endpoint.server_certificate.as_bytes().to_vec(),
                limits: TransportLimits::default(),
                token_lifetime: TOKEN,
                timeout,
                trace: true,
            },
            application_uri,
            application_name: "Interlex".to_owned(),
            session_name: self.name.clone(),
            user,
            endpoint,
            discovered: Some(endpoints),
            session_timeout: self.link.session_timeout.into(),
            request_timeout: timeout,
        })
    }
}

/// Those that end within a month, in words.
fn ending(certificates: impl Iterator<Item = (&'static str, i64)>, now: i64) -> Vec<String> {
    let soon = certificates.filter(|(_, ends)| *ends < now + MONTH);
    soon.map(|(whose, ends)| format!("{whose} ends on {}: have another one ready", day(ends))).collect()
}

/// Records what went over the connection.
pub(super) fn record(frames: &FrameRing<OpcUaFrames>, session: &mut ClientSession) {
    while let Some(message) = session.poll_message() {
        frames.record(OpcUaFrame::new(message));
    }
}

/// A server that does not know us yet closes the connection without a word.
fn refused(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::UnexpectedEof | std::io::ErrorKind::ConnectionReset => {
            format!("{error}: {NOT_TRUSTED}")
        }
        _ => error.to_string(),
    }
}

const NOT_TRUSTED: &str = "it may not trust our certificate yet; accept it at the server";

fn explained(error: &ConnectionError) -> String {
    let text = error.to_string();
    let is_about_us = ["BadSecurityChecksFailed", "BadCertificateUntrusted", "BadCertificateInvalid"];
    if is_about_us.iter().any(|status| text.contains(status)) { format!("{text}: {NOT_TRUSTED}") } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn certificates_are_warned_about_in_their_last_month() {
        let now = 1_795_000_000;
        let told = ending([("ours", now + MONTH), ("theirs", now + MONTH - 1)].into_iter(), now);
        assert_eq!(told, ["theirs ends on 2026-12-18: have another one ready"]);
    }
}
