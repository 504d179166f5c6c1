//! What holds for descriptions whatever they describe: files, drafts, differences and imports tell the same.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::{
    Cell, Change, CheckMemory, Checked, Description, Difference, Draft, Files, MAIN_FILE, Others, Row, SheetWishes,
    check, check_since, difference, import_points, parse, points_csv, read, update,
};
use proptest::prelude::*;
use serde_json::Value;
use std::fmt::Write as _;

/// A point in a list: what tells it apart, and what is said of it.
#[derive(Debug, Clone)]
struct Line {
    name: usize,
    address: u16,
    data_type: &'static str,
    scale: Option<f64>,
    title: String,
    rate: &'static str,
}

#[derive(Debug, Clone)]
struct Works {
    title: String,
    /// Ports of links, by their numbers.
    links: Vec<u16>,
    /// Link and points of devices; each is a unit of its own.
    devices: Vec<(usize, Vec<Line>)>,
    has_uplink: bool,
}

/// Titles as people give them: with what files, cells and spreadsheets set apart.
fn title() -> impl Strategy<Value = String> {
    let odd = ["", "Gas, wet", "\"Digester\" 1", "=1+1", "'quoted'", "tank; north", "ä · ü", "a # b", "\\back", " x"];
    prop_oneof![3 => proptest::sample::select(odd.to_vec()).prop_map(str::to_owned), 1 => "[a-zA-Z0-9,;\"'#=\\\\ ]{0,12}"]
        // Ends are of no account in a title.
        .prop_map(|title| title.trim().to_owned())
}

fn row() -> impl Strategy<Value = Line> {
    let data_type = proptest::sample::select(vec!["uint16", "int16", "uint32", "float32", "int64"]);
    let scale = proptest::option::of(proptest::sample::select(vec![0.1, 0.01, 2.5, 1.0]));
    (0_usize..12, 0_u16..400, data_type, scale, title(), proptest::sample::select(vec!["fast", "slow"])).prop_map(
        |(name, address, data_type, scale, title, rate)| Line { name, address, data_type, scale, title, rate },
    )
}

fn works() -> impl Strategy<Value = Works> {
    let rows = prop::collection::vec(row(), 0..8).prop_map(|mut rows| {
        // Names are unique in a device, and no two points share registers.
        rows.sort_by_key(|row| row.name);
        rows.dedup_by_key(|row| row.name);
        rows.iter_mut()
            .enumerate()
            .for_each(|(at, row)| row.address = row.address % 40 + 50 * u16::try_from(at).unwrap());
        rows
    });
    let devices = prop::collection::vec((any::<prop::sample::Index>(), rows), 0..4);
    (title(), prop::collection::vec(1_u16..4, 1..4), devices, any::<bool>()).prop_map(
        |(title, ports, devices, has_uplink)| {
            let mut links = ports;
            links.sort_unstable();
            links.dedup();
            let devices = devices.into_iter().map(|(link, rows)| (link.index(links.len()), rows)).collect();
            Works { title, links, devices, has_uplink }
        },
    )
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

impl Works {
    fn files(&self) -> Files {
        let mut main = format!(
            "# The works by the river.\n[gateway]\nname = \"alderfen-1\"\ntitle = {}\n\n[rates]\nfast = \"1s\" # what moves\nslow = \"1m\"\n",
            quoted(&self.title)
        );
        for port in &self.links {
            let _ = write!(
                main,
                "\n[[link]]\n# Port {port} of the switch.\nname = \"bus-{port}\"\nprotocol = \"modbus-tcp\"\nhost = \"10.20.0.{port}\"\n"
            );
        }
        let mut files = Files::new();
        for (at, (link, rows)) in self.devices.iter().enumerate() {
            let port = self.links[*link];
            let _ = write!(main, "\n[[device]]\nname = \"device-{at}\"\nlink = \"bus-{port}\"\nunit = {}\n", at + 1);
            let mut list = csv_line(&["name", "address", "type", "scale", "rate", "title"]);
            for row in rows {
                let scale = row.scale.map_or_else(String::new, |scale| scale.to_string());
                let (name, address) = (format!("point-{}", row.name), format!("input:{}", row.address));
                list += &csv_line(&[&name, &address, row.data_type, &scale, row.rate, &row.title]);
            }
            files.insert(format!("points/device-{at}.csv"), list);
        }
        if self.has_uplink {
            main += "\n[[uplink]]\nname = \"cloud\"\nkind = \"sparkplug\"\nurl = \"mqtt://broker.example\"\ngroup = \"alderfen\"\nnode = \"works-1\"\n";
        }
        files.insert(MAIN_FILE.to_owned(), main);
        files
    }

    fn draft(&self) -> Draft {
        parse(&self.files()).unwrap()
    }
}

fn csv_line(cells: &[&str]) -> String {
    let cell = |cell: &&str| format!("\"{}\"", cell.replace('"', "\"\""));
    cells.iter().map(cell).collect::<Vec<_>>().join(",") + "\n"
}

/// What becomes of objects: how many are new, changed and gone.
fn counts(difference: &Difference) -> (usize, usize, usize) {
    let count = |wanted| difference.objects.iter().filter(|object| object.change == wanted).count();
    (count(Change::Added), count(Change::Changed), count(Change::Removed))
}

fn cells(rows: &[Row], key: &str) -> Vec<String> {
    rows.iter().map(|row| row.text(key).unwrap_or_default().to_owned()).collect()
}

/// A row with another cell.
fn with(row: &Row, key: &str, value: &Value) -> Row {
    row.cells().chain([(key, Cell::of(value))]).collect()
}

/// Something that somebody does to a draft, right or wrong. Places are taken by their remainder.
#[derive(Debug, Clone)]
enum Step {
    /// A row gets another cell.
    Cell(usize, usize, &'static str, Value),
    /// A copy of a row is put somewhere, perhaps under its own name.
    Copied(usize, usize, usize, bool),
    Removed(usize, usize),
    /// A device gets another key.
    Device(usize, &'static str, Value),
    /// The list of a device is that of another one.
    Shared(usize, usize),
    /// A rate comes or goes.
    Rate,
}

fn step() -> impl Strategy<Value = Step> {
    let cell = proptest::sample::select(vec![
        ("title", Value::from("Other")),
        ("title", Value::from("line\nline")),
        ("rate", Value::from("slow")),
        ("rate", Value::from("never")),
        ("address", Value::from("input:0")),
        ("address", Value::from("30001")),
        ("address", Value::from("nowhere")),
        ("type", Value::from("float32")),
        ("type", Value::from("uint99")),
        ("scale", Value::from(0.5)),
        ("scale", Value::from(1.0)),
        ("low", Value::from(9)),
        ("high", Value::from(3)),
        ("colour", Value::from("red")),
        ("name", Value::from("point-0")),
    ]);
    let key = proptest::sample::select(vec![
        ("unit", Value::from(9)),
        ("unit", Value::from("many")),
        ("base", Value::from(65_500)),
        ("base", Value::from(10)),
        ("max-registers", Value::from(1)),
        ("title", Value::from("Other")),
        ("link", Value::from("bus-1")),
        ("link", Value::from("no-bus")),
    ]);
    prop_oneof![
        6 => (any::<usize>(), any::<usize>(), cell).prop_map(|(list, row, (key, value))| Step::Cell(list, row, key, value)),
        2 => (any::<usize>(), any::<usize>(), any::<usize>(), any::<bool>())
            .prop_map(|(list, row, to, renamed)| Step::Copied(list, row, to, renamed)),
        2 => (any::<usize>(), any::<usize>()).prop_map(|(list, row)| Step::Removed(list, row)),
        3 => (any::<usize>(), key).prop_map(|(device, (key, value))| Step::Device(device, key, value)),
        1 => (any::<usize>(), any::<usize>()).prop_map(|(one, other)| Step::Shared(one, other)),
        1 => Just(Step::Rate),
    ]
}

impl Step {
    fn take(&self, draft: &mut Draft) {
        let of = |wanted: usize, count: usize| wanted.checked_rem(count);
        let mut rows = |list: usize, change: &dyn Fn(&mut Vec<Row>)| {
            let at = of(list, draft.lists.len());
            if let Some((_, rows)) = at.and_then(|at| draft.lists.iter_mut().nth(at)) {
                change(std::sync::Arc::make_mut(rows));
            }
        };
        match self {
            Self::Cell(list, row, key, value) => rows(*list, &|rows| {
                if let Some(at) = of(*row, rows.len()) {
                    rows[at] = with(&rows[at], key, value);
                }
            }),
            Self::Copied(list, row, to, renamed) => rows(*list, &|rows| {
                if let Some(at) = of(*row, rows.len()) {
                    let mut copy = rows[at].clone();
                    if *renamed {
                        copy = with(&copy, "name", &format!("copy-{}", rows.len()).into());
                    }
                    rows.insert(to % (rows.len() + 1), copy);
                }
            }),
            Self::Removed(list, row) => rows(*list, &|rows| {
                if let Some(at) = of(*row, rows.len()) {
                    rows.remove(at);
                }
            }),
            Self::Device(device, key, value) => {
                if let Some(at) = of(*device, draft.devices.len()) {
                    draft.devices[at][*key] = value.clone();
                }
            }
            Self::Shared(one, other) => {
                let count = draft.devices.len();
                if let (Some(one), Some(other)) = (of(*one, count), of(*other, count)) {
                    draft.devices[one]["points"] = format!("points/device-{other}.csv").into();
                }
            }
            Self::Rate => {
                if draft.rates.remove("slow").is_none() {
                    draft.rates.insert("slow".to_owned(), "1m".into());
                }
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(256))]

    #[test]
    fn what_is_checked_step_by_step_is_what_is_checked_at_once(
        works in works(),
        steps in prop::collection::vec(step(), 1..12),
    ) {
        let (mut draft, mut memory) = (works.draft(), CheckMemory::default());
        let mut before = draft.clone();
        for step in [None].into_iter().chain(steps.iter().map(Some)) {
            step.into_iter().for_each(|step| step.take(&mut draft));
            let (checked, known) = check_since(&draft, &memory);
            prop_assert_eq!(&checked, &check(&draft), "after {:?}", step);
            if let Some(description) = &checked.description {
                prop_assert_eq!(known.canonical(description), Draft::from(description), "after {:?}", step);
                // Points that run already are those of the description, wherever the draft came from.
                let parsed = parse(&draft.to_files()).unwrap();
                let (once_more, _) = check_since(&parsed, &CheckMemory::running(description));
                prop_assert_eq!(once_more.description.as_ref(), Some(description));
                let points = |description: &Description| description.devices.iter().flat_map(|device| device.points.to_vec()).collect::<Vec<_>>();
                let shared = points(description).iter().zip(points(&once_more.description.unwrap())).all(|(one, other)| std::sync::Arc::ptr_eq(one, &other));
                prop_assert!(shared, "after {:?}", step);
                // And of its canonical form, too.
                let canonical = known.canonical(description);
                let (again, _) = check_since(&canonical, &known);
                prop_assert_eq!(&again.description, &check(&canonical).description);
            }
            // What is not shared is compared row by row, with the same outcome.
            let parsed = |draft: &Draft| Draft { lists: draft.lists.iter().map(|(list, rows)| (list.clone(), rows.to_vec().into())).collect(), ..draft.clone() };
            prop_assert_eq!(difference(Some(&before), &draft), difference(Some(&parsed(&before)), &draft));
            (memory, before) = (known, draft.clone());
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    #[test]
    fn what_is_described_runs_and_reads_back_from_its_own_files(works in works()) {
        let draft = works.draft();
        let runs = matches!(check(&draft), Checked { description: Some(_), .. });
        prop_assert!(runs, "it has a mistake");
        let canonical = draft.clone().canonical();
        prop_assert_eq!(&canonical.clone().canonical(), &canonical, "there is one form");
        let files = canonical.to_files();
        let again = parse(&files).unwrap();
        prop_assert_eq!(&again.clone().canonical(), &canonical);
        prop_assert_eq!(again.to_files(), files.clone());
        let (from_files, from_hand) = (read(&files).unwrap(), read(&works.files()).unwrap());
        prop_assert_eq!(from_files, from_hand);
        let titles: Vec<_> = works.devices.iter().flat_map(|(_, rows)| rows).map(|row| row.title.clone()).collect();
        let told: Vec<_> = (0..works.devices.len())
            .flat_map(|at| cells(canonical.rows(&format!("points/device-{at}.csv")), "title"))
            .collect();
        prop_assert_eq!(told, titles, "no sign of a title is lost on the way");
    }

    #[test]
    fn a_difference_is_the_same_seen_from_either_side(before in works(), after in works()) {
        let (before, after) = (before.draft().canonical(), after.draft().canonical());
        prop_assert!(difference(Some(&before), &before).is_empty());
        let (there, back) = (difference(Some(&before), &after), difference(Some(&after), &before));
        let ((added, changed, removed), (added_back, changed_back, removed_back)) = (counts(&there), counts(&back));
        prop_assert_eq!((added, changed, removed), (removed_back, changed_back, added_back));
        prop_assert_eq!(there.is_empty(), before == after);
        let all = difference(None, &after);
        prop_assert!(all.objects.iter().all(|object| object.change == Change::Added), "against nothing all of it is new");
        // What does not change is not touched: a link goes on unless it, a device or a rate of it has changed.
        if before == after {
            prop_assert!(there.links.iter().chain(&there.uplinks).all(|part| part.why.is_empty()));
        }
    }

    #[test]
    fn files_written_by_hand_follow_a_description_and_keep_what_still_holds(before in works(), after in works()) {
        let (files, wanted) = (before.files(), after.draft().canonical());
        let updated = update(&files, &wanted).unwrap();
        // What stood there keeps its place; what is new comes behind it.
        let now = parse(&updated).unwrap().canonical();
        prop_assert!(difference(Some(&now), &wanted).objects.is_empty());
        prop_assert_eq!(update(&updated, &wanted).unwrap(), updated.clone(), "once is enough");
        let main = &updated[MAIN_FILE];
        prop_assert!(main.starts_with("# The works by the river.") && main.contains("# what moves"));
        for port in before.links.iter().filter(|port| after.links.contains(port)) {
            prop_assert!(main.contains(&format!("# Port {port} of the switch.")), "{}", main);
        }
    }

    #[test]
    fn a_list_that_is_taken_over_is_what_the_draft_has_then(before in works(), after in works()) {
        prop_assume!(!before.devices.is_empty() && !after.devices.is_empty());
        let list = "points/device-0.csv";
        let draft = before.draft().canonical();
        let own = draft.lists.get(list).cloned().unwrap_or_default();
        // Its own rows change nothing.
        let memory = check_since(&draft, &CheckMemory::default()).1;
        let (checked, wishes) = ((&draft, &memory), SheetWishes::default());
        let (same, import) = import_points(checked, list, &points_csv(&own, None), (Others::Go, &wishes));
        prop_assert_eq!((import.added.len(), import.changed.len(), import.removed.len(), import.same), (0, 0, 0, own.len()));
        prop_assert_eq!(same.canonical(), draft.clone());
        // The rows of another one, as a spreadsheet writes them: with the others gone it is that list.
        let wanted = after.draft().lists.get(list).cloned().unwrap_or_default();
        let text = format!("\u{feff}{}", after.files()[list].replace('\n', "\r\n"));
        let (taken, import) = import_points(checked, list, &text, (Others::Go, &wishes));
        prop_assert_eq!(&import, &import_points((&draft, &CheckMemory::default()), list, &text, (Others::Go, &wishes)).1);
        prop_assert!(import.problems.is_empty(), "{:?}", import.problems);
        prop_assert_eq!(import.added.len() + import.changed.len() + import.same, wanted.len());
        prop_assert_eq!(import.removed.len() + import.changed.len() + import.same, own.len());
        for key in ["name", "address", "title", "rate"] {
            let (mut has, mut wants) = (cells(&taken.lists[list], key), cells(&wanted, key));
            has.sort_unstable();
            wants.sort_unstable();
            prop_assert_eq!(has, wants, "{}", key);
        }
    }
}
