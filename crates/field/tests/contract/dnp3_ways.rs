//! The ways to outstations: those that dial in, with certificates and without, serial lines and datagrams.

use crate::dnp3::{Dnp3Field, Gateway, all_is_safe, both_are_read_and_written, describe, describe_with, until};
use crate::suite::Field;
use interlex_core::DeviceState;
use interlex_core::description::Description;
use interlex_dnp3::FrameReader;
use interlex_field::LinkHandle;
use interlex_plant::SerialLine;
use interlex_sidecar::{own_address, own_socket};
use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair};
use rustls::pki_types::{PrivateKeyDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use std::net::SocketAddr;
use std::sync::Arc;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};
use tokio_rustls::TlsConnector;

/// A serial line: one speaks at a time.
#[tokio::test(flavor = "multi_thread")]
async fn outstations_on_a_serial_line() {
    let field = Dnp3Field::start().await;
    let line = SerialLine::open().unwrap();
    let link = format!("protocol = \"dnp3-serial\"\ndevice-path = \"{}\"\nbaud = 19200", line.path().display());
    let host = Arc::clone(&field.host);
    tokio::spawn(async move { host.converse(line).await });
    both_are_read_and_written(&field, &link).await;
}

/// The same line, on which each frame is confirmed, and nobody speaks before it was silent for a while.
#[tokio::test(flavor = "multi_thread")]
async fn outstations_whose_line_confirms_each_frame() {
    let field = Dnp3Field::start().await;
    let line = SerialLine::open().unwrap();
    let path = line.path().display().to_string();
    let link = format!(
        "protocol = \"dnp3-serial\"\ndevice-path = \"{path}\"\nbaud = 19200\nlink-confirms = true\nsilence = \"5ms\""
    );
    let host = Arc::clone(&field.host);
    tokio::spawn(async move { host.converse(line).await });
    both_are_read_and_written(&field, &link).await;
}

/// Datagrams, each of whole frames, of which every tenth is lost and every seventh comes twice.
#[tokio::test(flavor = "multi_thread")]
async fn outstations_that_speak_datagrams() {
    let field = Dnp3Field::start().await;
    let socket = UdpSocket::bind((own_address(), 0)).await.unwrap();
    let address = socket.local_addr().unwrap();
    let (line, mut theirs) = tokio::io::duplex(65_536);
    let host = Arc::clone(&field.host);
    tokio::spawn(async move { host.converse(line).await });
    tokio::spawn(async move {
        let (mut heard, mut said, mut master, mut count) = (vec![0; 4096], vec![0; 1400], None, 0_u32);
        loop {
            tokio::select! {
                heard_of = socket.recv_from(&mut heard) => {
                    let (length, from) = heard_of.unwrap();
                    master = Some(from);
                    let mut reader = FrameReader::default();
                    reader.push(&heard[..length]);
                    while let Some(frame) = reader.next_frame() {
                        frame.expect("frames");
                    }
                    assert_eq!(reader.waiting(), 0, "whole ones");
                    count += 1;
                    for _ in 0..if count % 10 == 0 { 0 } else { 1 + u32::from(count % 7 == 0) } {
                        theirs.write_all(&heard[..length]).await.unwrap();
                    }
                }
                length = theirs.read(&mut said) => {
                    let length = length.unwrap();
                    count += 1;
                    for _ in 0..if count % 10 == 0 { 0 } else { 1 + u32::from(count % 7 == 0) } {
                        socket.send_to(&said[..length], master.unwrap()).await.unwrap();
                    }
                }
            }
        }
    });
    let link = format!("protocol = \"dnp3-udp\"\nhost = \"{}\"\nport = {}", address.ip(), address.port());
    both_are_read_and_written(&field, &link).await;
}

fn state(link: &LinkHandle, device: &str) -> DeviceState {
    link.status().devices.into_iter().find(|known| known.name == device).unwrap().state
}

async fn are(link: &LinkHandle, wanted: [DeviceState; 2]) {
    until("the devices are as wanted", || ["one", "two"].map(|device| state(link, device)) == wanted).await;
}

fn run(description: &Description) -> (LinkHandle, impl Drop + use<>) {
    let Gateway { link, events, _stop, .. } = Gateway::start(description);
    tokio::spawn(all_is_safe(events));
    (link, _stop)
}

/// An outstation, or several, that dial in and dial again.
fn dials(field: &Dnp3Field, to: SocketAddr) -> tokio::task::JoinHandle<()> {
    let host = Arc::clone(&field.host);
    tokio::spawn(async move {
        loop {
            if let Ok(stream) = TcpStream::connect(to).await {
                _ = host.converse(stream).await;
            }
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
    })
}

/// Two outstations with a connection each, told apart by their addresses; nobody else takes their places.
#[tokio::test(flavor = "multi_thread")]
async fn outstations_that_dial_in() {
    let (one, two) = (Dnp3Field::start().await, Dnp3Field::start().await);
    // Each has both, and says nothing for the other.
    one.silence("two", true);
    two.silence("one", true);
    let listen = own_socket().unwrap();
    let (link, _stop) =
        run(&describe(&format!("protocol = \"dnp3-tcp\"\nlisten = \"{listen}\""), &["one", "two"], &[]));
    until("it listens", || std::net::TcpStream::connect(listen).is_ok()).await;
    let dialling = dials(&one, listen);
    are(&link, [DeviceState::Up, DeviceState::Waiting]).await;
    let other = dials(&two, listen);
    are(&link, [DeviceState::Up, DeviceState::Up]).await;
    // Some who connect, and say nothing or nonsense.
    let mut strangers = Vec::new();
    for _ in 0..100 {
        let mut stranger = TcpStream::connect(listen).await.unwrap();
        stranger.write_all(b"who is there? ").await.unwrap();
        strangers.push(stranger);
    }
    let told = (one.told("one"), two.told("two"));
    until("both go on", || one.told("one") > told.0 + 5 && two.told("two") > told.1 + 5).await;
    other.abort();
    are(&link, [DeviceState::Up, DeviceState::Silent]).await;
    until("it is told why", || {
        let said = link.status().devices[1].last_error.clone();
        said.is_some_and(|said| said.starts_with("outstation 11: its connection 127.") && said.contains(" is gone: "))
    })
    .await;
    // It comes back while its old connection still stands, as after a cut that nobody told.
    let (old, again) = (dials(&two, listen), dials(&two, listen));
    are(&link, [DeviceState::Up, DeviceState::Up]).await;
    let told = two.told("two");
    until("it goes on", || two.told("two") > told + 5).await;
    [dialling, old, again].iter().for_each(tokio::task::JoinHandle::abort);
    are(&link, [DeviceState::Silent, DeviceState::Silent]).await;
}

/// A silent one is asked who it is.
#[tokio::test(flavor = "multi_thread")]
async fn an_outstation_that_says_nothing_by_itself_is_found() {
    let field = Dnp3Field::start().await;
    let listen = own_socket().unwrap();
    let (link, _stop) =
        run(&describe(&format!("protocol = \"dnp3-tcp\"\nlisten = \"{listen}\""), &["one", "two"], &[]));
    until("it listens", || std::net::TcpStream::connect(listen).is_ok()).await;
    let _dialling = dials(&field, listen);
    are(&link, [DeviceState::Up, DeviceState::Up]).await;
}

/// One is dialled, and another one dials in; when the line to the first is cut, it dials in itself.
#[tokio::test(flavor = "multi_thread")]
async fn an_outstation_that_is_dialled_or_dials_in() {
    let (one, two) = (Dnp3Field::start().await, Dnp3Field::start().await);
    one.silence("two", true);
    two.silence("one", true);
    let (listen, line) = (own_socket().unwrap(), one.line());
    let keys =
        format!("protocol = \"dnp3-tcp\"\nhost = \"{}\"\nport = {}\nlisten = \"{listen}\"", line.ip(), line.port());
    let (link, _stop) = run(&describe(&keys, &["one", "two"], &[]));
    are(&link, [DeviceState::Up, DeviceState::Silent]).await;
    let dialling = dials(&two, listen);
    are(&link, [DeviceState::Up, DeviceState::Up]).await;
    one.cut();
    are(&link, [DeviceState::Silent, DeviceState::Up]).await;
    let again = dials(&one, listen);
    are(&link, [DeviceState::Up, DeviceState::Up]).await;
    one.mend().await;
    again.abort();
    are(&link, [DeviceState::Up, DeviceState::Up]).await;
    dialling.abort();
    are(&link, [DeviceState::Up, DeviceState::Silent]).await;
}

/// An authority, whose certificates are for one name each.
struct Authority(CertifiedIssuer<'static, KeyPair>);

impl Authority {
    fn new() -> Self {
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        Self(CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap())
    }

    /// A certificate and its key, in PEM.
    fn sign(&self, name: &str) -> (String, String) {
        let key = KeyPair::generate().unwrap();
        let params = CertificateParams::new(vec![name.to_owned()]).unwrap();
        (params.signed_by(&key, &self.0).unwrap().pem(), key.serialize_pem())
    }
}

fn connector(trusted: &Authority, (certificate, key): &(String, String)) -> TlsConnector {
    use rustls::pki_types::{CertificateDer, pem::PemObject};
    let mut roots = RootCertStore::empty();
    roots.add(trusted.0.der().clone()).unwrap();
    let chain = CertificateDer::pem_slice_iter(certificate.as_bytes()).map(Result::unwrap).collect();
    let key = PrivateKeyDer::from_pem_slice(key.as_bytes()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    let config = config.with_root_certificates(roots).with_client_auth_cert(chain, key).unwrap();
    TlsConnector::from(Arc::new(config))
}

fn dials_securely(field: &Dnp3Field, to: SocketAddr, by: TlsConnector) -> tokio::task::JoinHandle<()> {
    let host = Arc::clone(&field.host);
    tokio::spawn(async move {
        loop {
            if let Ok(stream) = TcpStream::connect(to).await {
                let name = ServerName::try_from("gateway.alderfen.example").unwrap();
                if let Ok(stream) = by.connect(name, stream).await {
                    _ = host.converse(stream).await;
                }
            }
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
    })
}

/// Certificates on both sides; each is for the addresses that its name is bound to, and for no others.
#[tokio::test(flavor = "multi_thread")]
async fn outstations_that_dial_in_over_tls() {
    let field = Dnp3Field::start().await;
    let (ours, others) = (Authority::new(), Authority::new());
    let (certificate, key) = ours.sign("gateway.alderfen.example");
    let listen = own_socket().unwrap();
    let keys = format!(
        "protocol = \"dnp3-tls\"\nlisten = \"{listen}\"\nauthorities = '''\n{}'''\ncertificate = '''\n{certificate}'''\nkey = '''\n{key}'''",
        ours.0.pem()
    );
    let name = |device: &str| format!("certificate-name = \"{device}.alderfen.example\"\n");
    let description = describe_with(&keys, &["one", "two"], &[], name);
    let (link, _stop) = run(&description);
    until("it listens", || std::net::TcpStream::connect(listen).is_ok()).await;
    // Somebody else's authority, and no TLS at all.
    let stranger = dials_securely(&field, listen, connector(&ours, &others.sign("one.alderfen.example")));
    let plain = dials(&field, listen);
    // The certificate of one, by which both could speak, and one of nobody: one is heard.
    let one = dials_securely(&field, listen, connector(&ours, &ours.sign("one.alderfen.example")));
    let three = dials_securely(&field, listen, connector(&ours, &ours.sign("three.alderfen.example")));
    are(&link, [DeviceState::Up, DeviceState::Waiting]).await;
    let told = field.told("one");
    until("one goes on", || field.told("one") > told + 20).await;
    are(&link, [DeviceState::Up, DeviceState::Waiting]).await;
    [stranger, plain, three].iter().for_each(tokio::task::JoinHandle::abort);
    let two = dials_securely(&field, listen, connector(&ours, &ours.sign("two.alderfen.example")));
    are(&link, [DeviceState::Up, DeviceState::Up]).await;
    [one, two].iter().for_each(tokio::task::JoinHandle::abort);
}
