//! Secrets: which keys hold them, where they may go, and how they are opened for what runs.

use super::draft::{Draft, name_of};
use super::schema::{self, ObjectKind};
use super::write::{device_object, link_object, uplink_object};
use super::{BrokerUrl, Description, LinkProtocol, ObjectClass, Uplink};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::fmt;
use std::sync::LazyLock;

/// A password or key. Whoever stores a description encrypts it; it is never printed.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SecretText(String);

impl SecretText {
    /// What stands in place of a secret wherever it is shown or exported. Coming back, it means: keep what is stored.
    pub const PLACEHOLDER: &str = "(stored)";

    /// A secret.
    #[must_use]
    pub const fn new(text: String) -> Self {
        Self(text)
    }

    /// The secret itself, for the one who has to send it.
    #[must_use]
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for SecretText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SecretText(…)")
    }
}

impl JsonSchema for SecretText {
    fn schema_name() -> Cow<'static, str> {
        "SecretText".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "format": "secret", "writeOnly": true })
    }
}

/// The keys of a class of objects whose texts are secrets: stored encrypted, never shown, and revealed only to what runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SecretFields(BTreeSet<String>);

impl SecretFields {
    /// Those of a class: whatever is secret in one of its kinds.
    #[must_use]
    pub fn of(class: ObjectClass) -> &'static Self {
        static ALL: LazyLock<Vec<SecretFields>> = LazyLock::new(|| {
            let kinds = |class| ObjectKind::all().filter(move |kind| kind.class() == class);
            ObjectClass::ALL.map(|class| SecretFields::in_schemas(kinds(class).map(schema::schema))).into()
        });
        static NONE: SecretFields = SecretFields(BTreeSet::new());
        let at = ObjectClass::ALL.iter().position(|known| *known == class);
        at.and_then(|at| ALL.get(at)).unwrap_or(&NONE)
    }

    /// Those that some schemas mark as secret.
    #[must_use]
    pub fn in_schemas<'a>(schemas: impl IntoIterator<Item = &'a Value>) -> Self {
        let properties = schemas.into_iter().filter_map(|schema| schema.get("properties")?.as_object()).flatten();
        Self(properties.filter(|(_, property)| is_secret(property)).map(|(key, _)| key.clone()).collect())
    }

    /// The keys.
    pub fn iter(&self) -> impl Iterator<Item = &str> {
        self.0.iter().map(String::as_str)
    }

    /// Whether a key is one of them.
    #[must_use]
    pub fn has(&self, key: &str) -> bool {
        self.0.contains(key)
    }
}

/// What is optional is written as a choice in which the secret is one.
fn is_secret(property: &Value) -> bool {
    let choices = ["anyOf", "oneOf"].into_iter().filter_map(|key| property.get(key)?.as_array()).flatten();
    property.get("format").and_then(Value::as_str) == Some("secret") || choices.into_iter().any(is_secret)
}

/// Where the secrets of an object go: a stored one goes nowhere else.
///
/// Of an uplink these are its brokers, and by what they are known for the right ones; of a link what leads to its other end; of
/// a device that of its link, which is one of `links`.
#[must_use]
pub fn destination(class: ObjectClass, content: &Value, links: &[Value]) -> String {
    let text = |key: &str| content.get(key).and_then(Value::as_str).unwrap_or_default();
    match class {
        ObjectClass::Uplink => {
            let url = |text: &str| {
                BrokerUrl::try_from(text.trim().to_owned()).map_or_else(|_| text.to_owned(), |url| url.to_string())
            };
            let fallbacks = text("fallbacks").split(',').map(str::trim).filter(|text| !text.is_empty()).map(url);
            let urls: Vec<_> = std::iter::once(url(text("url"))).chain(fallbacks).collect();
            format!("{}\n{}\n{}", urls.join("\n"), text("server-name").trim(), text("ca").trim())
        }
        ObjectClass::Link => {
            let schema = schema::of(ObjectKind::of_link(text("protocol")));
            let said = |key: &str| {
                let value = content.get(key).filter(|value| !value.is_null()).or_else(|| schema.default_of(key));
                value.map_or_else(String::new, Value::to_string)
            };
            schema.destination().map(|key| format!("{key} {}\n", said(key))).collect()
        }
        ObjectClass::Device => {
            let link = links.iter().find(|link| name_of(link) == text("link"));
            link.map_or_else(String::new, |link| destination(ObjectClass::Link, link, links))
        }
        ObjectClass::Gateway | ObjectClass::Rate | ObjectClass::Point => String::new(),
    }
}

/// Whether a link leads where it led, and only its messages are secured now that went in the clear, to a server that somebody accepted.
#[must_use]
pub fn is_secured_now(before: &Value, after: &Value) -> bool {
    let text = |link: &Value, key: &str| link.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    let is_opcua = [before, after].iter().all(|link| text(link, "protocol") == "opcua");
    let was_open = matches!(text(before, "security").as_str(), "" | "none");
    let is_sealed = text(after, "security").starts_with("encrypt-") && !text(after, "server-certificate").is_empty();
    let rest = |link: &Value| {
        let mut link = link.clone();
        if let Some(link) = link.as_object_mut() {
            link.remove("security");
            link.remove("server-certificate");
        }
        destination(ObjectClass::Link, &link, &[])
    };
    is_opcua && was_open && is_sealed && rest(before) == rest(after)
}

impl Description {
    /// Puts what `open` makes of them in the place of all secrets; it is told where each goes.
    ///
    /// # Errors
    /// The first one of `open`.
    pub fn reveal<E>(&mut self, mut open: impl FnMut(&str, &str) -> Result<String, E>) -> Result<(), E> {
        let links: Vec<_> = self.links.iter().map(link_object).collect();
        let mut opened = |class, mut object: Value| -> Result<Option<Value>, E> {
            let (goes_to, mut has_any) = (destination(class, &object, &links), false);
            for field in SecretFields::of(class).iter() {
                if let Some(Value::String(text)) = object.get_mut(field) {
                    *text = open(&goes_to, text)?;
                    has_any = true;
                }
            }
            Ok(has_any.then_some(object))
        };
        for link in &mut self.links {
            let revealed = opened(ObjectClass::Link, link_object(link))?;
            let protocol = revealed.and_then(|object| LinkProtocol::read(link.protocol.word(), &object));
            protocol.into_iter().for_each(|protocol| link.protocol = protocol);
        }
        for device in &mut self.devices {
            let revealed = opened(ObjectClass::Device, device_object(device))?;
            let protocol = revealed.and_then(|object| device.protocol.protocol().device(&object));
            protocol.into_iter().for_each(|protocol| device.protocol = protocol);
        }
        for uplink in &mut self.uplinks {
            let revealed = opened(ObjectClass::Uplink, uplink_object(uplink))?;
            revealed.and_then(|object| Uplink::read(&object)).into_iter().for_each(|revealed| *uplink = revealed);
        }
        Ok(())
    }
}

impl Draft {
    /// The objects that can have secrets, to be changed.
    pub fn keepers_mut(&mut self) -> impl Iterator<Item = (ObjectClass, &mut Value)> {
        let classes = [
            (ObjectClass::Link, &mut self.links),
            (ObjectClass::Device, &mut self.devices),
            (ObjectClass::Uplink, &mut self.uplinks),
        ];
        classes.into_iter().flat_map(|(class, objects)| objects.iter_mut().map(move |object| (class, object)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_link_that_is_secured_now_leads_where_it_led() {
        let link = |url: &str, security: &str, certificate: &str| json!({ "protocol": "opcua", "url": url, "security": security, "server-certificate": certificate });
        let (url, sealed) = ("opc.tcp://here:4840", "encrypt-basic256sha256");
        let before = json!({ "protocol": "opcua", "url": url });
        assert!(is_secured_now(&before, &link(url, sealed, "ab")));
        assert!(!is_secured_now(&before, &link("opc.tcp://there:4840", sealed, "ab")));
        assert!(!is_secured_now(&before, &link(url, sealed, "")), "anybody could be it");
        assert!(!is_secured_now(&before, &link(url, "sign-basic256sha256", "ab")));
        assert!(!is_secured_now(&link(url, sealed, "ab"), &link(url, sealed, "cd")), "somebody else");
    }
}
