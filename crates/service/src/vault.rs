use interlex_core::description::{Description, Draft, ObjectClass, SecretText, secret_fields};
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use serde_json::Value;
use std::fs;
use std::io::{self, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Encrypts the secrets of descriptions. Its key is in a file that the database knows nothing of.
///
/// A sealed secret is text: a mark, and in hexadecimal a random nonce, the AES-256-GCM ciphertext and its tag. It can be
/// moved from draft to revision and back without being opened.
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
    #[error("a stored secret cannot be opened with the key of this machine")]
    Key,
}

const MARK: &str = "sealed:1:";
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

    fn seal(&self, text: &str) -> Result<String, SealError> {
        let mut nonce = [0; NONCE_LEN];
        getrandom::fill(&mut nonce).map_err(|_| SealError::Random)?;
        let mut sealed = text.as_bytes().to_vec();
        let in_place = Nonce::assume_unique_for_key(nonce);
        self.key.seal_in_place_append_tag(in_place, Aad::from(MARK), &mut sealed).map_err(|_| SealError::Key)?;
        Ok(format!("{MARK}{}{}", hex::encode(nonce), hex::encode(sealed)))
    }

    fn unseal(&self, sealed: &str) -> Result<String, SealError> {
        let bytes = sealed.strip_prefix(MARK).and_then(|text| hex::decode(text).ok()).ok_or(SealError::Key)?;
        let (nonce, text) = bytes.split_at_checked(NONCE_LEN).ok_or(SealError::Key)?;
        let nonce = Nonce::try_assume_unique_for_key(nonce).map_err(|_| SealError::Key)?;
        let mut text = text.to_vec();
        let plain = self.key.open_in_place(nonce, Aad::from(MARK), &mut text).map_err(|_| SealError::Key)?;
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
        for field in secret_fields(class) {
            let Some(Value::String(text)) = content.get_mut(field) else { continue };
            let known = stored.and_then(|stored| stored.get(field)).and_then(Value::as_str);
            let is_known = |known: &&str| self.unseal(known).is_ok_and(|plain| plain == *text);
            let keeps = text == SecretText::PLACEHOLDER || known.as_ref().is_some_and(is_known);
            *text = match known.filter(|_| keeps) {
                Some(known) => known.to_owned(),
                // The check tells that nothing is stored for the placeholder.
                None if text == SecretText::PLACEHOLDER => continue,
                None => self.seal(text)?,
            };
        }
        Ok(())
    }

    /// Opens the secrets of a description that is about to run.
    pub(crate) fn reveal(&self, description: &mut Description) -> Result<(), SealError> {
        for uplink in &mut description.uplinks {
            for secret in [&mut uplink.broker.password, &mut uplink.broker.key].into_iter().flatten() {
                *secret = SecretText::new(self.unseal(secret.reveal())?);
            }
        }
        Ok(())
    }
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
        let mut content = json!({ "name": "cloud", "password": "heron-1" });
        vault(&directory).take_in(ObjectClass::Uplink, &mut content, None).unwrap();
        let sealed = content["password"].as_str().unwrap().to_owned();
        assert!(sealed.starts_with(MARK) && !sealed.contains("heron"));
        assert_eq!(vault(&directory).unseal(&sealed).unwrap(), "heron-1", "the key outlasts the process");
        let other = tempfile::tempdir().unwrap();
        assert_eq!(vault(&other).unseal(&sealed), Err(SealError::Key));
        assert_eq!(vault(&directory).unseal(&format!("{sealed}0")), Err(SealError::Key));

        for same in [SecretText::PLACEHOLDER, "heron-1"] {
            let mut again = json!({ "name": "cloud", "password": same });
            vault(&directory).take_in(ObjectClass::Uplink, &mut again, Some(&content)).unwrap();
            assert_eq!(again, content, "{same}");
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
