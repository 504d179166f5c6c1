//! What OPC UA servers can be asked of themselves: the sources of their offers, and what is done for each.

use super::connect;
use super::endpoint;
use super::errand::{Browse, BrowseWanted, Errand, Identify};
use super::node_set;
use super::reach::Reach;
use super::trust::{self, accepted_as};
use crate::link::{OfferRequest, OfferSource, seconds_now};
use interlex_core::description::{AcceptedFaults, Fingerprint, Form, OpcUaAddress, OpcUaLink, ParseOpcUaAddressError};
use interlex_core::{OfferEvent, iso_time};
use interlex_opcua::{
    CertificateDetails, EndpointDescription, MessageSecurityMode, SecurityPolicy, UserTokenType, certificate_details,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, json};
use std::sync::LazyLock;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::Instant;

/// What can be found out about servers.
pub(crate) enum Discovery {
    /// Who it is, for a device.
    Identify(String),
    /// Which nodes a device has.
    Nodes(Box<BrowseWanted>),
    /// What a file of nodes describes for a device: told without a server.
    NodeSet(Box<BrowseWanted>, String),
    /// How it may be reached: told without a session.
    Endpoints(Box<OpcUaLink>, mpsc::Sender<OfferEvent>),
}

impl Discovery {
    pub(super) fn errand(self) -> Box<dyn Errand> {
        match self {
            Self::Identify(device) => Box::new(Identify::new(device)),
            Self::Nodes(wanted) => Box::new(Browse::new(*wanted)),
            // Asked over a session all the same, it is who the server is.
            Self::Endpoints(..) | Self::NodeSet(..) => Box::new(Identify::new(String::new())),
        }
    }
}

/// Which nodes of a file are looked for.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
struct NodeSetForm {
    /// The file: XML with UANodeSet as its root. Nodes that others of its kind describe, which it builds on, need not be there.
    #[schemars(extend("x-lines" = true))]
    file: String,
    #[serde(flatten)]
    nodes: NodesForm,
}

/// Where the ways to a server are told is in the standard.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
struct EndpointsForm {}

/// Which nodes are looked for.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
struct NodesForm {
    /// Only nodes in whose path or title this text stands; all when left out.
    #[serde(default)]
    text: String,
    /// How they are named in the list: by themselves, or by their way from the start of the device, which serves several machines
    /// of a kind.
    #[serde(default)]
    address: AddressWord,
    /// Only what is below this node, as the address of a point is written; all of the device when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    below: Option<String>,
    /// Only so many levels down: 1 shows what is there, and where there is more; all when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(range(min = 1))]
    levels: Option<u32>,
    /// So many nodes are looked at, at the most.
    #[serde(default = "most")]
    #[schemars(range(min = 1, max = 200_000))]
    most: u32,
    /// Whether what the standard gives every server is offered, too.
    #[serde(default)]
    standard: bool,
    /// Whether methods are offered, too, as commands.
    #[serde(default)]
    methods: bool,
}

#[derive(Debug, Default, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum AddressWord {
    /// By themselves, or by their way where the device has a start.
    #[default]
    Auto,
    /// By themselves.
    Node,
    /// By their way.
    Path,
}

const fn most() -> u32 {
    50_000
}

static ENDPOINTS: LazyLock<Form> = LazyLock::new(Form::of::<EndpointsForm>);
static NODES: LazyLock<Form> = LazyLock::new(Form::of::<NodesForm>);
static NODE_SET: LazyLock<Form> = LazyLock::new(Form::of::<NodeSetForm>);

/// What servers tell of themselves.
pub(crate) fn sources() -> Vec<OfferSource> {
    let source =
        |word, title, of_device, form: &Form| OfferSource { word, title, of_device, form: form.document().clone() };
    vec![
        source("endpoints", "How the server is secured, and its certificate", false, &ENDPOINTS),
        source("nodes", "Which nodes it has", true, &NODES),
        source("node-set", "What a file of nodes (NodeSet2) describes", true, &NODE_SET),
    ]
}

/// What is to be done for a source; what it finds on its way it tells by `events`.
pub(crate) fn discovery(request: &OfferRequest, events: &mpsc::Sender<OfferEvent>) -> Result<Discovery, String> {
    match request.source.as_str() {
        "endpoints" => {
            let EndpointsForm {} = ENDPOINTS.read(&request.filled)?;
            let link = request.link.protocol.opcua().ok_or("the link speaks another protocol")?;
            Ok(Discovery::Endpoints(Box::new(link.clone()), events.clone()))
        }
        "nodes" => Ok(Discovery::Nodes(Box::new(wanted(request, NODES.read(&request.filled)?, events)?))),
        "node-set" => {
            let NodeSetForm { file, nodes } = NODE_SET.read(&request.filled)?;
            if file.len() > node_set::LARGEST {
                return Err(format!("file has {} bytes; expected {} at the most", file.len(), node_set::LARGEST));
            }
            Ok(Discovery::NodeSet(Box::new(wanted(request, nodes, events)?), file))
        }
        other => {
            let known: Vec<_> = sources().into_iter().map(|source| source.word).collect();
            Err(format!("source is {other:?}; expected one of {}", known.join(", ")))
        }
    }
}

/// Which nodes of a device are looked for.
fn wanted(
    request: &OfferRequest,
    NodesForm { text, address, below, levels, most, standard, methods }: NodesForm,
    events: &mpsc::Sender<OfferEvent>,
) -> Result<BrowseWanted, String> {
    let device = request.device.as_ref().ok_or("there is no device; expected the one that is asked")?;
    let own = device.protocol.opcua().ok_or("the device speaks another protocol")?;
    let by_path = match address {
        AddressWord::Auto => own.start.is_some(),
        AddressWord::Node => false,
        AddressWord::Path => true,
    };
    let below: Option<OpcUaAddress> = below
        .filter(|text| !text.trim().is_empty())
        .map(|text| text.parse())
        .transpose()
        .map_err(|error: ParseOpcUaAddressError| format!("below: {error}; expected {}", OpcUaAddress::FORM))?;
    if by_path && below.as_ref().is_some_and(|below| !below.is_path()) {
        return Err("below is a node, and addresses are paths; expected a path, or address = node".to_owned());
    }
    Ok(BrowseWanted {
        device: device.settings.name.to_string(),
        start: own.start.clone(),
        text: text.to_lowercase(),
        by_path,
        below,
        levels: levels.unwrap_or(u32::MAX),
        most: usize::try_from(most).unwrap_or(usize::MAX),
        standard,
        methods,
        events: events.clone(),
    })
}

/// Tells how a server may be reached, the best way first.
pub(super) async fn tell_endpoints(
    link: &OpcUaLink,
    reach: &Reach,
    events: &mpsc::Sender<OfferEvent>,
) -> Result<(), String> {
    let deadline = Instant::now() + Duration::from(link.connect_timeout);
    let (mut endpoints, _) = connect::endpoints(reach, deadline).await?;
    endpoints.retain(endpoint::is_ours);
    let rank = |endpoint: &EndpointDescription| match endpoint::security(endpoint) {
        Ok((mode, policy)) => (mode as i32, Some(policy)),
        Err(_) => (0, None),
    };
    endpoints.sort_by_key(|endpoint| std::cmp::Reverse(rank(endpoint)));
    let mut chains: Vec<_> = endpoints.iter().map(|endpoint| endpoint.server_certificate.as_bytes()).collect();
    chains.sort_unstable();
    chains.dedup();
    let certificates = chains.into_iter().filter_map(|chain| certificate_details(chain).ok());
    let certificates = certificates.map(|details| OfferEvent::Note { text: words(&details) });
    let told = certificates.chain(endpoints.iter().flat_map(|endpoint| told(link, endpoint)));
    for event in told.chain(std::iter::once(OfferEvent::Done { requests: 1 })) {
        // Whoever listened may have gone.
        let _ = events.send(event).await;
    }
    Ok(())
}

fn told(link: &OpcUaLink, endpoint: &EndpointDescription) -> Vec<OfferEvent> {
    let security = match endpoint::security(endpoint) {
        Ok(security) => security,
        Err(unknown) => return vec![OfferEvent::Note { text: unknown.to_string() }],
    };
    let (mode, policy) = security;
    let users: Vec<_> = endpoint.user_identity_tokens.iter().map(|token| user_words(token.token_type)).collect();
    let users = if users.is_empty() { "anonymous".to_owned() } else { users.join(", ") };
    let what = match mode {
        MessageSecurityMode::SignAndEncrypt => format!("signed and encrypted, {policy}"),
        MessageSecurityMode::Sign => format!("signed, {policy}"),
        _ => "no security".to_owned(),
    };
    let mut keys = Map::from_iter([("security".to_owned(), json!(endpoint::word(security)))]);
    if policy == SecurityPolicy::None {
        return vec![OfferEvent::Way { link: keys, said: format!("{what}; users: {users}") }];
    }
    let chain = endpoint.server_certificate.as_bytes();
    let uri = trust::application_uri(link, endpoint);
    let Ok(details) = certificate_details(chain) else {
        return vec![OfferEvent::Note { text: format!("{what}: its certificate cannot be read") }];
    };
    let fingerprint = Fingerprint(details.fingerprint);
    // As it would be judged, were it accepted as it is.
    let accepted =
        OpcUaLink { server_certificate: Some(fingerprint), accept: AcceptedFaults::default(), ..link.clone() };
    let faults = trust::objections(&accepted, (chain, policy), uri, seconds_now());
    if let Some(never) = faults.iter().find(|fault| accepted_as(fault).is_none()) {
        let text = format!("{what}: its certificate cannot be trusted: {never}");
        return vec![OfferEvent::Note { text }];
    }
    keys.insert("server-certificate".to_owned(), json!(fingerprint.to_string()));
    let waived: AcceptedFaults = faults.iter().filter_map(accepted_as).collect();
    if !waived.is_empty() {
        keys.insert("accept".to_owned(), json!(waived.to_string()));
    }
    let is_trusted = trust::objections(link, (chain, policy), uri, seconds_now()).is_empty();
    let standing = if is_trusted { "its certificate is trusted" } else { "its certificate is not trusted yet" };
    let why: Vec<_> = faults.iter().map(|fault| format!("; {fault}")).collect();
    let said = format!("{what}; users: {users}; {standing}{}", why.concat());
    vec![OfferEvent::Way { link: keys, said }]
}

fn words(details: &CertificateDetails) -> String {
    let CertificateDetails { subject, issuer, validity, bits, fingerprint, thumbprint, uris, hosts } = details;
    let signed = if subject == issuer { "signed by itself".to_owned() } else { format!("signed by {issuer}") };
    let thumbprint: String = thumbprint.iter().map(|byte| format!("{byte:02x}")).collect();
    format!(
        "Certificate of {subject}, {signed}, {} to {}, {bits} bits, for {} on {}; SHA-1 {thumbprint}, SHA-256 {}",
        day(validity.0),
        day(validity.1),
        uris.join(", "),
        hosts.join(", "),
        Fingerprint(*fingerprint)
    )
}

/// The day of a second since 1970.
pub(super) fn day(seconds: i64) -> String {
    iso_time(seconds.saturating_mul(1000)).chars().take(10).collect()
}

const fn user_words(kind: UserTokenType) -> &'static str {
    match kind {
        UserTokenType::Anonymous => "anonymous",
        UserTokenType::UserName => "user and password",
        UserTokenType::Certificate => "certificate",
        UserTokenType::IssuedToken => "token of somebody else",
    }
}
