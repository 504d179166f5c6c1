use super::url::ServerUrl;
use crate::description::problem::Fault;
use crate::description::settings::{is_false, text_schema, text_type};
use crate::description::{SecretText, Span};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;
use std::net::SocketAddr;
use std::str::FromStr;

/// A session with an OPC UA server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct OpcUaLink {
    /// The server, as opc.tcp://HOST:4840. Its host and port are dialled whatever the server says of itself, and its certificate has
    /// to be for this host.
    #[schemars(extend("x-destination" = true))]
    pub url: ServerUrl,
    /// The own address and port at which the server connects to us, where only it may connect: 0.0.0.0:4843 is that port on all of
    /// our addresses. Nobody is dialled then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true, "x-destination" = true))]
    pub reverse: Option<ListenAddress>,
    /// The application URI that the server has to have, in its certificate too. With reverse it is what tells servers apart; the link
    /// says who calls.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1), extend("x-advanced" = true, "x-destination" = true))]
    pub server_uri: Option<String>,
    /// How messages are secured: auto takes the best that both sides offer, and never none.
    #[serde(default)]
    #[schemars(extend("x-destination" = true))]
    pub security: OpcUaSecurity,
    /// The SHA-256 fingerprint of the certificate that the server has to show. Somebody has looked at it and trusts it; the offers
    /// of the link show it. When left out, one of the authorities has to have signed it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-destination" = true))]
    pub server_certificate: Option<Fingerprint>,
    /// What may be wrong with that certificate, with ; between several: dates, host, key-usage, no-revocation-list.
    #[serde(default, skip_serializing_if = "AcceptedFaults::is_empty")]
    #[schemars(extend("x-advanced" = true, "x-destination" = true, "default" = ""))]
    pub accept: AcceptedFaults,
    /// Certificates of the authorities whose servers are trusted, and the lists of what they took back, in PEM.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<AuthoritiesText>", extend("x-advanced" = true, "x-lines" = true, "x-destination" = true))]
    pub authorities: Option<String>,
    /// Name to sign in to the server with; anonymous when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1))]
    pub user: Option<String>,
    /// Password to sign in to the server with. It is stored encrypted and never shown again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// Whether the password may go to the server for everyone to read, where it offers nothing else.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("x-advanced" = true, "x-destination" = true, "default" = false))]
    pub password_in_clear: bool,
    /// The certificate to sign in to the server with, in place of a password, in PEM.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<AuthoritiesText>", extend("x-advanced" = true, "x-lines" = true))]
    pub user_certificate: Option<String>,
    /// The private key of that certificate, in PEM. It is stored encrypted and never shown again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(extend("x-advanced" = true, "x-lines" = true))]
    pub user_key: Option<SecretText>,
    /// How long an answer may take.
    #[serde(default = "default_timeout")]
    pub timeout: Span,
    /// How long the connection may take to come up, with its channel and session.
    #[serde(default = "default_connect_timeout")]
    #[schemars(extend("x-advanced" = true))]
    pub connect_timeout: Span,
    /// The longest wait between two attempts to connect; it starts at half a second and doubles.
    #[serde(default = "default_reconnect_limit")]
    #[schemars(extend("x-advanced" = true))]
    pub reconnect_limit: Span,
    /// How long the server is to keep the session and its subscriptions while the connection is away.
    #[serde(default = "default_session_timeout")]
    #[schemars(extend("x-advanced" = true))]
    pub session_timeout: Span,
    /// How often the server says at least that it lives; more often where points have short rates.
    #[serde(default = "default_keep_alive")]
    #[schemars(extend("x-advanced" = true))]
    pub keep_alive: Span,
}

impl OpcUaLink {
    /// The words in the files, and what people call them.
    pub(in crate::description) const KINDS: [(&str, &str); 1] = [("opcua", "OPC UA")];

    /// What its keys have against each other.
    pub(in crate::description) fn fault(&self) -> Option<Fault> {
        if self.password.is_some() && self.user.is_none() {
            return Some(Fault::new("user", "there is a password and no user", "the name to sign in with"));
        }
        if self.user.is_some() && self.user_certificate.is_some() {
            let message = "there is a user and a certificate to sign in with";
            return Some(Fault::new("user-certificate", message, "one of the two"));
        }
        match (&self.user_certificate, &self.user_key) {
            (Some(_), None) => {
                Some(Fault::new("user-key", "there is a certificate to sign in with and no key", "its private key"))
            }
            (None, Some(_)) => Some(Fault::new(
                "user-certificate",
                "there is a key to sign in with and no certificate",
                "its certificate",
            )),
            _ if self.security == OpcUaSecurity::None && self.password.is_some() && !self.password_in_clear => {
                let message = "with security none the password may go to the server for everyone to read";
                let expected = "security = \"auto\", or password-in-clear = true where the network is closed";
                Some(Fault::warning("security", message, expected))
            }
            _ => None,
        }
    }
}

/// How messages are secured: a mode, and a policy of the standard.
///
/// Source: OPC 10000-7, section 6.6.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub enum OpcUaSecurity {
    /// The best that both sides offer, and never none.
    #[default]
    #[serde(rename = "auto")]
    Auto,
    /// Encrypted and signed, Aes256_Sha256_RsaPss.
    #[serde(rename = "encrypt-aes256-sha256-rsapss")]
    EncryptAes256,
    /// Encrypted and signed, Basic256Sha256.
    #[serde(rename = "encrypt-basic256sha256")]
    EncryptBasic256,
    /// Encrypted and signed, Aes128_Sha256_RsaOaep.
    #[serde(rename = "encrypt-aes128-sha256-rsaoaep")]
    EncryptAes128,
    /// Signed, Aes256_Sha256_RsaPss.
    #[serde(rename = "sign-aes256-sha256-rsapss")]
    SignAes256,
    /// Signed, Basic256Sha256.
    #[serde(rename = "sign-basic256sha256")]
    SignBasic256,
    /// Signed, Aes128_Sha256_RsaOaep.
    #[serde(rename = "sign-aes128-sha256-rsaoaep")]
    SignAes128,
    /// Nothing: everybody on the way can read and change what is said.
    #[serde(rename = "none")]
    None,
}

/// The SHA-256 of a certificate: 64 hexadecimal digits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fingerprint(pub [u8; 32]);

/// A text that is no [`Fingerprint`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no fingerprint")]
pub struct ParseFingerprintError(String);

impl Fingerprint {
    /// What a file should say, for messages.
    pub const FORM: &str = "the SHA-256 fingerprint of a certificate: 64 hexadecimal digits";
}

impl FromStr for Fingerprint {
    type Err = ParseFingerprintError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        // With colons or spaces between, as programs show them.
        let digits: Option<Vec<u8>> = text
            .chars()
            .filter(|c| !matches!(c, ':' | ' '))
            .map(|c| c.to_digit(16).and_then(|digit| u8::try_from(digit).ok()))
            .collect();
        let digits = digits.filter(|digits| digits.len() == 64);
        let bytes = digits.map(|digits| {
            digits.chunks_exact(2).map(|pair| pair.iter().fold(0, |byte, digit| byte << 4 | digit)).collect()
        });
        let bytes: Option<Vec<u8>> = bytes;
        bytes.and_then(|bytes| bytes.try_into().ok()).map(Self).ok_or_else(|| ParseFingerprintError(text.to_owned()))
    }
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

/// What may be wrong with a certificate all the same. A bad signature, a revocation and a wrong URI are never accepted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum AcceptedFault {
    /// It is not good yet, or not any more.
    Dates,
    /// It is for another host.
    Host,
    /// It is not for what it is used for.
    KeyUsage,
    /// Nobody knows what its issuer took back.
    NoRevocationList,
}

impl AcceptedFault {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Dates, Self::Host, Self::KeyUsage, Self::NoRevocationList];

    /// The word in the files.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Dates => "dates",
            Self::Host => "host",
            Self::KeyUsage => "key-usage",
            Self::NoRevocationList => "no-revocation-list",
        }
    }
}

/// Several of them.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct AcceptedFaults(Vec<AcceptedFault>);

/// A text that is no [`AcceptedFaults`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no list of what may be wrong with a certificate")]
pub struct ParseAcceptedFaultsError(String);

impl AcceptedFaults {
    /// What a file should say, for messages.
    pub const FORM: &str = "dates, host, key-usage, no-revocation-list, with ; between several";

    /// Whether there are none.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether one of them is accepted.
    #[must_use]
    pub fn has(&self, fault: AcceptedFault) -> bool {
        self.0.contains(&fault)
    }
}

impl FromIterator<AcceptedFault> for AcceptedFaults {
    fn from_iter<I: IntoIterator<Item = AcceptedFault>>(faults: I) -> Self {
        let mut faults: Vec<_> = faults.into_iter().collect();
        faults.sort_unstable();
        faults.dedup();
        Self(faults)
    }
}

impl FromStr for AcceptedFaults {
    type Err = ParseAcceptedFaultsError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let words = text.split(';').map(str::trim).filter(|word| !word.is_empty());
        let known = |word| AcceptedFault::ALL.into_iter().find(|fault| fault.word() == word);
        words.map(known).collect::<Option<_>>().ok_or_else(|| ParseAcceptedFaultsError(text.to_owned()))
    }
}

impl fmt::Display for AcceptedFaults {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.iter().map(|fault| fault.word()).collect::<Vec<_>>().join(";"))
    }
}

/// An own address at which others connect.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ListenAddress(pub SocketAddr);

/// A text that is no [`ListenAddress`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no own address with a port")]
pub struct ParseListenAddressError(String);

impl ListenAddress {
    /// What a file should say, for messages.
    pub const FORM: &str = "an own address with a port, such as 0.0.0.0:4843";
}

impl FromStr for ListenAddress {
    type Err = ParseListenAddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let address = text.parse().ok().filter(|address: &SocketAddr| address.port() != 0);
        address.map(Self).ok_or_else(|| ParseListenAddressError(text.to_owned()))
    }
}

impl fmt::Display for ListenAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

text_type!(ListenAddress, "ListenAddress", "listen-address");
text_type!(Fingerprint, "Fingerprint", "fingerprint");
text_type!(AcceptedFaults, "AcceptedFaults", "accepted-faults");

/// How certificates look in the schema, where they do not come from files.
pub(in crate::description) struct AuthoritiesText;

text_schema!(AuthoritiesText, "AuthoritiesText", "authorities");

fn default_timeout() -> Span {
    Span::from_millis(5000)
}

fn default_connect_timeout() -> Span {
    Span::from_millis(15_000)
}

fn default_reconnect_limit() -> Span {
    Span::from_millis(30_000)
}

fn default_session_timeout() -> Span {
    Span::from_millis(300_000)
}

fn default_keep_alive() -> Span {
    Span::from_millis(5000)
}
