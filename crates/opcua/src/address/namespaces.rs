use super::relative_path::{PathName, PathReference, PathText};
use crate::service::{RelativePath, RelativePathElement};
use crate::space::ids;
use crate::types::{Identifier, Namespace, NodeId, QualifiedName};

/// The namespaces of a server, by their places in its list.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Namespaces(Vec<String>);

/// Why what people write means no node of a server.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AddressError {
    /// It is not written as an address is.
    #[error("{0:?} is no NodeId")]
    NodeId(String),
    /// The server does not have the namespace.
    #[error("the server has no namespace {0}")]
    Namespace(String),
    /// A reference of a type that has no number in the standard.
    #[error("the type of reference {0} is not known here")]
    Reference(String),
}

/// Types of references, by their names.
///
/// Source: OPC 10000-6, annex A.3.
const REFERENCES: [(&str, u32); 17] = [
    ("References", 31),
    ("NonHierarchicalReferences", 32),
    ("HierarchicalReferences", 33),
    ("HasChild", 34),
    ("Organizes", 35),
    ("HasEventSource", 36),
    ("HasModellingRule", 37),
    ("HasEncoding", 38),
    ("HasDescription", 39),
    ("HasTypeDefinition", 40),
    ("GeneratesEvent", 41),
    ("Aggregates", 44),
    ("HasSubtype", 45),
    ("HasProperty", 46),
    ("HasComponent", 47),
    ("HasNotifier", 48),
    ("HasOrderedComponent", 49),
];

impl Namespaces {
    /// As the server lists them.
    #[must_use]
    pub const fn new(uris: Vec<String>) -> Self {
        Self(uris)
    }

    /// Their URIs, in the order of their places.
    #[must_use]
    pub fn uris(&self) -> &[String] {
        &self.0
    }

    fn index(&self, namespace: &Namespace) -> Result<u16, AddressError> {
        match namespace {
            Namespace::Index(index) => Ok(*index),
            Namespace::Uri(uri) => {
                let place = self.0.iter().position(|known| known == uri);
                let index = place.and_then(|place| u16::try_from(place).ok());
                index.ok_or_else(|| AddressError::Namespace(uri.clone()))
            }
        }
    }

    /// The node that a text means, whose namespace may be told by its URI.
    ///
    /// # Errors
    /// When it means none here: an unknown URI is never taken for another namespace.
    pub fn node(&self, text: &str) -> Result<NodeId, AddressError> {
        let malformed = || AddressError::NodeId(text.to_owned());
        let Some(rest) = text.strip_prefix("nsu=") else { return text.parse().map_err(|_| malformed()) };
        let (uri, identifier) = rest.split_once(';').ok_or_else(malformed)?;
        // What would end it is escaped.
        let uri = uri.replace("%3B", ";").replace("%3b", ";").replace("%25", "%");
        let identifier: Identifier = identifier.parse().map_err(|_| malformed())?;
        Ok(NodeId { namespace: self.index(&Namespace::Uri(uri))?, identifier })
    }

    /// The steps of a way, as a server is asked for where they lead.
    ///
    /// # Errors
    /// When the server cannot know a name of it.
    pub fn path(&self, path: &PathText) -> Result<RelativePath, AddressError> {
        let name = |name: &PathName| -> Result<QualifiedName, AddressError> {
            Ok(QualifiedName { namespace: self.index(&name.namespace)?, name: Some(name.name.clone()) })
        };
        let elements = path.0.iter().map(|step| {
            let (reference_type_id, include_subtypes, is_inverse) = match &step.reference {
                PathReference::Hierarchical => (ids::HIERARCHICAL_REFERENCES, true, false),
                PathReference::Aggregates => (ids::AGGREGATES, true, false),
                PathReference::Named { name, include_subtypes, is_inverse } => {
                    let known = REFERENCES
                        .iter()
                        .find(|(known, _)| *known == name.name && name.namespace == Namespace::Index(0));
                    let (_, number) = known.ok_or_else(|| AddressError::Reference(name.to_string()))?;
                    (NodeId::numeric(0, *number), *include_subtypes, *is_inverse)
                }
            };
            let target_name = step.target.as_ref().map(name).transpose()?.unwrap_or_default();
            Ok(RelativePathElement { reference_type_id, is_inverse, include_subtypes, target_name })
        });
        Ok(RelativePath { elements: elements.collect::<Result<_, _>>()? })
    }

    /// The text of a node that means it in every server of its kind: with the URI of its namespace, but for the standard's and the
    /// server's own, whose URI is another one on each machine.
    #[must_use]
    pub fn text(&self, node: &NodeId) -> String {
        let uri = self.0.get(usize::from(node.namespace)).filter(|_| node.namespace > 1);
        match uri {
            Some(uri) => format!("nsu={};{}", uri.replace('%', "%25").replace(';', "%3B"), node.identifier),
            None => node.to_string(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_mean_what_the_list_of_the_server_says_and_nothing_else() {
        let known = ["http://opcfoundation.org/UA/", "urn:own", "urn:alderfen:chp;2"].map(str::to_owned);
        let namespaces = Namespaces::new(known.into());
        let node = NodeId::text(2, "Engine.Speed");
        assert_eq!(namespaces.text(&node), "nsu=urn:alderfen:chp%3B2;s=Engine.Speed");
        for text in ["nsu=urn:alderfen:chp%3B2;s=Engine.Speed", "ns=2;s=Engine.Speed"] {
            assert_eq!(namespaces.node(text), Ok(node.clone()));
        }
        assert_eq!(namespaces.text(&NodeId::numeric(1, 5)), "ns=1;i=5", "the server's own has another URI elsewhere");
        let unknown = AddressError::Namespace("urn:other".to_owned());
        assert_eq!(namespaces.node("nsu=urn:other;i=1"), Err(unknown.clone()));
        let path = |text: &str| namespaces.path(&text.parse().unwrap());
        let steps = path("/2:Engine.nsu=urn&:alderfen&:chp;2;x").unwrap_err();
        assert_eq!(steps, AddressError::Namespace("urn:alderfen:chp".to_owned()));
        assert_eq!(path("/nsu=urn&:other;Engine"), Err(unknown));
        let steps = path("/2:Engine<#!HasComponent>Limits").unwrap().elements;
        let told: Vec<_> = steps.iter().map(|step| (step.reference_type_id.to_string(), step.is_inverse)).collect();
        assert_eq!(told, [("i=33".to_owned(), false), ("i=47".to_owned(), true)]);
        assert!(matches!(path("<2:Feeds>2:x"), Err(AddressError::Reference(_))));
    }
}
