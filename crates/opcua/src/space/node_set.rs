//! Nodes from a file in the XML form of the standard, without a server.
//!
//! Source: OPC 10000-6, annex F.

use super::{Access, Node, NodeKind, Space, Variable};
use crate::structure::{
    Argument, EUInformation, EnumDefinition, EnumField, EnumValueType, Range, Structure, StructureDefinition,
    StructureField, StructureType,
};
use crate::types::{Array, ExtensionObject, LocalizedText, NodeId, QualifiedName, Scalar, Variant};
use roxmltree::{Document, Node as Element, ParsingOptions};
use std::collections::HashMap;
use std::str::FromStr;

/// Why a file has no nodes.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NodeSetError {
    /// It is no XML, or has more in it than any node set.
    #[error("it is no XML that can be read: {0}")]
    Xml(String),
    /// It is XML of something else.
    #[error("it is no node set: its root is {0}, and not UANodeSet")]
    Root(String),
    /// Something in it is not as it has to be.
    #[error("line {line}, column {column}: {what} is {text:?}; expected {expected}")]
    Text {
        /// The line, from 1.
        line: u32,
        /// The column, from 1.
        column: u32,
        /// What it is of.
        what: &'static str,
        /// What stands there.
        text: String,
        /// What would be right.
        expected: &'static str,
    },
}

/// So many elements and texts a file may have.
const MOST: u32 = 5_000_000;
const NODE_ID: &str = "a NodeId such as i=2258 or ns=1;s=Engine.Speed, with a namespace that the file names";

struct Reader<'a> {
    document: &'a Document<'a>,
    aliases: HashMap<&'a str, &'a str>,
    /// The places of the file's namespaces in the list of all.
    namespaces: Vec<u16>,
}

type Read<T> = Result<T, NodeSetError>;

impl Space {
    /// Adds the nodes of a file; namespaces that are not in the list yet go behind it. Gives the nodes, in the order of the file.
    ///
    /// References to nodes that are in no file are left out.
    ///
    /// # Errors
    /// When it is no node set, and where. Nothing is added then.
    pub fn add_node_set(&mut self, xml: &str, namespaces: &mut Vec<String>) -> Read<Vec<NodeId>> {
        let options = ParsingOptions { nodes_limit: MOST, ..ParsingOptions::default() };
        let document =
            Document::parse_with_options(xml, options).map_err(|error| NodeSetError::Xml(error.to_string()))?;
        let root = document.root_element();
        if root.tag_name().name() != "UANodeSet" {
            return Err(NodeSetError::Root(root.tag_name().name().to_owned()));
        }
        let mut all = namespaces.clone();
        let mut reader = Reader { document: &document, aliases: HashMap::new(), namespaces: vec![0] };
        for uri in children(root, "NamespaceUris").flat_map(|uris| children(uris, "Uri")) {
            let text = uri.text().unwrap_or_default().trim();
            let place = all.iter().position(|known| known == text).unwrap_or_else(|| {
                all.push(text.to_owned());
                all.len() - 1
            });
            let place = u16::try_from(place).map_err(|_| reader.fault(uri, "Uri", text, "fewer namespaces"))?;
            reader.namespaces.push(place);
        }
        for alias in children(root, "Aliases").flat_map(|aliases| children(aliases, "Alias")) {
            if let (Some(name), Some(text)) = (alias.attribute("Alias"), alias.text()) {
                reader.aliases.insert(name, text.trim());
            }
        }
        let (mut nodes, mut references) = (Vec::new(), Vec::new());
        for element in root.children().filter(Element::is_element) {
            let Some(node) = reader.node(element)? else { continue };
            for reference in children(element, "References").flat_map(|list| children(list, "Reference")) {
                let kind =
                    reader.id(reference, "ReferenceType", reference.attribute("ReferenceType").unwrap_or_default())?;
                let target = reader.id(reference, "Reference", reference.text().unwrap_or_default().trim())?;
                let is_forward = reference.attribute("IsForward") != Some("false");
                references.push(if is_forward {
                    (node.id.clone(), kind, target)
                } else {
                    (target, kind, node.id.clone())
                });
            }
            nodes.push(node);
        }
        let ids: Vec<_> = nodes.iter().map(|node| node.id.clone()).collect();
        nodes.into_iter().for_each(|node| self.add(node));
        for (from, kind, to) in references {
            if self.node(&from).is_some() && self.node(&to).is_some() {
                self.refer(&from, &kind, &to);
            }
        }
        self.complete_structures(&ids);
        *namespaces = all;
        Ok(ids)
    }

    /// Tells structures their encodings, their supertypes, and the fields of these, which files tell by references only.
    pub(super) fn complete_structures(&mut self, ids: &[NodeId]) {
        let own: HashMap<NodeId, StructureDefinition> =
            ids.iter().filter_map(|id| Some((id.clone(), self.structure(id)?))).collect();
        for (id, definition) in &own {
            let mut parts = vec![definition.fields.clone()];
            let above = std::iter::successors(self.supertype(id), |id| self.supertype(id)).take(super::MOST_SUPERTYPES);
            for id in above {
                match (own.get(id), self.structure(id)) {
                    // One that was there before has them all.
                    (None, Some(whole)) => {
                        parts.push(whole.fields);
                        break;
                    }
                    (Some(part), _) => parts.push(part.fields.clone()),
                    (None, None) => {}
                }
            }
            let whole = StructureDefinition {
                default_encoding_id: self.binary_encoding(id).unwrap_or_default(),
                base_data_type: self.supertype(id).cloned().unwrap_or_default(),
                structure_type: definition.structure_type,
                fields: parts.into_iter().rev().flatten().collect(),
            };
            if let Some(NodeKind::DataType { definition, .. }) = self.node_mut(id).map(|node| &mut node.kind) {
                *definition = Some(whole.to_object());
            }
        }
    }

    fn structure(&self, id: &NodeId) -> Option<StructureDefinition> {
        match &self.node(id)?.kind {
            NodeKind::DataType { definition: Some(definition), .. } => {
                StructureDefinition::from_object(definition)?.ok()
            }
            _ => None,
        }
    }
}

fn children<'a>(of: Element<'a, 'a>, name: &'static str) -> impl Iterator<Item = Element<'a, 'a>> {
    of.children().filter(move |child| child.is_element() && child.tag_name().name() == name)
}

fn text_of<'a>(of: Element<'a, 'a>, name: &'static str) -> &'a str {
    children(of, name).next().and_then(|child| child.text()).unwrap_or_default().trim()
}

impl<'a> Reader<'a> {
    fn fault(&self, at: Element<'_, '_>, what: &'static str, text: &str, expected: &'static str) -> NodeSetError {
        let place = self.document.text_pos_at(at.range().start);
        NodeSetError::Text { line: place.row, column: place.col, what, text: text.to_owned(), expected }
    }

    fn id(&self, at: Element<'_, '_>, what: &'static str, text: &str) -> Read<NodeId> {
        let written = self.aliases.get(text).copied().unwrap_or(text);
        let mut id: NodeId = written.parse().map_err(|_| self.fault(at, what, text, NODE_ID))?;
        let place = self.namespaces.get(usize::from(id.namespace));
        id.namespace = *place.ok_or_else(|| self.fault(at, what, text, NODE_ID))?;
        Ok(id)
    }

    fn attribute<T: FromStr>(
        &self,
        of: Element<'a, 'a>,
        name: &'static str,
        otherwise: T,
        expected: &'static str,
    ) -> Read<T> {
        match of.attribute(name) {
            Some(text) => text.trim().parse().map_err(|_| self.fault(of, name, text, expected)),
            None => Ok(otherwise),
        }
    }

    fn type_of(&self, of: Element<'a, 'a>, otherwise: u32) -> Read<NodeId> {
        match of.attribute("DataType") {
            Some(text) => self.id(of, "DataType", text),
            None => Ok(NodeId::numeric(0, otherwise)),
        }
    }

    fn node(&self, element: Element<'a, 'a>) -> Read<Option<Node>> {
        let is_abstract = element.attribute("IsAbstract") == Some("true");
        let rank = || self.attribute(element, "ValueRank", -1, "a whole number from -3 on");
        let kind = match element.tag_name().name() {
            "UAObject" | "UAView" => NodeKind::Object,
            "UAMethod" => NodeKind::Method { is_executable: element.attribute("Executable") != Some("false") },
            "UAObjectType" => NodeKind::ObjectType { is_abstract },
            "UAVariableType" => {
                NodeKind::VariableType { is_abstract, data_type: self.type_of(element, 24)?, value_rank: rank()? }
            }
            "UAReferenceType" => NodeKind::ReferenceType {
                is_abstract,
                is_symmetric: element.attribute("Symmetric") == Some("true"),
                inverse_name: localized(element, "InverseName"),
            },
            "UADataType" => NodeKind::DataType { is_abstract, definition: self.definition(element)? },
            "UAVariable" => {
                let value = children(element, "Value").next().and_then(|value| value.first_element_child());
                let value = value.map(|value| self.value(value)).transpose()?.flatten();
                let dimensions = element.attribute("ArrayDimensions").unwrap_or_default().split(',');
                let access = self.attribute(element, "AccessLevel", 1_u32, "a number")?;
                NodeKind::Variable(Box::new(Variable {
                    data_type: self.type_of(element, 24)?,
                    value_rank: rank()?,
                    array_dimensions: dimensions.filter_map(|length| length.trim().parse().ok()).collect(),
                    // What is more than a byte tells of other things.
                    access: Access(access.to_le_bytes()[0]),
                    minimum_sampling_interval: self.attribute(element, "MinimumSamplingInterval", 0.0, "a number")?,
                    ..Variable::new(value.unwrap_or_default())
                }))
            }
            _ => return Ok(None),
        };
        let id = self.id(element, "NodeId", element.attribute("NodeId").unwrap_or_default())?;
        let browse_name = self.browse_name(element)?;
        let mut display_name = localized(element, "DisplayName");
        if display_name.text.is_none() {
            display_name.text.clone_from(&browse_name.name);
        }
        Ok(Some(Node { id, browse_name, display_name, description: localized(element, "Description"), kind }))
    }

    fn browse_name(&self, element: Element<'a, 'a>) -> Read<QualifiedName> {
        let text = element.attribute("BrowseName").unwrap_or_default();
        let (namespace, name) = match text.split_once(':') {
            Some((place, name)) if !place.is_empty() && place.bytes().all(|byte| byte.is_ascii_digit()) => {
                let place = place.parse().ok().and_then(|place: usize| self.namespaces.get(place));
                let expected = "a name, behind a namespace that the file names where it is not the standard's";
                (*place.ok_or_else(|| self.fault(element, "BrowseName", text, expected))?, name)
            }
            _ => (0, text),
        };
        Ok(QualifiedName { namespace, name: Some(name.to_owned()) })
    }

    /// What a structure or an enumeration is made up of.
    fn definition(&self, element: Element<'a, 'a>) -> Read<Option<ExtensionObject>> {
        let Some(definition) = children(element, "Definition").next() else { return Ok(None) };
        let fields: Vec<_> = children(definition, "Field").collect();
        let is_set = |name| definition.attribute(name) == Some("true");
        if is_set("IsOptionSet") || fields.iter().any(|field| field.has_attribute("Value")) {
            let fields = fields.into_iter().map(|field| {
                let name = field.attribute("Name").unwrap_or_default();
                Ok(EnumField {
                    value: self.attribute(field, "Value", 0, "a whole number")?,
                    display_name: Some(localized(field, "DisplayName"))
                        .filter(|shown| shown.text.is_some())
                        .unwrap_or_else(|| LocalizedText { locale: None, text: Some(name.to_owned()) }),
                    description: localized(field, "Description"),
                    name: Some(name.to_owned()),
                })
            });
            return Ok(Some(EnumDefinition { fields: fields.collect::<Read<_>>()? }.to_object()));
        }
        if fields.is_empty() {
            return Ok(None);
        }
        let has = |name: &str| fields.iter().any(|field| field.attribute(name) == Some("true"));
        let structure_type = match (is_set("IsUnion"), has("AllowSubTypes"), has("IsOptional")) {
            (true, true, _) => StructureType::UnionWithSubtypedValues,
            (true, false, _) => StructureType::Union,
            (false, true, _) => StructureType::StructureWithSubtypedValues,
            (false, false, true) => StructureType::StructureWithOptionalFields,
            (false, false, false) => StructureType::Structure,
        };
        let fields = fields.iter().map(|field| {
            let flag = |name| field.attribute(name) == Some("true");
            Ok(StructureField {
                name: field.attribute("Name").map(str::to_owned),
                description: localized(*field, "Description"),
                data_type: self.type_of(*field, 24)?,
                value_rank: self.attribute(*field, "ValueRank", -1, "a whole number from -3 on")?,
                is_optional: flag("IsOptional") || flag("AllowSubTypes"),
                ..StructureField::default()
            })
        });
        let fields = fields.collect::<Read<_>>()?;
        Ok(Some(StructureDefinition { structure_type, fields, ..StructureDefinition::default() }.to_object()))
    }

    /// A value, as far as it is of a kind that tells something of nodes; others are passed over.
    fn value(&self, element: Element<'a, 'a>) -> Read<Option<Variant>> {
        let name = element.tag_name().name();
        if let Some(of) = name.strip_prefix("ListOf") {
            let items: Vec<_> = element.children().filter(Element::is_element).collect();
            return Ok(match of {
                "LocalizedText" => Some(Variant::Array(Array::LocalizedText(items.into_iter().map(text).collect()))),
                "String" => {
                    let texts = items.into_iter().map(|item| item.text().map(str::to_owned));
                    Some(Variant::Array(Array::String(texts.collect())))
                }
                "ExtensionObject" => {
                    let objects = items.into_iter().map(|item| self.object(item)).collect::<Read<Option<_>>>()?;
                    objects.map(|objects| Variant::Array(Array::ExtensionObject(objects)))
                }
                _ => None,
            });
        }
        let plain = element.text().unwrap_or_default().trim();
        let wrong = |expected| self.fault(element, "Value", plain, expected);
        macro_rules! number {
            ($type:ty) => {
                Variant::from(plain.parse::<$type>().map_err(|_| wrong("a number of its type"))?)
            };
        }
        Ok(Some(match name {
            "Boolean" => Variant::from(plain.parse::<bool>().map_err(|_| wrong("true or false"))?),
            "SByte" => number!(i8),
            "Byte" => number!(u8),
            "Int16" => number!(i16),
            "UInt16" => number!(u16),
            "Int32" => number!(i32),
            "UInt32" => number!(u32),
            "Int64" => number!(i64),
            "UInt64" => number!(u64),
            "Float" => number!(f32),
            "Double" => number!(f64),
            "String" => Variant::Scalar(Scalar::String(element.text().map(str::to_owned))),
            "LocalizedText" => Variant::Scalar(Scalar::LocalizedText(text(element).into())),
            "ExtensionObject" => {
                return Ok(self.object(element)?.map(|object| Variant::Scalar(Scalar::ExtensionObject(object.into()))));
            }
            _ => return Ok(None),
        }))
    }

    /// Ranges, units, arguments and values of enumerations.
    fn object(&self, element: Element<'a, 'a>) -> Read<Option<ExtensionObject>> {
        let body = children(element, "Body").next().and_then(|body| body.first_element_child());
        let Some(body) = body else { return Ok(None) };
        let wrong = |what, text: &str| self.fault(body, what, text, "a number");
        let double = |name| text_of(body, name).parse::<f64>().map_err(|_| wrong(name, text_of(body, name)));
        Ok(Some(match body.tag_name().name() {
            "Range" => Range { low: double("Low")?, high: double("High")? }.to_object(),
            "EUInformation" => EUInformation {
                namespace_uri: Some(text_of(body, "NamespaceUri").to_owned()),
                unit_id: text_of(body, "UnitId").parse().unwrap_or(-1),
                display_name: child_text(body, "DisplayName"),
                description: child_text(body, "Description"),
            }
            .to_object(),
            "Argument" => {
                let kind = children(body, "DataType").next();
                let data_type = kind.map_or("i=24", |kind| text_of(kind, "Identifier"));
                Argument {
                    name: Some(text_of(body, "Name").to_owned()),
                    data_type: self.id(body, "DataType", data_type)?,
                    value_rank: text_of(body, "ValueRank").parse().unwrap_or(-1),
                    array_dimensions: Vec::new(),
                    description: child_text(body, "Description"),
                }
                .to_object()
            }
            "EnumValueType" => {
                let value = text_of(body, "Value").parse().map_err(|_| wrong("Value", text_of(body, "Value")))?;
                let (display_name, description) = (child_text(body, "DisplayName"), child_text(body, "Description"));
                EnumValueType { value, display_name, description }.to_object()
            }
            _ => return Ok(None),
        }))
    }
}

/// A text for people as the attributes of nodes have it.
fn localized(of: Element<'_, '_>, name: &str) -> LocalizedText {
    let child = of.children().find(|child| child.is_element() && child.tag_name().name() == name);
    let text = child.and_then(|child| child.text()).filter(|text| !text.is_empty());
    let locale = child.and_then(|child| child.attribute("Locale"));
    LocalizedText { locale: locale.map(str::to_owned), text: text.map(str::to_owned) }
}

/// A text for people as values have it.
fn text(element: Element<'_, '_>) -> LocalizedText {
    let part = |name: &str| {
        let child = element.children().find(|child| child.is_element() && child.tag_name().name() == name);
        child.and_then(|child| child.text()).filter(|text| !text.is_empty()).map(str::to_owned)
    };
    LocalizedText { locale: part("Locale"), text: part("Text") }
}

fn child_text(of: Element<'_, '_>, name: &str) -> LocalizedText {
    of.children().find(|child| child.is_element() && child.tag_name().name() == name).map(text).unwrap_or_default()
}
