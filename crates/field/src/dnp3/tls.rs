//! TLS on the way to outstations: both sides show certificates, and each is for those addresses that are bound to its name.
//!
//! Source: IEC 62351-3; IEEE 1815-2012, section 7.

use interlex_core::description::Dnp3TlsLink;
use rustls::client::verify_server_name;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::server::{ParsedCertificate, WebPkiClientVerifier};
use rustls::{ClientConfig, RootCertStore, ServerConfig};
use std::sync::Arc;
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::{TlsAcceptor, TlsConnector, client, server};

/// What is known of the other side.
#[derive(Debug, Clone)]
pub(super) struct Tls {
    certificate: CertificateDer<'static>,
    /// Whether it was dialled, and so its name looked at.
    is_dialled: bool,
}

impl Tls {
    /// Whether it may speak for a device, which a name is bound to or none.
    pub(super) fn may_speak_for(&self, name: Option<&str>) -> bool {
        let Some(name) = name else { return self.is_dialled };
        let parsed = ParsedCertificate::try_from(&self.certificate);
        let name = ServerName::try_from(name.to_owned());
        matches!((parsed, name), (Ok(parsed), Ok(name)) if verify_server_name(&parsed, &name).is_ok())
    }
}

fn certificates(key: &str, text: &str) -> Result<Vec<CertificateDer<'static>>, String> {
    let found = CertificateDer::pem_slice_iter(text.as_bytes()).collect::<Result<Vec<_>, _>>();
    found.ok().filter(|found| !found.is_empty()).ok_or_else(|| format!("{key} is no certificate in PEM"))
}

/// Whom to trust, and who we are.
type Known = (Arc<RootCertStore>, Vec<CertificateDer<'static>>, PrivateKeyDer<'static>);

fn known(link: &Dnp3TlsLink) -> Result<Known, String> {
    let mut roots = RootCertStore::empty();
    for certificate in certificates("authorities", &link.authorities)? {
        roots.add(certificate).map_err(|error| format!("authorities: {error}"))?;
    }
    let key = PrivateKeyDer::from_pem_slice(link.key.reveal().as_bytes());
    let key = key.map_err(|_| "key is no private key in PEM".to_owned())?;
    Ok((Arc::new(roots), certificates("certificate", &link.certificate)?, key))
}

fn provider() -> Arc<rustls::crypto::CryptoProvider> {
    Arc::new(rustls::crypto::ring::default_provider())
}

/// Says who we are on a connection that was made, and hears who is there.
pub(super) async fn connect(
    link: &Dnp3TlsLink,
    stream: TcpStream,
) -> Result<(client::TlsStream<TcpStream>, Tls), String> {
    let (roots, chain, key) = known(link)?;
    let config = ClientConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()
        .map_err(|error| error.to_string())?
        .with_root_certificates(roots)
        .with_client_auth_cert(chain, key)
        .map_err(|error| format!("certificate and key: {error}"))?;
    let name = link.server_name.as_deref().or(link.tcp.host.as_deref()).unwrap_or_default();
    let wanted =
        ServerName::try_from(name.to_owned()).map_err(|_| format!("{name:?} cannot stand in a certificate"))?;
    let connecting = TlsConnector::from(Arc::new(config)).connect(wanted, stream);
    let within = link.tcp.timing.connect_timeout;
    let stream = timeout(within.into(), connecting).await.map_err(|_| format!("no TLS within {within}"))?;
    let stream = stream.map_err(|error| format!("TLS: {error}"))?;
    let certificate = own(stream.get_ref().1.peer_certificates())?;
    Ok((stream, Tls { certificate, is_dialled: true }))
}

/// What others are received with who dial in.
pub(super) fn acceptor(link: &Dnp3TlsLink) -> Result<TlsAcceptor, String> {
    let (roots, chain, key) = known(link)?;
    let verifier = WebPkiClientVerifier::builder_with_provider(roots, provider()).build();
    let config = ServerConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()
        .map_err(|error| error.to_string())?
        .with_client_cert_verifier(verifier.map_err(|error| format!("authorities: {error}"))?)
        .with_single_cert(chain, key)
        .map_err(|error| format!("certificate and key: {error}"))?;
    Ok(TlsAcceptor::from(Arc::new(config)))
}

/// Hears who dialled in.
pub(super) async fn accept(
    acceptor: &TlsAcceptor,
    stream: TcpStream,
) -> Result<(server::TlsStream<TcpStream>, Tls), String> {
    let stream = acceptor.accept(stream).await.map_err(|error| format!("TLS: {error}"))?;
    let certificate = own(stream.get_ref().1.peer_certificates())?;
    Ok((stream, Tls { certificate, is_dialled: false }))
}

fn own(chain: Option<&[CertificateDer<'static>]>) -> Result<CertificateDer<'static>, String> {
    chain.and_then(<[_]>::first).cloned().ok_or_else(|| "TLS: it shows no certificate".to_owned())
}
