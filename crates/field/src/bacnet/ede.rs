//! Lists of data points as they are exchanged between those who build a plant and those who connect it: EDE files, with the words for
//! states in a second file.

use super::discovery::EdeFiles;
use interlex_bacnet::{ObjectType, PropertyIdentifier, unit, unit_name};
use interlex_core::Offer;
use interlex_core::description::BacnetAddress;
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, BTreeSet};

/// Longer files are no lists of data points.
pub(super) const LARGEST: usize = 8 << 20;

/// A file as rows of cells, each with its line.
struct Table {
    rows: Vec<(usize, Vec<String>)>,
}

/// What stands between cells: what the line that names the columns has most of.
fn delimiter(line: &str) -> u8 {
    let count = |mark: char| line.chars().filter(|letter| *letter == mark).count();
    let marks = [';', '\t', ','];
    let most = marks.into_iter().max_by_key(|mark| count(*mark)).unwrap_or(';');
    u8::try_from(most).unwrap_or(b';')
}

impl Table {
    fn read(text: &str, delimiter: u8) -> Result<Self, String> {
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(delimiter)
            .has_headers(false)
            .flexible(true)
            .trim(csv::Trim::All)
            .from_reader(text.as_bytes());
        let mut rows = Vec::new();
        for record in reader.records() {
            let record = record.map_err(|error| format!("the list cannot be read: {error}"))?;
            let line = record.position().map_or(0, |position| usize::try_from(position.line()).unwrap_or(0));
            rows.push((line, record.iter().map(str::to_owned).collect()));
        }
        Ok(Self { rows })
    }
}

/// A column name without what differs between programs.
fn folded(name: &str) -> String {
    name.chars().filter(char::is_ascii_alphanumeric).flat_map(char::to_lowercase).collect()
}

/// A number with a decimal comma or a decimal point.
fn number(text: &str) -> Option<f64> {
    text.trim().replace(',', ".").parse().ok().filter(|number: &f64| number.is_finite())
}

/// The words for states, by the number that lists refer to them with. The first word is that of 1, or of inactive.
fn states(text: &str) -> Result<BTreeMap<u32, Vec<String>>, String> {
    let first = text.lines().find(|line| !line.trim().is_empty()).unwrap_or_default();
    let table = Table::read(text, delimiter(first))?;
    let mut all = BTreeMap::new();
    for (_, cells) in table.rows {
        let Some(reference) = cells.first().and_then(|cell| cell.parse().ok()) else { continue };
        let mut words: Vec<String> = cells.into_iter().skip(1).collect();
        while words.last().is_some_and(String::is_empty) {
            words.pop();
        }
        all.insert(reference, words);
    }
    Ok(all)
}

/// What is known of one row.
struct Row<'a> {
    columns: &'a BTreeMap<String, usize>,
    cells: &'a [String],
    line: usize,
}

impl Row<'_> {
    fn text(&self, column: &str) -> Option<&str> {
        let cell = self.cells.get(*self.columns.get(column)?)?.as_str();
        (!cell.is_empty()).then_some(cell)
    }

    fn whole(&self, column: &str, title: &str) -> Result<Option<u32>, String> {
        let Some(text) = self.text(column) else { return Ok(None) };
        let number =
            text.parse().map_err(|_| format!("line {}: {title} is {text:?}; expected a whole number", self.line))?;
        Ok(Some(number))
    }

    fn is_set(&self, column: &str) -> bool {
        self.text(column)
            .is_some_and(|text| matches!(text.to_lowercase().as_str(), "y" | "yes" | "true" | "1" | "x" | "j" | "ja"))
    }

    /// The type of the object, by its number or by its name.
    fn object_type(&self) -> Result<ObjectType, String> {
        let text = self.text("objecttype").unwrap_or_default();
        let named = text.to_lowercase().replace([' ', '_'], "-");
        named.parse().map_err(|_| {
            format!("line {}: object-type is {text:?}; expected a number, or a name such as analog-input", self.line)
        })
    }
}

/// The points of a list.
///
/// # Errors
/// What is wrong with it, with its line.
pub(super) fn offers(files: &EdeFiles) -> Result<Vec<Offer>, String> {
    let is_heading = |line: &&str| folded(line.trim_start().trim_start_matches('#')).starts_with("keyname");
    let heading = files.points.lines().find(is_heading);
    let heading = heading.ok_or("no line names the columns; expected one that begins with # keyname")?;
    let table = Table::read(&files.points, delimiter(heading))?;
    let states = states(&files.states)?;
    let mut rows = table
        .rows
        .iter()
        .skip_while(|(_, cells)| cells.first().is_none_or(|cell| folded(cell.trim_start_matches('#')) != "keyname"));
    let names = rows.next().map(|(_, cells)| cells.as_slice()).unwrap_or_default();
    let columns: BTreeMap<String, usize> = names.iter().enumerate().map(|(at, name)| (folded(name), at)).collect();
    for (column, title) in [("objecttype", "object-type"), ("objectinstance", "object-instance")] {
        if !columns.contains_key(column) {
            return Err(format!(
                "no column is called {title}; expected keyname, device obj.-instance, object-name, object-type, object-instance and others"
            ));
        }
    }
    let of_row = |(line, cells)| Row { columns: &columns, cells, line };
    let rows: Vec<_> = rows
        .filter(|(_, cells)| cells.iter().any(|cell| !cell.is_empty()))
        .filter(|(_, cells)| !cells.first().is_some_and(|cell| cell.starts_with('#')))
        .map(|(line, cells)| of_row((*line, cells.as_slice())))
        .collect();
    let instance = |row: &Row<'_>| row.whole("deviceobjinstance", "device obj.-instance");
    let instances: BTreeSet<u32> =
        rows.iter().map(instance).collect::<Result<Vec<_>, _>>()?.into_iter().flatten().collect();
    // A list of one device is a model for others; of several, the one that is meant is taken.
    let meant = files.instance.filter(|_| instances.len() > 1);
    if let Some(meant) = meant
        && !instances.contains(&meant)
    {
        let there: Vec<_> = instances.iter().take(8).map(ToString::to_string).collect();
        return Err(format!("the list has no device {meant}; it has {}", there.join(", ")));
    }
    let mut offers = Vec::new();
    for row in rows {
        if meant.is_none() || instance(&row)? == meant {
            offers.push(offer(&row, &states)?);
        }
    }
    if offers.is_empty() { Err("the list has no data points".to_owned()) } else { Ok(offers) }
}

fn offer(row: &Row<'_>, states: &BTreeMap<u32, Vec<String>>) -> Result<Offer, String> {
    let object_type = row.object_type()?;
    let missing = || format!("line {}: object-instance is missing", row.line);
    let instance = row.whole("objectinstance", "object-instance")?.ok_or_else(missing)?;
    let property = PropertyIdentifier::PRESENT_VALUE.0;
    let address = BacnetAddress { object_type: object_type.number(), instance, property, index: None };
    let mut point = Map::from_iter([("address".to_owned(), json!(address.to_string()))]);
    let mut notes = Vec::new();
    if let Some(title) = row.text("description") {
        point.insert("title".to_owned(), json!(title));
    }
    if let Some(code) = row.whole("unitcode", "unit-code")? {
        match (unit(code), unit_name(code)) {
            (Some(written), _) if !written.is_empty() => {
                point.insert("unit".to_owned(), json!(written));
            }
            (Some(_), Some(name)) if name != "no-units" => notes.push(name.to_owned()),
            (None, _) => notes.push(format!("unit {code}")),
            _ => {}
        }
    }
    let limit = |column: &str| row.text(column).and_then(number);
    if !object_type.is_binary()
        && !object_type.is_multi_state()
        && let (Some(low), Some(high)) = (limit("minpresentvalue"), limit("maxpresentvalue"))
        && low < high
    {
        point.extend([("low".to_owned(), json!(low)), ("high".to_owned(), json!(high))]);
    }
    if let Some(reference) =
        row.whole("statetextreference", "state-text-reference")?.filter(|reference| *reference != 0)
    {
        match (states.get(&reference).map(Vec::as_slice), object_type.is_binary()) {
            (Some([off, on, ..]), true) => notes.push(format!("off is {off}, on is {on}")),
            (Some(words), false) if object_type.is_multi_state() => {
                let word =
                    |(number, word): (u32, &String)| format!("{number}={}", word.replace([';', '='], " ").trim());
                let words: Vec<_> = (1..).zip(words).map(word).collect();
                point.insert("enumeration".to_owned(), json!(words.join(";")));
            }
            (None, _) if !states.is_empty() => {
                notes.push(format!("there are no words for states with number {reference}"))
            }
            _ => {}
        }
    }
    if row.is_set("settable") {
        point.insert("access".to_owned(), json!("read-write"));
    }
    if row.text("supportscov").is_some() && !row.is_set("supportscov") {
        point.insert("watch".to_owned(), json!("poll"));
    }
    let named = [row.text("objectname"), row.text("keyname")].into_iter().flatten().next();
    let name = named.map_or_else(|| address.to_string(), str::to_owned);
    Ok(Offer { path: vec![name], point, value: Value::Null, quality: String::new(), note: notes.join("; ") })
}

#[cfg(test)]
mod tests {
    use super::*;

    const POINTS: &str = "# EDE list of the heat network;;;\nPROJECT_NAME;Alderfen biogas works;;\nVERSION_OF_LAYOUT;2.1;;\n\
        # keyname;device obj.-instance;object-name;object-type;object-instance;description;present-value-default;\
        min-present-value;max-present-value;settable;supports COV;hi-limit;low-limit;state-text-reference;unit-code\n\
        HN.T.F;4001;heat-network/flow;0;1;\"Flow temperature; outside\";;0,5;110,0;N;Y;;;;62\n\
        HN.P1;4001;heat-network/pump-1;binary-output;1;Pump 1;;;;Y;N;;;2;\n\
        HN.M;4001;;19;3;Mode;;1;3;Y;Y;;;1;95\n\
        B.T;4002;boiler/flow;0;1;Flow;;;;N;Y;;;;62\n";
    const STATES: &str =
        "#Reference Number;Text 1 or Inactive-Text;Text 2 or Active-Text;Text 3\n1;off;auto;by hand;\n2;stopped;runs\n";

    fn files(points: &str, instance: Option<u32>) -> EdeFiles {
        EdeFiles { points: points.to_owned(), states: STATES.to_owned(), instance }
    }

    #[test]
    fn a_list_tells_points_with_units_limits_and_words() {
        let told = offers(&files(POINTS, Some(4001))).unwrap();
        let point = |at: usize, key: &str| told[at].point.get(key).cloned().unwrap_or_default();
        assert_eq!(told.len(), 3, "those of the other device are not meant");
        assert_eq!((point(0, "address"), point(0, "unit")), (json!("analog-input:1"), json!("°C")));
        assert_eq!((point(0, "low"), point(0, "high")), (json!(0.5), json!(110.0)), "decimal commas");
        assert_eq!(
            (told[0].path[0].as_str(), point(0, "title")),
            ("heat-network/flow", json!("Flow temperature; outside"))
        );
        assert_eq!((point(1, "access"), point(1, "watch")), (json!("read-write"), json!("poll")));
        assert_eq!(told[1].note, "off is stopped, on is runs");
        assert_eq!((told[2].path[0].as_str(), point(2, "enumeration")), ("HN.M", json!("1=off;2=auto;3=by hand")));
        assert_eq!(offers(&files(POINTS, None)).unwrap().len(), 4);
    }

    #[test]
    fn other_marks_between_cells_are_seen_and_mistakes_have_their_line() {
        let tabs = POINTS.replace(';', "\t");
        assert_eq!(offers(&files(&tabs, Some(4002))).unwrap().len(), 1);
        let error = |points: &str, instance| offers(&files(points, instance)).unwrap_err();
        assert!(error("a;b\n", None).contains("# keyname"));
        assert!(error(POINTS, Some(7)).contains("no device 7; it has 4001, 4002"));
        assert!(
            error(&POINTS.replace("binary-output;1", "binary-outptu;1"), None)
                .contains("line 6: object-type is \"binary-outptu\"")
        );
        assert!(error(&POINTS.replace("19;3", "19;three"), None).contains("line 7: object-instance is \"three\""));
        assert!(error("# keyname;object-name\nx;y\n", None).contains("no column is called object-type"));
    }
}
