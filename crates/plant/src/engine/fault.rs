use super::{Controller, EngineConfig, description, identity, limits, server};
use interlex_opcua::{Credentials, Host, Server};
use serde::{Deserialize, Serialize};
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

/// What can go wrong with the controller of the engine at will.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EngineFault {
    /// It has forgotten all sessions; once, when it is switched on.
    SessionLost,
    /// It shows another certificate, and has broken off.
    OtherCertificate,
    /// It takes 0.4 s for each answer.
    Slow,
    /// Its clock is an hour ahead.
    ClockOff,
    /// It says that it is to be reached at a host that nobody reaches.
    OtherHost,
    /// Its namespaces have other numbers, and it was started anew.
    NamespacesReordered,
    /// Nobody can take a subscription over.
    NoTransfer,
    /// It does less at a time than it says.
    LyingLimits,
    /// Its history is half a minute behind.
    LateHistory,
}

/// Switches faults of the controller.
#[derive(Debug)]
pub(crate) struct EngineFaults {
    pub(crate) host: Arc<Host<Controller>>,
    pub(super) config: EngineConfig,
    pub(super) at: SocketAddr,
}

const DELAY: Duration = Duration::from_millis(400);
const AHEAD: Duration = Duration::from_secs(3600);
const LAG: Duration = Duration::from_secs(30);
/// So little it does at a time, whatever it says.
const LITTLE: usize = 3;
/// A name that never is one.
///
/// Source: RFC 6761, section 6.4.
const NOWHERE: &str = "opc.tcp://engine.invalid:4840";

impl EngineFaults {
    /// Switches a fault on or off.
    pub(crate) async fn switch(&self, fault: EngineFault, is_on: bool) -> io::Result<()> {
        let host = &self.host;
        let span = |span: Duration| if is_on { span } else { Duration::ZERO };
        match fault {
            EngineFault::SessionLost if is_on => host.with(|server, _, _| server.end_sessions()),
            EngineFault::SessionLost => {}
            EngineFault::OtherCertificate => {
                let own = self.identity(is_on).await?;
                host.with(|server, _, _| server.description_mut().own = Some(own));
                host.disconnect();
            }
            EngineFault::Slow => host.set_delay(span(DELAY)),
            EngineFault::ClockOff => host.set_clock_ahead(span(AHEAD)),
            EngineFault::OtherHost => {
                let url = if is_on { NOWHERE.to_owned() } else { description(self.at, None).url };
                host.with(|server, _, _| server.description_mut().url = url);
            }
            EngineFault::NamespacesReordered => {
                host.with(|running, controller, _| {
                    let own = running.sessions().description().own.clone();
                    *running = server(controller, &self.config, description(self.at, own), is_on);
                });
                host.disconnect();
            }
            EngineFault::NoTransfer => {
                host.with(|server, _, _| server.offer("TransferSubscriptionsRequest", !is_on));
            }
            EngineFault::LyingLimits => host.with(|server, _, _| lie(server, is_on)),
            EngineFault::LateHistory => host.with(|server, _, _| server.set_history_lag(span(LAG))),
        }
        Ok(())
    }

    /// Its own certificate, or another one; the latter is made when it is first wanted.
    async fn identity(&self, is_other: bool) -> io::Result<Credentials> {
        let (directory, host) = (self.config.directory.clone(), self.at.ip());
        let directory = if is_other { directory.join("other") } else { directory };
        let made = tokio::task::spawn_blocking(move || identity::identity(&directory, super::APPLICATION, host));
        made.await.map_err(io::Error::other)?
    }
}

/// Does less at a time than the nodes about its limits say.
const fn lie(server: &mut Server, is_lying: bool) {
    let told = limits();
    let limits = server.limits_mut();
    *limits = told;
    if is_lying {
        (limits.nodes_per_read, limits.nodes_per_browse) = (LITTLE, LITTLE);
        (limits.paths_per_translate, limits.items_per_call, limits.nodes_per_history_read) = (LITTLE, LITTLE, LITTLE);
    }
}
