//! What a device profile describes, as offers: the XML file of the DNP users group that makers hand out with their outstations.
//!
//! Its versions differ in where things stand and how they are called; what is read here they have in common: the points of each kind
//! with index, name, description, class of their events, names of states, unit, scale and offset.

use interlex_core::Offer;
use interlex_core::description::Dnp3Kind;
use roxmltree::{Document, Node};
use serde_json::{Map, json};
use std::collections::BTreeMap;

/// A file has no more bytes.
pub(super) const LARGEST: usize = 4 << 20;
const KINDS: [(&str, Dnp3Kind); 9] = [
    ("binaryInput", Dnp3Kind::Binary),
    ("doubleBitInput", Dnp3Kind::DoubleBit),
    ("doubleBitBinaryInput", Dnp3Kind::DoubleBit),
    ("binaryOutput", Dnp3Kind::BinaryOutput),
    ("counter", Dnp3Kind::Counter),
    ("frozenCounter", Dnp3Kind::FrozenCounter),
    ("analogInput", Dnp3Kind::Analog),
    ("analogOutput", Dnp3Kind::AnalogOutput),
    ("octetString", Dnp3Kind::Octets),
];

/// The points that a profile describes.
pub(super) fn offers(xml: &str) -> Result<Vec<Offer>, String> {
    let document = Document::parse(xml).map_err(|error| format!("the file is no XML: {error}"))?;
    let root = document.root_element().tag_name().name();
    if !root.starts_with("DNP3DeviceProfile") {
        return Err(format!("the file has <{root}> as its root; expected <DNP3DeviceProfileDocument>"));
    }
    let mut offers = BTreeMap::new();
    for node in document.descendants().filter(Node::is_element) {
        let known = KINDS.iter().find(|(name, _)| *name == node.tag_name().name());
        let index = text(node, "index").or_else(|| node.attribute("index").map(str::to_owned));
        let index = index.and_then(|index| index.trim().parse::<u16>().ok());
        if let (Some((_, kind)), Some(index)) = (known, index) {
            offers.insert((*kind, index), offer(node, *kind, index));
        }
    }
    if offers.is_empty() {
        return Err("the file describes no points".to_owned());
    }
    Ok(offers.into_values().collect())
}

/// The text of the first child with such a name, where it has one.
fn text(node: Node<'_, '_>, name: &str) -> Option<String> {
    let child = node.children().find(|child| child.tag_name().name().eq_ignore_ascii_case(name))?;
    let text: String = child.descendants().filter_map(|part| part.text().filter(|_| part.is_text())).collect();
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    (!text.is_empty()).then_some(text)
}

fn offer(node: Node<'_, '_>, kind: Dnp3Kind, index: u16) -> Offer {
    let mut point = Map::from_iter([("address".to_owned(), json!(format!("{}:{index}", kind.word())))]);
    let mut set = |key: &str, value: serde_json::Value| _ = point.insert(key.to_owned(), value);
    if kind.is_output() {
        set("access", json!("read-write"));
    }
    if let Some(title) = text(node, "description") {
        set("title", json!(title));
    }
    if let Some(unit) = text(node, "units").or_else(|| text(node, "unit")) {
        set("unit", json!(unit));
    }
    for (key, name, plain) in [("scale", "scaleFactor", 1.0), ("offset", "scaleOffset", 0.0)] {
        let number = text(node, name).and_then(|text| text.parse::<f64>().ok()).filter(|number| number.is_finite());
        if let Some(number) = number.filter(|number| *number != plain) {
            set(key, json!(number));
        }
    }
    let class = ["changeEventClass", "defaultEventClass", "eventClass"].iter().find_map(|name| text(node, name));
    let class = class.and_then(|word| class_of(&word));
    if let Some(class) = class {
        set("class", json!(class));
    }
    let states = states(node);
    let mut note = String::new();
    match kind {
        _ if states.is_empty() => {}
        // What has two states is true or false.
        Dnp3Kind::Binary | Dnp3Kind::BinaryOutput => note = states.replace('=', " is ").replace(';', ", "),
        _ => set("enumeration", json!(states)),
    }
    let name = text(node, "name").unwrap_or_else(|| format!("{}-{index}", kind.word()));
    Offer { path: vec![name], point, value: serde_json::Value::Null, quality: String::new(), note }
}

fn class_of(word: &str) -> Option<u8> {
    let word = word.to_ascii_lowercase();
    let known = [("none", 0), ("0", 0), ("one", 1), ("1", 1), ("two", 2), ("2", 2), ("three", 3), ("3", 3)];
    known
        .into_iter()
        .find(|(end, _)| word == *end || word.trim_start_matches("class").trim() == *end)
        .map(|(_, class)| class)
}

/// `0=open;1=closed`, from elements such as `nameState0`.
fn states(node: Node<'_, '_>) -> String {
    let state = |child: Node<'_, '_>| {
        let number = child.tag_name().name().to_ascii_lowercase().strip_prefix("namestate")?.parse::<u8>().ok()?;
        let words = child.text()?.replace(['=', ';', '"'], " ");
        let words = words.split_whitespace().collect::<Vec<_>>().join(" ");
        (!words.is_empty()).then(|| format!("{number}={words}"))
    };
    let states: Vec<_> = node.children().filter(Node::is_element).filter_map(state).collect();
    states.join(";")
}

#[cfg(test)]
mod tests {
    use super::*;

    const FEEDER: &str = r#"<?xml version="1.0"?>
        <DNP3DeviceProfileDocument xmlns="http://www.dnp3.org/DNP3/DeviceProfile/Jan2010" schemaVersion="2.07.00">
          <referenceDevice><dataPointsList>
            <doubleBitInputPoints><dataPoints>
              <doubleBitInput><index>0</index><name>Breaker</name><description>Breaker of the
                 feeder</description><changeEventClass>one</changeEventClass>
                <nameState0>between</nameState0><nameState1>open</nameState1><nameState2>closed</nameState2></doubleBitInput>
            </dataPoints></doubleBitInputPoints>
            <analogInputPoints><dataPoints>
              <analogInput><index>7</index><name>Voltage L1</name><units>V</units><scaleFactor>0.1</scaleFactor>
                <scaleOffset>0</scaleOffset><changeEventClass>three</changeEventClass></analogInput>
              <analogInput><name>nowhere</name></analogInput>
            </dataPoints></analogInputPoints>
            <binaryOutputPoints><dataPoints><binaryOutput><index>2</index></binaryOutput></dataPoints></binaryOutputPoints>
          </dataPointsList></referenceDevice>
        </DNP3DeviceProfileDocument>"#;

    #[test]
    fn a_profile_tells_points_with_what_it_knows_of_them() {
        let told = offers(FEEDER).unwrap();
        let shown: Vec<_> = told.iter().map(|offer| format!("{} {}", offer.path[0], json!(offer.point))).collect();
        assert_eq!(
            shown,
            [
                r#"Breaker {"address":"double-bit:0","title":"Breaker of the feeder","class":1,"enumeration":"0=between;1=open;2=closed"}"#,
                r#"binary-output-2 {"address":"binary-output:2","access":"read-write"}"#,
                r#"Voltage L1 {"address":"analog:7","unit":"V","scale":0.1,"class":3}"#,
            ]
        );
    }

    #[test]
    fn what_is_none_is_told_so() {
        assert!(offers("<a>").unwrap_err().starts_with("the file is no XML"));
        assert!(offers("<UANodeSet/>").unwrap_err().contains("<UANodeSet> as its root"));
        assert_eq!(offers("<DNP3DeviceProfileDocument/>").unwrap_err(), "the file describes no points");
        assert_eq!((class_of("Class 2"), class_of("none"), class_of("often")), (Some(2), Some(0), None));
    }
}
