use super::difference::changed_fields;
use super::draft::{list_of, name_of};
use super::points_file::PointsFile;
use super::problem::Problem;
use super::row::Row;
use super::schema::{self, ObjectKind};
use super::sheet::{self, SheetColumn, SheetWishes};
use super::{CheckMemory, Content, Draft, FieldChange, ObjectClass, check_since, rules};
use crate::{NameRule, Offer};
use serde::Serialize;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// What taking over a point list would change, and what is wrong with it.
#[derive(Debug, Clone, PartialEq, Default, Serialize, utoipa::ToSchema)]
pub struct PointsImport {
    /// Points that are new.
    pub added: Vec<String>,
    /// Points that change.
    pub changed: Vec<PointChange>,
    /// Points that are gone.
    pub removed: Vec<String>,
    /// How many stay as they are.
    pub same: usize,
    /// Every mistake and warning in the list, by line and column.
    pub problems: Vec<Problem>,
    /// What was made of the columns of a list.
    pub columns: Vec<SheetColumn>,
    /// How many rows have no rate, where none was said for all of them.
    pub without_rate: usize,
    /// How many rows have a plain number for an address, and nobody said of what.
    pub without_table: usize,
}

/// A point that changes.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct PointChange {
    /// Its name.
    pub name: String,
    /// What changes about it.
    pub fields: Vec<FieldChange>,
}

/// Whether points that a list does not name stay.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Others {
    /// They stay.
    Stay,
    /// They go.
    Go,
}

/// Takes a point list over into a draft: as spreadsheets write them, see [`write`](super::write) for the columns.
///
/// The draft that comes back holds the rows, also when there are mistakes among them. What it has in common with one that was
/// checked before is not checked again.
#[must_use]
pub fn import_points(
    (draft, memory): (&Draft, &CheckMemory),
    list: &str,
    text: &str,
    (others, wishes): (Others, &SheetWishes),
) -> (Draft, PointsImport) {
    let (mut file, faults) = PointsFile::parse_sheet(text, schema::of(ObjectKind::Row), wishes);
    let columns = file.columns();
    let mut rows = file.take_rows();
    let known: HashMap<&str, &Row> = draft.rows(list).iter().map(|row| (row.name(), row)).collect();
    let missing =
        sheet::understand(&mut rows, wishes, |name| known.get(name).is_some_and(|row| row.get("rate").is_some()));
    // What the list has no column for stays as it is.
    for row in &mut rows {
        let Some(before) = known.get(row.name()) else { continue };
        let stays = before.cells().filter(|(key, _)| !file.has(key));
        *row = stays.chain(row.cells()).collect();
    }
    let placed = |place, message: String, expected: &str| Problem::of_file(list, place, message, expected);
    let mut problems: Vec<_> =
        faults.into_iter().map(|(place, fault)| placed(place, fault.message, &fault.expected)).collect();
    let wrong = sheet::wrong(&columns, schema::of(ObjectKind::Row));
    problems.extend(wrong.into_iter().map(|fault| placed((1, 1), fault.message, &fault.expected)));
    let lines: HashMap<&str, usize> = rows.iter().enumerate().rev().map(|(at, row)| (row.name(), at)).collect();
    for (at, _) in rows.iter().enumerate().filter(|(_, row)| row.name().is_empty()) {
        problems.push(placed(
            file.place(at, "name"),
            format!("row {} has no name", at + 1),
            "a name or a title in every row",
        ));
    }
    let mut twice = HashSet::new();
    for (at, fault) in rules::duplicates(rows.iter().map(Row::name)) {
        twice.extend(rows.get(at).map(|row| row.name().to_owned()));
        problems.push(placed(file.place(at, "name"), fault.message, &fault.expected));
    }

    let (after, mut import) = merged(draft, list, &rows, others);
    let of_list = |problem: &Problem| {
        let target = problem.target.as_ref()?;
        (target.class == ObjectClass::Point && target.list == list).then(|| target.name.clone())
    };
    for problem in check_since(&after, memory).0.problems {
        let Some(name) = of_list(&problem) else { continue };
        // Names have been told by row; that no device uses the list yet is no fault of its rows.
        let is_about_list = problem.field.is_empty() && !problem.is_mistake();
        // What is asked once for all rows is not told of each.
        let is_asked = problem.field == "rate"
            && missing.rates > 0
            && lines.get(name.as_str()).is_some_and(|at| rows.get(*at).is_some_and(|row| row.get("rate").is_none()));
        if name.is_empty() || is_about_list || is_asked || (problem.field == "name" && twice.contains(&name)) {
            continue;
        }
        let place = lines.get(name.as_str()).map(|at| file.place(*at, &problem.field));
        // What is wrong with points that the list does not name is told without a place.
        let (line, column) = place.unwrap_or_default();
        let file = if line > 0 { list.to_owned() } else { String::new() };
        problems.push(Problem { file, line, column, ..problem });
    }
    problems.sort();
    problems
        .dedup_by(|left, right| (left.line, left.column, &left.message) == (right.line, right.column, &right.message));
    import.problems = problems;
    import.columns = columns;
    (import.without_rate, import.without_table) = (missing.rates, missing.tables);
    (after, import)
}

/// Puts rows into a list, in the places of those of the same names, or behind all others.
fn merged(draft: &Draft, list: &str, rows: &[Row], others: Others) -> (Draft, PointsImport) {
    let lines: HashMap<&str, usize> = rows.iter().enumerate().rev().map(|(at, row)| (row.name(), at)).collect();
    let before = draft.rows(list);
    let mut import = PointsImport::default();
    let (mut merged, mut taken) = (Vec::with_capacity(before.len()), vec![false; rows.len()]);
    for known in before.iter().cloned() {
        let at = lines.get(known.name()).copied();
        match at.and_then(|at| Some((at, rows.get(at)?))) {
            Some((at, row)) => {
                taken.get_mut(at).into_iter().for_each(|taken| *taken = true);
                let name = row.name().to_owned();
                let of = |row| (ObjectKind::Row, Content::Row(row));
                let fields = changed_fields(&of(&known), &of(row));
                if fields.is_empty() {
                    import.same += 1;
                } else {
                    import.changed.push(PointChange { name, fields });
                }
                merged.push(row.clone());
            }
            None if others == Others::Stay => {
                import.same += 1;
                merged.push(known);
            }
            None => import.removed.push(known.name().to_owned()),
        }
    }
    for (row, _) in rows.iter().zip(&taken).filter(|(_, taken)| !**taken) {
        import.added.push(row.name().to_owned());
        merged.push(row.clone());
    }
    let mut after = draft.clone();
    after.lists.insert(list.to_owned(), Arc::new(merged));
    (after, import)
}

/// What taking offers over does.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct TakenOffers {
    /// The names that the offers get, in their order.
    pub names: Vec<String>,
    /// What it does to each list.
    pub lists: Vec<OffersImport>,
}

/// What taking offers over does to one list.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct OffersImport {
    /// Path of the list.
    pub list: String,
    /// The devices that use it.
    pub devices: Vec<String>,
    /// What changes in it, and what is wrong with it then.
    pub import: PointsImport,
}

/// Puts offers into lists of a draft, under names by a rule, and with a rate where they have none. What stays of points of the
/// same name is what the offers do not say.
///
/// The draft that comes back holds the rows, also when there are mistakes among them. What it has in common with one that was
/// checked before is not checked again.
#[must_use]
pub fn import_offers(
    (draft, memory): (&Draft, &CheckMemory),
    lists: &[String],
    offers: &[Offer],
    rule: &NameRule,
    rate: &str,
) -> (Draft, TakenOffers) {
    let rows: Vec<_> = offers.iter().map(|offer| offer.row(rule, rate)).collect();
    let (mut after, mut imports) = (draft.clone(), Vec::new());
    for list in lists {
        let known: HashMap<&str, &Row> = draft.rows(list).iter().map(|row| (row.name(), row)).collect();
        let with_known = |row: &Row| {
            let Some(before) = known.get(row.name()) else { return row.clone() };
            // What somebody has set of a point is not undone by a rate for all.
            let rate = before.get("rate").map(|rate| ("rate", rate));
            before.cells().chain(row.cells()).chain(rate).collect()
        };
        let rows: Vec<_> = rows.iter().map(with_known).collect();
        let import;
        (after, import) = merged(&after, list, &rows, Others::Stay);
        let devices = after.devices.iter().filter(|device| list_of(device) == list.as_str());
        let devices = devices.map(|device| name_of(device).to_owned()).collect();
        imports.push(OffersImport { list: list.clone(), devices, import });
    }
    let names: Vec<String> = offers.iter().map(|offer| rule.name(&offer.path)).collect();
    let new: HashSet<&str> = names.iter().map(String::as_str).collect();
    for problem in check_since(&after, memory).0.problems {
        let Some(target) = problem.target.as_ref().filter(|target| target.class == ObjectClass::Point) else {
            continue;
        };
        let is_about_list = problem.field.is_empty() && !problem.is_mistake();
        let import = imports.iter_mut().find(|import| import.list == target.list);
        if let Some(import) = import.filter(|_| new.contains(target.name.as_str()) && !is_about_list) {
            import.import.problems.push(problem);
        }
    }
    (after, TakenOffers { names, lists: imports })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::{Cell, Files, MAIN_FILE, parse};

    const MAIN: &str = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \"h\"\n\
                        [[device]]\nname = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
    const LIST: &str =
        "name,address,type,scale,rate,title\nflow,input:0,float32,,fast,\nlevel,input:2,uint16,0.1,fast,Level\n";

    fn draft() -> Draft {
        let files: Files = [(MAIN_FILE.to_owned(), MAIN.to_owned()), ("p.csv".to_owned(), LIST.to_owned())].into();
        parse(&files).unwrap()
    }

    fn told(import: &PointsImport) -> (Vec<&str>, Vec<&str>, Vec<&str>, usize) {
        let changed = import.changed.iter().map(|change| change.name.as_str()).collect();
        (
            import.added.iter().map(String::as_str).collect(),
            changed,
            import.removed.iter().map(String::as_str).collect(),
            import.same,
        )
    }

    #[test]
    fn a_list_as_a_spreadsheet_writes_it_is_taken_over_with_a_preview() {
        // A byte order mark, semicolons, decimal commas, capital headings, a title with a comma, an empty line.
        let sheet = "\u{feff}Name;Address;Type;Scale;Rate;Title\r\nlevel;input:2;uint16;0,01;fast;\"Level, wet\"\r\n\r\nph;30004;uint16;0,01;fast;\r\n";
        let (after, import) =
            import_points((&draft(), &CheckMemory::default()), "p.csv", sheet, (Others::Stay, &SheetWishes::default()));
        assert_eq!(import.problems, []);
        assert_eq!(told(&import), (vec!["ph"], vec!["level"], vec![], 1));
        let fields: Vec<_> = import.changed[0].fields.iter().map(|change| change.field.as_str()).collect();
        assert_eq!(fields, ["scale", "title"]);
        let rows = &after.lists["p.csv"];
        let level = ["scale", "title"].map(|key| rows[1].get(key));
        assert_eq!((rows.len(), level), (3, [Some(Cell::Float(0.01)), Some(Cell::Text("Level, wet"))]));
        let (_, import) =
            import_points((&draft(), &CheckMemory::default()), "p.csv", sheet, (Others::Go, &SheetWishes::default()));
        assert_eq!(told(&import), (vec!["ph"], vec!["level"], vec!["flow"], 0));
        let tabs = "name\taddress\ttype\trate\nflow\tinput:0\tfloat32\tfast\n";
        assert_eq!(
            told(
                &import_points(
                    (&draft(), &CheckMemory::default()),
                    "p.csv",
                    tabs,
                    (Others::Stay, &SheetWishes::default())
                )
                .1
            ),
            (vec![], vec![], vec![], 2)
        );
    }

    #[test]
    fn every_mistake_has_its_line_and_column() {
        let sheet = "name;address;type;scale;rate\nflow;input:0;float32;1,5;fast\nflow;input:9;uint16;;fast\n;input:3;uint16;;fast\nx;input:70000;uint16;1,2,3;slow\n";
        let (_, import) =
            import_points((&draft(), &CheckMemory::default()), "p.csv", sheet, (Others::Stay, &SheetWishes::default()));
        let places: Vec<_> = import.problems.iter().map(|p| (p.line, p.column, p.message.as_str())).collect();
        for wanted in [(3, 1, "name \"flow\" is taken"), (4, 1, "row 3 has no name"), (5, 22, "scale is \"1,2,3\"")] {
            assert!(places.contains(&wanted), "{wanted:?} in {places:?}");
        }
        assert_eq!(places.len(), 3, "{places:?}");
    }

    #[test]
    fn offers_go_into_the_lists_of_several_devices_and_undo_nothing() {
        let main = format!("{MAIN}[[device]]\nname = \"e\"\nlink = \"l\"\nunit = 2\n");
        let list = "name,address,type,rate,title\nflow,input:0,float32,slow,Raw gas\n";
        let files = [(MAIN_FILE.to_owned(), main), ("p.csv".to_owned(), list.to_owned())];
        let mut draft = parse(&Files::from(files)).unwrap();
        draft.rates.insert("slow".to_owned(), "10s".into());
        let offer = |path: &[&str], address: &str, data_type: &str| Offer {
            path: path.iter().map(|part| (*part).to_owned()).collect(),
            point: serde_json::from_value(serde_json::json!({ "address": address, "type": data_type, "unit": "m³/h" }))
                .unwrap(),
            value: 7.into(),
            quality: String::new(),
            note: String::new(),
        };
        let offers =
            [offer(&["Gas", "Flow"], "input:0", "float32"), offer(&["Gas", "PressureIn"], "input:2", "uint16")];
        let lists = ["p.csv".to_owned(), "points/e.csv".to_owned()];
        let rule = NameRule { parts: 1, case: crate::NameCase::Kebab, prefix: String::new() };
        let (after, TakenOffers { names, lists: imports }) =
            import_offers((&draft, &CheckMemory::default()), &lists, &offers, &rule, "fast");
        assert_eq!(names, ["flow", "pressure-in"]);
        assert_eq!(told(&imports[0].import), (vec!["pressure-in"], vec!["flow"], vec![], 0));
        assert_eq!(told(&imports[1].import), (vec!["flow", "pressure-in"], vec![], vec![], 0));
        assert_eq!([&imports[0].devices, &imports[1].devices], [&["d"], &["e"]]);
        let flow = &after.lists["p.csv"][0];
        let texts = ["rate", "title", "unit"].map(|key| flow.text(key).unwrap());
        assert_eq!(texts, ["slow", "Raw gas", "m³/h"], "what somebody has set stays");
        assert_eq!(after.lists["points/e.csv"][1].text("rate"), Some("fast"));

        // Two that come to the same name, and a rate that is not there.
        let twice = [offer(&["a", "x"], "input:4", "uint16"), offer(&["b", "x"], "input:70000", "uint16")];
        let (_, TakenOffers { lists: imports, .. }) =
            import_offers((&draft, &CheckMemory::default()), &lists[1..], &twice, &rule, "never");
        let problems: Vec<_> = imports[0].import.problems.iter().map(|problem| problem.message.as_str()).collect();
        let expected = ["address is \"input:70000\"", "name \"x\" is taken", "there is no rate \"never\""];
        assert!(expected.iter().all(|wanted| problems.contains(wanted)), "{problems:?}");
    }
}
