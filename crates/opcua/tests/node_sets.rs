//! Files of nodes are read as the server that they describe would tell it.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_opcua::*;

const ENGINE: &str = include_str!("vectors/engine.xml");

fn namespaces() -> Vec<String> {
    ["http://opcfoundation.org/UA/", "urn:alderfen:gateway"].map(str::to_owned).to_vec()
}

fn definition(space: &Space, number: u32) -> ExtensionObject {
    match &space.node(&NodeId::numeric(2, number)).unwrap().kind {
        NodeKind::DataType { definition: Some(definition), .. } => definition.clone(),
        other => panic!("{other:?}"),
    }
}

#[test]
fn nodes_come_with_their_values_types_and_places() {
    let (mut space, mut all) = (Space::standard(), namespaces());
    let ids = space.add_node_set(ENGINE, &mut all).unwrap();
    // The namespace of the file is the third one here.
    assert_eq!((all.len(), all[2].as_str(), ids.len()), (3, "urn:alderfen:chp", 8));
    let speed = NodeId::text(2, "Engine.Speed");
    let (node, variable) = (space.node(&speed).unwrap(), space.variable(&speed).unwrap());
    assert_eq!(node.description.text.as_deref(), Some("Speed of the engine"));
    assert_eq!((&variable.value.value, variable.data_type.clone()), (&Some(1500.5.into()), NodeId::numeric(0, 11)));
    assert_eq!(variable.access, Access::READ | Access::HISTORY);
    let Some(Variant::Scalar(Scalar::ExtensionObject(range))) = &space.property(&speed, "EURange").unwrap().value.value
    else {
        panic!()
    };
    assert_eq!(Range::from_object(range), Some(Ok(Range { low: 0.0, high: 1800.0 })));
    let step = |name: &str| RelativePathElement {
        reference_type_id: ids::HIERARCHICAL_REFERENCES,
        include_subtypes: true,
        target_name: QualifiedName { namespace: 2, name: Some(name.to_owned()) },
        ..RelativePathElement::default()
    };
    let relative_path = RelativePath { elements: vec![step("Engine"), step("Speed")] };
    let found = space.translate(&BrowsePath { starting_node: ids::OBJECTS_FOLDER, relative_path });
    assert_eq!(found.targets[0].target_id, speed.into());

    let counters = StructureDefinition::from_object(&definition(&space, 22)).unwrap().unwrap();
    let names: Vec<_> = counters.fields.iter().map(|field| field.name.as_deref().unwrap()).collect();
    assert_eq!((names, counters.base_data_type), (vec!["Hours", "Starts"], NodeId::numeric(2, 20)));
    let base = StructureDefinition::from_object(&definition(&space, 20)).unwrap().unwrap();
    assert_eq!(base.default_encoding_id, NodeId::numeric(2, 21));
    let states = EnumDefinition::from_object(&definition(&space, 23)).unwrap().unwrap();
    let words: Vec<_> = states.fields.iter().map(|field| (field.value, field.display_name.text.as_deref())).collect();
    assert_eq!(words, [(0, Some("Off")), (2, Some("Läuft"))]);
}

#[test]
fn what_is_wrong_with_a_file_is_told_with_its_place_and_nothing_of_it_is_taken() {
    for (right, wrong, told) in [
        ("</UANodeSet>", "", "it is no XML"),
        ("UANodeSet", "html", "its root is html"),
        ("ns=1;i=11", "ns=3;i=11", "line 34, column 3: NodeId is \"ns=3;i=11\""),
        ("BrowseName=\"1:Start\"", "BrowseName=\"9:Start\"", "BrowseName is \"9:Start\""),
        (">1500.5<", ">fast<", "Value is \"fast\"; expected a number"),
        ("DataType=\"UInt32\"", "DataType=\"Number\"", "DataType is \"Number\"; expected a NodeId"),
        ("<Low>0</Low>", "<Low></Low>", "Low is \"\""),
        ("Value=\"2\"", "Value=\"two\"", "Value is \"two\"; expected a whole number"),
    ] {
        let (mut space, mut all) = (Space::default(), namespaces());
        let error = space.add_node_set(&ENGINE.replace(right, wrong), &mut all).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
        assert_eq!((space.len(), all), (0, namespaces()), "{wrong}");
    }
    // Texts that stand for texts without end are none.
    let bomb = "<!DOCTYPE x [<!ENTITY a \"aaaaaaaaaa\"><!ENTITY b \"&a;&a;&a;&a;&a;\">]><UANodeSet>&b;</UANodeSet>";
    assert!(Space::default().add_node_set(bomb, &mut namespaces()).is_err());
}
