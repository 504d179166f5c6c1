//! A real broker that speaks TLS and wants to see certificates.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::{Files, read};
use interlex_gateway::{Gateway, GatewayOptions, TrialMessage, UplinkState, try_broker};
use interlex_sidecar::{Broker, own_socket};
use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};
use std::sync::Arc;
use std::time::Duration;

/// An authority: its certificate, and what it signs.
struct Authority(String, Issuer<'static, KeyPair>);

impl Authority {
    fn new(name: &str) -> Self {
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.distinguished_name.push(DnType::CommonName, name);
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().unwrap();
        Self(params.self_signed(&key).unwrap().pem(), Issuer::new(params, key))
    }

    /// Certificate and key.
    fn signs(&self, name: &str) -> (String, String) {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new([name.to_owned()]).unwrap();
        params.distinguished_name.push(DnType::CommonName, name);
        (params.signed_by(&key, &self.1).unwrap().pem(), key.serialize_pem())
    }
}

fn files(url: &str, keys: &[(&str, &str)]) -> Files {
    let keys: String = keys.iter().map(|(key, text)| format!("{key} = \"\"\"\n{}\"\"\"\n", text.trim_end())).collect();
    let main = format!(
        "[gateway]\nname = \"alderfen-1\"\n[[uplink]]\nname = \"cloud\"\nkind = \"sparkplug\"\nurl = \"{url}\"\n\
         group = \"alderfen\"\nnode = \"works-1\"\n{keys}"
    );
    [("gateway.toml".to_owned(), main)].into()
}

/// Connects, and gives what came of it: nothing when it is online, else the first error.
async fn outcome(files: &Files) -> Option<String> {
    let description = Arc::new(read(files).unwrap());
    let gateway =
        Gateway::start(description, GatewayOptions { revision: 1, store: None, ..GatewayOptions::default() }).await;
    let waiting = async {
        loop {
            let uplink = gateway.status().uplinks[0].clone();
            match (uplink.state, uplink.last_error) {
                (UplinkState::Online, _) => return None,
                (_, Some(error)) => return Some(error),
                _ => tokio::time::sleep(Duration::from_millis(5)).await,
            }
        }
    };
    let outcome = tokio::time::timeout(Duration::from_secs(20), waiting).await.unwrap();
    gateway.stop().await;
    outcome
}

/// The steps of a trial: which, whether it was taken, and what it said.
async fn tried(files: &Files) -> Vec<(&'static str, bool, String)> {
    let trial = try_broker(&read(files).unwrap().uplinks[0], None).await;
    trial.steps.into_iter().map(|step| (step.step, step.ok, step.said)).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn certificates_are_shown_checked_and_spoken_of_in_plain_words() {
    let directory = tempfile::tempdir().unwrap();
    let (authority, stranger) = (Authority::new("Alderfen authority"), Authority::new("a stranger"));
    // It answers at an address that its certificate does not name, too.
    let (address, unnamed) = (own_socket().unwrap(), own_socket().unwrap());
    let ip = address.ip().to_string();
    let (certificate, key) = authority.signs(&ip);
    let mut tls = "require_certificate true\n".to_owned();
    for (file, word, text) in
        [("ca.pem", "cafile", &authority.0), ("broker.pem", "certfile", &certificate), ("broker.key", "keyfile", &key)]
    {
        let path = directory.path().join(file);
        std::fs::write(&path, text).unwrap();
        tls.push_str(&format!("{word} {}\n", path.display()));
    }
    let settings = format!("{tls}listener {} {}\n{tls}", unnamed.port(), unnamed.ip());
    let mut broker = Broker::start_with(directory.path(), address, &settings).await.unwrap();
    let url = format!("mqtts://{address}");
    let ca = ("ca", authority.0.as_str());
    let (own, own_key) = authority.signs("works-1");
    let (own, own_key) = (("certificate", own.as_str()), ("key", own_key.as_str()));
    assert_eq!(outcome(&files(&url, &[ca, own, own_key])).await, None);

    let steps = tried(&files(&url, &[ca, own, own_key])).await;
    let words: Vec<_> = steps.iter().map(|(step, ok, _)| (*step, *ok)).collect();
    assert_eq!(words, [("name", true), ("tcp", true), ("tls", true), ("mqtt", true), ("subscribe", true)], "{steps:?}");
    assert!(steps[2].2.starts_with(&format!("TLSv1_3; its certificate is of CN={ip}, until ")), "{steps:?}");
    // TLS 1.3 tells what the broker thinks of our certificate after the handshake.
    let steps = tried(&files(&url, &[ca])).await;
    assert!(
        matches!(&steps[..], [.., ("mqtt", false, why)] if why.starts_with("the broker does not accept")),
        "{steps:?}"
    );
    let steps = tried(&files(&url, &[("ca", &stranger.0), own, own_key])).await;
    assert!(matches!(&steps[..], [.., ("tls", false, why)] if why.starts_with("nobody whom ca names")), "{steps:?}");
    // By another address of the same broker, and with files in place of texts.
    let elsewhere = format!("mqtts://{unnamed}");
    let not_for = format!("the broker's certificate is not for {}", unnamed.ip());
    let error = outcome(&files(&elsewhere, &[ca, own, own_key])).await.unwrap();
    assert!(error.starts_with(&not_for), "{error}");
    interlex_gateway::allow_files_in(directory.path().to_owned());
    let paths: Vec<_> = [ca, own, own_key]
        .iter()
        .map(|(word, text)| {
            let path = directory.path().join(format!("own-{word}.pem"));
            std::fs::write(&path, text).unwrap();
            (*word, format!("file:{}", path.display()))
        })
        .collect();
    let mut named: Vec<_> = paths.iter().map(|(word, path)| (*word, path.as_str())).collect();
    named.push(("server-name", &ip));
    assert_eq!(outcome(&files(&elsewhere, &named)).await, None);
    std::fs::remove_file(directory.path().join("own-key.pem")).unwrap();
    let error = outcome(&files(&elsewhere, &named)).await.unwrap();
    assert!(error.starts_with("key: the file cannot be read: it has to be a text file"), "{error}");
    let told = format!("{:?}", read(&files(&url, &[ca, own, ("key", "heron")])).unwrap_err());
    assert!(told.contains("key is no text in the form that it needs") && !told.contains("heron"), "{told}");
    let told = format!("{:?}", read(&files(&elsewhere, &[("ca", own_key.1), own, own_key])).unwrap_err());
    assert!(told.contains("ca is no text in the form that it needs") && !told.contains("MIG"), "{told}");
    std::fs::write(directory.path().join("own-ca.pem"), own_key.1).unwrap();
    let error = outcome(&files(&elsewhere, &named)).await.unwrap();
    assert!(error.starts_with("key: ") || error.starts_with("ca is no certificate in PEM: it begins with"), "{error}");

    let steps = tried(&files("mqtt://127.0.0.1:1", &[])).await;
    assert!(matches!(&steps[..], [.., ("tcp", false, why)] if why.contains("127.0.0.1:1")), "{steps:?}");
    let mut plain = Broker::start(&directory.path().join("plain"), own_socket().unwrap()).await.unwrap();
    let steps = tried(&files(&format!("mqtts://{}", plain.address()), &[])).await;
    assert!(matches!(&steps[..], [.., ("tls", false, why)] if why.contains("speak TLS on port")), "{steps:?}");
    plain.stop().await;
    let steps = tried(&files("mqtt://broker.invalid", &[])).await;
    assert!(matches!(&steps[..], [("name", false, why)] if why.contains("broker.invalid")), "{steps:?}");

    let (other, other_key) = stranger.signs("works-1");
    for (files, why) in [
        (files(&url, &[("ca", &stranger.0), own, own_key]), "nobody whom ca names signed the broker's certificate"),
        (files(&elsewhere, &[ca, own, own_key]), not_for.as_str()),
        (files(&url, &[ca]), "the broker does not accept our certificate: "),
        (
            files(&url, &[ca, ("certificate", &other), ("key", &other_key)]),
            "the broker does not accept our certificate: ",
        ),
        (files(&url, &[ca, own, ("key", &other_key)]), "certificate and key: "),
    ] {
        let told = outcome(&files).await;
        assert!(told.as_deref().is_some_and(|told| told.starts_with(why)), "{why}: {told:?}");
    }
    broker.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_tells_whether_it_may_publish() {
    let directory = tempfile::tempdir().unwrap();
    let rights = directory.path().join("rights");
    std::fs::write(&rights, "topic read spBv1.0/#\ntopic write spBv1.0/alderfen/NDEATH/works-2\n").unwrap();
    let settings = format!("acl_file {}\n", rights.display());
    let mut broker = Broker::start_with(directory.path(), own_socket().unwrap(), &settings).await.unwrap();
    let uplink = read(&files(&format!("mqtt://{}", broker.address()), &[])).unwrap().uplinks.remove(0);
    // This broker says NotAuthorized, and as a rule ends the connection before that can be read.
    for (node, ok, said) in
        [("works-1", false, "NDEATH/works-1: the broker"), ("works-2", true, "NDEATH/works-2 was taken")]
    {
        let message = TrialMessage::of_node("alderfen", node, Some(200));
        let trial = try_broker(&uplink, Some(&message)).await;
        let last = trial.steps.last().unwrap();
        assert!(last.step == "publish" && last.ok == ok && last.said.contains(said), "{trial:?}");
    }
    broker.stop().await;
}
