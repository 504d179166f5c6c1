//! What nodes say of themselves: as offers, and of points that leave it to them.

use super::facts::{attribute_of, is_too_much, read, value_of};
use super::mapping::{built_in, quality, value};
use interlex_core::{Offer, Quality, Semantics};
use interlex_opcua::{
    Argument, Array, DataTypes, DataValue, EUInformation, EnumDefinition, EnumValueType, ExtensionObject, FieldValue,
    Fields, Limits, Namespaces, NodeClass, NodeId, Range, ReadValueId, Request, RequestError, Response, Scalar,
    Structure, Variant,
};
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, VecDeque};

/// A node with the way to it.
#[derive(Debug, Clone)]
pub(super) struct FoundNode {
    pub(super) node: NodeId,
    /// The names for people.
    pub(super) path: Vec<String>,
    /// The same as a browse path.
    pub(super) way: String,
    pub(super) class: NodeClass,
    pub(super) level: u32,
    pub(super) title: String,
    pub(super) properties: Vec<(String, NodeId)>,
}

impl FoundNode {
    /// Whether it is offered, with what its properties say of it.
    pub(super) fn has_properties(&self) -> bool {
        matches!(self.class, NodeClass::Variable | NodeClass::Method)
    }
}

/// Asks what variables are: their values, types, units, ranges and words.
#[derive(Debug)]
pub(super) struct Describing {
    variables: Vec<Described>,
    waiting: VecDeque<(What, ReadValueId)>,
    asked: Vec<(What, ReadValueId)>,
    /// Definitions of types that are no built-in ones.
    definitions: BTreeMap<NodeId, Option<ExtensionObject>>,
    has_types: bool,
    at_most: usize,
}

#[derive(Debug)]
struct Described {
    found: FoundNode,
    value: DataValue,
    data_type: Option<NodeId>,
    access: u8,
    display_name: String,
    description: String,
    properties: BTreeMap<String, Variant>,
}

#[derive(Debug, Clone)]
enum What {
    Value(usize),
    DataType(usize),
    DisplayName(usize),
    Description(usize),
    Access(usize),
    Property(usize, String),
    Definition(NodeId),
}

const DISPLAY_NAME: u32 = 4;
const DESCRIPTION: u32 = 5;
const DATA_TYPE: u32 = 14;
const USER_ACCESS_LEVEL: u32 = 18;
const DATA_TYPE_DEFINITION: u32 = 23;
const MAY_WRITE: u8 = 2;
const MAY_READ: u8 = 1;
/// The properties that say something about a point.
const TOLD: [&str; 8] = [
    "EURange",
    "InstrumentRange",
    "EngineeringUnits",
    "EnumStrings",
    "EnumValues",
    "TrueState",
    "FalseState",
    "InputArguments",
];

impl Describing {
    pub(super) fn new(found: Vec<FoundNode>) -> Self {
        let mut waiting = VecDeque::new();
        for (place, one) in found.iter().enumerate() {
            let attribute = |number| attribute_of(one.node.clone(), number);
            if one.title.is_empty() {
                waiting.push_back((What::DisplayName(place), attribute(DISPLAY_NAME)));
            }
            waiting.push_back((What::Description(place), attribute(DESCRIPTION)));
            if one.class == NodeClass::Variable {
                waiting.push_back((What::Value(place), value_of(one.node.clone())));
                waiting.push_back((What::DataType(place), attribute(DATA_TYPE)));
                waiting.push_back((What::Access(place), attribute(USER_ACCESS_LEVEL)));
            }
            for (name, node) in one.properties.iter().filter(|(name, _)| TOLD.contains(&name.as_str())) {
                waiting.push_back((What::Property(place, name.clone()), value_of(node.clone())));
            }
        }
        let described = |found| Described {
            found,
            value: DataValue::default(),
            data_type: None,
            access: MAY_READ,
            display_name: String::new(),
            description: String::new(),
            properties: BTreeMap::new(),
        };
        let variables = found.into_iter().map(described).collect();
        Self { variables, waiting, asked: Vec::new(), definitions: BTreeMap::new(), has_types: false, at_most: 0 }
    }

    /// What to ask next; none when all is known.
    pub(super) fn next(&mut self, most: usize) -> Option<Request> {
        if self.waiting.is_empty() && !self.has_types {
            self.has_types = true;
            let types = self.variables.iter().filter_map(|one| one.data_type.clone());
            let own: std::collections::BTreeSet<_> = types.filter(|data_type| built_in(data_type).is_none()).collect();
            let definition = |node: NodeId| (What::Definition(node.clone()), attribute_of(node, DATA_TYPE_DEFINITION));
            self.waiting.extend(own.into_iter().map(definition));
        }
        let at_once = if self.at_most == 0 { most } else { most.min(self.at_most) }.max(1);
        self.asked = self.waiting.drain(..at_once.min(self.waiting.len())).collect();
        let nodes: Vec<_> = self.asked.iter().map(|(_, what)| what.clone()).collect();
        (!nodes.is_empty()).then(|| read(nodes))
    }

    pub(super) fn answered(&mut self, outcome: Result<Response, RequestError>) {
        let asked = std::mem::take(&mut self.asked);
        let results = match outcome {
            Ok(Response::Read(told)) => told.results,
            Err(error) if is_too_much(&error) && asked.len() > 1 => {
                self.at_most = (asked.len() / 2).max(1);
                return asked.into_iter().rev().for_each(|one| self.waiting.push_front(one));
            }
            // What is not told is left out.
            _ => return,
        };
        for ((what, _), told) in asked.into_iter().zip(results) {
            let at = match &what {
                What::Value(at) | What::DataType(at) | What::Description(at) | What::Access(at) => Some(*at),
                What::DisplayName(at) | What::Property(at, _) => Some(*at),
                What::Definition(_) => None,
            };
            let variable = at.and_then(|at| self.variables.get_mut(at));
            match (what, told.value.clone(), variable) {
                (What::Value(_), _, Some(variable)) => variable.value = told,
                (What::DataType(_), Some(Variant::Scalar(Scalar::NodeId(node))), Some(variable)) => {
                    variable.data_type = Some(node);
                }
                (What::DisplayName(_), Some(Variant::Scalar(Scalar::LocalizedText(text))), Some(variable)) => {
                    variable.display_name = text.text.unwrap_or_default();
                }
                (What::Description(_), Some(Variant::Scalar(Scalar::LocalizedText(text))), Some(variable)) => {
                    variable.description = text.text.unwrap_or_default();
                }
                (What::Access(_), Some(Variant::Scalar(Scalar::Byte(access))), Some(variable)) => {
                    variable.access = access;
                }
                (What::Property(_, name), Some(value), Some(variable)) => {
                    variable.properties.insert(name, value);
                }
                (What::Definition(node), Some(Variant::Scalar(Scalar::ExtensionObject(object))), _) => {
                    self.definitions.insert(node, Some(*object));
                }
                (What::Definition(node), ..) => {
                    self.definitions.insert(node, None);
                }
                _ => {}
            }
        }
    }

    /// Variables whose values are structures.
    pub(super) fn structures(&self) -> impl Iterator<Item = NodeId> {
        self.variables.iter().filter(|one| one.object().is_some()).map(|one| one.found.node.clone())
    }

    pub(super) fn offers(self, namespaces: &Namespaces, by_path: bool, types: &DataTypes) -> Vec<Offer> {
        let Self { variables, definitions, .. } = self;
        let definition = |one: &Described| definitions.get(one.data_type.as_ref()?)?.as_ref();
        let of_one = |one: &Described| {
            let offer = one.offer(definition(one), namespaces, by_path);
            let fields = one.object().and_then(|object| types.read(object, Limits::default()).ok());
            match fields {
                Some(fields) => {
                    let mut offers = Vec::new();
                    offer_fields(&offer, &mut Vec::new(), &fields, &mut offers);
                    offers
                }
                None => vec![offer],
            }
        };
        variables.iter().flat_map(of_one).collect()
    }

    /// What each says beside its value.
    pub(super) fn semantics(self) -> impl Iterator<Item = (NodeId, Semantics)> {
        let Self { variables, definitions, .. } = self;
        variables.into_iter().map(move |one| {
            let definition = one.data_type.as_ref().and_then(|node| definitions.get(node)?.as_ref());
            let semantics = Semantics {
                unit: one.unit(),
                range: one.range(),
                words: one.words(definition).and_then(|words| words.parse().ok()),
                title: one.title().or_else(|| Some(one_line(&one.display_name)).filter(|name| !name.is_empty())),
            };
            (one.found.node, semantics)
        })
    }
}

/// A structure has so many fields that are offered, at the most.
const MOST_FIELDS: usize = 500;

/// The fields of a structure, each by itself: as an offer of the whole with the way to the field.
fn offer_fields(whole: &Offer, way: &mut Vec<String>, fields: &Fields, offers: &mut Vec<Offer>) {
    for (name, told) in &fields.0 {
        // What ends a name in the path of a field cannot stand in one.
        if name.is_empty() || name.contains(['.', '[']) || offers.len() >= MOST_FIELDS {
            continue;
        }
        way.push(name.clone());
        match told {
            FieldValue::Structure(fields) => offer_fields(whole, way, fields, offers),
            FieldValue::Value(_) | FieldValue::Absent => {
                let mut point = whole.point.clone();
                // Fields are written only where the device says so, and the title is of the whole.
                point.remove("access");
                point.remove("title");
                point.insert("field".to_owned(), json!(way.join(".")));
                let (value, note) = match told {
                    FieldValue::Value(value) => (shown(value), String::new()),
                    _ => (Value::Null, "not there now".to_owned()),
                };
                // The last part of the path has both: by itself it could be that of another node.
                let mut path = whole.path.clone();
                path.last_mut().into_iter().for_each(|last| *last = format!("{last}.{}", way.join(".")));
                offers.push(Offer { path, point, value, quality: whole.quality.clone(), note });
            }
            FieldValue::Structures(_) => {}
        }
        way.pop();
    }
}

/// A value as a person would write it, and not as a double has it.
fn shown(told: &Variant) -> Value {
    match value(told).map(|(value, _)| value) {
        Some(interlex_core::Value::Float32(number)) => {
            number.to_string().parse().map_or(Value::Null, |number: f64| json!(number))
        }
        Some(other) => json!(other),
        None => Value::Null,
    }
}

/// A property that is a structure.
fn structure<T: Structure>(value: Option<&Variant>) -> Option<T> {
    let Some(Variant::Scalar(Scalar::ExtensionObject(object))) = value else { return None };
    T::from_object(object)?.ok()
}

fn text(value: Option<&Variant>) -> Option<String> {
    match value {
        Some(Variant::Scalar(Scalar::LocalizedText(text))) => text.text.clone(),
        _ => None,
    }
}

/// What people read, whatever the server says: one line of reasonable length.
fn one_line(text: &str) -> String {
    const LONGEST: usize = 250;
    let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    line.chars().filter(|character| !character.is_control()).take(LONGEST).collect()
}

/// Words that can stand in a list: nothing that would end them.
fn word(number: i64, text: &str) -> Option<String> {
    let text = text.trim();
    let is_word = !text.is_empty() && !text.contains([';', '=', '\n']) && !text.chars().any(char::is_control);
    is_word.then(|| format!("{number}={text}"))
}

impl Described {
    fn words(&self, definition: Option<&ExtensionObject>) -> Option<String> {
        let told = match (self.properties.get("EnumStrings"), self.properties.get("EnumValues")) {
            (Some(Variant::Array(Array::LocalizedText(texts))), _) => {
                let texts = (0..).zip(texts);
                texts.filter_map(|(number, text)| word(number, text.text.as_deref().unwrap_or_default())).collect()
            }
            (_, Some(Variant::Array(Array::ExtensionObject(objects)))) => {
                let values = objects.iter().filter_map(|object| EnumValueType::from_object(object)?.ok());
                let word = |one: EnumValueType| word(one.value, one.display_name.text.as_deref().unwrap_or_default());
                values.filter_map(word).collect()
            }
            _ => {
                let known = definition.and_then(|object| EnumDefinition::from_object(object)?.ok());
                let fields = known.map(|known| known.fields).unwrap_or_default().into_iter();
                fields
                    .filter_map(|field| word(field.value, field.name.as_deref().unwrap_or_default()))
                    .collect::<Vec<_>>()
            }
        };
        (!told.is_empty()).then(|| told.join(";"))
    }

    /// Its value, where that is a structure.
    fn object(&self) -> Option<&ExtensionObject> {
        match &self.value.value {
            Some(Variant::Scalar(Scalar::ExtensionObject(object))) => Some(object),
            _ => None,
        }
    }

    fn unit(&self) -> Option<String> {
        let unit = structure::<EUInformation>(self.properties.get("EngineeringUnits"))?.symbol()?;
        Some(one_line(&unit)).filter(|unit| !unit.is_empty())
    }

    fn range(&self) -> Option<(f64, f64)> {
        let told = |name| structure::<Range>(self.properties.get(name));
        let Range { low, high } = ["EURange", "InstrumentRange"].into_iter().find_map(told)?;
        (low < high && low.is_finite() && high.is_finite()).then_some((low, high))
    }

    /// What people call it, in one line.
    fn title(&self) -> Option<String> {
        let title = [&self.found.title, &self.description].into_iter().find(|text| !text.is_empty());
        title.map(|text| one_line(text))
    }

    /// A method as a command.
    fn method(&self, mut point: Map<String, Value>) -> Offer {
        point.extend(
            [("type", "bool"), ("access", "read-write"), ("arguments", "[]")].map(|(k, v)| (k.into(), v.into())),
        );
        point.extend(self.title().map(|title| ("title".to_owned(), json!(title))));
        let objects = match self.properties.get("InputArguments") {
            Some(Variant::Array(Array::ExtensionObject(objects))) => objects.as_slice(),
            _ => &[],
        };
        let arguments = objects.iter().filter_map(|object| Argument::from_object(object)?.ok());
        let names: Vec<_> = arguments.filter_map(|argument| argument.name).collect();
        let takes = format!("; arguments has to give {}", names.join(", "));
        let note = format!("a method: true calls it{}", if names.is_empty() { "" } else { &takes });
        Offer { path: self.found.path.clone(), point, value: Value::Null, quality: String::new(), note }
    }

    fn offer(&self, definition: Option<&ExtensionObject>, namespaces: &Namespaces, by_path: bool) -> Offer {
        let found = &self.found;
        let address = if by_path { found.way.clone() } else { namespaces.text(&found.node) };
        let mut point = Map::from_iter([("address".to_owned(), json!(address))]);
        if found.class == NodeClass::Method {
            return self.method(point);
        }
        let mut put = |key: &str, value: Value| point.insert(key.to_owned(), value);
        let words = self.words(definition);
        if let Some(words) = &words {
            put("enumeration", json!(words));
            put("type", json!("int32"));
        }
        if let Some(unit) = self.unit() {
            put("unit", json!(unit));
        }
        if let Some((low, high)) = self.range().filter(|_| words.is_none()) {
            put("low", json!(low));
            put("high", json!(high));
        }
        if self.access & MAY_WRITE != 0 {
            put("access", json!("read-write"));
        }
        self.title().into_iter().for_each(|title| drop(put("title", json!(title))));
        let mut notes = Vec::new();
        if self.access & MAY_READ == 0 {
            notes.push("not readable as this user".to_owned());
        }
        if let (Some(on), Some(off)) = (text(self.properties.get("TrueState")), text(self.properties.get("FalseState")))
        {
            notes.push(format!("true is {on}, false is {off}"));
        }
        if matches!(&self.value.value, Some(Variant::Array(_) | Variant::Matrix(..))) {
            notes.push("an array: element tells which one is meant".to_owned());
        }
        if self.object().is_some() {
            notes.push("a structure: field tells which part is meant".to_owned());
        }
        let status = self.value.status();
        Offer {
            path: found.path.clone(),
            point,
            value: self.value.value.as_ref().map_or(Value::Null, shown),
            quality: if quality(status) == Quality::Good { String::new() } else { status.to_string() },
            note: notes.join("; "),
        }
    }
}
