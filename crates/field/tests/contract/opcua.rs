//! Parts of an OPC UA server for the suite.

use crate::line::Line;
use crate::suite::{Field, WallClock, Writes};
use interlex_core::description::{Description, Device, Files, Point, read};
use interlex_core::{FieldEvent, LatestTable, PointTable, Quality, Reason, RecentValues, SampleKind, Value};
use interlex_field::{
    Keeper, KeptEvent, Listeners, Memories, PointWrite, Relinquish, Surroundings, TrialRead, Via, start, write,
};
use interlex_opcua::{
    Access, Argument, Array, Binary, Body, DataValue, EUInformation, ExtensionObject, History, Host, HostConfig,
    LocalizedText, MessageSecurityMode, Node, NodeId, NodeKind, Process, Range, Scalar, SecurityPolicy, Server,
    ServerDescription, ServerLimits, Sessions, Space, StatusCode, Structure, TransportLimits, User, UserTokenType,
    Users, Variable, Variant, ids,
};
use std::collections::{BTreeMap, HashMap};
use std::pin::Pin;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_util::sync::{CancellationToken, DropGuard};

pub(crate) struct OpcUaField {
    host: Arc<Host<Machines>>,
    line: Line,
    _stop: DropGuard,
}

#[derive(Default)]
struct Machines {
    machines: HashMap<String, Machine>,
    /// How many values there were of what has a history.
    kept: u32,
    is_swallowed: bool,
    called: Vec<String>,
}

#[derive(Default)]
struct Machine {
    told: u64,
    written: Vec<u64>,
    writes: Option<Writes>,
}

struct Everybody;

impl Users for Everybody {
    fn takes(&self, _: &User) -> bool {
        true
    }
}

fn node(device: &str, point: &str) -> NodeId {
    NodeId::text(1, format!("{device}.{point}"))
}

fn machine_of(node: &NodeId) -> String {
    node.to_string().trim_start_matches("ns=1;s=").split('.').next().unwrap().to_owned()
}

impl Process for Machines {
    fn write(&mut self, node: &NodeId, value: &Variant, _: &User) -> StatusCode {
        if matches!(value, Variant::Scalar(Scalar::ExtensionObject(_))) {
            return StatusCode::GOOD;
        }
        let machine = self.machines.entry(machine_of(node)).or_default();
        let Variant::Scalar(Scalar::UInt16(number)) = value else {
            return StatusCode::BAD_TYPE_MISMATCH;
        };
        let how = machine.writes.unwrap_or(Writes::Takes);
        match how {
            Writes::Refuses => return StatusCode::BAD_INVALID_STATE,
            Writes::Ignores => return StatusCode::GOOD_COMPLETES_ASYNCHRONOUSLY,
            Writes::Takes | Writes::Swallows => {}
        }
        self.is_swallowed = how == Writes::Swallows;
        machine.written.push((*number).into());
        StatusCode::GOOD
    }

    fn call(&mut self, on: &NodeId, method: &NodeId, given: &[Variant], _: &User) -> Result<Vec<Variant>, StatusCode> {
        self.called.push(format!("{on} {method} {given:?}"));
        match given {
            [] => Ok(vec![3_u32.into()]),
            [Variant::Scalar(Scalar::Float(power))] if *power < 500.0 => Ok(Vec::new()),
            _ => Err(StatusCode::BAD_OUT_OF_RANGE),
        }
    }

    fn is_answered(&mut self) -> bool {
        !std::mem::take(&mut self.is_swallowed)
    }
}

fn space() -> Space {
    let mut space = Space::standard();
    for device in ["one", "two"] {
        let folder = Node::new(NodeId::text(1, device), 1, device, NodeKind::Object);
        space.add_under(&ids::OBJECTS_FOLDER, &ids::ORGANIZES, folder, &ids::FOLDER_TYPE);
        let mut put = |name: &str, access, value: Variant| {
            let variable = Variable { access, ..Variable::new(value) };
            let variable = Node::new(node(device, name), 1, name, NodeKind::Variable(Box::new(variable)));
            let folder = NodeId::text(1, device);
            space.add_under(&folder, &ids::HAS_COMPONENT, variable, &ids::BASE_DATA_VARIABLE_TYPE);
        };
        put("count", Access::READ, 0_u32.into());
        put("set-point", Access::READ | Access::WRITE, 7_u16.into());
        put("more", Access::READ, 7_u16.into());
    }
    let kept = Variable {
        access: Access::READ | Access::HISTORY,
        history: Some(History::new(100_000)),
        ..Variable::new(0_u32.into())
    };
    let kept = Node::new(node("one", "kept"), 1, "kept", NodeKind::Variable(Box::new(kept)));
    space.add_under(&NodeId::text(1, "one"), &ids::HAS_COMPONENT, kept, &ids::BASE_DATA_VARIABLE_TYPE);
    semantics(&mut space);
    methods(&mut space);
    dictionary(&mut space);
    space
}

fn unit(text: &str) -> Variant {
    let display_name = LocalizedText { locale: None, text: Some(text.to_owned()) };
    Variant::Scalar(Scalar::ExtensionObject(
        EUInformation { display_name, ..EUInformation::default() }.to_object().into(),
    ))
}

/// A variable with words, and one with a unit and a range.
fn semantics(space: &mut Space) {
    let mut put = |name: &str, value: Variant, properties: &[(&str, &str, Variant)]| {
        let mut variable = Node::new(node("one", name), 1, name, NodeKind::Variable(Box::new(Variable::new(value))));
        variable.description = LocalizedText { locale: None, text: Some("Mode of the machine".to_owned()) };
        variable.display_name = LocalizedText::default();
        space.add_under(&NodeId::text(1, "one"), &ids::HAS_COMPONENT, variable, &ids::BASE_DATA_VARIABLE_TYPE);
        for (id, called, value) in properties {
            let property = NodeKind::Variable(Box::new(Variable::new(value.clone())));
            let property = Node::new(node("one", &format!("{name}.{id}")), 0, called, property);
            space.add_under(&node("one", name), &ids::HAS_PROPERTY, property, &ids::PROPERTY_TYPE);
        }
    };
    let words = ["stopped", "running"].map(|word| LocalizedText { locale: None, text: Some(word.to_owned()) });
    put("mode", 1_i32.into(), &[("words", "EnumStrings", Variant::Array(Array::LocalizedText(words.to_vec())))]);
    let range = Range { low: 0.0, high: 400.0 }.to_object();
    let range = Variant::Scalar(Scalar::ExtensionObject(range.into()));
    put("power", 480.0.into(), &[("unit", "EngineeringUnits", unit("kW")), ("range", "EURange", range)]);
}

/// A structure that a dictionary of types describes, as before there was another way.
fn dictionary(space: &mut Space) {
    let numbered = |number| NodeId::numeric(1, number);
    let add = |space: &mut Space, (number, name): (u32, &str), kind, (parent, reference): (&NodeId, &NodeId)| {
        let node = Node::new(numbered(number), if number == 71 { 0 } else { 1 }, name, kind);
        space.add_under(parent, reference, node, &NodeId::NULL);
    };
    let text = |text: &str| Variant::Scalar(Scalar::String(Some(text.to_owned())));
    let variable = |value: Variant| NodeKind::Variable(Box::new(Variable::new(value)));
    let data_type = NodeKind::DataType { is_abstract: false, definition: None };
    add(space, (70, "CountersType"), data_type, (&NodeId::numeric(0, 22), &ids::HAS_SUBTYPE));
    add(space, (71, "Default Binary"), NodeKind::Object, (&numbered(70), &ids::HAS_ENCODING));
    add(
        space,
        (73, "Machines"),
        variable(Variant::Scalar(Scalar::ByteString(DICTIONARY.to_vec().into()))),
        (&NodeId::numeric(0, 93), &ids::HAS_COMPONENT),
    );
    add(space, (72, "Counters"), variable(text("Counters")), (&numbered(73), &ids::HAS_COMPONENT));
    space.refer(&numbered(71), &ids::HAS_DESCRIPTION, &numbered(72));
    let body = [1327_u32.to_bytes(), Some("knocks".to_owned()).to_bytes()].concat();
    let object = ExtensionObject { type_id: numbered(71), body: Body::Binary(body) };
    let value = Variant::Scalar(Scalar::ExtensionObject(object.into()));
    let counters = Variable { data_type: numbered(70), access: Access::READ | Access::WRITE, ..Variable::new(value) };
    let counters = Node::new(node("one", "counters"), 1, "counters", NodeKind::Variable(Box::new(counters)));
    space.add_under(&NodeId::text(1, "one"), &ids::HAS_COMPONENT, counters, &ids::BASE_DATA_VARIABLE_TYPE);
}

const DICTIONARY: &[u8] = br#"<opc:TypeDictionary xmlns:opc="http://opcfoundation.org/BinarySchema/" TargetNamespace="urn:alderfen:machines">
  <opc:StructuredType Name="Counters"><opc:Field Name="Starts" TypeName="opc:UInt32"/><opc:Field Name="Last" TypeName="opc:String"/></opc:StructuredType>
</opc:TypeDictionary>"#;

/// A method of one machine, one that takes a power, and one that both have.
fn methods(space: &mut Space) {
    let mut put = |device: &str, name: &str| {
        let method = Node::new(node("one", name), 1, name, NodeKind::Method { is_executable: name != "locked" });
        space.add_under(&NodeId::text(1, device), &ids::HAS_COMPONENT, method, &NodeId::NULL);
    };
    ["start", "set", "locked", "reset"].iter().for_each(|name| put("one", name));
    space.refer(&NodeId::text(1, "two"), &ids::HAS_COMPONENT, &node("one", "reset"));
    let power = Argument { name: Some("Power".to_owned()), data_type: NodeId::numeric(0, 10), ..Argument::default() };
    let power = Argument { value_rank: -1, ..power }.to_object();
    let inputs = Variable {
        data_type: NodeId::numeric(0, 296),
        ..Variable::new(Variant::Array(Array::ExtensionObject(vec![power])))
    };
    let inputs = Node::new(node("one", "set.inputs"), 0, "InputArguments", NodeKind::Variable(Box::new(inputs)));
    space.add_under(&node("one", "set"), &ids::HAS_PROPERTY, inputs, &ids::PROPERTY_TYPE);
}

impl OpcUaField {
    fn with<T>(&self, device: &str, act: impl FnOnce(&mut Machine) -> T) -> T {
        self.host.with(|_, machines, _| act(machines.machines.entry(device.to_owned()).or_default()))
    }
}

const GROWS: Duration = Duration::from_millis(25);

impl Field for OpcUaField {
    async fn start() -> Self {
        let stop = CancellationToken::new();
        let listener = TcpListener::bind((interlex_sidecar::own_address(), 0)).await.unwrap();
        let behind = listener.local_addr().unwrap();
        let description = ServerDescription {
            url: format!("opc.tcp://{behind}"),
            application_uri: "urn:alderfen:machines".to_owned(),
            application_name: "Machines".to_owned(),
            own: None,
            security: vec![(SecurityPolicy::None, MessageSecurityMode::None)],
            users: vec![(UserTokenType::Anonymous, None)],
            session_timeout: (Duration::from_secs(1), Duration::from_secs(3600)),
            most_sessions: 20,
        };
        let shortest = (Duration::from_millis(5), Duration::from_secs(3600));
        // Every value is told, and not only those that the server sees when it looks.
        let every_change = (Duration::ZERO, Duration::ZERO);
        let limits =
            ServerLimits { publishing_interval: shortest, sampling_interval: every_change, ..ServerLimits::default() };
        let server = Server::new(Sessions::new(description), space(), limits, &[]);
        let config = HostConfig {
            limits: TransportLimits::default(),
            longest_token: Duration::from_secs(3600),
            timeout: Duration::from_secs(10),
            most_channels: 20,
            trust: Arc::new(|_| Ok(())),
        };
        let host = Host::new(server, Machines::default(), Everybody, config);
        tokio::spawn(Arc::clone(&host).serve(listener, stop.clone()));
        let growing = Arc::clone(&host);
        tokio::spawn(stop.clone().run_until_cancelled_owned(async move {
            loop {
                tokio::time::sleep(GROWS).await;
                growing.with(|server, machines, (_, wall)| {
                    machines.kept += 1;
                    let value = Some(machines.kept.into());
                    let value = DataValue { value, source_time: Some(wall), ..DataValue::default() };
                    server.set_value(&node("one", "kept"), value, wall);
                    for device in ["one", "two"] {
                        let count = node(device, "count");
                        if server.is_watched(&count) {
                            let told = &mut machines.machines.entry(device.to_owned()).or_default().told;
                            *told += 1;
                            let value = Some(u32::try_from(*told).unwrap().into());
                            let value = DataValue { value, source_time: Some(wall), ..DataValue::default() };
                            server.set_value(&count, value, wall);
                        }
                    }
                });
            }
        }));
        let line = Line::new(behind, b"MSGF\x20\0\0\0nonsense that nobody asked for");
        line.connect(false).await;
        Self { host, line, _stop: stop.drop_guard() }
    }

    fn description(&self, devices: &[&str], with_more: &[&str]) -> Description {
        let mut main = format!(
            "[gateway]\nname = \"g\"\n[rates]\nfast = \"10ms\"\n[[link]]\nname = \"plc\"\nprotocol = \"opcua\"\nurl = \"opc.tcp://{}\"\n\
             security = \"none\"\ntimeout = \"200ms\"\nreconnect-limit = \"50ms\"\n",
            self.line.address
        );
        let mut files = Files::new();
        for device in devices {
            main.push_str(&format!("[[device]]\nname = \"{device}\"\nlink = \"plc\"\nstart = \"/1:{device}\"\n"));
            let more = if with_more.contains(device) { "more,/1:more,uint16,fast,read\n" } else { "" };
            let list = format!(
                "name,address,type,rate,access\ncount,/1:count,uint32,fast,read\n\
                 set-point,ns=1;s={device}.set-point,uint16,fast,read-write\n{more}"
            );
            files.insert(format!("points/{device}.csv"), list);
        }
        files.insert("gateway.toml".to_owned(), main);
        read(&files).unwrap()
    }

    fn told(&self, device: &str) -> u64 {
        self.with(device, |machine| machine.told)
    }

    fn silence(&self, device: &str, is_silent: bool) {
        self.host.with(|server, _, _| server.hold(&node(device, "count"), is_silent));
    }

    fn takes_writes(&self, device: &str, how: Writes) {
        self.with(device, |machine| machine.writes = Some(how));
    }

    fn written(&self, device: &str) -> Vec<u64> {
        self.with(device, |machine| machine.written.clone())
    }

    fn cut(&self) {
        self.line.cut();
    }

    async fn mend(&self) {
        self.line.connect(false).await;
    }

    async fn flood(&self, is_flooding: bool) {
        self.line.connect(is_flooding).await;
    }
}

/// Keeps what is remembered as long as the test runs.
#[derive(Debug, Default)]
struct InMemory(Mutex<HashMap<String, Vec<u8>>>);

impl Keeper for InMemory {
    fn load(&self, place: String) -> Pin<Box<dyn Future<Output = Option<Vec<u8>>> + Send + '_>> {
        Box::pin(async move { self.0.lock().unwrap().get(&place).cloned() })
    }

    fn save(&self, place: String, content: Vec<u8>) -> Pin<Box<dyn Future<Output = bool> + Send + '_>> {
        Box::pin(async move { self.0.lock().unwrap().insert(place, content).is_none_or(|_| true) })
    }

    fn keep_events(
        &self,
        _: &str,
        _: Vec<interlex_core::SequenceEntry>,
    ) -> Pin<Box<dyn Future<Output = ()> + Send + '_>> {
        Box::pin(async {})
    }

    fn last_events(&self, _: &str) -> Pin<Box<dyn Future<Output = Option<Vec<KeptEvent>>> + Send + '_>> {
        Box::pin(async { None })
    }
}

/// Stands for values that are not to be had.
const LOST: u32 = u32::MAX;

type Told = Arc<Mutex<Vec<(u32, SampleKind)>>>;

/// A link that runs, with what is known of its points.
struct Watching {
    running: JoinHandle<()>,
    points: Arc<PointTable>,
    latest: Arc<LatestTable>,
    events: mpsc::Receiver<FieldEvent>,
    stop: CancellationToken,
}

impl Watching {
    fn start(field: &OpcUaField, keeper: &Arc<InMemory>, list: &str) -> Self {
        let mut files: Files = interlex_core::description::write(&field.description(&["one"], &[]));
        files.insert("points/one.csv".to_owned(), list.to_owned());
        let description = read(&files).unwrap();
        let points = Arc::new(PointTable::new(&description, &PointTable::default()));
        let latest = Arc::new(LatestTable::new(points.indices()));
        let (recent, listeners) = (Arc::new(RecentValues::default()), Listeners::default());
        recent.grow(points.indices());
        let (sender, events) = mpsc::channel(16);
        listeners.set(vec![sender]);
        let memories = Memories::default().of_gateway(Some(Arc::clone(keeper) as Arc<dyn Keeper>));
        let (known, clock) = (Arc::clone(&points), Arc::new(WallClock));
        let around = Surroundings { points: known, latest: Arc::clone(&latest), recent, listeners, memories, clock };
        let stop = CancellationToken::new();
        let (_, running) = start(&description, &description.links[0], &around, stop.clone());
        Self { running, points, latest, events, stop }
    }
}

/// A link that watches what has a history, and what it tells.
fn watching(field: &OpcUaField, keeper: &Arc<InMemory>) -> (JoinHandle<()>, Told, CancellationToken) {
    let list = "name,address,type,rate\nkept,/1:kept,uint32,fast\n";
    let Watching { running, mut events, stop, .. } = Watching::start(field, keeper, list);
    let told = Told::default();
    let into = Arc::clone(&told);
    tokio::spawn(async move {
        while let Some(event) = events.recv().await {
            let FieldEvent::Samples(samples) = event else { continue };
            let values = samples.iter().filter_map(|sample| match (&sample.value, sample.quality) {
                (Some(Value::Uint(number)), _) => Some((u32::try_from(*number).unwrap(), sample.kind)),
                (None, Quality::Bad(Reason::OpcUa(status))) if status == StatusCode::BAD_DATA_LOST.0 => {
                    Some((LOST, sample.kind))
                }
                _ => None,
            });
            into.lock().unwrap().extend(values);
        }
    });
    (running, told, stop)
}

async fn until(what: &str, holds: impl Fn() -> bool) {
    let waiting = async {
        while !holds() {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    };
    assert!(tokio::time::timeout(Duration::from_secs(60), waiting).await.is_ok(), "waited in vain: {what}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_gateway_missed_that_was_killed_is_had_back_from_history() {
    let (field, keeper) = (OpcUaField::start().await, Arc::new(InMemory::default()));
    let made = || field.host.with(|_, machines, _| machines.kept);
    let (running, before, _stop) = watching(&field, &keeper);
    until("it is remembered what was told", || {
        keeper.0.lock().unwrap().values().any(|content| content.len() > 50) && before.lock().unwrap().len() > 100
    })
    .await;
    running.abort();
    assert!(running.await.unwrap_err().is_cancelled(), "killed");
    let at_the_end = made();
    until("more has happened", || made() > at_the_end + 50).await;
    let (_running, after, _stop) = watching(&field, &keeper);
    let counts = |told: &Told| {
        let mut counts: BTreeMap<u32, u32> = BTreeMap::new();
        told.lock().unwrap().iter().for_each(|(value, _)| *counts.entry(*value).or_default() += 1);
        counts
    };
    until("all is told", || {
        let (before, after) = (counts(&before), counts(&after));
        let last = after.keys().next_back().copied().unwrap_or_default();
        let first = before.keys().next().copied().unwrap_or_default();
        last > at_the_end + 50 && (first..=last).all(|value| before.contains_key(&value) || after.contains_key(&value))
    })
    .await;
    assert!(counts(&after).values().all(|count| *count == 1), "each once: {:?}", counts(&after));
    let missed = |(value, kind): &(u32, SampleKind)| *kind == SampleKind::Past && *value > at_the_end;
    assert!(after.lock().unwrap().iter().filter(|told| missed(told)).count() > 40, "from history");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_method_is_called_once_by_its_object_with_what_it_takes() {
    let field = OpcUaField::start().await;
    let described = field.description(&["one"], &[]);
    let via = || Via { links: Vec::new(), memories: Memories::default(), clock: Arc::new(WallClock) };
    let point = |address: &str, arguments: &str| {
        let mut files: Files = interlex_core::description::write(&described);
        let list = format!("name,address,arguments,rate,access\nx,{address},\"{arguments}\",fast,read-write\n");
        files.insert("points/one.csv".to_owned(), list);
        Point::clone(&read(&files).unwrap().devices[0].points[0])
    };
    let (link, device) = (&described.links[0], &described.devices[0]);
    let call = async |address: &str, arguments: &str, value: bool| {
        let (point, value) = (point(address, arguments), Value::Bool(value));
        let wanted = PointWrite {
            link: link.clone(),
            device: device.clone(),
            point,
            value,
            relinquishes: Relinquish::No,
            index: None,
        };
        match write(&wanted, &via()).await {
            Ok(told) => told.words,
            Err(error) => error.outcome().to_string(),
        }
    };
    assert_eq!(call("ns=1;s=one.start", "[]", true).await, "accepted: the method was called, and gave 3");
    assert_eq!(call("/1:set", "[350]", true).await, "accepted: the method was called");
    assert_eq!(call("/1:reset", "[]", true).await, "accepted: the method was called, and gave 3");
    assert_eq!(
        field.host.with(|_, machines, _| std::mem::take(&mut machines.called)),
        [
            "ns=1;s=one ns=1;s=one.start []",
            "ns=1;s=one ns=1;s=one.set [Scalar(Float(350.0))]",
            "ns=1;s=one ns=1;s=one.reset []"
        ]
    );
    assert!(call("/1:set", "[900]", true).await.ends_with("BadOutOfRange"), "the server refuses");
    field.host.with(|_, machines, _| machines.called.clear());
    for (address, arguments, value, why) in [
        ("/1:start", "[]", false, "only true calls a method"),
        ("/1:start", "[1]", true, "the method takes no arguments; arguments has 1"),
        ("/1:set", "[]", true, "the method takes Power; arguments has 0"),
        ("/1:set", "[true]", true, "true does not fit Power"),
        (
            "ns=1;s=one.reset",
            "[]",
            true,
            "several objects have this method: its address has to be a path, which tells whose it is",
        ),
        ("/1:none", "[]", true, "server: the path leads nowhere: BadNoMatch"),
        ("/1:count", "[]", true, "server: BadMethodInvalid"),
        ("/1:locked", "[]", true, "server: BadNotExecutable"),
    ] {
        let said = call(address, arguments, value).await;
        assert!(said.starts_with("refused: ") && said.ends_with(why), "{address}: {said}");
    }
    assert!(field.host.with(|_, machines, _| machines.called.is_empty()), "nothing was called");

    let shows = async |address: &str| {
        let wanted = TrialRead {
            link: link.clone(),
            device: device.clone(),
            point: point(address, "[]"),
            neighbours: false,
            expected: None,
        };
        interlex_field::read(&wanted, &via()).await.map(|read| read.value)
    };
    assert_eq!(shows("/1:start").await.unwrap(), Some(Value::Bool(false)), "it may be called, and is not now");
    assert!(shows("/1:locked").await.unwrap_err().to_string().contains("BadNotExecutable"));
}

#[tokio::test(flavor = "multi_thread")]
async fn structures_of_older_servers_are_read_and_written_by_their_dictionary() {
    let field = OpcUaField::start().await;
    let mut files: Files = interlex_core::description::write(&field.description(&["one"], &[]));
    let list =
        "name,address,field,rate,access\nstarts,/1:counters,Starts,fast,read-write\nlast,/1:counters,Last,fast,\n";
    files.insert("points/one.csv".to_owned(), list.to_owned());
    let described = read(&files).unwrap();
    let (link, device) = (described.links[0].clone(), described.devices[0].clone());
    let via = Via { links: Vec::new(), memories: Memories::default(), clock: Arc::new(WallClock) };
    let values = async |device: &Device| {
        let mut values = Vec::new();
        for point in device.points.iter().map(|point| Point::clone(point)) {
            let (link, device) = (link.clone(), device.clone());
            let wanted = TrialRead { link, device, point, neighbours: false, expected: None };
            values.push(interlex_field::read(&wanted, &via).await.unwrap().value.unwrap().to_string());
        }
        values
    };
    assert_eq!(values(&device).await, ["1327", "knocks"]);
    let write = async |device: &Device, value: i64| {
        let (link, point) = (link.clone(), Point::clone(&device.points[0]));
        let wanted = PointWrite {
            link,
            device: device.clone(),
            point,
            value: Value::Int(value),
            relinquishes: Relinquish::No,
            index: None,
        };
        match write(&wanted, &via).await {
            Ok(told) => told.words,
            Err(error) => error.outcome().to_string(),
        }
    };
    let refused = write(&device, 42).await;
    assert!(refused.ends_with("the device allows it with read-modify-write"), "{refused}");
    let main = files["gateway.toml"].replace("start = ", "read-modify-write = true\nstart = ");
    files.insert("gateway.toml".to_owned(), main);
    let device = read(&files).unwrap().devices[0].clone();
    assert_eq!(write(&device, 42).await, "confirmed");
    assert_eq!(values(&device).await, ["42", "knocks"], "the rest is what it was");
    assert_eq!(write(&device, -1).await, "refused: -1 does not fit uint32");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_had_back_is_marked_among_the_values() {
    let (field, keeper) = (OpcUaField::start().await, Arc::new(InMemory::default()));
    let (_running, told, _stop) = watching(&field, &keeper);
    until("some values are told", || told.lock().unwrap().len() > 20).await;
    assert!(told.lock().unwrap().iter().all(|(value, _)| *value != LOST));
    field.host.with(|server, _, _| {
        server.offer("TransferSubscriptionsRequest", false);
        server.offer("HistoryReadRequest", false);
        server.end_sessions();
    });
    until("the gap is marked", || told.lock().unwrap().contains(&(LOST, SampleKind::Past))).await;
    until("values go on", || told.lock().unwrap().iter().skip_while(|told| told.0 != LOST).count() > 20).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_node_says_of_its_values_is_taken_where_the_list_leaves_it_to_the_node() {
    let field = OpcUaField::start().await;
    let list = "name,address,auto,rate,low\nmode,/1:mode,words;title,fast,\npower,/1:power,unit;range,fast,\n\
                plain,/1:power,,fast,\nlimited,/1:power,unit,fast,5\n";
    let Watching { points, latest, mut events, stop: _stop, .. } = Watching::start(&field, &Arc::default(), list);
    let retyped = Arc::new(AtomicU32::new(0));
    let counted = Arc::clone(&retyped);
    tokio::spawn(async move {
        while let Some(event) = events.recv().await {
            counted.fetch_add(u32::from(matches!(event, FieldEvent::Retyped(_))), Ordering::Relaxed);
        }
    });
    let shows = |name: &str| {
        let info = points.find("one", name).unwrap();
        let (point, reading) = (info.point(), latest.read(info.index).unwrap());
        let interlex_core::description::PointTraits { unit, low, high, .. } = &*point.settings.traits;
        let title = &point.settings.title;
        let value = reading.value.map(|value| value.to_string()).unwrap_or_default();
        format!("{value} {unit} {low:?} {high:?} {title} {:?}", reading.quality)
    };
    until("all are read", || points.all().iter().all(|info| !shows(info.name()).starts_with(' '))).await;
    assert_eq!(shows("mode"), "running  None None Mode of the machine Good");
    assert_eq!(shows("power"), "480 kW Some(0.0) Some(400.0)  Uncertain(OutOfRange)");
    assert_eq!(shows("plain"), "480  None None  Good");
    assert_eq!(shows("limited"), "480 kW Some(5.0) None  Good");
    let types: Vec<_> = points.all().iter().map(|info| info.value_type().unwrap().to_string()).collect();
    assert_eq!(types, ["string(250)", "float64", "float64", "float64"]);

    let before = retyped.load(Ordering::Relaxed);
    field.host.with(|server, _, (_, wall)| {
        let value = |value: Variant, status| {
            let value = Some(value);
            DataValue { value, status, source_time: Some(wall), ..DataValue::default() }
        };
        server.set_value(&node("one", "power.unit"), value(unit("MW"), None), wall);
        server.set_value(&node("one", "power"), value(0.5.into(), Some(StatusCode(1 << 14))), wall);
    });
    until("the other unit is known", || shows("limited") == "0.5 MW Some(5.0) None  Uncertain(OutOfRange)").await;
    assert_eq!(shows("power"), "0.5 MW Some(0.0) Some(400.0)  Good");
    until("listeners are told", || retyped.load(Ordering::Relaxed) > before).await;
}
