use super::check::{Checked, Spot, findings};
use super::draft::Draft;
use super::memory::CheckMemory;
use super::points_file::PointsFile;
use super::problem::{Fault, Problem};
use super::schema::{self, ObjectKind};
use super::toml_file::{Content, Entry, Section, TomlFile};
use super::{Description, Files, MAIN_FILE, Severity};
use serde_json::{Map, Value};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Nobody reads more problems at a time.
const MOST_TOLD: usize = 2000;

/// Reads a description from its files.
///
/// # Errors
/// Every mistake in them, sorted by place.
pub fn read(files: &Files) -> Result<Description, Vec<Problem>> {
    check_files(files).into_result()
}

/// Checks a description in files: mistakes and warnings come with file, line and column.
#[must_use]
pub fn check_files(files: &Files) -> Checked {
    check_and_parse(files).0
}

/// Checks a description in files, and takes them apart as [`parse`] does where that can be done.
#[must_use]
pub fn check_and_parse(files: &Files) -> (Checked, Option<Draft>) {
    let mut checked = Checked { description: None, problems: Vec::new() };
    let (main, problems) = Source::main(files);
    let Some(toml) = main else {
        checked.add(problems);
        return (checked, None);
    };
    let (source, mut draft, more) = Source::new(&toml, files);
    let is_whole = problems.is_empty() && more.is_empty();
    let (description, mut found, _) = findings(&draft, &CheckMemory::default());
    found.sort_by_key(|(_, fault)| fault.severity != Severity::Mistake);
    checked.description = description;
    let beyond = found.len().saturating_sub(MOST_TOLD);
    let unsaid = (beyond > 0).then(|| {
        let message = format!("{beyond} problems are not told");
        let problem = Problem::of_file(MAIN_FILE, (0, 0), message, "those that are told mended first");
        Problem { severity: Severity::Warning, ..problem }
    });
    let told = found.into_iter().take(MOST_TOLD).map(|(spot, fault)| {
        let (file, (line, column)) = source.place(&spot, &fault);
        let Fault { key, message, expected, severity, .. } = fault;
        let problem = Problem::of_object(spot.object(&draft), &key, severity, message, expected);
        Problem { file: file.to_owned(), line, column, ..problem }
    });
    checked.add(problems.into_iter().take(MOST_TOLD).chain(more.into_iter().take(MOST_TOLD)).chain(told).chain(unsaid));
    drop(source);
    draft.complete_lists();
    (checked, is_whole.then_some(draft))
}

/// Takes files apart into objects, without asking whether they make sense.
///
/// # Errors
/// What could not be kept in objects: mistakes of TOML and CSV, unknown tables and columns.
pub fn parse(files: &Files) -> Result<Draft, Vec<Problem>> {
    let (main, mut problems) = Source::main(files);
    let Some(toml) = main else { return Err(problems) };
    let (_, mut draft, more) = Source::new(&toml, files);
    problems.extend(more);
    draft.complete_lists();
    if problems.is_empty() { Ok(draft) } else { Err(problems) }
}

/// The files of a description, with what is needed to say where an object stands.
struct Source<'a> {
    toml: &'a TomlFile<'a>,
    gateway: Option<&'a Section>,
    rates: Option<&'a Section>,
    links: &'a [Section],
    devices: &'a [Section],
    uplinks: &'a [Section],
    lists: BTreeMap<&'a str, PointsFile<'a>>,
}

impl<'a> Source<'a> {
    fn main(files: &'a Files) -> (Option<TomlFile<'a>>, Vec<Problem>) {
        let Some(text) = files.get(MAIN_FILE) else {
            let expected = format!("a directory with a {MAIN_FILE}");
            return (None, vec![Problem::of_file(MAIN_FILE, (0, 0), "the file is missing", &expected)]);
        };
        match TomlFile::parse(text) {
            Ok(toml) => (Some(toml), Vec::new()),
            Err(errors) => {
                let problem = |error: super::toml_file::SyntaxError| {
                    Problem::of_file(MAIN_FILE, error.place, error.message, "TOML")
                };
                (None, errors.into_iter().map(problem).collect())
            }
        }
    }

    fn new(toml: &'a TomlFile<'a>, files: &'a Files) -> (Self, Draft, Vec<Problem>) {
        let mut source =
            Self { toml, gateway: None, rates: None, links: &[], devices: &[], uplinks: &[], lists: BTreeMap::new() };
        let mut problems = Vec::new();
        for entry in &toml.entries {
            match (entry.name.as_str(), &entry.content) {
                ("gateway", Content::Table(section)) => source.gateway = Some(section),
                ("rates", Content::Table(section)) => source.rates = Some(section),
                ("link", Content::Tables(sections)) => source.links = sections,
                ("device", Content::Tables(sections)) => source.devices = sections,
                ("uplink", Content::Tables(sections)) => source.uplinks = sections,
                _ => problems.push(unknown_entry(entry)),
            }
        }
        let objects = |sections: &[Section]| sections.iter().map(|section| section.object.clone()).collect();
        let map = |section: Option<&Section>| -> Map<String, Value> {
            section.and_then(|section| section.object.as_object().cloned()).unwrap_or_default()
        };
        let mut draft = Draft {
            gateway: map(source.gateway),
            rates: map(source.rates),
            links: objects(source.links),
            devices: objects(source.devices),
            uplinks: objects(source.uplinks),
            lists: BTreeMap::new(),
        };
        for (path, text) in files.iter().filter(|(path, _)| path.ends_with(".csv")) {
            let (mut list, faults) = PointsFile::parse(text, schema::of(ObjectKind::Row));
            problems.extend(
                faults.into_iter().map(|(place, fault)| Problem::of_file(path, place, fault.message, &fault.expected)),
            );
            draft.lists.insert(path.clone(), Arc::new(list.take_rows()));
            source.lists.insert(path, list);
        }
        (source, draft, problems)
    }

    /// The file, and line and column in it, of a fault.
    fn place(&self, spot: &Spot<'_>, fault: &Fault) -> (&'a str, (u32, u32)) {
        let section = match *spot {
            Spot::Point(list, at) => {
                let Some((path, file)) = self.lists.get_key_value(list) else { return (MAIN_FILE, (0, 0)) };
                return (path, file.place(at, &fault.key));
            }
            Spot::Rate(name) => {
                let place = self.rates.map(|section| self.toml.place(section, name, false));
                return (MAIN_FILE, place.unwrap_or_default());
            }
            Spot::Gateway => self.gateway,
            Spot::Link(at) => self.links.get(at),
            Spot::Device(at) => self.devices.get(at),
            Spot::Uplink(at) => self.uplinks.get(at),
        };
        let place = section.map(|section| self.toml.place(section, &fault.key, fault.is_about_key));
        (MAIN_FILE, place.unwrap_or_default())
    }
}

fn unknown_entry(entry: &Entry) -> Problem {
    let (message, expected) = match entry.name.as_str() {
        name @ ("gateway" | "rates") => (format!("{name} is no table"), format!("[{name}]")),
        name @ ("link" | "device" | "uplink") => (format!("{name} is no list of tables"), format!("[[{name}]]")),
        name => {
            let all = "[gateway], [rates], [[link]], [[device]] and [[uplink]]";
            (format!("{name} is no known table"), all.to_owned())
        }
    };
    Problem::of_file(MAIN_FILE, entry.place, message, &expected)
}
