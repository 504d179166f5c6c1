//! Structures as servers described them before they had DataTypeDefinitions: in dictionaries of types.
//!
//! Source: OPC 10000-5 release 1.03, annex D (dictionaries); OPC 10000-3 release 1.03, annex C (their XML).

use super::{DataTypes, EnumDefinition, EnumField, StructureDefinition, StructureField, StructureType};
use crate::types::NodeId;
use roxmltree::{Document, Node as Element, ParsingOptions};
use std::collections::HashMap;

/// Why a dictionary cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DictionaryError {
    /// It is larger than any that describes a device.
    #[error("it has {0} bytes; {MOST_BYTES} are read")]
    TooLarge(usize),
    /// It is no XML.
    #[error("it is no XML that can be read: {0}")]
    Xml(String),
    /// It is XML of something else.
    #[error("it is no dictionary of types: its root is {0}, and not TypeDictionary")]
    Root(String),
}

/// A type as a dictionary names it, with its nodes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedType {
    /// Its name in the dictionary.
    pub name: String,
    /// The data type.
    pub data_type: NodeId,
    /// Its binary encoding.
    pub encoding: NodeId,
}

const MOST_BYTES: usize = 2 << 20;
const MOST_NODES: u32 = 200_000;
const SCHEMA: &str = "http://opcfoundation.org/BinarySchema/";
const STANDARD: &str = "http://opcfoundation.org/UA/";
/// No server has so many namespaces: types that a dictionary names, and no node, stand there.
const NOWHERE: u16 = u16::MAX;

impl DataTypes {
    /// Adds what a dictionary describes. Types that it describes in ways that OPC UA does not use stay unknown.
    ///
    /// # Errors
    /// When it is no dictionary of types.
    pub fn add_dictionary(
        &mut self,
        dictionary: &NodeId,
        xml: &[u8],
        named: &[NamedType],
    ) -> Result<(), DictionaryError> {
        if xml.len() > MOST_BYTES {
            return Err(DictionaryError::TooLarge(xml.len()));
        }
        // Some end their text with a zero.
        let text = String::from_utf8_lossy(xml);
        let options = ParsingOptions { nodes_limit: MOST_NODES, ..ParsingOptions::default() };
        let document = Document::parse_with_options(text.trim_end_matches('\0'), options)
            .map_err(|error| DictionaryError::Xml(error.to_string()))?;
        let root = document.root_element();
        if root.tag_name().name() != "TypeDictionary" {
            return Err(DictionaryError::Root(root.tag_name().name().to_owned()));
        }
        let own = root.attribute("TargetNamespace").unwrap_or_default();
        let nodes: HashMap<_, _> = named.iter().map(|one| (one.name.as_str(), one)).collect();
        let names = Names { dictionary, own, nodes: &nodes };
        for element in root.children().filter(Element::is_element) {
            let Some(name) = element.attribute("Name") else { continue };
            match element.tag_name().name() {
                "EnumeratedType" if element.attribute("LengthInBits").is_none_or(|bits| bits == "32") => {
                    self.add_enumeration(names.own_type(name), enumeration(element));
                }
                "StructuredType" => {
                    let Some(mut definition) = names.structure(element) else { continue };
                    if let Some(known) = nodes.get(name) {
                        definition.default_encoding_id = known.encoding.clone();
                    }
                    self.add_structure(names.own_type(name), definition);
                }
                _ => {}
            }
        }
        Ok(())
    }
}

fn enumeration(element: Element<'_, '_>) -> EnumDefinition {
    let values = element.children().filter(|child| child.has_tag_name((SCHEMA, "EnumeratedValue")));
    let field = |value: Element<'_, '_>| {
        let number = value.attribute("Value")?.trim().parse().ok()?;
        Some(EnumField { value: number, name: value.attribute("Name").map(str::to_owned), ..EnumField::default() })
    };
    EnumDefinition { fields: values.filter_map(field).collect() }
}

struct Names<'a> {
    dictionary: &'a NodeId,
    own: &'a str,
    nodes: &'a HashMap<&'a str, &'a NamedType>,
}

/// A field as the dictionary has it.
struct Described<'a> {
    name: &'a str,
    kind: (&'a str, &'a str),
    bits: u32,
    length_field: Option<&'a str>,
    switch_field: Option<&'a str>,
    switch_value: Option<&'a str>,
}

impl Names<'_> {
    /// The data type of a name: its node, or one that nobody else has.
    fn own_type(&self, name: &str) -> NodeId {
        let known = self.nodes.get(name).map(|known| known.data_type.clone());
        known.unwrap_or_else(|| NodeId::text(NOWHERE, format!("{}:{name}", self.dictionary)))
    }

    fn data_type(&self, (namespace, name): (&str, &str)) -> Option<NodeId> {
        match namespace {
            SCHEMA | STANDARD => standard(name).map(|number| NodeId::numeric(0, number)),
            own if own == self.own => Some(self.own_type(name)),
            _ => None,
        }
    }

    /// None for what OPC UA does not write like this.
    fn structure(&self, element: Element<'_, '_>) -> Option<StructureDefinition> {
        let fields = element.children().filter(|child| child.has_tag_name((SCHEMA, "Field")));
        let fields: Vec<Described<'_>> = fields.map(described).collect::<Option<_>>()?;
        let masked: u32 = fields.iter().filter(|field| field.is_bit()).map(|field| field.bits).sum();
        let mask: Vec<_> = fields.iter().take_while(|field| field.is_bit()).collect();
        let switch = fields.first().filter(|first| {
            first.kind == (SCHEMA, "UInt32")
                && fields.iter().skip(1).all(|other| other.switch_field == Some(first.name))
        });
        if let Some(switch) = switch.filter(|_| fields.len() > 1) {
            return self.union(&fields, switch.name);
        }
        // Whether fields are there stands in the 32 bits before all others.
        if masked != 0 && (masked != 32 || mask.iter().map(|field| field.bits).sum::<u32>() != 32) {
            return None;
        }
        let lengths: Vec<_> = fields.iter().filter_map(|field| field.length_field).collect();
        let (mut own, mut bits) = (Vec::new(), mask.iter().map(|field| field.name));
        for field in fields.iter().filter(|field| !field.is_bit() && !lengths.contains(&field.name)) {
            let is_optional = field.switch_field.is_some();
            if is_optional
                && (field.switch_value.is_some_and(|value| value != "1") || bits.next() != field.switch_field)
            {
                return None;
            }
            own.push(self.field(field, is_optional)?);
        }
        let structure_type =
            if masked == 0 { StructureType::Structure } else { StructureType::StructureWithOptionalFields };
        Some(StructureDefinition { structure_type, fields: own, ..StructureDefinition::default() })
    }

    /// A number tells which of the fields is there.
    fn union(&self, fields: &[Described<'_>], switch: &str) -> Option<StructureDefinition> {
        let lengths: Vec<_> = fields.iter().filter_map(|field| field.length_field).collect();
        let mut own = Vec::new();
        for field in fields.iter().filter(|field| field.name != switch && !lengths.contains(&field.name)) {
            if field.switch_value?.parse::<usize>().ok()? != own.len() + 1 {
                return None;
            }
            own.push(self.field(field, false)?);
        }
        Some(StructureDefinition {
            structure_type: StructureType::Union,
            fields: own,
            ..StructureDefinition::default()
        })
    }

    fn field(&self, field: &Described<'_>, is_optional: bool) -> Option<StructureField> {
        Some(StructureField {
            name: Some(field.name.to_owned()),
            data_type: self.data_type(field.kind)?,
            value_rank: if field.length_field.is_some() { 1 } else { -1 },
            is_optional,
            ..StructureField::default()
        })
    }
}

impl Described<'_> {
    fn is_bit(&self) -> bool {
        self.kind == (SCHEMA, "Bit")
    }
}

fn described<'a>(field: Element<'a, 'a>) -> Option<Described<'a>> {
    let type_name = field.attribute("TypeName")?;
    let (prefix, local) = type_name.split_once(':').map_or((None, type_name), |(prefix, local)| (Some(prefix), local));
    let kind = (field.lookup_namespace_uri(prefix)?, local);
    let length = field.attribute("Length");
    // Several of a fixed number are not written by OPC UA, but for bits.
    let is_bit = kind == (SCHEMA, "Bit");
    if length.is_some() && !is_bit {
        return None;
    }
    Some(Described {
        name: field.attribute("Name")?,
        kind,
        bits: length.map_or(Some(1), |length| length.parse().ok())?,
        length_field: field.attribute("LengthField"),
        switch_field: field.attribute("SwitchField"),
        switch_value: field.attribute("SwitchValue"),
    })
}

/// The number of a type of the schema, or of the standard's namespace.
fn standard(name: &str) -> Option<u32> {
    Some(match name {
        "Boolean" => 1,
        "SByte" => 2,
        "Byte" => 3,
        "Int16" => 4,
        "UInt16" => 5,
        "Int32" => 6,
        "UInt32" | "Counter" | "IntegerId" => 7,
        "Int64" => 8,
        "UInt64" => 9,
        "Float" => 10,
        "Double" | "Duration" => 11,
        "String" | "CharArray" | "LocaleId" => 12,
        "DateTime" | "UtcTime" => 13,
        "Guid" => 14,
        "ByteString" => 15,
        "XmlElement" => 16,
        "NodeId" => 17,
        "ExpandedNodeId" => 18,
        "StatusCode" => 19,
        "QualifiedName" => 20,
        "LocalizedText" => 21,
        "ExtensionObject" | "Structure" => 22,
        "DataValue" => 23,
        "Variant" => 24,
        "DiagnosticInfo" => 25,
        "Range" => 884,
        "EUInformation" => 887,
        "Argument" => 296,
        "EnumValueType" => 7594,
        "TimeZoneDataType" => 8912,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::{Binary, Limits};
    use crate::structure::{FieldValue, StructureError};
    use crate::types::{Array, Body, ExtensionObject, Scalar, Variant};

    const XML: &str = r#"<opc:TypeDictionary xmlns:opc="http://opcfoundation.org/BinarySchema/" xmlns:ua="http://opcfoundation.org/UA/"
        xmlns:tns="urn:alderfen:chp" TargetNamespace="urn:alderfen:chp" DefaultByteOrder="LittleEndian">
      <opc:Import Namespace="http://opcfoundation.org/UA/" Location="Opc.Ua.BinarySchema.bsd"/>
      <opc:EnumeratedType Name="State" LengthInBits="32">
        <opc:EnumeratedValue Name="Off" Value="0"/><opc:EnumeratedValue Name="Running" Value="1"/>
      </opc:EnumeratedType>
      <opc:StructuredType Name="Reading" BaseType="ua:ExtensionObject">
        <opc:Field Name="NoteSpecified" TypeName="opc:Bit"/><opc:Field Name="Reserved1" TypeName="opc:Bit" Length="31"/>
        <opc:Field Name="Value" TypeName="opc:Double"/>
        <opc:Field Name="Note" TypeName="opc:CharArray" SwitchField="NoteSpecified"/>
      </opc:StructuredType>
      <opc:StructuredType Name="Cylinder" BaseType="ua:ExtensionObject">
        <opc:Field Name="State" TypeName="tns:State"/>
        <opc:Field Name="Label" TypeName="ua:LocalizedText"/>
        <opc:Field Name="NoOfBefore" TypeName="opc:Int32"/>
        <opc:Field Name="Before" TypeName="tns:Reading" LengthField="NoOfBefore"/>
        <opc:Field Name="NoOfFlags" TypeName="opc:Int32"/>
        <opc:Field Name="Flags" TypeName="opc:Boolean" LengthField="NoOfFlags"/>
      </opc:StructuredType>
      <opc:StructuredType Name="Either" BaseType="ua:Union">
        <opc:Field Name="SwitchField" TypeName="opc:UInt32"/>
        <opc:Field Name="Number" TypeName="opc:Int16" SwitchField="SwitchField" SwitchValue="1"/>
        <opc:Field Name="Text" TypeName="opc:String" SwitchField="SwitchField" SwitchValue="2"/>
      </opc:StructuredType>
      <opc:StructuredType Name="Packed"><opc:Field Name="Half" TypeName="opc:Bit" Length="16"/></opc:StructuredType>
      <opc:StructuredType Name="Fixed"><opc:Field Name="Three" TypeName="opc:Byte" Length="3"/></opc:StructuredType>
    </opc:TypeDictionary>"#;

    fn types() -> DataTypes {
        let named = ["Cylinder", "Either", "Packed", "Fixed"].into_iter().zip(1..).map(|(name, number)| NamedType {
            name: name.to_owned(),
            data_type: NodeId::numeric(2, number),
            encoding: NodeId::numeric(2, 100 + number),
        });
        let mut types = DataTypes::default();
        // As some servers write it.
        let xml = [XML.as_bytes(), b"\0"].concat();
        types.add_dictionary(&NodeId::numeric(2, 50), &xml, &named.collect::<Vec<_>>()).unwrap();
        types
    }

    fn read(number: u32, bytes: Vec<u8>) -> Result<crate::structure::Fields, StructureError> {
        let object = ExtensionObject { type_id: NodeId::numeric(2, 100 + number), body: Body::Binary(bytes) };
        types().read(&object, Limits::default())
    }

    #[test]
    fn structures_of_a_dictionary_are_read_by_their_fields() {
        let reading = |value: f64, note: Option<&str>| {
            let mask = u32::from(note.is_some());
            let note = note.map(|note| Some(note.to_owned()).to_bytes()).unwrap_or_default();
            [mask.to_bytes(), value.to_bytes(), note].concat()
        };
        let label = crate::types::LocalizedText { locale: None, text: Some("6".to_owned()) };
        let cylinder = [
            1_i32.to_bytes(),
            label.to_bytes(),
            2_i32.to_bytes(),
            reading(412.5, None),
            reading(1.0, Some("knocks")),
            vec![true, false].to_bytes(),
        ];
        let fields = read(1, cylinder.concat()).unwrap();
        let at = |path: &str| fields.get(path);
        assert_eq!(at("State"), Some(FieldValue::Value(1_i32.into())));
        assert_eq!(at("Before[0].Value"), Some(FieldValue::Value(412.5.into())));
        assert_eq!(at("Before[0].Note"), Some(FieldValue::Absent));
        let knocks = Variant::Scalar(Scalar::String(Some("knocks".to_owned())));
        assert_eq!(at("Before[1].Note"), Some(FieldValue::Value(knocks)));
        assert_eq!(at("Flags"), Some(FieldValue::Value(Variant::Array(Array::Boolean(vec![true, false])))));
        let either = read(2, [1_u32.to_bytes(), 7_i16.to_bytes()].concat()).unwrap();
        assert_eq!(
            (either.get("Number"), either.get("Text")),
            (Some(FieldValue::Value(7_i16.into())), Some(FieldValue::Absent))
        );
        let words = types().enumeration(&NodeId::text(NOWHERE, "ns=2;i=50:State")).map(|known| known.fields.len());
        assert_eq!(words, Some(2));
    }

    #[test]
    fn what_is_described_otherwise_stays_unknown_and_what_is_no_dictionary_is_refused() {
        for number in [3, 4] {
            assert!(matches!(read(number, vec![0; 4]), Err(StructureError::Unknown(_))), "{number}");
        }
        let add = |xml: &[u8]| DataTypes::default().add_dictionary(&NodeId::NULL, xml, &[]);
        assert!(matches!(add(b"nonsense"), Err(DictionaryError::Xml(_))));
        assert!(matches!(add(b"<schema/>"), Err(DictionaryError::Root(root)) if root == "schema"));
        assert!(matches!(add(&vec![b' '; MOST_BYTES + 1]), Err(DictionaryError::TooLarge(_))));
        let bomb = format!("<!DOCTYPE a [<!ENTITY b \"{}\">]><a>{}</a>", "x".repeat(1000), "&b;".repeat(1000));
        assert!(add(bomb.as_bytes()).is_err(), "nothing is declared in a dictionary");
    }
}
