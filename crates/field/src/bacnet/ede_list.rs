//! The points of a device as lists that others can read: EDE, with the words for states in a second file.

use super::item::object;
use interlex_bacnet::unit_number;
use interlex_core::cell;
use interlex_core::description::{Access, Device, Point, Watching};
use std::fmt;

/// An EDE list, and the words for states that it refers to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EdeList {
    /// The data points.
    pub points: String,
    /// The words for states.
    pub states: String,
}

const COLUMNS: [&str; 16] = [
    "# keyname",
    "device obj.-instance",
    "object-name",
    "object-type",
    "object-instance",
    "description",
    "present-value-default",
    "min-present-value",
    "max-present-value",
    "settable",
    "supports COV",
    "hi-limit",
    "low-limit",
    "state-text-reference",
    "unit-code",
    "vendor-specific-address",
];

/// The points of a device of BACnet; none where it speaks another protocol.
///
/// A list has objects, in their own numbers: what shows another property than the present value stands in it as a remark, and units
/// and limits only where a point shows its object as it is.
#[must_use]
pub fn ede_list(project: &str, device: &Device) -> Option<EdeList> {
    let instance = device.protocol.bacnet()?.instance;
    let mut list = Rows::default();
    list.row(["# EDE: data points of a device, with the words for their states in another file"]);
    list.row(["PROJECT_NAME", project]);
    list.row(["VERSION_OF_LAYOUT", "2.1"]);
    list.row(COLUMNS);
    let (mut words, mut left) = (Words::default(), Vec::new());
    for point in &*device.points {
        let Some((address, own)) = point.bacnet() else { continue };
        let Some(object) = object(address).filter(|_| address.is_present_value() && address.index.is_none()) else {
            left.push(point);
            continue;
        };
        let settings = &point.settings;
        let is_plain = settings.scale.total_cmp(&1.0).is_eq() && settings.offset.total_cmp(&0.0).is_eq();
        let number =
            |number: Option<f64>| number.filter(|_| is_plain).map(|number| number.to_string()).unwrap_or_default();
        let unit = Some(&settings.unit).filter(|unit| is_plain && !unit.is_empty()).and_then(|unit| unit_number(unit));
        let yes = |is_so| if is_so { "Y" } else { "N" }.to_owned();
        list.row([
            format!("{}.{}", device.settings.name, settings.name),
            instance.to_string(),
            settings.name.to_string(),
            object.object_type().number().to_string(),
            object.instance().to_string(),
            settings.title.to_string(),
            String::new(),
            number(settings.low),
            number(settings.high),
            yes(settings.access != Access::Read),
            yes(own.watch == Watching::Subscribe),
            String::new(),
            String::new(),
            words.reference(point).map(|reference| reference.to_string()).unwrap_or_default(),
            unit.map(|unit| unit.to_string()).unwrap_or_default(),
            String::new(),
        ]);
    }
    for point in left {
        list.row([format!("# {} shows {}, which is no object", point.settings.name, point.settings.address)]);
    }
    Some(EdeList { points: list.0, states: words.written() })
}

/// What stands between cells.
const MARK: char = ';';

/// Rows with semicolons between their cells.
#[derive(Default)]
struct Rows(String);

impl Rows {
    fn row<const N: usize>(&mut self, cells: [impl fmt::Display; N]) {
        let cells = cells.map(|text| cell(&text.to_string(), MARK));
        self.0.push_str(&cells.join(";"));
        self.0.push_str("\r\n");
    }
}

/// The words for states of all points, each list of words once.
#[derive(Default)]
struct Words(Vec<Vec<String>>);

impl Words {
    /// By which number a point refers to its words: the first one is that of 1, or of inactive.
    fn reference(&mut self, point: &Point) -> Option<usize> {
        let enumeration = point.settings.enumeration.as_ref()?;
        let first = i64::from(!point.bacnet()?.0.is_binary());
        let of = |number: i64| enumeration.word(number).map(|word| word.to_string());
        let mut words: Vec<_> = (first..first + MOST_STATES).map(|number| of(number).unwrap_or_default()).collect();
        while words.last().is_some_and(String::is_empty) {
            words.pop();
        }
        if words.is_empty() {
            return None;
        }
        let known = self.0.iter().position(|known| *known == words);
        Some(
            1 + known.unwrap_or_else(|| {
                self.0.push(words);
                self.0.len() - 1
            }),
        )
    }

    fn written(self) -> String {
        let most = self.0.iter().map(Vec::len).max().unwrap_or_default();
        let titles = (1..=most).map(|number| match number {
            1 => "Text 1 or Inactive-Text".to_owned(),
            2 => "Text 2 or Active-Text".to_owned(),
            number => format!("Text {number}"),
        });
        let heading = std::iter::once("# Reference Number".to_owned()).chain(titles);
        let rows = (1_usize..)
            .zip(self.0)
            .map(|(number, words)| std::iter::once(number.to_string()).chain(words).collect::<Vec<_>>());
        let rows = std::iter::once(heading.collect::<Vec<_>>()).chain(rows);
        rows.map(|row| row.iter().map(|text| cell(text, MARK)).collect::<Vec<_>>().join(";") + "\r\n").collect()
    }
}

/// States beyond this have no word in a list.
const MOST_STATES: i64 = 256;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bacnet::discovery::EdeFiles;
    use crate::bacnet::ede::offers;
    use interlex_core::description::{Files, read};

    fn device(rows: &str) -> Device {
        let main = "[gateway]\nname = \"g\"\n[rates]\nslow = \"2s\"\n[[link]]\nname = \"building\"\nprotocol = \"bacnet-ip\"\n\
             interface = \"127.0.0.1\"\n[[device]]\nname = \"boiler-house\"\nlink = \"building\"\ninstance = 4002\npoints = \"p.csv\"\n";
        let list = format!("name,address,access,watch,unit,low,high,scale,enumeration,title,rate\n{rows}");
        let files: Files = [("gateway.toml".to_owned(), main.to_owned()), ("p.csv".to_owned(), list)].into();
        read(&files).unwrap().devices[0].clone()
    }

    #[test]
    fn a_list_that_is_written_is_read_again() {
        let written = ede_list(
            "Alderfen biogas works",
            &device(
                "flow,analog-input:1,read,,°C,0,110,,,\"Flow; boiler 1\",slow\n\
                 set-point,analog-value:1,read-write,poll,°C,,,,,=1+1,slow\n\
                 mode,multi-state-value:3,read,,,,,,1=off;3=by hand,,slow\n\
                 limit,analog-input:1.high-limit,read,,°C,,,,,,slow\n\
                 scaled,analog-input:2,read,,kW,0,5,0.001,,,slow\n",
            ),
        )
        .unwrap();
        let files = EdeFiles { points: written.points.clone(), states: written.states.clone(), instance: Some(4002) };
        let told = offers(&files).unwrap();
        let point = |at: usize, key: &str| told[at].point.get(key).cloned().unwrap_or_default();
        assert_eq!(told.len(), 4, "{}", written.points);
        assert_eq!((told[0].path[0].as_str(), point(0, "title")), ("flow", "Flow; boiler 1".into()));
        assert_eq!((point(0, "unit"), point(0, "high")), ("°C".into(), 110.0.into()));
        assert_eq!((point(1, "access"), point(1, "watch")), ("read-write".into(), "poll".into()));
        assert_eq!(point(1, "title"), "'=1+1", "no spreadsheet takes it for a formula");
        assert_eq!(point(2, "address"), "multi-state-value:3");
        assert!(written.states.ends_with("1;off;;by hand\r\n"), "{}", written.states);
        assert!(written.points.contains("# limit shows analog-input:1.high-limit, which is no object"));
        assert_eq!((point(3, "unit"), point(3, "high")), (().into(), ().into()), "those of the point are not its own");
    }
}
