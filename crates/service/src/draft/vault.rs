use interlex_core::description::{Description, Draft, ObjectClass, SecretFields, SecretText};
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
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum SealError {
    #[error("the system gives no random numbers")]
    Random,
    #[error("a stored secret cannot be opened with the key of this machine, or was stored for another address")]
    Key,
    #[error("{0} was stored for another address or other settings of TLS; give it again")]
    Elsewhere(String),
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

    /// Seals the secrets of an object that came from outside, for where they go. Where the placeholder stands, and where the
    /// secret is the same as before, the stored one is kept; with what was stored comes where that went.
    pub(crate) fn take_in(
        &self,
        fields: &SecretFields,
        content: &mut Value,
        goes_to: &str,
        stored: Option<(&Value, &str)>,
    ) -> Result<(), SealError> {
        let goes_elsewhere = stored.is_some_and(|(_, went_to)| went_to != goes_to);
        for field in fields.iter() {
            let Some(Value::String(text)) = content.get_mut(field) else { continue };
            let known = stored.and_then(|(stored, _)| stored.get(field)).and_then(Value::as_str);
            if text == SecretText::PLACEHOLDER {
                match known {
                    Some(_) if goes_elsewhere => return Err(SealError::Elsewhere(field.to_owned())),
                    Some(known) => *text = known.to_owned(),
                    // The check tells that nothing is stored for the placeholder.
                    None => {}
                }
                continue;
            }
            let is_known =
                |known: &&str| !goes_elsewhere && self.unseal(known, goes_to).is_ok_and(|plain| plain == *text);
            *text = match known.filter(is_known) {
                Some(known) => known.to_owned(),
                None => self.seal(text, goes_to)?,
            };
        }
        Ok(())
    }

    /// Puts what is stored in the place of the placeholder, where an object goes to the same place in a safer way: it is sealed anew.
    pub(crate) fn carry_over(&self, fields: &SecretFields, content: &mut Value, stored: &Value, went_to: &str) {
        for field in fields.iter() {
            let known = stored.get(field).and_then(Value::as_str).and_then(|known| self.unseal(known, went_to).ok());
            if let (Some(Value::String(text)), Some(known)) = (content.get_mut(field), known)
                && text == SecretText::PLACEHOLDER
            {
                *text = known;
            }
        }
    }

    /// Opens the secrets of a description that is about to run.
    pub(crate) fn reveal(&self, description: &mut Description) -> Result<(), SealError> {
        description.reveal(|goes_to, sealed| self.unseal(sealed, goes_to))
    }

    /// Whether a text of a draft is a secret that cannot be opened for where it goes now.
    pub(crate) fn is_closed(&self, text: &str, goes_to: &str) -> bool {
        text.starts_with("sealed:") && self.unseal(text, goes_to).is_err()
    }
}

/// Puts the placeholder where secrets are.
pub(crate) fn mask(class: ObjectClass, content: &mut Value) {
    mask_fields(SecretFields::of(class), content);
}

fn mask_fields(fields: &SecretFields, content: &mut Value) {
    for field in fields.iter() {
        if let Some(secret) = content.get_mut(field) {
            *secret = Value::from(SecretText::PLACEHOLDER);
        }
    }
}

/// A draft without its secrets, for whoever may see it.
pub(crate) fn masked(mut draft: Draft) -> Draft {
    draft.keepers_mut().for_each(|(class, content)| mask(class, content));
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
    use interlex_core::description::{ObjectKind, destination, schema};
    use serde_json::json;

    fn vault(directory: &tempfile::TempDir) -> Vault {
        Vault::open(&directory.path().join("secret.key")).unwrap()
    }

    /// Takes in one object of a class, with what was stored of it.
    fn take_in(
        vault: &Vault,
        class: ObjectClass,
        content: &mut Value,
        links: &[Value],
        stored: Option<&Value>,
    ) -> Result<(), SealError> {
        let fields = SecretFields::of(class);
        let stored = stored.map(|stored| (stored, destination(class, stored, links)));
        let stored = stored.as_ref().map(|(stored, went_to)| (*stored, went_to.as_str()));
        vault.take_in(fields, content, &destination(class, content, links), stored)
    }

    #[test]
    fn secrets_are_sealed_kept_and_opened_with_the_same_key_only() {
        let directory = tempfile::tempdir().unwrap();
        let class = ObjectClass::Uplink;
        let mut content = json!({ "name": "cloud", "url": "mqtts://broker.example", "password": "heron-1" });
        let to = destination(class, &content, &[]);
        take_in(&vault(&directory), class, &mut content, &[], None).unwrap();
        let sealed = content["password"].as_str().unwrap().to_owned();
        assert!(sealed.starts_with(MARK) && !sealed.contains("heron"));
        assert_eq!(vault(&directory).unseal(&sealed, &to).unwrap(), "heron-1", "the key outlasts the process");
        let other = tempfile::tempdir().unwrap();
        assert_eq!(vault(&other).unseal(&sealed, &to), Err(SealError::Key));
        assert_eq!(vault(&directory).unseal(&format!("{sealed}0"), &to), Err(SealError::Key));
        assert!(vault(&directory).is_closed(&sealed, "elsewhere") && !vault(&directory).is_closed(&sealed, &to));

        for same in [SecretText::PLACEHOLDER, "heron-1"] {
            // The same place in other words.
            let mut again = json!({ "name": "cloud", "url": "mqtts://broker.example:8883", "password": same });
            take_in(&vault(&directory), class, &mut again, &[], Some(&content)).unwrap();
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
            let refused = take_in(&vault(&directory), class, &mut moved, &[], Some(&content));
            assert_eq!(refused, Err(SealError::Elsewhere("password".to_owned())), "{key}");
            moved["password"] = "heron-1".into();
            take_in(&vault(&directory), class, &mut moved, &[], Some(&content)).unwrap();
            assert_ne!(moved["password"], content["password"], "sealed for there");
        }
        let mut lonely = json!({ "password": SecretText::PLACEHOLDER });
        take_in(&vault(&directory), class, &mut lonely, &[], None).unwrap();
        assert_eq!(lonely["password"], SecretText::PLACEHOLDER, "for the check to find");
    }

    /// An object of a kind with a secret, at one place or another.
    fn planted(kind: ObjectKind, host: &str) -> Value {
        match kind {
            ObjectKind::Link(word) => {
                let (path, url) = (format!("/dev/{host}"), format!("opc.tcp://{host}"));
                json!({ "protocol": word, "host": host, "device-path": path, "url": url, "interface": host, "planted": "heron-2" })
            }
            ObjectKind::Device(_) => json!({ "link": host, "planted": "heron-2" }),
            _ => json!({ "url": format!("mqtts://{host}"), "planted": "heron-2" }),
        }
    }

    #[test]
    fn a_secret_in_any_kind_of_object_is_sealed_for_its_place_and_masked() {
        let directory = tempfile::tempdir().unwrap();
        let vault = vault(&directory);
        let links = ["here", "there"].map(|host| json!({ "name": host, "protocol": "modbus-tcp", "host": host }));
        let mut kinds = 0;
        for kind in ObjectKind::all() {
            let class = kind.class();
            if matches!(class, ObjectClass::Gateway | ObjectClass::Rate | ObjectClass::Point) {
                assert_eq!(SecretFields::of(class).iter().next(), None, "{kind:?} leads nowhere");
                continue;
            }
            let mut schema = schema(kind).clone();
            schema["properties"]["planted"] = json!({ "anyOf": [{ "format": "secret" }, { "type": "null" }] });
            let fields = SecretFields::in_schemas([&schema]);
            let mut content = planted(kind, "here");
            let goes_to = destination(class, &content, &links);
            assert!(goes_to.contains("here"), "{kind:?} goes to {goes_to:?}");
            vault.take_in(&fields, &mut content, &goes_to, None).unwrap();
            let sealed = content["planted"].as_str().unwrap().to_owned();
            assert_eq!(vault.unseal(&sealed, &goes_to).as_deref(), Ok("heron-2"), "{kind:?}");

            let mut moved = planted(kind, "there");
            moved["planted"] = SecretText::PLACEHOLDER.into();
            let elsewhere = destination(class, &moved, &links);
            let refused = vault.take_in(&fields, &mut moved, &elsewhere, Some((&content, &goes_to)));
            assert_eq!(refused, Err(SealError::Elsewhere("planted".to_owned())), "{kind:?}");
            assert!(vault.is_closed(&sealed, &elsewhere), "{kind:?}");
            mask_fields(&fields, &mut content);
            assert_eq!(content["planted"], SecretText::PLACEHOLDER, "{kind:?}");
            kinds += 1;
        }
        assert!(kinds >= 8, "{kinds}");
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
