//! Tables as wide as a terminal: columns that do not fit are left out, long names are cut in their middle, and only the last column wraps,
//! between words.

use crate::output::{safe, styled_line};
use comfy_table::{Cell as Drawn, CellAlignment, Color, ColumnConstraint, ContentArrangement, Width, presets};
use std::fmt::Display;

/// A table that is to be shown.
#[derive(Debug, Clone, Default)]
pub(crate) struct Table {
    header: Vec<String>,
    /// Columns that are left out before others, in this order.
    sparing: Vec<usize>,
    rows: Vec<Vec<Cell>>,
}

/// A cell: safe text, with how it is shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Cell {
    text: String,
    color: Option<Color>,
    is_right: bool,
}

/// A cell of a table.
pub(crate) fn cell(content: impl Display) -> Cell {
    Cell { text: safe(&content.to_string()).into_owned(), color: None, is_right: false }
}

impl Cell {
    /// In a colour.
    pub(crate) fn fg(self, color: Color) -> Self {
        Self { color: Some(color), ..self }
    }

    /// At the right, as numbers are.
    pub(crate) fn right(self) -> Self {
        Self { is_right: true, ..self }
    }

    fn width(&self) -> usize {
        self.text.chars().count()
    }
}

/// A table without lines, as wide as it needs or as the terminal allows.
pub(crate) fn table(header: &[&str]) -> Table {
    Table { header: header.iter().map(|&title| title.to_owned()).collect(), sparing: Vec::new(), rows: Vec::new() }
}

/// A state as a cell: what is well is plain, what needs a person is coloured. The word says it without the colour.
pub(crate) fn state_cell(word: &str) -> Cell {
    let cell = cell(word);
    match word {
        "bad" | "down" | "silent" | "offline" | "unreachable" | "away" => cell.fg(Color::Red),
        "uncertain" | "connecting" | "waiting" => cell.fg(Color::Yellow),
        _ => cell,
    }
}

/// Between two columns.
const GAP: usize = 2;
/// A name is cut to no less than this; where that is too wide still, columns are left out.
const NAME: usize = 14;
/// The last column has room for this at least.
const LAST: usize = 20;
/// The first columns say what the row is.
const FIRST: usize = 2;

/// How a table goes into a width: which columns are shown, and how wide each of them.
#[derive(Debug, PartialEq, Eq)]
struct Fit {
    columns: Vec<(usize, usize)>,
    left_out: Vec<usize>,
}

impl Table {
    /// Where there is no room, these columns are left out before all others.
    pub(crate) fn sparing(mut self, titles: &[&str]) -> Self {
        let place = |title: &&str| self.header.iter().position(|known| known == title);
        self.sparing = titles.iter().filter_map(place).collect();
        self
    }

    pub(crate) fn add_row(&mut self, cells: impl IntoIterator<Item = Cell>) {
        self.rows.push(cells.into_iter().collect());
    }

    /// As wide as the content of each column.
    fn widths(&self) -> Vec<usize> {
        let of = |(at, title): (usize, &String)| {
            let cells = self.rows.iter().filter_map(|row| row.get(at)).map(Cell::width);
            cells.chain([title.chars().count()]).max().unwrap_or(0)
        };
        self.header.iter().enumerate().map(of).collect()
    }

    fn fit(&self, room: usize) -> Fit {
        let natural = self.widths();
        let last = natural.len().saturating_sub(1);
        let is_number = |at: usize| self.rows.iter().any(|row| row.get(at).is_some_and(|cell| cell.is_right));
        // Numbers are whole or not there; what is said at the end wraps; names are cut.
        let least = |at: usize| match natural.get(at).copied().unwrap_or(0) {
            width if at == last && !is_number(at) => width.min(LAST),
            width if is_number(at) => width,
            width => width.min(NAME.max(self.header.get(at).map_or(0, |title| title.chars().count()))),
        };
        let mut shown: Vec<usize> = (0..natural.len()).collect();
        let needed = |shown: &[usize]| shown.iter().map(|at| least(*at) + GAP).sum::<usize>().saturating_sub(GAP);
        let mut left_out = Vec::new();
        // Columns that say nothing in any row go first, then those before the last one.
        let is_empty =
            |at: usize| self.rows.iter().all(|row| row.get(at).is_none_or(|cell| matches!(&*cell.text, "" | "-")));
        while needed(&shown) > room && shown.len() > FIRST {
            let empty = shown.iter().rposition(|at| *at >= FIRST && is_empty(*at));
            let spared = self.sparing.iter().find_map(|spared| shown.iter().position(|at| at == spared));
            let at = empty.or(spared).unwrap_or(if shown.len() > FIRST + 1 && !is_number(last) {
                shown.len() - 2
            } else {
                shown.len() - 1
            });
            left_out.push(shown.remove(at));
        }
        let mut columns: Vec<(usize, usize)> =
            shown.iter().map(|at| (*at, natural.get(*at).copied().unwrap_or(0))).collect();
        let total = |columns: &[(usize, usize)]| {
            columns.iter().map(|(_, width)| width + GAP).sum::<usize>().saturating_sub(GAP)
        };
        while total(&columns) > room {
            let widest = columns
                .iter_mut()
                .filter(|(at, width)| *width > least(*at))
                .max_by_key(|(at, width)| (*at == last, self.sparing.contains(at), *width));
            match widest {
                Some((_, width)) => *width -= 1,
                None => break,
            }
        }
        left_out.sort_unstable();
        Fit { columns, left_out }
    }

    /// Prints it; on a terminal as wide as that is.
    pub(crate) fn print(&self) -> std::io::Result<()> {
        self.lines().iter().try_for_each(|line| styled_line(line))
    }

    /// Its lines, as wide as the terminal is.
    pub(crate) fn lines(&self) -> Vec<String> {
        let is_plain = std::env::var_os("NO_COLOR").is_some_and(|text| !text.is_empty());
        let width = comfy_table::Table::new().width().map(usize::from);
        let fit = self.fit(width.unwrap_or(usize::MAX));
        let mut lines: Vec<_> = self.drawn(&fit, is_plain).lines().map(|line| line.trim_end().to_owned()).collect();
        if !fit.left_out.is_empty() {
            let names: Vec<_> = fit.left_out.iter().filter_map(|at| self.header.get(*at)).map(String::as_str).collect();
            lines.push(format!("Not shown here: {}; a wider terminal or -o csv has them.", names.join(", ")));
        }
        lines
    }

    fn drawn(&self, fit: &Fit, is_plain: bool) -> comfy_table::Table {
        let mut drawn = comfy_table::Table::new();
        drawn.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
        if is_plain {
            drawn.force_no_tty();
        }
        let title = |at: usize| Drawn::new(self.header.get(at).map_or("", String::as_str)).fg(Color::DarkGrey);
        drawn.set_header(fit.columns.iter().map(|(at, _)| title(*at)));
        let last = self.header.len().saturating_sub(1);
        let draw = |row: &Vec<Cell>, (at, width): &(usize, usize)| {
            let Some(cell) = row.get(*at) else { return Drawn::new("") };
            let text = if *at == last && !cell.is_right { cell.text.clone() } else { middle(&cell.text, *width) };
            let drawn =
                if cell.is_right { Drawn::new(text).set_alignment(CellAlignment::Right) } else { Drawn::new(text) };
            cell.color.map_or(drawn.clone(), |color| drawn.fg(color))
        };
        for row in &self.rows {
            drawn.add_row(fit.columns.iter().map(|column| draw(row, column)));
        }
        let many = fit.columns.len();
        for (place, (column, (_, width))) in drawn.column_iter_mut().zip(&fit.columns).enumerate() {
            let gap = if place + 1 == many { 0 } else { GAP };
            column.set_padding((0, u16::try_from(gap).unwrap_or(0)));
            let whole = u16::try_from(width + gap).unwrap_or(u16::MAX);
            column.set_constraint(ColumnConstraint::Absolute(Width::Fixed(whole)));
        }
        drawn
    }
}

/// A text of at most so many letters, cut in its middle: names of a plant differ at their ends.
fn middle(text: &str, most: usize) -> String {
    let letters: Vec<char> = text.chars().collect();
    if letters.len() <= most {
        return text.to_owned();
    }
    let tail = (most / 2).min(most.saturating_sub(1));
    let head = most.saturating_sub(tail + 1);
    let part = |letters: &[char]| letters.iter().collect::<String>();
    let (start, end) =
        (letters.get(..head).unwrap_or_default(), letters.get(letters.len() - tail..).unwrap_or_default());
    format!("{}…{}", part(start), part(end))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn points() -> Table {
        let mut points = table(&["device", "name", "value", "quality", "raw", "address"]);
        points.add_row([
            cell("digester-1"),
            cell("temperature-set-point-of-the-top"),
            cell("41.0 °C").right(),
            cell("good"),
            cell("410").right(),
            cell("holding:0"),
        ]);
        points.add_row([
            cell("heat-meter-of-the-digesters"),
            cell("flow"),
            cell("197.9 m³/h").right(),
            cell("bad: timeout"),
            cell("1979").right(),
            cell("input:4"),
        ]);
        points
    }

    #[test]
    fn a_table_is_no_wider_than_its_terminal_and_cuts_no_word_at_its_end() {
        let points = points();
        for width in [40, 60, 80, 200] {
            let fit = points.fit(width);
            let lines: Vec<_> = points.drawn(&fit, true).lines().collect();
            assert!(lines.iter().all(|line| line.trim_end().chars().count() <= width), "{width}: {lines:#?}");
            assert!(
                lines.iter().any(|line| line.contains("197.9 m³/h")) || fit.left_out.contains(&2),
                "numbers are whole: {lines:#?}"
            );
        }
        assert_eq!(
            (points.fit(200).left_out, points.fit(60).left_out),
            (vec![], vec![3, 4]),
            "what the row is, and its number, stay"
        );
        assert_eq!(points.fit(200).columns.iter().map(|(at, _)| *at).collect::<Vec<_>>(), [0, 1, 2, 3, 4, 5]);
    }

    #[test]
    fn names_are_cut_in_their_middle_and_what_is_said_at_the_end_wraps() {
        assert_eq!(middle("temperature-set-point", 11), "tempe…point");
        assert_eq!(middle("flow", 11), "flow");
        let mut said = table(&["name", "state", "last error"]);
        said.add_row([
            cell("process-bus"),
            state_cell("down"),
            cell("nobody listens at the other end of this line any more"),
        ]);
        let lines: Vec<_> = said.drawn(&said.fit(44), true).lines().collect();
        assert!(lines.len() > 2 && lines.iter().all(|line| line.chars().count() <= 44), "{lines:#?}");
        assert!(lines.iter().any(|line| line.contains("nobody listens")), "{lines:#?}");
    }
}
