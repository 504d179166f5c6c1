//! Two programs that the vectors hold certificates and keys of: with 2048 and with 4096 bits.

use interlex_opcua::{Credentials, PrivateKey};
use std::sync::LazyLock;

static IDENTITIES: LazyLock<[Credentials; 2]> = LazyLock::new(|| {
    let vectors = include_str!("../vectors/opcua.jsonl").lines();
    let mut found = vectors.filter_map(|line| {
        let vector: serde_json::Value = serde_json::from_str(line).unwrap();
        let told = &vector["meaning"];
        let certificate = hex::decode(told["ReceiverCertificate"].as_str()?).unwrap();
        Some(Credentials { certificate, key: PrivateKey::from_pem(told["ReceiverPrivateKey"].as_str()?).unwrap() })
    });
    [found.next().unwrap(), found.next().unwrap()]
});

/// Both of them.
pub(crate) fn identities() -> [Credentials; 2] {
    IDENTITIES.clone()
}
