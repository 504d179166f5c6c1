//! Which certificates are believed, and what is said of the others.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_opcua::{
    CertificateFault, Expected, OwnCertificate, PrivateKey, SecurityPolicy, TrustList, certificate_faults, public_key,
};
use rcgen::{
    BasicConstraints, CertificateParams, CertificateRevocationListParams, DnType, IsCa, Issuer, KeyIdMethod, KeyPair,
    KeyUsagePurpose, PKCS_RSA_SHA256, RevokedCertParams, SanType, SerialNumber, date_time_ymd,
};
use std::net::{IpAddr, Ipv4Addr};

const URI: &str = "urn:alderfen:chp";
/// 2027-01-01.
const NOW: i64 = 1_798_761_600;

/// Keys of the vectors: with 2048 and with 4096 bits.
fn keys() -> [KeyPair; 2] {
    let vectors = include_str!("vectors/opcua.jsonl").lines();
    let mut pems = vectors.filter_map(|line| {
        let vector: serde_json::Value = serde_json::from_str(line).unwrap();
        (vector["name"].as_str()?.starts_with("asymmetric")).then_some(())?;
        vector["meaning"]["ReceiverPrivateKey"].as_str().map(str::to_owned)
    });
    let mut key = || KeyPair::from_pkcs8_pem_and_sign_algo(&pems.next().unwrap(), &PKCS_RSA_SHA256).unwrap();
    [key(), key()]
}

fn named(name: &str) -> CertificateParams {
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, name);
    (params.not_before, params.not_after) = (date_time_ymd(2026, 1, 1), date_time_ymd(2028, 1, 1));
    params
}

fn program() -> CertificateParams {
    let mut params = named("engine");
    params.serial_number = Some(SerialNumber::from(77));
    params.subject_alt_names = vec![
        SanType::URI(URI.try_into().unwrap()),
        SanType::DnsName("engine.alderfen".try_into().unwrap()),
        SanType::IpAddress(IpAddr::V4(Ipv4Addr::new(10, 4, 0, 7))),
    ];
    params.key_usages = vec![
        KeyUsagePurpose::DigitalSignature,
        KeyUsagePurpose::ContentCommitment,
        KeyUsagePurpose::KeyEncipherment,
        KeyUsagePurpose::DataEncipherment,
    ];
    params
}

fn authority() -> CertificateParams {
    let mut params = named("Alderfen works");
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    params
}

const EXPECTED: Expected<'_> = Expected {
    now: NOW,
    host: Some("engine.alderfen"),
    application_uri: Some(URI),
    policy: SecurityPolicy::Basic256Sha256,
    is_server: true,
};

fn self_signed(params: CertificateParams) -> Vec<u8> {
    params.self_signed(&keys()[0]).unwrap().der().to_vec()
}

fn faults(certificate: &[u8], trusted: &[Vec<u8>], expected: &Expected<'_>) -> Vec<CertificateFault> {
    certificate_faults(certificate, &TrustList { trusted, ..TrustList::default() }, expected)
}

/// What is wrong with one that was accepted.
fn faults_of_accepted(certificate: &[u8], expected: &Expected<'_>) -> Vec<CertificateFault> {
    faults(certificate, &[certificate.to_vec()], expected)
}

#[test]
fn a_certificate_that_was_accepted_is_believed_as_long_as_nothing_else_is_wrong() {
    let good = self_signed(program());
    let trusted = [good.clone()];
    assert_eq!(faults(&good, &[], &EXPECTED), [CertificateFault::Untrusted]);
    assert_eq!(faults(&good, &trusted, &EXPECTED), []);
    for host in ["ENGINE.alderfen", "10.4.0.7"] {
        assert_eq!(faults(&good, &trusted, &Expected { host: Some(host), ..EXPECTED }), []);
    }
    let other =
        faults(&good, &trusted, &Expected { host: Some("10.4.0.8"), application_uri: Some("urn:x"), ..EXPECTED });
    let words: Vec<_> = other.iter().map(ToString::to_string).collect();
    assert_eq!(
        words,
        [
            "it is not for 10.4.0.8, but for engine.alderfen, 10.4.0.7: use one of these in the address, or make a new one at \
             the device",
            "it is of urn:alderfen:chp, where the program says that it is urn:x: it may be another one",
        ]
    );
    assert!(other[0].may_be_accepted() && !other[1].may_be_accepted());
    let day = 86_400;
    let at = |now| faults(&good, &trusted, &Expected { now, ..EXPECTED });
    assert_eq!(at(NOW + 365 * day + 1), [CertificateFault::Expired { seconds: 1 }]);
    assert_eq!(at(NOW - 365 * day - day), [CertificateFault::NotYetValid { seconds: day }]);
}

#[test]
fn what_was_changed_or_is_of_no_use_is_not_believed_by_anybody() {
    let good = self_signed(program());
    let mut changed = good.clone();
    let place = changed.windows(3).position(|bytes| bytes == b"chp").unwrap();
    changed[place] = b'x';
    let found = faults_of_accepted(&changed, &EXPECTED);
    assert!(found.contains(&CertificateFault::Signature), "{found:?}");
    assert!(!CertificateFault::Signature.may_be_accepted());
    assert_eq!(faults(&good[..good.len() - 1], &[], &EXPECTED), [CertificateFault::Malformed]);
    assert_eq!(faults(b"certificate", &[], &EXPECTED), [CertificateFault::Malformed]);

    let mut params = program();
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign];
    let useless = self_signed(params);
    assert_eq!(faults_of_accepted(&useless, &EXPECTED), [CertificateFault::KeyUsage("digitalSignature")]);
    let mut params = program();
    params.extended_key_usages = vec![rcgen::ExtendedKeyUsagePurpose::ClientAuth];
    let of_client = self_signed(params);
    assert_eq!(faults_of_accepted(&of_client, &EXPECTED), [CertificateFault::KeyUsage("serverAuth")]);
    assert_eq!(faults_of_accepted(&of_client, &Expected { is_server: false, ..EXPECTED }), []);
}

#[test]
fn issuers_are_followed_and_what_they_took_back_is_not_believed() {
    let [program_key, authority_key] = keys();
    let root = authority().self_signed(&authority_key).unwrap().der().to_vec();
    let issuer = Issuer::new(authority(), &authority_key);
    let signed = program().signed_by(&program_key, &issuer).unwrap().der().to_vec();
    let list = |serial: Option<u64>| {
        let revoked = serial.map(|serial| RevokedCertParams {
            serial_number: SerialNumber::from(serial),
            revocation_time: date_time_ymd(2026, 6, 1),
            reason_code: None,
            invalidity_date: None,
        });
        let params = CertificateRevocationListParams {
            this_update: date_time_ymd(2026, 6, 1),
            next_update: date_time_ymd(2027, 6, 1),
            crl_number: SerialNumber::from(1),
            issuing_distribution_point: None,
            revoked_certs: revoked.into_iter().collect(),
            key_identifier_method: KeyIdMethod::Sha256,
        };
        params.signed_by(&issuer).unwrap().der().to_vec()
    };
    let believed = [root.clone()];
    let with = |revocations: &[Vec<u8>]| {
        let trust = TrustList { trusted: &believed, issuers: &[], revocations };
        certificate_faults(&signed, &trust, &EXPECTED)
    };
    let unknown = CertificateFault::RevocationUnknown("CN=Alderfen works".to_owned());
    assert_eq!(with(&[]), std::slice::from_ref(&unknown));
    assert_eq!(with(&[list(Some(78))]), []);
    assert_eq!(with(&[list(None), list(Some(77))]), [CertificateFault::Revoked]);

    // The issuer is known, sent along, or missing: it is not believed by that.
    let known = TrustList { trusted: &[], issuers: &believed, revocations: &[list(None)] };
    assert_eq!(certificate_faults(&signed, &known, &EXPECTED), [CertificateFault::Untrusted]);
    let chain = [signed.clone(), root].concat();
    assert_eq!(faults(&chain, &[], &EXPECTED), [unknown, CertificateFault::Untrusted]);
    let missing = CertificateFault::IssuerUnknown("CN=Alderfen works".to_owned());
    assert_eq!(faults(&signed, &[], &EXPECTED), [missing, CertificateFault::Untrusted]);

    // Somebody else of the same name signs nothing that counts.
    let other = authority().self_signed(&program_key).unwrap().der().to_vec();
    let found = faults(&signed, &[other], &EXPECTED);
    assert_eq!(found, [CertificateFault::Signature, CertificateFault::Untrusted]);
    // A program is no issuer.
    let not_an_issuer = Issuer::new(program(), &program_key);
    let under = named("under").signed_by(&authority_key, &not_an_issuer).unwrap().der().to_vec();
    let found = faults(&under, &[self_signed(program())], &Expected { host: None, application_uri: None, ..EXPECTED });
    assert_eq!(found, [CertificateFault::IssuerUnknown("CN=engine".to_owned()), CertificateFault::Untrusted]);
}

#[test]
fn the_certificate_that_we_make_for_ourselves_is_one_that_we_would_believe() {
    let own = OwnCertificate {
        application_uri: URI.to_owned(),
        application_name: "Interlex".to_owned(),
        organization: "Alderfen".to_owned(),
        hosts: vec!["engine.alderfen".to_owned(), "10.4.0.7".to_owned()],
        validity: (NOW - 86_400, NOW + 86_400),
        bits: 2048,
    };
    let made = own.make().unwrap();
    for (host, is_server) in [("engine.alderfen", true), ("10.4.0.7", true), ("engine.alderfen", false)] {
        for policy in [SecurityPolicy::Basic256Sha256, SecurityPolicy::Aes256Sha256RsaPss] {
            let expected = Expected { host: Some(host), is_server, policy, ..EXPECTED };
            assert_eq!(faults(&made.certificate, std::slice::from_ref(&made.certificate), &expected), []);
        }
    }
    let signature = made.key.sign(SecurityPolicy::Basic256Sha256, b"alderfen").unwrap();
    let key = public_key(&made.certificate).unwrap();
    assert_eq!(key.verify(SecurityPolicy::Basic256Sha256, b"alderfen", &signature), Ok(()));
    let again = PrivateKey::from_pem(&made.key.to_pem().unwrap()).unwrap();
    assert_eq!(again.public(), key);
    for wrong in [
        OwnCertificate { bits: 1024, ..own.clone() },
        OwnCertificate { hosts: vec!["ü".to_owned()], ..own.clone() },
        OwnCertificate { application_uri: "urn:ü".to_owned(), ..own },
    ] {
        assert!(wrong.make().is_err(), "{wrong:?}");
    }
}
