//! The engine of the works and its controller, an OPC UA server.

mod fault;
mod identity;
mod model;
mod nodes;

pub use fault::EngineFault;
pub(crate) use fault::EngineFaults;
pub use model::{Engine, EngineState};

use interlex_opcua::{
    Credentials, Host, HostConfig, MessageSecurityMode, NodeId, Now, Process, Scalar, SecurityPolicy, Server,
    ServerDescription, ServerLimits, Sessions, StatusCode, TransportLimits, User, UserTokenType, Users, Variant,
};
use parking_lot::Mutex;
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// How the controller of the engine runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EngineConfig {
    /// Where it answers; port 0 takes any free one.
    pub address: SocketAddr,
    /// Where it keeps its key and its certificate.
    pub directory: PathBuf,
    /// So many values it has beside those of the engine.
    pub many: u32,
    /// A client that it calls, since that one cannot reach it.
    pub calls: Option<SocketAddr>,
}

/// Who may operate the engine: the user, and the password.
const OPERATOR: (&str, &str) = ("operator", "alderfen works 1");
const APPLICATION: &str = "urn:alderfen:chp:controller";

/// What stands behind the nodes.
#[derive(Debug)]
pub(crate) struct Controller {
    engine: Engine,
    /// The number of its namespace.
    own: u16,
}

/// Nobody has to say who they are to look.
struct Staff;

impl Users for Staff {
    fn takes(&self, user: &User) -> bool {
        match user {
            User::Anonymous | User::Certificate(_) => true,
            User::Password { name, password } => (name.as_str(), password.as_str()) == OPERATOR,
        }
    }
}

impl Process for Controller {
    fn write(&mut self, node: &NodeId, value: &Variant, user: &User) -> StatusCode {
        if *user == User::Anonymous {
            return StatusCode::BAD_USER_ACCESS_DENIED;
        }
        let Variant::Scalar(Scalar::Float(power)) = value else { return StatusCode::BAD_NOT_WRITABLE };
        let is_power =
            nodes::SIGNALS.iter().any(|signal| signal.name == "PowerSetPoint" && signal.id(self.own) == *node);
        match is_power {
            true if self.engine.set_power((*power).into()) => StatusCode::GOOD,
            true => StatusCode::BAD_OUT_OF_RANGE,
            false => StatusCode::BAD_NOT_WRITABLE,
        }
    }

    fn call(
        &mut self,
        _: &NodeId,
        node: &NodeId,
        arguments: &[Variant],
        user: &User,
    ) -> Result<Vec<Variant>, StatusCode> {
        if *user == User::Anonymous {
            return Err(StatusCode::BAD_USER_ACCESS_DENIED);
        }
        let (is_done, otherwise) = match (nodes::method(node, self.own), arguments) {
            (Some(nodes::START), []) => (self.engine.start(), StatusCode::BAD_INVALID_STATE),
            (Some(nodes::STOP), []) => (self.engine.stop(), StatusCode::BAD_INVALID_STATE),
            (Some(nodes::RESET), []) => (self.engine.reset(), StatusCode::BAD_INVALID_STATE),
            (Some(nodes::SET_POWER), [Variant::Scalar(Scalar::Float(power))]) => {
                (self.engine.set_power((*power).into()), StatusCode::BAD_OUT_OF_RANGE)
            }
            _ => (false, StatusCode::BAD_METHOD_INVALID),
        };
        if is_done { Ok(Vec::new()) } else { Err(otherwise) }
    }
}

/// What the controller is.
fn description(at: SocketAddr, own: Option<Credentials>) -> ServerDescription {
    let modes = [MessageSecurityMode::Sign, MessageSecurityMode::SignAndEncrypt];
    let policies =
        [SecurityPolicy::Aes128Sha256RsaOaep, SecurityPolicy::Basic256Sha256, SecurityPolicy::Aes256Sha256RsaPss];
    let secure = policies.into_iter().flat_map(|policy| modes.map(|mode| (policy, mode)));
    ServerDescription {
        url: format!("opc.tcp://{at}"),
        application_uri: APPLICATION.to_owned(),
        application_name: "Engine controller of the Alderfen works".to_owned(),
        own,
        security: std::iter::once((SecurityPolicy::None, MessageSecurityMode::None)).chain(secure).collect(),
        users: vec![
            (UserTokenType::Anonymous, None),
            (UserTokenType::UserName, Some(SecurityPolicy::Basic256Sha256)),
            (UserTokenType::Certificate, Some(SecurityPolicy::Basic256Sha256)),
        ],
        session_timeout: (Duration::from_secs(10), Duration::from_secs(3600)),
        most_sessions: 50,
    }
}

/// What engine and grid connection have to do with each other.
#[derive(Debug, Default)]
pub(crate) struct Coupling {
    /// What the engine gives, in kW.
    pub(crate) generated: Mutex<f64>,
    /// The breaker is open.
    pub(crate) is_cut: AtomicBool,
}

impl Coupling {
    fn meet(&self, engine: &mut Engine) {
        if self.is_cut.load(Ordering::Relaxed) {
            engine.lose_grid();
        }
        *self.generated.lock() = engine.active_power;
    }
}

/// How much it does at a time.
const fn limits() -> ServerLimits {
    ServerLimits::USUAL
}

/// Its server with all nodes, in the usual order of namespaces or another one.
fn server(
    controller: &mut Controller,
    config: &EngineConfig,
    description: ServerDescription,
    is_reordered: bool,
) -> Server {
    let namespaces: &[&str] =
        if is_reordered { &["urn:alderfen:spare", nodes::NAMESPACE] } else { &[nodes::NAMESPACE] };
    controller.own = if is_reordered { 3 } else { 2 };
    let space = nodes::space(&controller.engine, config.many, controller.own);
    Server::new(Sessions::new(description), space, limits(), namespaces)
}

/// Makes the controller, which nobody reaches yet.
pub(crate) fn controller(config: EngineConfig, at: SocketAddr, seed: u64) -> io::Result<EngineFaults> {
    let mut controller = Controller { engine: Engine::new(seed), own: 0 };
    let own = identity::identity(&config.directory, APPLICATION, at.ip())?;
    let server = server(&mut controller, &config, description(at, Some(own)), false);
    let host = HostConfig {
        limits: TransportLimits::default(),
        longest_token: Duration::from_secs(3600),
        timeout: Duration::from_secs(10),
        most_channels: 100,
        trust: Arc::new(|_| Ok(())),
    };
    Ok(EngineFaults { host: Host::new(server, controller, Staff, host), config, at })
}

/// Moves the engine on, and tells what is another then.
pub(crate) fn step(server: &mut Server, controller: &mut Controller, (_, wall): Now, (dt, coupling): (f64, &Coupling)) {
    controller.engine.step(dt);
    coupling.meet(&mut controller.engine);
    for signal in nodes::SIGNALS {
        let (id, value) = (signal.id(controller.own), signal.value(&controller.engine, controller.own));
        let before = server.space().variable(&id).and_then(|variable| variable.value.value.as_ref());
        let has_time = server.space().variable(&id).is_some_and(|variable| variable.value.source_time.is_some());
        if before != Some(&value) || !has_time {
            server.set_value(&id, nodes::measured(value, wall), wall);
        }
    }
}
