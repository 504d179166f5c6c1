//! The nodes of the engine: what it tells, with units, ranges and words, and what can be asked of it.

use super::model::{Engine, EngineState, RATED_POWER};
use interlex_opcua::{
    Access, Argument, Array, Binary, Body, DateTime, EUInformation, EnumDefinition, EnumField, ExtensionObject,
    History, LocalizedText, Node, NodeId, NodeKind, Range, Scalar, Space, Structure, StructureDefinition,
    StructureField, Variable, Variant, ids,
};

/// The namespace of the engine, behind the standard's and the server's own.
pub(crate) const NAMESPACE: &str = "urn:alderfen:chp";
/// So many values are kept of those with a history.
const KEPT: usize = 36_000;

const STATE_TYPE: u32 = 3001;
const COUNTERS_TYPE: u32 = 3002;
const COUNTERS_ENCODING: u32 = 3003;

/// One value of the engine.
pub(crate) struct EngineSignal {
    pub(crate) name: &'static str,
    source: fn(&Engine) -> Variant,
    /// Common code of UN/ECE recommendation 20, and how the unit is written.
    unit: Option<(&'static str, &'static str)>,
    range: Option<(f64, f64)>,
    title: &'static str,
    access: Access,
}

#[expect(clippy::cast_possible_truncation, reason = "the controller tells these with single precision")]
fn float(value: f64) -> Variant {
    (value as f32).into()
}

const READ: Access = Access::READ;

impl EngineSignal {
    const fn new(name: &'static str, title: &'static str, source: fn(&Engine) -> Variant) -> Self {
        Self { name, source, unit: None, range: None, title, access: READ }
    }

    const fn in_unit(self, code: &'static str, text: &'static str, low: f64, high: f64) -> Self {
        Self { unit: Some((code, text)), range: Some((low, high)), ..self }
    }

    const fn with(self, access: u8) -> Self {
        Self { access: Access(READ.0 | access), ..self }
    }

    /// What it tells now.
    pub(crate) fn value(&self, engine: &Engine, own: u16) -> Variant {
        let mut value = (self.source)(engine);
        if let Variant::Scalar(Scalar::ExtensionObject(object)) = &mut value {
            object.type_id.namespace = own;
        }
        value
    }

    /// Its node, in the namespace of this number.
    pub(crate) fn id(&self, own: u16) -> NodeId {
        id(own, self.name)
    }
}

fn id(own: u16, name: &str) -> NodeId {
    NodeId::text(own, format!("Engine.{name}"))
}

const HISTORY: u8 = Access::HISTORY.0;

/// What it tells.
pub(crate) const SIGNALS: &[EngineSignal] = &[
    EngineSignal::new("Speed", "Speed of the engine", |engine| engine.speed.into())
        .in_unit("RPM", "r/min", 0.0, 1800.0)
        .with(HISTORY),
    EngineSignal::new("ActivePower", "Active power of the generator", |engine| float(engine.active_power))
        .in_unit("KWT", "kW", 0.0, 600.0)
        .with(HISTORY),
    EngineSignal::new("PowerSetPoint", "Wanted active power", |engine| float(engine.power_set_point))
        .in_unit("KWT", "kW", 200.0, RATED_POWER)
        .with(Access::WRITE.0),
    EngineSignal::new("ExhaustTemperature", "Exhaust behind all cylinders", |engine| {
        float(engine.exhaust_temperature())
    })
    .in_unit("CEL", "°C", 0.0, 650.0),
    EngineSignal::new("CylinderTemperatures", "Exhaust of each cylinder", |engine| {
        Variant::Array(Array::Float(
            engine
                .cylinder_temperatures
                .iter()
                .filter_map(|value| match float(*value) {
                    Variant::Scalar(Scalar::Float(value)) => Some(value),
                    _ => None,
                })
                .collect(),
        ))
    })
    .in_unit("CEL", "°C", 0.0, 650.0),
    EngineSignal::new("CoolantTemperature", "Coolant at the outlet", |engine| float(engine.coolant_temperature))
        .in_unit("CEL", "°C", 0.0, 120.0),
    EngineSignal::new("OilPressure", "Oil pressure", |engine| float(engine.oil_pressure))
        .in_unit("BAR", "bar", 0.0, 10.0),
    EngineSignal::new("OperatingHours", "Operating hours", |engine| engine.operating_hours.into())
        .in_unit("HUR", "h", 0.0, 1e6),
    EngineSignal::new("Energy", "Energy since commissioning", |engine| engine.energy.into())
        .in_unit("KWH", "kWh", 0.0, 1e9),
    EngineSignal::new("StartCounter", "How often it was started", |engine| engine.starts.into()),
    EngineSignal::new("State", "What the engine is doing", |engine| (engine.state as i32).into()),
    EngineSignal::new("Trips", "What it tripped for, a bit each", |engine| engine.trips.into()),
    EngineSignal::new("Counters", "Counters and the last trip in one piece", counters),
];

fn counters(engine: &Engine) -> Variant {
    let mut body = Vec::new();
    engine.operating_hours.encode(&mut body);
    engine.starts.encode(&mut body);
    Some(engine.last_trip.to_owned()).encode(&mut body);
    let object = ExtensionObject { type_id: NodeId::numeric(0, COUNTERS_ENCODING), body: Body::Binary(body) };
    Variant::Scalar(Scalar::ExtensionObject(object.into()))
}

/// The methods, without arguments but the last.
pub(crate) const START: &str = "Start";
pub(crate) const STOP: &str = "Stop";
pub(crate) const RESET: &str = "Reset";
pub(crate) const SET_POWER: &str = "SetPower";

/// The method of a node.
pub(crate) fn method(node: &NodeId, own: u16) -> Option<&'static str> {
    [START, STOP, RESET, SET_POWER].into_iter().find(|name| id(own, name) == *node)
}

/// What every server has, and the engine; beside it so many values in a folder of their own, for whoever wants many.
pub(crate) fn space(engine: &Engine, many: u32, own: u16) -> Space {
    let mut space = Space::standard();
    types(&mut space, own);
    let object = NodeId::text(own, "Engine");
    let node = Node::new(object.clone(), own, "Engine", NodeKind::Object);
    space.add_under(&ids::OBJECTS_FOLDER, &ids::ORGANIZES, node, &NodeId::numeric(0, 58));
    for signal in SIGNALS {
        add_signal(&mut space, &object, signal, (engine, own));
    }
    for name in [START, STOP, RESET, SET_POWER] {
        let node = Node::new(id(own, name), own, name, NodeKind::Method { is_executable: true });
        space.add_under(&object, &ids::HAS_COMPONENT, node, &NodeId::NULL);
    }
    let power = Argument {
        name: Some("Power".to_owned()),
        data_type: NodeId::numeric(0, 10),
        value_rank: -1,
        description: text("Wanted active power, in kW"),
        ..Argument::default()
    };
    let inputs = Variant::Array(Array::ExtensionObject(vec![power.to_object()]));
    property(
        &mut space,
        &id(own, SET_POWER),
        "InputArguments",
        Variable { data_type: NodeId::numeric(0, 296), ..Variable::new(inputs) },
    );
    let folder = NodeId::text(own, "Many");
    if many > 0 {
        let node = Node::new(folder.clone(), own, "Many", NodeKind::Object);
        space.add_under(&ids::OBJECTS_FOLDER, &ids::ORGANIZES, node, &ids::FOLDER_TYPE);
    }
    for number in 0..many {
        let (name, value) = (format!("Value{number}"), Variable::new(f64::from(number).into()));
        let node = Node::new(NodeId::numeric(own, 100_000 + number), own, &name, NodeKind::Variable(Box::new(value)));
        space.add_under(&folder, &ids::ORGANIZES, node, &ids::BASE_DATA_VARIABLE_TYPE);
    }
    space
}

fn add_signal(space: &mut Space, object: &NodeId, signal: &EngineSignal, (engine, own): (&Engine, u16)) {
    let mut variable = Variable { access: signal.access, ..Variable::new(signal.value(engine, own)) };
    variable.history = signal.access.has(Access::HISTORY).then(|| History::new(KEPT));
    match signal.name {
        "State" => variable.data_type = NodeId::numeric(own, STATE_TYPE),
        "Counters" => variable.data_type = NodeId::numeric(own, COUNTERS_TYPE),
        "CylinderTemperatures" => variable.array_dimensions = vec![6],
        _ => {}
    }
    let mut node = Node::new(signal.id(own), own, signal.name, NodeKind::Variable(Box::new(variable)));
    node.description = text(signal.title);
    let kind = if signal.range.is_some() { ids::ANALOG_ITEM_TYPE } else { ids::BASE_DATA_VARIABLE_TYPE };
    space.add_under(object, &ids::HAS_COMPONENT, node, &kind);
    if let Some((low, high)) = signal.range {
        let range = Range { low, high }.to_object();
        let value = Variable::new(Variant::Scalar(Scalar::ExtensionObject(range.into())));
        property(space, &signal.id(own), "EURange", Variable { data_type: NodeId::numeric(0, 884), ..value });
    }
    if let Some((code, unit)) = signal.unit {
        let unit = EUInformation {
            namespace_uri: Some("http://www.opcfoundation.org/UA/units/un/cefact".to_owned()),
            unit_id: code.bytes().fold(0, |number, byte| number << 8 | i32::from(byte)),
            display_name: text(unit),
            description: text(unit),
        };
        let value = Variable::new(Variant::Scalar(Scalar::ExtensionObject(unit.to_object().into())));
        property(space, &signal.id(own), "EngineeringUnits", Variable { data_type: NodeId::numeric(0, 887), ..value });
    }
}

/// The types of the state and of the counters.
fn types(space: &mut Space, own: u16) {
    let node = |number| NodeId::numeric(own, number);
    let fields = EngineState::WORDS.into_iter().zip(0..).map(|(name, value)| EnumField {
        value,
        display_name: text(name),
        name: Some(name.to_owned()),
        ..EnumField::default()
    });
    let definition = EnumDefinition { fields: fields.collect() }.to_object();
    let kind = NodeKind::DataType { is_abstract: false, definition: Some(definition) };
    let state = Node::new(node(STATE_TYPE), own, "EngineState", kind);
    space.add_under(&NodeId::numeric(0, 29), &ids::HAS_SUBTYPE, state, &NodeId::NULL);
    let words = Variable::new(Variant::Array(Array::LocalizedText(EngineState::WORDS.map(text).to_vec())));
    property(space, &node(STATE_TYPE), "EnumStrings", words);

    let field = |name: &str, number| StructureField {
        name: Some(name.to_owned()),
        data_type: NodeId::numeric(0, number),
        value_rank: -1,
        ..StructureField::default()
    };
    let definition = StructureDefinition {
        default_encoding_id: node(COUNTERS_ENCODING),
        base_data_type: NodeId::numeric(0, 22),
        fields: vec![field("OperatingHours", 11), field("Starts", 7), field("LastTrip", 12)],
        ..StructureDefinition::default()
    };
    let kind = NodeKind::DataType { is_abstract: false, definition: Some(definition.to_object()) };
    let counters = Node::new(node(COUNTERS_TYPE), own, "EngineCounters", kind);
    space.add_under(&NodeId::numeric(0, 22), &ids::HAS_SUBTYPE, counters, &NodeId::NULL);
    let encoding = Node::new(node(COUNTERS_ENCODING), 0, "Default Binary", NodeKind::Object);
    space.add_under(&node(COUNTERS_TYPE), &NodeId::numeric(0, 38), encoding, &NodeId::numeric(0, 76));
}

fn property(space: &mut Space, of: &NodeId, name: &str, value: Variable) {
    let id = NodeId::text(of.namespace, format!("{of}.{name}"));
    let node = Node::new(id, 0, name, NodeKind::Variable(Box::new(value)));
    space.add_under(of, &ids::HAS_PROPERTY, node, &ids::PROPERTY_TYPE);
}

fn text(text: &str) -> LocalizedText {
    LocalizedText { locale: Some("en".to_owned()), text: Some(text.to_owned()) }
}

/// When something was measured, for whoever is told.
pub(crate) const fn measured(value: Variant, wall: DateTime) -> interlex_opcua::DataValue {
    interlex_opcua::DataValue {
        value: Some(value),
        status: None,
        source_time: Some(wall),
        source_picoseconds: None,
        server_time: None,
        server_picoseconds: None,
    }
}
