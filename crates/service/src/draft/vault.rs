use interlex_core::description::{BrokerUrl, Description, Draft, ObjectClass, SecretText, Uplink, secret_fields};
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use serde_json::Value;
use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Encrypts the secrets of descriptions. Its key is in a file that the database knows nothing of.
///
/// A sealed secret is text: a mark, and in hexadecimal a random nonce, the AES-256-GCM ciphertext and its tag. It can be
/// moved from draft to revision and back without being opened. Where it goes is sealed with it: with another host, port or
/// other settings of TLS it cannot be opened.
pub(crate) struct Vault {
    key: LessSafeKey,
}

/// Why there is no key.
#[derive(Debug, thiserror::Error)]
pub enum VaultError {
    /// The file cannot be read or made.
    #[error("the key file {path}: {source}")]
    File {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The file does not hold a key.
    #[error("the key file {0} does not hold 64 hexadecimal digits; without the right key no stored secret can be read")]
    Content(PathBuf),
    /// Others may read the file.
    #[error("the key file {0} can be read by others; take their rights away: chmod 600")]
    Rights(PathBuf),
}

/// Why a secret was not sealed or opened.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(crate) enum SealError {
    #[error("the system gives no random numbers")]
    Random,
    #[error("a stored secret cannot be opened with the key of this machine, or was stored for another address")]
    Key,
    #[error("{0} was stored for another address or other settings of TLS; give it again")]
    Elsewhere(&'static str),
}

const MARK: &str = "sealed:2:";
/// Those of before: where they go is checked only when they are taken in again.
const MARK_BEFORE: &str = "sealed:1:";
const KEY_LEN: usize = 32;

impl std::fmt::Debug for Vault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Vault(…)")
    }
}

impl Vault {
    /// Opens the vault with the key in a file, which is made at the first start.
    pub(crate) fn open(path: &Path) -> Result<Self, VaultError> {
        let failed = |source| VaultError::File { path: path.to_owned(), source };
        let text = match fs::read_to_string(path) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => make_key(path).map_err(failed)?,
            Err(error) => return Err(failed(error)),
        };
        if fs::metadata(path).map_err(failed)?.permissions().mode() & 0o077 != 0 {
            return Err(VaultError::Rights(path.to_owned()));
        }
        let bytes = hex::decode(text.trim()).ok().filter(|bytes| bytes.len() == KEY_LEN);
        let key = bytes.and_then(|bytes| UnboundKey::new(&AES_256_GCM, &bytes).ok());
        let key = key.ok_or_else(|| VaultError::Content(path.to_owned()))?;
        Ok(Self { key: LessSafeKey::new(key) })
    }

    fn seal(&self, text: &str, destination: &str) -> Result<String, SealError> {
        let mut nonce = [0; NONCE_LEN];
        getrandom::fill(&mut nonce).map_err(|_| SealError::Random)?;
        let mut sealed = text.as_bytes().to_vec();
        let in_place = Nonce::assume_unique_for_key(nonce);
        let sealed_with = Aad::from(format!("{MARK}{destination}"));
        self.key.seal_in_place_append_tag(in_place, sealed_with, &mut sealed).map_err(|_| SealError::Key)?;
        Ok(format!("{MARK}{}{}", hex::encode(nonce), hex::encode(sealed)))
    }

    fn unseal(&self, sealed: &str, destination: &str) -> Result<String, SealError> {
        let (text, sealed_with) = match (sealed.strip_prefix(MARK), sealed.strip_prefix(MARK_BEFORE)) {
            (Some(text), _) => (text, format!("{MARK}{destination}")),
            (None, Some(text)) => (text, MARK_BEFORE.to_owned()),
            (None, None) => return Err(SealError::Key),
        };
        let bytes = hex::decode(text).map_err(|_| SealError::Key)?;
        let (nonce, text) = bytes.split_at_checked(NONCE_LEN).ok_or(SealError::Key)?;
        let nonce = Nonce::try_assume_unique_for_key(nonce).map_err(|_| SealError::Key)?;
        let mut text = text.to_vec();
        let plain = self.key.open_in_place(nonce, Aad::from(sealed_with), &mut text).map_err(|_| SealError::Key)?;
        String::from_utf8(plain.to_vec()).map_err(|_| SealError::Key)
    }

    /// Seals the secrets of an object that came from outside. Where the placeholder stands, and where the secret is the
    /// same as before, the stored one is kept.
    pub(crate) fn take_in(
        &self,
        class: ObjectClass,
        content: &mut Value,
        stored: Option<&Value>,
    ) -> Result<(), SealError> {
        let goes_to = destination(content);
        let went_to = stored.map(destination);
        for field in secret_fields(class) {
            let Some(Value::String(text)) = content.get_mut(field) else { continue };
            let known = stored.and_then(|stored| stored.get(field)).and_then(Value::as_str);
            let goes_elsewhere = went_to.as_ref() != Some(&goes_to);
            if text == SecretText::PLACEHOLDER {
                match known {
                    Some(_) if goes_elsewhere => return Err(SealError::Elsewhere(field)),
                    Some(known) => *text = known.to_owned(),
                    // The check tells that nothing is stored for the placeholder.
                    None => {}
                }
                continue;
            }
            let is_known =
                |known: &&str| !goes_elsewhere && self.unseal(known, &goes_to).is_ok_and(|plain| plain == *text);
            *text = match known.filter(is_known) {
                Some(known) => known.to_owned(),
                None => self.seal(text, &goes_to)?,
            };
        }
        Ok(())
    }

    /// Opens the secrets of a description that is about to run.
    pub(crate) fn reveal(&self, description: &mut Description) -> Result<(), SealError> {
        for uplink in &mut description.uplinks {
            let goes_to = destination_of(uplink);
            for secret in [&mut uplink.broker.password, &mut uplink.broker.key].into_iter().flatten() {
                *secret = SecretText::new(self.unseal(secret.reveal(), &goes_to)?);
            }
        }
        Ok(())
    }
}

/// Where the secrets of an object go: the hosts and ports of its brokers, and by what they are known for the right ones.
fn destination(content: &Value) -> String {
    let text = |key: &str| content.get(key).and_then(Value::as_str).unwrap_or_default();
    let url = |text: &str| {
        BrokerUrl::try_from(text.trim().to_owned()).map_or_else(|_| text.to_owned(), |url| url.to_string())
    };
    let fallbacks = text("fallbacks").split(',').map(str::trim).filter(|text| !text.is_empty()).map(url);
    let urls: Vec<_> = std::iter::once(url(text("url"))).chain(fallbacks).collect();
    one_text(&urls, text("server-name"), text("ca"))
}

fn destination_of(uplink: &Uplink) -> String {
    let urls: Vec<_> = uplink.urls().map(ToString::to_string).collect();
    let broker = &uplink.broker;
    one_text(&urls, broker.server_name.as_deref().unwrap_or_default(), broker.ca.as_deref().unwrap_or_default())
}

fn one_text(urls: &[String], server_name: &str, ca: &str) -> String {
    format!("{}\n{}\n{}", urls.join("\n"), server_name.trim(), ca.trim())
}

/// Puts the placeholder where secrets are.
pub(crate) fn mask(class: ObjectClass, content: &mut Value) {
    for field in secret_fields(class) {
        if let Some(secret) = content.get_mut(field) {
            *secret = Value::from(SecretText::PLACEHOLDER);
        }
    }
}

/// A draft without its secrets, for whoever may see it.
pub(crate) fn masked(mut draft: Draft) -> Draft {
    let classes = [
        (ObjectClass::Link, &mut draft.links),
        (ObjectClass::Device, &mut draft.devices),
        (ObjectClass::Uplink, &mut draft.uplinks),
    ];
    for (class, objects) in classes {
        objects.iter_mut().for_each(|content| mask(class, content));
    }
    draft
}

fn make_key(path: &Path) -> io::Result<String> {
    let mut bytes = [0; KEY_LEN];
    getrandom::fill(&mut bytes).map_err(io::Error::other)?;
    let text = hex::encode(bytes);
    let mut file = fs::OpenOptions::new().create_new(true).write(true).mode(0o600).open(path)?;
    file.write_all(format!("{text}\n").as_bytes())?;
    // A key that a power cut takes away would take every secret along.
    file.sync_all()?;
    Ok(text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn vault(directory: &tempfile::TempDir) -> Vault {
        Vault::open(&directory.path().join("secret.key")).unwrap()
    }

    #[test]
    fn secrets_are_sealed_kept_and_opened_with_the_same_key_only() {
        let directory = tempfile::tempdir().unwrap();
        let mut content = json!({ "name": "cloud", "url": "mqtts://broker.example", "password": "heron-1" });
        let to = destination(&content);
        vault(&directory).take_in(ObjectClass::Uplink, &mut content, None).unwrap();
        let sealed = content["password"].as_str().unwrap().to_owned();
        assert!(sealed.starts_with(MARK) && !sealed.contains("heron"));
        assert_eq!(vault(&directory).unseal(&sealed, &to).unwrap(), "heron-1", "the key outlasts the process");
        let other = tempfile::tempdir().unwrap();
        assert_eq!(vault(&other).unseal(&sealed, &to), Err(SealError::Key));
        assert_eq!(vault(&directory).unseal(&format!("{sealed}0"), &to), Err(SealError::Key));
        assert_eq!(vault(&directory).unseal(&sealed, "elsewhere"), Err(SealError::Key));

        for same in [SecretText::PLACEHOLDER, "heron-1"] {
            // The same place in other words.
            let mut again = json!({ "name": "cloud", "url": "mqtts://broker.example:8883", "password": same });
            vault(&directory).take_in(ObjectClass::Uplink, &mut again, Some(&content)).unwrap();
            assert_eq!(again["password"], content["password"], "{same}");
        }
        for (key, value) in [
            ("url", "mqtt://broker.example:8883"),
            ("url", "mqtts://elsewhere.example"),
            ("fallbacks", "mqtts://elsewhere.example"),
            ("server-name", "elsewhere.example"),
            ("ca", "-----BEGIN"),
        ] {
            let mut moved =
                json!({ "name": "cloud", "url": "mqtts://broker.example", "password": SecretText::PLACEHOLDER });
            moved[key] = value.into();
            let refused = vault(&directory).take_in(ObjectClass::Uplink, &mut moved, Some(&content));
            assert_eq!(refused, Err(SealError::Elsewhere("password")), "{key}");
            moved["password"] = "heron-1".into();
            vault(&directory).take_in(ObjectClass::Uplink, &mut moved, Some(&content)).unwrap();
            assert_ne!(moved["password"], content["password"], "sealed for there");
        }
        let mut lonely = json!({ "password": SecretText::PLACEHOLDER });
        vault(&directory).take_in(ObjectClass::Uplink, &mut lonely, None).unwrap();
        assert_eq!(lonely["password"], SecretText::PLACEHOLDER, "for the check to find");
        mask(ObjectClass::Uplink, &mut content);
        assert_eq!(content["password"], SecretText::PLACEHOLDER);
    }

    #[test]
    fn a_key_file_that_others_may_read_or_that_is_none_is_refused() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("secret.key");
        vault(&directory);
        fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
        assert!(matches!(Vault::open(&path), Err(VaultError::Rights(_))));
        fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).unwrap();
        fs::write(&path, "nonsense").unwrap();
        assert!(matches!(Vault::open(&path), Err(VaultError::Content(_))));
    }
}
