use super::*;
use crate::structure::EnumField;

fn field(name: &str, data_type: NodeId, value_rank: i32, is_optional: bool) -> StructureField {
    StructureField { name: Some(name.to_owned()), data_type, value_rank, is_optional, ..StructureField::default() }
}

fn definition(encoding: u32, structure_type: StructureType, fields: Vec<StructureField>) -> StructureDefinition {
    let default_encoding_id = NodeId::numeric(2, encoding);
    StructureDefinition { default_encoding_id, structure_type, fields, ..StructureDefinition::default() }
}

const fn built_in(number: u32) -> NodeId {
    NodeId::numeric(0, number)
}

const fn own(number: u32) -> NodeId {
    NodeId::numeric(2, number)
}

/// A cylinder with a reading, a state, and readings of before; an engine with cylinders.
fn types() -> DataTypes {
    let mut types = DataTypes::default();
    let reading = vec![
        field("Value", built_in(11), -1, false),
        // A duration is a double.
        field("Age", built_in(290), -1, true),
        field("Note", built_in(12), -1, true),
    ];
    types.add_structure(own(1), definition(101, StructureType::StructureWithOptionalFields, reading));
    let cylinder = vec![
        field("Reading", own(1), -1, false),
        field("State", own(3), -1, false),
        field("Before", own(1), 1, false),
        field("Grid", built_in(4), 2, false),
    ];
    types.add_structure(own(2), definition(102, StructureType::Structure, cylinder));
    types.add_enumeration(own(3), EnumDefinition { fields: vec![EnumField { value: 2, ..EnumField::default() }] });
    types.add_subtype(built_in(290), built_in(11));
    let either = vec![field("Number", built_in(26), -1, false), field("Cylinder", own(2), -1, false)];
    types.add_structure(own(4), definition(104, StructureType::Union, either));
    types
}

fn read(types: &DataTypes, encoding: u32, bytes: Vec<u8>) -> Result<Fields, StructureError> {
    types.read(&ExtensionObject { type_id: own(encoding), body: Body::Binary(bytes) }, Limits::default())
}

/// A reading with an age and no note.
fn reading(value: f64, age: f64) -> Vec<u8> {
    [1_u32.to_bytes(), value.to_bytes(), age.to_bytes()].concat()
}

fn cylinder() -> Vec<u8> {
    let grid = [vec![2_i32, 3].to_bytes(), [1_i16, 2, 3, 4, 5, 6].iter().flat_map(Binary::to_bytes).collect()];
    let parts = [reading(412.5, 20.0), 2_i32.to_bytes(), 2_i32.to_bytes(), reading(1.0, 2.0), reading(3.0, 4.0)];
    [parts.concat(), grid.concat()].concat()
}

fn value(value: impl Into<Scalar>) -> Option<FieldValue> {
    Some(FieldValue::Value(Variant::Scalar(value.into())))
}

#[test]
fn structures_are_read_by_what_their_server_tells_of_them() {
    let fields = read(&types(), 102, cylinder()).unwrap();
    assert_eq!(fields.get("Reading.Value"), value(412.5_f64));
    assert_eq!(fields.get("Reading.Age"), value(20.0_f64));
    assert_eq!(fields.get("Reading.Note"), Some(FieldValue::Absent));
    assert_eq!(fields.get("State"), value(2_i32));
    assert_eq!(fields.get("Before[1].Value"), value(3.0_f64));
    let grid = Variant::Matrix(Array::Int16(vec![1, 2, 3, 4, 5, 6]), vec![2, 3]);
    assert_eq!(fields.get("Grid"), Some(FieldValue::Value(grid)));
    for nothing in ["", "Reading.", "Other", "Before[2]", "Before[x]", "State.Value", "Grid[0"] {
        assert_eq!(fields.get(nothing), None, "{nothing}");
    }
}

#[test]
fn of_a_union_one_field_is_there_at_the_most() {
    let types = types();
    let number = [1_u32.to_bytes(), Variant::from(7_i16).to_bytes()].concat();
    let fields = read(&types, 104, number).unwrap();
    assert_eq!((fields.get("Number"), fields.get("Cylinder")), (value(7_i16), Some(FieldValue::Absent)));
    let fields = read(&types, 104, [2_u32.to_bytes(), cylinder()].concat()).unwrap();
    assert_eq!(fields.get("Cylinder.State"), value(2_i32));
    assert_eq!(read(&types, 104, 0_u32.to_bytes()).unwrap().get("Number"), Some(FieldValue::Absent));
    assert!(matches!(read(&types, 104, 3_u32.to_bytes()), Err(StructureError::Malformed(_))));
}

#[test]
fn what_is_not_known_or_not_whole_is_said() {
    let mut types = types();
    assert_eq!(read(&types, 999, Vec::new()), Err(StructureError::Unknown(own(999))));
    assert_eq!(types.missing(&own(2)), []);
    types.add_structure(own(5), definition(105, StructureType::Structure, vec![field("Deep", own(6), -1, false)]));
    assert_eq!(types.missing(&own(5)), [own(6)]);
    assert_eq!(read(&types, 105, Vec::new()), Err(StructureError::Unknown(own(6))));
    let whole = cylinder();
    for end in 0..whole.len() {
        assert!(read(&types, 102, whole[..end].to_vec()).is_err(), "{end}");
    }
    assert!(read(&types, 102, [whole, vec![0]].concat()).is_err());
}

#[test]
fn a_description_without_end_is_not_followed_without_end() {
    let mut types = types();
    let endless = vec![field("Next", own(7), -1, false)];
    types.add_structure(own(7), definition(107, StructureType::Structure, endless));
    assert!(
        matches!(read(&types, 107, Vec::new()), Err(StructureError::Malformed(error)) if error.fault == Fault::TooDeep(100))
    );
    types.add_subtype(own(8), own(9));
    types.add_subtype(own(9), own(8));
    assert_eq!(types.missing(&own(8)), [own(8)]);
    // Many structures that take no bytes each.
    types.add_structure(own(10), definition(110, StructureType::Structure, Vec::new()));
    types.add_structure(own(11), definition(111, StructureType::Structure, vec![field("All", own(10), 1, false)]));
    assert!(read(&types, 111, i32::MAX.to_bytes()).is_err());
    // Structures of any type in each other: those too deep stay as they came.
    types
        .add_structure(own(12), definition(112, StructureType::Structure, vec![field("Any", built_in(22), -1, false)]));
    let mut object = ExtensionObject::default();
    for _ in 0..2000 {
        object = ExtensionObject { type_id: own(112), body: Body::Binary(object.to_bytes()) };
    }
    let mut fields = types.read(&object, Limits::default()).unwrap();
    let mut depth = 0;
    while let Some(FieldValue::Structure(inner)) = fields.get("Any") {
        (fields, depth) = (inner, depth + 1);
    }
    assert_eq!(depth, 99);
}

#[test]
fn a_field_is_written_and_the_rest_stays_byte_for_byte() {
    let types = types();
    let object = |encoding: u32, bytes: Vec<u8>| ExtensionObject { type_id: own(encoding), body: Body::Binary(bytes) };
    let write =
        |object: &ExtensionObject, path: &str, value: Scalar| types.with_field(object, path, &value, Limits::default());
    let before = object(102, cylinder());
    // What is written as it was is what it was.
    assert_eq!(write(&before, "State", 2_i32.into()).unwrap(), before);
    let after = write(&before, "Before[1].Value", 7.5.into()).unwrap();
    let Body::Binary(bytes) = &after.body else { panic!() };
    let grid = [vec![2_i32, 3].to_bytes(), [1_i16, 2, 3, 4, 5, 6].iter().flat_map(Binary::to_bytes).collect()];
    let parts = [reading(412.5, 20.0), 2_i32.to_bytes(), 2_i32.to_bytes(), reading(1.0, 2.0), reading(7.5, 4.0)];
    assert_eq!(*bytes, [parts.concat(), grid.concat()].concat());
    let union = object(104, [2_u32.to_bytes(), cylinder()].concat());
    assert_eq!(write(&union, "Cylinder.State", 2_i32.into()).unwrap(), union);

    for (path, value) in [
        ("State", Scalar::from(2.0)),
        ("Reading.Note", 1_u16.into()),
        ("Reading", 1_u16.into()),
        ("Grid", 1_i16.into()),
        ("None", 1_u16.into()),
        ("Before[2].Value", 1.0.into()),
    ] {
        assert_eq!(write(&before, path, value), Err(StructureError::NoField(path.to_owned())));
    }
}
