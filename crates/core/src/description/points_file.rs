use super::problem::{Fault, Lines};
use super::row::{Cell, Row};
use super::schema::{CellKind, ObjectSchema};
use super::sheet::{self, SheetColumn, SheetWishes};

/// A point list as it stands in its CSV file, or as a spreadsheet wrote it: with a byte order mark, with semicolons or
/// tabs between cells, and then with a comma before decimals.
#[derive(Debug)]
pub(super) struct PointsFile<'a> {
    text: &'a str,
    lines: Lines<'a>,
    separator: u8,
    columns: Vec<String>,
    /// What their cells are read as; none of those that mean nothing.
    kinds: Vec<Option<CellKind>>,
    /// As they are called in the text.
    headings: Vec<String>,
    rows: Vec<Row>,
    /// Where each row starts in the text.
    starts: Vec<usize>,
}

/// Line and column, both from 1, and what is wrong there.
pub(super) type PlacedFault = ((u32, u32), Fault);

impl<'a> PointsFile<'a> {
    /// Reads rows; mistakes of form come with their place. Empty cells count as left out.
    pub(super) fn parse(text: &'a str, schema: &ObjectSchema) -> (Self, Vec<PlacedFault>) {
        Self::read(text, schema, None)
    }

    /// Reads rows of a list whose columns are called as manuals do; columns that mean nothing are left out.
    pub(super) fn parse_sheet(text: &'a str, schema: &ObjectSchema, wishes: &SheetWishes) -> (Self, Vec<PlacedFault>) {
        Self::read(text, schema, Some(wishes))
    }

    fn read(text: &'a str, schema: &ObjectSchema, wishes: Option<&SheetWishes>) -> (Self, Vec<PlacedFault>) {
        let mut faults = Vec::new();
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let separator = separator_of(text);
        let mut reader = csv::ReaderBuilder::new().flexible(true).delimiter(separator).from_reader(text.as_bytes());
        let headings = reader.headers().map(|header| header.iter().map(|name| name.trim().to_owned()).collect());
        let headings: Vec<String> = headings.unwrap_or_default();
        let columns: Vec<_> = match wishes {
            Some(wishes) => sheet::keys(&headings, schema, wishes).into_iter().map(Option::unwrap_or_default).collect(),
            None => headings.iter().map(|name| column(name, schema)).collect(),
        };
        let (rows, starts) = (Vec::new(), Vec::new());
        let kinds = columns.iter().map(|column| schema.cell_kind(column)).collect();
        let mut file = Self { text, lines: Lines::new(text), separator, columns, kinds, headings, rows, starts };
        if wishes.is_none() {
            file.check_header(schema, &mut faults);
        }
        for record in reader.records() {
            match record {
                Ok(record) => file.add_row(&record, &mut faults),
                Err(error) => {
                    let start = error.position().map_or(0, offset);
                    let fault = Fault::new("", error.to_string(), "rows of cells with commas between them");
                    faults.push((file.lines.place(start), fault));
                }
            }
        }
        (file, faults)
    }

    fn check_header(&self, schema: &ObjectSchema, faults: &mut Vec<PlacedFault>) {
        let place = |at: usize| self.lines.place(self.cell_start(0, at));
        for (at, column) in self.columns.iter().enumerate() {
            let known = schema.keys().any(|key| key == column);
            if !known {
                let near = super::schema::nearest(column, schema.keys()).map(|near| format!("{near}?"));
                let all = || format!("one of {}", schema.keys().collect::<Vec<_>>().join(", "));
                let fault = Fault::new("", format!("{column:?} is no known column"), near.unwrap_or_else(all));
                faults.push((place(at), fault));
            } else if self.columns.iter().take(at).any(|before| before == column) {
                faults.push((place(at), Fault::new("", format!("column {column} stands here twice"), "one of each")));
            }
        }
    }

    fn add_row(&mut self, record: &csv::StringRecord, faults: &mut Vec<PlacedFault>) {
        let start = record.position().map_or(0, offset);
        if record.len() > self.columns.len() {
            let place = self.lines.place(self.cell_start(start, self.columns.len()));
            let message = format!("the row has {} cells, the header {}", record.len(), self.columns.len());
            faults.push((place, Fault::new("", message, "as many; text with a comma stands in quotes")));
            return;
        }
        let cells = self.columns.iter().zip(&self.kinds).zip(record.iter());
        let filled = cells.map(|(column, cell)| (column, cell.trim())).filter(|(_, cell)| !cell.is_empty());
        let row: Row = filled
            .filter_map(|((column, kind), cell)| Some((column.as_str(), self.cell_value(cell, (*kind)?))))
            .collect();
        if !row.is_empty() {
            self.rows.push(row);
            self.starts.push(start);
        }
    }

    fn cell_value<'c>(&self, cell: &'c str, kind: CellKind) -> Cell<'c> {
        match kind {
            CellKind::Switch if cell.eq_ignore_ascii_case("true") => Cell::Bool(true),
            CellKind::Switch if cell.eq_ignore_ascii_case("false") => Cell::Bool(false),
            CellKind::Switch | CellKind::Text => Cell::Text(cell),
            CellKind::Whole => {
                let whole = cell.parse().map(Cell::Uint).or_else(|_| cell.parse().map(Cell::Int));
                whole.unwrap_or_else(|_| self.cell_value(cell, CellKind::Number))
            }
            CellKind::Number => {
                // Only where no comma stands between cells, and only one: 1,234 may mean two things, 0,01 does not.
                let is_decimal = self.separator != b',' && cell.matches(',').count() == 1 && !cell.contains('.');
                let number = if is_decimal { cell.replace(',', ".").parse() } else { cell.parse() };
                number.ok().filter(|number: &f64| number.is_finite()).map_or(Cell::Text(cell), Cell::Float)
            }
        }
    }

    /// What was made of the columns, with what stands in their first cells.
    pub(super) fn columns(&self) -> Vec<SheetColumn> {
        let examples = |at: usize| {
            let cells = self.starts.iter().take(3).filter_map(|start| self.cell(*start, at));
            cells.filter(|cell| !cell.is_empty()).collect::<Vec<_>>().join(", ")
        };
        let column = |(at, (heading, key)): (usize, (&String, &String))| SheetColumn {
            heading: heading.clone(),
            key: Some(key.clone()).filter(|key| !key.is_empty()),
            example: examples(at),
        };
        self.headings.iter().zip(&self.columns).enumerate().map(column).collect()
    }

    /// Whether a key has a column.
    pub(super) fn has(&self, key: &str) -> bool {
        self.columns.iter().any(|column| column == key)
    }

    /// The cell of a row, without quotes, and not too much of it.
    fn cell(&self, start: usize, at: usize) -> Option<String> {
        let rest = self.text.get(self.cell_start(start, at)..)?;
        let ends = |letter: char| letter == char::from(self.separator) || letter == '\n';
        let cell = match rest.strip_prefix('"') {
            Some(quoted) => quoted.split('"').next(),
            None => rest.split(ends).next(),
        };
        Some(cell?.trim().chars().take(40).collect())
    }

    /// Takes the rows out, each an object of its filled cells.
    pub(super) fn take_rows(&mut self) -> Vec<Row> {
        std::mem::take(&mut self.rows)
    }

    /// Where the cell of a column stands in a row, or the row when there is no such column.
    pub(super) fn place(&self, row: usize, column: &str) -> (u32, u32) {
        let Some(start) = self.starts.get(row) else { return (0, 0) };
        let at = self.columns.iter().position(|name| name == column).unwrap_or(0);
        self.lines.place(self.cell_start(*start, at))
    }

    /// The byte offset of the `at`th cell of the row at `start`, quotes respected.
    fn cell_start(&self, start: usize, at: usize) -> usize {
        let row = self.text.get(start..).unwrap_or_default();
        // A blank line before the row belongs to the row in the reader's eyes.
        let blank = row.len() - row.trim_start_matches(['\r', '\n']).len();
        let (mut quoted, mut seen) = (false, 0);
        for (offset, byte) in row.bytes().enumerate().skip(blank) {
            if seen == at {
                return start + offset;
            }
            match byte {
                b'"' => quoted = !quoted,
                byte if byte == self.separator && !quoted => seen += 1,
                b'\n' if !quoted => break,
                _ => {}
            }
        }
        start + blank
    }
}

fn offset(position: &csv::Position) -> usize {
    usize::try_from(position.byte()).unwrap_or(usize::MAX)
}

/// What stands between the cells: commas, or what spreadsheets write in countries where the comma stands before
/// decimals.
fn separator_of(text: &str) -> u8 {
    let heading = text.lines().next().unwrap_or_default();
    let is_in = |separator: &u8| heading.as_bytes().contains(separator);
    [b'\t', b';'].into_iter().find(is_in).unwrap_or(b',')
}

/// A heading as the column that it names, whatever its case.
fn column(heading: &str, schema: &ObjectSchema) -> String {
    let heading = heading.trim();
    let known = schema.keys().find(|key| key.eq_ignore_ascii_case(heading));
    known.unwrap_or(heading).to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::schema::{self, ObjectKind};

    /// What a cell of a column is read as.
    fn read(column: &str, cell: &str, separator: char) -> Option<String> {
        let text = format!("name{separator}{column}\nx{separator}{cell}\n");
        let (mut file, _) = PointsFile::parse(&text, schema::of(ObjectKind::Row));
        file.take_rows().pop()?.get(column).map(|cell| format!("{cell:?}"))
    }

    #[test]
    fn cells_are_read_as_what_their_column_takes() {
        for (column, cell, expected) in [
            ("clamp", "TRUE", "Bool(true)"),
            ("clamp", "yes", "Text(\"yes\")"),
            ("priority", "8", "Uint(8)"),
            ("priority", "-8", "Int(-8)"),
            ("priority", "8.5", "Float(8.5)"),
            ("priority", "eight", "Text(\"eight\")"),
            ("priority", "18446744073709551616", "Float(1.8446744073709552e19)"),
            ("scale", "8", "Float(8.0)"),
            ("scale", "NaN", "Text(\"NaN\")"),
            ("title", "8", "Text(\"8\")"),
            ("title", "true", "Text(\"true\")"),
        ] {
            assert_eq!(read(column, cell, ',').as_deref(), Some(expected), "{column} {cell}");
        }
        assert_eq!(read("scale", "0,5", ';').as_deref(), Some("Float(0.5)"));
        assert_eq!(read("scale", "1,234,5", ';').as_deref(), Some("Text(\"1,234,5\")"));
        assert_eq!(read("colour", "red", ','), None, "the check of the heading tells that");
    }
}
