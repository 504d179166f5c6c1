use super::points_file::{PointsFile, Row};
use super::problem::{Fault, Problem};
use super::schema::{self, ObjectKind};
use super::toml_file::{Content, Entry, Section, TomlFile};
use super::{
    Description, Device, DeviceProtocol, DeviceSettings, Files, GatewaySettings, Link, LinkProtocol, LinkSettings,
    MAIN_FILE, ModbusDevice, ModbusTcpLink, Name, Point, PointSettings, Span, SparkplugUplink, check, names,
};
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::collections::BTreeMap;

/// Reads a description from its files.
///
/// # Errors
/// Every mistake in them, sorted by place.
pub fn read(files: &Files) -> Result<Description, Vec<Problem>> {
    let mut problems = Vec::new();
    let description = read_main(files, &mut problems);
    problems.sort();
    problems.dedup();
    description.filter(|_| problems.is_empty()).ok_or(problems)
}

fn read_main(files: &Files, problems: &mut Vec<Problem>) -> Option<Description> {
    let Some(text) = files.get(MAIN_FILE) else {
        let message = "the file is missing".to_owned();
        let expected = format!("a directory with a {MAIN_FILE}");
        let file = MAIN_FILE.to_owned();
        problems.push(Problem { file, line: 0, column: 0, object: String::new(), message, expected });
        return None;
    };
    match TomlFile::parse(text) {
        Err(errors) => {
            problems.extend(errors.into_iter().map(|error| Problem {
                file: MAIN_FILE.to_owned(),
                line: error.place.0,
                column: error.place.1,
                object: String::new(),
                message: error.message,
                expected: "TOML".to_owned(),
            }));
            None
        }
        Ok(toml) => Reader { files, toml: &toml, problems }.description(),
    }
}

struct Reader<'a> {
    files: &'a Files,
    toml: &'a TomlFile<'a>,
    problems: &'a mut Vec<Problem>,
}

/// Something read, with the section it was read from; `None` where it is not usable.
type Read<'a, T> = Vec<(&'a Section, Option<T>)>;

impl<'a> Reader<'a> {
    fn description(mut self) -> Option<Description> {
        let (mut gateway, mut rates) = (None, BTreeMap::new());
        let (mut links, mut devices, mut uplinks): (&[Section], &[Section], &[Section]) = (&[], &[], &[]);
        for entry in &self.toml.entries {
            match (entry.name.as_str(), &entry.content) {
                ("gateway", Content::Table(section)) => gateway = Some(section),
                ("rates", Content::Table(section)) => rates = self.rates(section),
                ("link", Content::Tables(sections)) => links = sections,
                ("device", Content::Tables(sections)) => devices = sections,
                ("uplink", Content::Tables(sections)) => uplinks = sections,
                _ => self.unknown_entry(entry),
            }
        }
        let gateway = match gateway {
            Some(section) => self.object::<GatewaySettings>(section, "gateway", ObjectKind::Gateway),
            None => {
                let fault = Fault::new("", "[gateway] is missing", "[gateway] with a name");
                self.problems.push(problem(MAIN_FILE, (0, 0), String::new(), fault));
                None
            }
        };
        let links = self.links(links);
        let devices = self.devices(devices, &links, &rates);
        let uplinks = self.uplinks(uplinks);
        Some(Description {
            gateway: gateway?,
            rates,
            links: links.into_iter().filter_map(|(_, link)| link).collect(),
            devices,
            uplinks: uplinks.into_iter().filter_map(|(_, uplink)| uplink).collect(),
        })
    }

    fn unknown_entry(&mut self, entry: &Entry) {
        let (message, expected) = match entry.name.as_str() {
            name @ ("gateway" | "rates") => (format!("{name} is no table"), format!("[{name}]")),
            name @ ("link" | "device" | "uplink") => (format!("{name} is no list of tables"), format!("[[{name}]]")),
            name => (
                format!("{name} is no known table"),
                "[gateway], [rates], [[link]], [[device]] and [[uplink]]".to_owned(),
            ),
        };
        self.problems.push(problem(MAIN_FILE, entry.place, String::new(), Fault::new("", message, expected)));
    }

    fn rates(&mut self, section: &Section) -> BTreeMap<Name, Span> {
        let mut rates = BTreeMap::new();
        for (key, value) in section.object.as_object().into_iter().flatten() {
            let name = names::is_name(key).then(|| serde_json::from_value(Value::from(key.as_str())).ok()).flatten();
            let span = value.as_str().and_then(|text| text.parse::<Span>().ok());
            if name.is_none() {
                self.fault(section, "rates", Fault::new(key, format!("{key:?} is no name"), names::NAME_FORM));
            }
            if span.is_none() {
                self.fault(section, "rates", Fault::new(key, format!("{key} is {value}"), Span::FORM));
            }
            // A name whose span is wrong is known all the same, so that its users are not faulted too.
            if let Some(name) = name {
                rates.insert(name, span.unwrap_or(Span::from_millis(1000)));
            }
        }
        rates
    }

    fn links(&mut self, sections: &'a [Section]) -> Read<'a, Link> {
        let mut links = Read::new();
        for section in sections {
            let label = label("link", section);
            let link = self.word(section, &label, "protocol", &["modbus-tcp"]).and_then(|_| {
                let settings = self.object::<LinkSettings>(section, &label, ObjectKind::ModbusTcpLink)?;
                let protocol = LinkProtocol::ModbusTcp(part::<ModbusTcpLink>(&section.object)?);
                Some(Link { settings, protocol })
            });
            links.push((section, link));
        }
        self.unique("link", sections);
        links
    }

    fn devices(&mut self, sections: &[Section], links: &Read<'_, Link>, rates: &BTreeMap<Name, Span>) -> Vec<Device> {
        let mut devices: Vec<Device> = Vec::new();
        let mut units = BTreeMap::new();
        for section in sections {
            let label = label("device", section);
            self.link_of(section, &label, links);
            let Some(settings) = self.object::<DeviceSettings>(section, &label, ObjectKind::ModbusDevice) else {
                continue;
            };
            let Some(modbus) = part::<ModbusDevice>(&section.object) else { continue };
            let unit = (settings.link.clone(), modbus.unit);
            if let Some(before) = units.insert(unit, settings.name.clone()) {
                let message = format!("unit {} on link {:?} is device {before:?}", modbus.unit, settings.link.as_str());
                self.fault(section, &label, Fault::new("unit", message, "a unit of its own"));
            }
            let protocol = DeviceProtocol::Modbus(modbus);
            let points = self.points(section, &label, &settings, &protocol, rates);
            devices.push(Device { settings, protocol, points });
        }
        self.unique("device", sections);
        devices
    }

    fn link_of(&mut self, section: &Section, label: &str, links: &Read<'_, Link>) {
        let Some(wanted) = section.object.get("link").and_then(Value::as_str) else { return };
        let names = || links.iter().filter_map(|(section, _)| section.object.get("name")?.as_str());
        if !names().any(|name| name == wanted) {
            let expected = reference("link", wanted, names());
            self.fault(section, label, Fault::new("link", format!("there is no link {wanted:?}"), expected));
        }
    }

    fn uplinks(&mut self, sections: &'a [Section]) -> Read<'a, SparkplugUplink> {
        let mut uplinks = Read::new();
        let mut nodes = BTreeMap::new();
        for section in sections {
            let label = label("uplink", section);
            let uplink = self
                .word(section, &label, "kind", &["sparkplug"])
                .and_then(|_| self.object::<SparkplugUplink>(section, &label, ObjectKind::SparkplugUplink));
            if let Some(uplink) = &uplink
                && let Some(before) = nodes.insert((uplink.group.clone(), uplink.node.clone()), uplink.name.clone())
            {
                let message = format!("{}/{} is the node of uplink {before:?}", uplink.group, uplink.node);
                self.fault(section, &label, Fault::new("node", message, "a group and node of its own"));
            }
            uplinks.push((section, uplink));
        }
        self.unique("uplink", sections);
        uplinks
    }

    fn points(
        &mut self,
        section: &Section,
        label: &str,
        device: &DeviceSettings,
        protocol: &DeviceProtocol,
        rates: &BTreeMap<Name, Span>,
    ) -> Vec<Point> {
        let Some(text) = self.files.get(&device.points) else {
            let message = format!("there is no file {:?}", device.points);
            self.fault(section, label, Fault::new("points", message, "a CSV file beside gateway.toml"));
            return Vec::new();
        };
        let schema = schema::of(ObjectKind::Point);
        let (file, faults) = PointsFile::parse(text, schema);
        let mut found: Vec<((u32, u32), String, Fault)> =
            faults.into_iter().map(|(place, fault)| (place, String::new(), fault)).collect();
        let mut told = |row: &Row, fault: Fault| found.push((file.place(row, &fault.key), point_label(row), fault));
        let mut points: Vec<(&Row, Point)> = Vec::new();
        for row in &file.rows {
            let mut faults = schema.faults(&row.object);
            if let (true, Some(settings)) = (faults.is_empty(), part::<PointSettings>(&row.object)) {
                if !rates.contains_key(&settings.rate) {
                    let expected = reference("rate", settings.rate.as_str(), rates.keys().map(Name::as_str));
                    let message = format!("there is no rate {:?}", settings.rate.as_str());
                    faults.push(Fault::new("rate", message, expected));
                }
                let (address, more) = check::point(&settings, protocol);
                faults.extend(more);
                if let Some(address) = address {
                    points.push((row, Point { settings, address }));
                }
            }
            faults.into_iter().for_each(|fault| told(row, fault));
        }
        let names = file.rows.iter().map(|row| row.object.get("name").and_then(Value::as_str).unwrap_or_default());
        let named: Vec<_> = names.zip(&file.rows).filter(|(name, _)| !name.is_empty()).collect();
        for (at, fault) in check::duplicates(named.iter().map(|(name, _)| *name)) {
            named.get(at).into_iter().for_each(|(_, row)| told(row, fault.clone()));
        }
        let extents: Vec<_> = points.iter().map(|(_, point)| (&point.settings, point.address)).collect();
        for (at, fault) in check::clashes(&extents) {
            points.get(at).into_iter().for_each(|(row, _)| told(row, fault.clone()));
        }
        let problems = found.into_iter().map(|(place, point, fault)| problem(&device.points, place, point, fault));
        self.problems.extend(problems);
        points.into_iter().map(|(_, point)| point).collect()
    }

    /// Reads one object by its schema; tells what is wrong with it.
    fn object<T: DeserializeOwned>(&mut self, section: &Section, label: &str, kind: ObjectKind) -> Option<T> {
        let faults = schema::of(kind).faults(&section.object);
        let is_right = faults.is_empty();
        for fault in faults {
            self.fault(section, label, fault);
        }
        if is_right { part(&section.object) } else { None }
    }

    /// The word that says which schema a section follows.
    fn word(&mut self, section: &Section, label: &str, key: &str, known: &[&str]) -> Option<()> {
        let word = section.object.get(key);
        if word.and_then(Value::as_str).is_some_and(|word| known.contains(&word)) {
            return Some(());
        }
        let message = word.map_or_else(|| format!("{key} is missing"), |word| format!("{key} is {word}"));
        let known: Vec<_> = known.iter().map(|word| format!("{word:?}")).collect();
        self.fault(section, label, Fault::new(key, message, format!("{key} = {}", known.join(" or "))));
        None
    }

    fn unique(&mut self, what: &str, sections: &[Section]) {
        let named: Vec<_> =
            sections.iter().filter_map(|section| Some((section, section.object.get("name")?.as_str()?))).collect();
        for (at, fault) in check::duplicates(named.iter().map(|(_, name)| *name)) {
            if let Some((section, _)) = named.get(at) {
                self.fault(section, &label(what, section), fault);
            }
        }
    }

    fn fault(&mut self, section: &Section, label: &str, fault: Fault) {
        let is_about_the_key = fault.message.ends_with("is no known key");
        let place = self.toml.place(section, &fault.key, is_about_the_key);
        self.problems.push(problem(MAIN_FILE, place, label.to_owned(), fault));
    }
}

fn problem(file: &str, place: (u32, u32), object: String, fault: Fault) -> Problem {
    let file = file.to_owned();
    Problem { file, line: place.0, column: place.1, object, message: fault.message, expected: fault.expected }
}

/// Reads the part of an object that one type describes; keys of its other parts are passed over.
fn part<T: DeserializeOwned>(object: &Value) -> Option<T> {
    serde_json::from_value(object.clone()).ok()
}

fn label(what: &str, section: &Section) -> String {
    match section.object.get("name").and_then(Value::as_str) {
        Some(name) => format!("{what} {name:?}"),
        None => what.to_owned(),
    }
}

fn point_label(row: &Row) -> String {
    row.object.get("name").and_then(Value::as_str).map_or_else(|| "point".to_owned(), |name| format!("point {name:?}"))
}

fn reference<'a>(what: &str, wanted: &str, known: impl Iterator<Item = &'a str> + Clone) -> String {
    if let Some(near) = schema::nearest(wanted, known.clone()) {
        return format!("{near:?}?");
    }
    let known: Vec<_> = known.map(|name| format!("{name:?}")).collect();
    if known.is_empty() { format!("a {what}; none is described") } else { format!("one of {}", known.join(", ")) }
}
