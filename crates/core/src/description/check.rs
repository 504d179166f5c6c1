use super::draft::{Draft, list_of, name_of, rate_object};
use super::memory::{CheckMemory, Kept, KnownList, KnownPoints};
use super::object::{ObjectClass, ObjectRef};
use super::problem::{Fault, Problem};
use super::row::Row;
use super::schema::{self, ObjectKind};
use super::settings::part;
use super::{
    Description, Device, DeviceProtocol, DeviceSettings, GatewaySettings, Link, LinkProtocol, LinkSettings, Name,
    Point, PointSettings, Protocol, Span, Uplink, UplinkKind, UplinkSettings, names, protocol, rules,
};
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// What a check found out.
#[derive(Debug, Clone, PartialEq)]
pub struct Checked {
    /// The description; `None` when mistakes keep it from running.
    pub description: Option<Description>,
    /// Every mistake and every warning, sorted by place.
    pub problems: Vec<Problem>,
}

impl Checked {
    /// The description, or the mistakes that keep it from running.
    ///
    /// # Errors
    /// All mistakes.
    pub fn into_result(self) -> Result<Description, Vec<Problem>> {
        let mistakes = self.problems.into_iter().filter(Problem::is_mistake).collect();
        self.description.ok_or(mistakes)
    }

    /// Adds problems that only the surroundings show, such as a name that another gateway has.
    pub fn add(&mut self, problems: impl IntoIterator<Item = Problem>) {
        self.problems.extend(problems);
        self.problems.sort();
        self.problems.dedup();
        if self.problems.iter().any(Problem::is_mistake) {
            self.description = None;
        }
    }
}

/// Checks a draft: finds everything that would not run, or would surprise.
#[must_use]
pub fn check(draft: &Draft) -> Checked {
    check_since(draft, &CheckMemory::default()).0
}

/// Checks a draft of which much may stand as it was at another check: that is not looked at again. Gives what the next one takes over.
#[must_use]
pub fn check_since(draft: &Draft, memory: &CheckMemory) -> (Checked, CheckMemory) {
    let (description, findings, memory) = findings(draft, memory);
    let problems = findings.into_iter().map(|(spot, fault)| {
        Problem::of_object(spot.object(draft), &fault.key, fault.severity, fault.message, fault.expected)
    });
    let mut checked = Checked { description, problems: Vec::new() };
    checked.add(problems);
    (checked, memory)
}

/// Where a fault is: an object of the draft by its place in it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Spot<'a> {
    Gateway,
    Rate(&'a str),
    Link(usize),
    Device(usize),
    Uplink(usize),
    Point(&'a str, usize),
}

impl Spot<'_> {
    /// The object's reference.
    pub(super) fn object(&self, draft: &Draft) -> ObjectRef {
        let named = |class, objects: &[Value], at: usize| ObjectRef::new(class, objects.get(at).map_or("", name_of));
        match *self {
            Self::Gateway => ObjectRef::new(ObjectClass::Gateway, draft.name()),
            Self::Rate(name) => ObjectRef::new(ObjectClass::Rate, name),
            Self::Link(at) => named(ObjectClass::Link, &draft.links, at),
            Self::Device(at) => named(ObjectClass::Device, &draft.devices, at),
            Self::Uplink(at) => named(ObjectClass::Uplink, &draft.uplinks, at),
            Self::Point(list, at) => {
                ObjectRef::point(list, draft.lists.get(list).and_then(|rows| rows.get(at)).map_or("", Row::name))
            }
        }
    }
}

/// A fault and where it is.
pub(super) type Finding<'a> = (Spot<'a>, Fault);

/// Everything that is wrong with a draft, and the description when nothing of it keeps it from running.
pub(super) fn findings<'a>(
    draft: &'a Draft,
    memory: &CheckMemory,
) -> (Option<Description>, Vec<Finding<'a>>, CheckMemory) {
    let mut checker = Checker { draft, memory, lists: HashMap::new(), findings: Vec::new() };
    let description = checker.description();
    let is_sound = checker.findings.iter().all(|(_, fault)| fault.severity != super::Severity::Mistake);
    let lists = checker.lists.into_iter().map(|(list, known)| (list.to_owned(), known)).collect();
    (description.filter(|_| is_sound), checker.findings, CheckMemory::of(lists))
}

/// More than a gateway can poll and anybody can look after.
const MOST_LINKS: usize = 2000;
const MOST_DEVICES: usize = 20_000;
const MOST_UPLINKS: usize = 100;
/// So many names are told of those that would do.
const NAMES_TOLD: usize = 12;

struct Checker<'a, 'm> {
    draft: &'a Draft,
    /// What an earlier check found.
    memory: &'m CheckMemory,
    /// What this one finds of the lists.
    lists: HashMap<&'a str, KnownList>,
    findings: Vec<Finding<'a>>,
}

impl<'a> Checker<'a, '_> {
    fn description(&mut self) -> Option<Description> {
        let counts = [
            ("links", self.draft.links.len(), MOST_LINKS),
            ("devices", self.draft.devices.len(), MOST_DEVICES),
            ("uplinks", self.draft.uplinks.len(), MOST_UPLINKS),
        ];
        for (what, count, most) in counts.into_iter().filter(|(_, count, most)| count > most) {
            let expected = format!("at most {most} in one gateway");
            self.fault(Spot::Gateway, Fault::new("", format!("there are {count} {what}"), expected));
        }
        if !self.findings.is_empty() {
            return None;
        }
        let gateway = self.gateway();
        let rates = self.rates();
        let links = self.links();
        self.lists(&rates);
        let devices = self.devices();
        let uplinks = self.uplinks();
        let links = links.into_iter().flatten().collect();
        let description = Description { gateway: gateway?, rates, links, devices, uplinks };
        self.whole(&description);
        Some(description)
    }

    fn gateway(&mut self) -> Option<GatewaySettings> {
        if self.draft.gateway.is_empty() {
            self.fault(Spot::Gateway, Fault::new("", "[gateway] is missing", "[gateway] with a name"));
            return None;
        }
        let object = Value::Object(self.draft.gateway.clone());
        let settings: Option<GatewaySettings> = self.object(Spot::Gateway, ObjectKind::Gateway, &object);
        let title = settings.as_ref().and_then(|settings| rules::one_line("title", &settings.title));
        title.into_iter().for_each(|fault| self.fault(Spot::Gateway, fault));
        settings
    }

    fn rates(&mut self) -> BTreeMap<Name, Span> {
        let mut rates = BTreeMap::new();
        for (key, value) in &self.draft.rates {
            let object = rate_object(key, value);
            let name = names::is_name(key).then(|| part::<Name>(&Value::from(key.as_str()))).flatten();
            let span = value.as_str().and_then(|text| text.parse::<Span>().ok());
            if name.is_none() {
                self.fault(Spot::Rate(key), Fault::new("name", format!("{key:?} is no name"), names::NAME_FORM));
            }
            if span.is_none() {
                let shown = object.get("period").unwrap_or(&Value::Null);
                self.fault(Spot::Rate(key), Fault::new("period", format!("{key} is {shown}"), Span::FORM));
            }
            // A name whose span is wrong is known all the same, so that its users are not faulted too.
            if let Some(name) = name {
                rates.insert(name, span.unwrap_or(Span::from_millis(1000)));
            }
        }
        rates
    }

    fn links(&mut self) -> Vec<Option<Link>> {
        let mut links = Vec::new();
        for (at, object) in self.draft.links.iter().enumerate() {
            let words: Vec<_> = ObjectKind::link_words().collect();
            let word = self.word(Spot::Link(at), object, "protocol", &words);
            links.push(word.and_then(|word| self.link(at, object, word)));
        }
        self.unique(Spot::Link, &self.draft.links);
        links
    }

    fn link(&mut self, at: usize, object: &Value, word: &str) -> Option<Link> {
        let settings = self.object::<LinkSettings>(Spot::Link(at), ObjectKind::of_link(word), object)?;
        let protocol = LinkProtocol::read(word, object)?;
        let faults = rules::one_line("title", &settings.title).into_iter().chain(protocol.fault());
        faults.for_each(|fault| self.fault(Spot::Link(at), fault));
        Some(Link { settings, protocol })
    }

    fn devices(&mut self) -> Vec<Device> {
        let mut devices: Vec<(usize, Device)> = Vec::new();
        let mut used = BTreeSet::new();
        let protocols = self.draft.protocols();
        for (at, object) in self.draft.devices.iter().enumerate() {
            let spot = || Spot::Device(at);
            self.link_of(at, object);
            let path = list_of(object);
            used.insert(path.clone().into_owned());
            let kind = ObjectKind::of_device(protocols.of(object));
            let Some(mut settings) = self.object::<DeviceSettings>(spot(), kind, object) else { continue };
            let ObjectKind::Device(protocol) = kind else { continue };
            let Some(protocol) = protocol.device(object) else { continue };
            let faults = rules::one_line("title", &settings.title).into_iter().chain(protocol.fault());
            faults.for_each(|fault| self.fault(spot(), fault));
            let points = match self.draft.lists.get_key_value(&*path) {
                Some((list, _)) => self.points(list, &protocol),
                None => {
                    let message = format!("there is no file {path:?}");
                    self.fault(spot(), Fault::new("points", message, "a CSV file beside gateway.toml"));
                    Arc::default()
                }
            };
            if self.draft.lists.get(&*path).is_some_and(|rows| rows.is_empty()) {
                self.fault(spot(), Fault::warning("points", "the device has no points", "a row in its point list"));
            }
            settings.points = path.into_owned();
            devices.push((at, Device { settings, protocol, points }));
        }
        for (at, fault) in Protocol::ALL.into_iter().flat_map(|protocol| protocol.among(&devices)) {
            self.fault(Spot::Device(at), fault);
        }
        self.unique(Spot::Device, &self.draft.devices);
        for list in self.draft.lists.keys().filter(|list| !used.contains(*list)) {
            let message = format!("no device uses the list {list:?}");
            self.fault(Spot::Point(list, 0), Fault::warning("", message, "a device with it, or no such list"));
        }
        devices.into_iter().map(|(_, device)| device).collect()
    }

    fn link_of(&mut self, at: usize, object: &Value) {
        let Some(wanted) = object.get("link").and_then(Value::as_str) else { return };
        let names = || self.draft.links.iter().map(name_of);
        if !names().any(|name| name == wanted) {
            let expected = reference("link", wanted, names());
            self.fault(Spot::Device(at), Fault::new("link", format!("there is no link {wanted:?}"), expected));
        }
    }

    fn uplinks(&mut self) -> Vec<Uplink> {
        let mut uplinks: Vec<Uplink> = Vec::new();
        let (mut nodes, mut clients) = (BTreeMap::new(), BTreeMap::new());
        for (at, object) in self.draft.uplinks.iter().enumerate() {
            let Some(uplink) = self.uplink(at, object) else { continue };
            let name = uplink.settings.name.clone();
            let client = uplink.mqtt_client_id(self.draft.name());
            if let UplinkKind::Sparkplug(own) = &uplink.kind
                && let Some(before) = nodes.insert((own.group.clone(), own.node.clone()), name.clone())
            {
                let message = format!("{}/{} is the node of uplink {:?}", own.group, own.node, before.as_str());
                self.fault(Spot::Uplink(at), Fault::new("node", message, "a group and node of its own"));
            } else if let Some(before) = clients.insert((uplink.settings.url.to_string(), client.clone()), name) {
                let message = format!("client id {client:?} is that of uplink {:?}", before.as_str());
                let expected = "another one: a broker keeps one client of a name";
                self.fault(Spot::Uplink(at), Fault::new("client-id", message, expected));
            }
            self.findings.extend(rules::broker(&uplink).into_iter().map(|fault| (Spot::Uplink(at), fault)));
            uplinks.push(uplink);
        }
        self.unique(Spot::Uplink, &self.draft.uplinks);
        uplinks
    }

    fn uplink(&mut self, at: usize, object: &Value) -> Option<Uplink> {
        let word = self.word(Spot::Uplink(at), object, "kind", &ObjectKind::UPLINKS.map(|(word, _)| word))?;
        let _: UplinkSettings = self.object(Spot::Uplink(at), ObjectKind::of_uplink(word), object)?;
        Uplink::read(object)
    }

    /// Checks every list once for each protocol of the devices that use it.
    fn lists(&mut self, rates: &BTreeMap<Name, Span>) {
        let mut protocols: BTreeMap<_, BTreeSet<_>> = BTreeMap::new();
        let known = self.draft.protocols();
        for device in &self.draft.devices {
            protocols.entry(list_of(device)).or_default().insert(ObjectKind::of_device(known.of(device)));
        }
        let rates: Arc<BTreeSet<String>> = Arc::new(rates.keys().map(|name| name.as_str().to_owned()).collect());
        for (list, rows) in &self.draft.lists {
            let kinds = protocols.get(list.as_str()).into_iter().flatten().filter_map(|kind| match kind {
                ObjectKind::Device(protocol) => Some(ObjectKind::Point(*protocol)),
                _ => None,
            });
            let mut kinds: Vec<_> = kinds.collect();
            if kinds.is_empty() {
                kinds.push(ObjectKind::Row);
            }
            let before = self.memory.lists.get(list).filter(|known| known.kinds == kinds && known.rates == rates);
            let known = match before {
                Some(before) if Arc::ptr_eq(&before.rows, rows) => KnownList { points: Vec::new(), ..before.clone() },
                before => list_checked(rows, kinds, &rates, before),
            };
            let faults = known.faults.iter().chain(&*known.duplicates);
            self.findings.extend(faults.map(|(at, fault)| (Spot::Point(list, *at), fault.clone())));
            self.lists.insert(list.as_str(), known);
        }
    }

    /// The points of a list as those of one device; shared by all devices that make the same of them. What is wrong for several
    /// devices is told once.
    fn points(&mut self, list: &'a str, protocol: &DeviceProtocol) -> Arc<[Arc<Point>]> {
        let Some(known) = self.lists.get_mut(list) else { return Arc::default() };
        let key = protocol.for_points();
        if let Some(points) = known.points_of(&key) {
            return Arc::clone(&points.points);
        }
        let before = self.memory.lists.get(list).filter(|before| before.kinds == known.kinds);
        let before = before.and_then(|before| Some((before.points_of(&key)?, before)));
        let made = match before {
            Some((points, before)) if Arc::ptr_eq(&before.rows, &known.rows) => Arc::clone(points),
            before => {
                let before = before.filter(|(_, before)| before.rates == known.rates);
                let mut make = |row: &Row| {
                    let Some(settings) = PointSettings::of_row(row) else { return (None, Vec::new()) };
                    let (point, mut faults) = rules::point(&settings, row, protocol);
                    faults.extend(point.as_ref().and_then(rules::safe_value));
                    (point, faults)
                };
                let before = before.map(|(points, list)| (&**points, list));
                let running = self.memory.that_run(list, &key);
                Arc::new(KnownPoints::new(protocol, known, before, running, &mut make))
            }
        };
        let faults = made.faults.iter().chain(&made.clashes);
        self.findings.extend(faults.map(|(at, fault)| (Spot::Point(list, *at), fault.clone())));
        known.points.push(Arc::clone(&made));
        Arc::clone(&made.points)
    }

    /// What shows only when all is put together.
    fn whole(&mut self, description: &Description) {
        for (at, link) in self.draft.links.iter().enumerate() {
            let Some(link) = description.links.iter().find(|known| known.settings.name.as_str() == name_of(link))
            else {
                continue;
            };
            let names_it =
                |device: &Value| device.get("link").and_then(Value::as_str) == Some(link.settings.name.as_str());
            if !self.draft.devices.iter().any(names_it) {
                self.fault(Spot::Link(at), Fault::warning("", "no device is behind this link", "a device, or no link"));
            }
            let mut same = description.links.iter().take_while(|other| other.settings.name != link.settings.name);
            if let Some(other) = same.find(|other| other.protocol.target() == link.protocol.target()) {
                let key = link.protocol.target_key();
                let (target, name) = (link.protocol.target(), other.settings.name.as_str());
                let message = format!("link {name:?} leads to {target} too");
                let expected = "one link for all units behind one address: many devices take one connection only";
                self.fault(Spot::Link(at), Fault::warning(key, message, expected));
            }
            self.findings.extend(protocol::load_fault(description, link).map(|fault| (Spot::Link(at), fault)));
        }
        if self.draft.uplinks.is_empty() {
            let expected = "an [[uplink]]; without one nothing leaves the gateway";
            self.fault(Spot::Gateway, Fault::warning("", "there is no uplink", expected));
        }
    }

    /// Reads one object by its schema; tells what is wrong with it.
    fn object<T: DeserializeOwned>(&mut self, spot: Spot<'a>, kind: ObjectKind, object: &Value) -> Option<T> {
        let faults = schema::of(kind).faults(object);
        let is_right = faults.is_empty();
        self.findings.extend(faults.into_iter().map(|fault| (spot.clone(), fault)));
        if is_right { part(object) } else { None }
    }

    /// The word that says which schema an object follows.
    fn word<'w>(&mut self, spot: Spot<'a>, object: &'w Value, key: &str, known: &[&str]) -> Option<&'w str> {
        let word = object.get(key);
        if let Some(known) = word.and_then(Value::as_str).filter(|word| known.contains(word)) {
            return Some(known);
        }
        let message = word.map_or_else(|| format!("{key} is missing"), |word| format!("{key} is {word}"));
        let known: Vec<_> = known.iter().map(|word| format!("{word:?}")).collect();
        self.fault(spot, Fault::new(key, message, format!("{key} = {}", known.join(" or "))));
        None
    }

    fn unique(&mut self, spot: impl Fn(usize) -> Spot<'a>, objects: &[Value]) {
        for (at, fault) in rules::duplicates(objects.iter().map(name_of)) {
            self.fault(spot(at), fault);
        }
    }

    fn fault(&mut self, spot: Spot<'a>, fault: Fault) {
        self.findings.push((spot, fault));
    }
}

/// Checks a list by itself, or what changed in it since it was checked.
fn list_checked(
    rows: &Arc<Vec<Row>>,
    kinds: Vec<ObjectKind>,
    rates: &Arc<BTreeSet<String>>,
    before: Option<&KnownList>,
) -> KnownList {
    let kept = before.map_or_else(Kept::default, |before| Kept::of(&before.rows, rows));
    let (mut sound, mut faults) = (Vec::with_capacity(rows.len()), Vec::new());
    let changed = kept.changed(rows.len());
    for (at, row) in rows.iter().enumerate().skip(changed.start).take(changed.len()) {
        let found: Vec<_> = kinds.iter().flat_map(|kind| schema::of(*kind).faults_of(row.cells())).collect();
        let is_sound = found.is_empty();
        faults.extend(found.into_iter().map(|fault| (at, fault)));
        let rate = row.text("rate").filter(|_| is_sound);
        if let Some(rate) = rate.filter(|rate| !rates.contains(*rate)) {
            let expected = reference("rate", rate, rates.iter().map(String::as_str));
            faults.push((at, Fault::new("rate", format!("there is no rate {rate:?}"), expected)));
        }
        sound.push((at, is_sound));
    }
    if let Some(before) = before {
        let known: Vec<_> = before.sound.iter().copied().enumerate().collect();
        sound = kept.renewed((&known, before.rows.len()), sound, rows.len());
        faults = kept.renewed((&before.faults, before.rows.len()), faults, rows.len());
    }
    KnownList {
        rows: Arc::clone(rows),
        kinds,
        rates: Arc::clone(rates),
        sound: sound.into_iter().map(|(_, is_sound)| is_sound).collect(),
        faults: faults.into(),
        duplicates: rules::duplicates(rows.iter().map(Row::name)).into(),
        kept,
        points: Vec::new(),
    }
}

fn reference<'a>(what: &str, wanted: &str, known: impl Iterator<Item = &'a str> + Clone) -> String {
    if let Some(near) = schema::nearest(wanted, known.clone().take(200)) {
        return format!("{near:?}?");
    }
    let mut names: Vec<_> = known.clone().take(NAMES_TOLD).map(|name| format!("{name:?}")).collect();
    if known.count() > NAMES_TOLD {
        names.push("…".to_owned());
    }
    if names.is_empty() { format!("a {what}; none is described") } else { format!("one of {}", names.join(", ")) }
}
