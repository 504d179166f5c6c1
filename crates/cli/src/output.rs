//! The way of everything that the client prints. Names, units, titles, topics and device texts come from outside: what a
//! terminal would take for a command is shown as its code.

use crate::options::Output;
pub(crate) use crate::table::{Cell, cell, state_cell, table};
use jiff::{Timestamp, tz::TimeZone};
use serde::Serialize;
use serde_json::Value;
use std::borrow::Cow;
use std::fmt::Arguments;
use std::io::Write;

/// Prints a line as `println!` does, but safely, and with an error when nobody reads any more.
macro_rules! say {
    () => { $crate::output::styled_line("") };
    ($($argument:tt)+) => { $crate::output::line(format_args!($($argument)+)) };
}
pub(crate) use say;

/// Prints a line; its own line ends stay.
pub(crate) fn line(text: Arguments<'_>) -> std::io::Result<()> {
    let text = text.to_string();
    let lines: Vec<_> = text.split('\n').map(safe).collect();
    styled_line(&lines.join("\n"))
}

/// Prints text of several lines, as it comes.
pub(crate) fn print_text(text: &str) -> std::io::Result<()> {
    text.lines().try_for_each(|text| line(format_args!("{text}")))
}

/// Prints a line whose parts are safe already, and may be coloured.
pub(crate) fn styled_line(text: &str) -> std::io::Result<()> {
    writeln!(anstream::stdout(), "{text}")
}

/// Text as one line on which nothing is a command to a terminal, and nothing changes the direction of what follows.
pub(crate) fn safe(text: &str) -> Cow<'_, str> {
    if text.contains(is_unsafe) {
        let shown = text.chars().map(|c| if is_unsafe(c) { c.escape_default().to_string() } else { c.to_string() });
        Cow::Owned(shown.collect())
    } else {
        Cow::Borrowed(text)
    }
}

fn is_unsafe(c: char) -> bool {
    c.is_control() || matches!(c, '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// Prints JSON: the same value, with what a terminal would take for a command written as its code.
pub(crate) fn print_json(value: &(impl Serialize + ?Sized)) -> anyhow::Result<()> {
    Ok(styled_line(&safe_json(&serde_json::to_string_pretty(value)?))?)
}

/// Prints a JSON array an element after the other, as [`print_json`] prints it whole.
#[derive(Debug, Default)]
pub(crate) struct JsonArray {
    has_begun: bool,
}

impl JsonArray {
    pub(crate) fn print(&mut self, element: &Value) -> anyhow::Result<()> {
        let text = serde_json::to_string_pretty(element)?.replace('\n', "\n  ");
        write!(anstream::stdout(), "{}\n  {}", if self.has_begun { "," } else { "[" }, safe_json(&text))?;
        self.has_begun = true;
        Ok(())
    }

    pub(crate) fn end(self) -> anyhow::Result<()> {
        Ok(styled_line(if self.has_begun { "\n]" } else { "[]" })?)
    }
}

/// Prints JSON on one line.
pub(crate) fn print_json_line(value: &Value) -> std::io::Result<()> {
    styled_line(&safe_json(&value.to_string()))
}

fn safe_json(text: &str) -> String {
    // Outside of strings JSON has no such characters; all of them are in the basic plane.
    let shown = |c: char| match c {
        '\n' => c.to_string(),
        c if is_unsafe(c) => format!("\\u{:04x}", u32::from(c)),
        c => c.to_string(),
    };
    text.chars().map(shown).collect()
}

/// Safe text in a colour, for lines outside a table; plain where colours are not wanted.
pub(crate) fn paint(text: &str, color: Option<anstyle::AnsiColor>) -> String {
    let style = anstyle::Style::new().fg_color(color.map(Into::into));
    format!("{style}{}{style:#}", safe(text))
}

/// Writes rows as CSV to standard output, under a header.
pub(crate) fn print_csv(header: &[&str], rows: impl Iterator<Item = Vec<String>>) -> anyhow::Result<()> {
    let header = header.iter().map(|&title| title.to_owned()).collect();
    print_csv_rows([header].into_iter().chain(rows))
}

/// Writes rows as CSV to standard output, below others.
pub(crate) fn print_csv_rows(rows: impl IntoIterator<Item = Vec<String>>) -> anyhow::Result<()> {
    let mut writer = csv::Writer::from_writer(anstream::stdout());
    for row in rows {
        writer.write_record(row.iter().map(|field| safe_field(field)))?;
    }
    Ok(writer.flush()?)
}

/// A field of CSV that no spreadsheet takes for a formula: one that begins like a formula, and is no number, has an
/// apostrophe before it.
fn safe_field(field: &str) -> String {
    let begins_formula = field.trim_start().starts_with(['=', '+', '-', '@']);
    let is_plain = field == "-" || field.parse::<f64>().is_ok();
    format!("{}{}", if begins_formula && !is_plain { "'" } else { "" }, safe(field))
}

/// A number of things: `1 link`, `3 links`.
pub(crate) fn count(number: usize, one: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {one}s") }
}

/// A span as people say it: `0.4 s`, `12 s`, `3 min`, `5 h`, `2 d`.
pub(crate) fn span(millis: i64) -> String {
    let seconds = millis / 1000;
    match seconds {
        ..0 => "0.0 s".to_owned(),
        0..10 => format!("{seconds}.{} s", millis % 1000 / 100),
        10..120 => format!("{seconds} s"),
        120..7200 => format!("{} min", seconds / 60),
        7200..172_800 => format!("{} h", seconds / 3600),
        _ => format!("{} d", seconds / 86_400),
    }
}

/// A moment on the clock of this machine.
pub(crate) fn clock(millis: i64) -> String {
    match Timestamp::from_millisecond(millis) {
        Ok(moment) => moment.to_zoned_datetime(TimeZone::system()).strftime("%H:%M:%S%.3f").to_string(),
        Err(_) => "-".to_owned(),
    }
}

/// A moment with its date, on the clock of this machine.
pub(crate) fn date(millis: i64) -> String {
    match Timestamp::from_millisecond(millis) {
        Ok(moment) => moment.to_zoned_datetime(TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S").to_string(),
        Err(_) => "-".to_owned(),
    }
}

/// A moment with its date and its milliseconds, on the clock of this machine.
pub(crate) fn moment(millis: i64) -> String {
    match Timestamp::from_millisecond(millis) {
        Ok(moment) => moment.to_zoned_datetime(TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S%.3f").to_string(),
        Err(_) => "-".to_owned(),
    }
}

/// What rows of any kind go without first, on a narrow terminal.
const SPARING: [&str; 6] = ["in/s", "out/s", "a crash costs", "oldest", "from", "unit"];

/// Prints rows in the form that was asked for; `json` is what the service said.
pub(crate) fn print_rows(
    output: Output,
    header: &[&str],
    rows: Vec<Vec<String>>,
    json: &Value,
    empty: &str,
) -> anyhow::Result<()> {
    match output {
        Output::Json => print_json(json)?,
        Output::Csv => print_csv(header, rows.into_iter())?,
        Output::Table if rows.is_empty() => say!("{empty}")?,
        Output::Table => {
            let mut shown = table(header).sparing(&SPARING);
            rows.into_iter().for_each(|row| {
                shown.add_row(row.into_iter().map(cell));
            });
            shown.print()?;
        }
    }
    Ok(())
}

/// A JSON value as a cell: no quotes, a dash for nothing.
pub(crate) fn plain(value: &Value) -> String {
    match value {
        Value::Null => "-".to_owned(),
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

/// A value with its unit; floats have the decimals that are known, or are cut to what a meter would show.
pub(crate) fn with_unit(value: &Value, unit: &str, decimals: Option<u64>) -> String {
    let shown = match value {
        Value::Number(number)
            if decimals.is_some() && number.as_f64().is_some_and(|value| number.is_f64() && value.abs() < 1e15) =>
        {
            let decimals = decimals.and_then(|decimals| usize::try_from(decimals).ok()).unwrap_or(0);
            format!("{:.decimals$}", number.as_f64().unwrap_or(0.0))
        }
        Value::Number(number) if number.is_f64() => trimmed(number.as_f64().unwrap_or(0.0)),
        other => plain(other),
    };
    if unit.is_empty() || value.is_null() { shown } else { format!("{shown} {unit}") }
}

fn trimmed(number: f64) -> String {
    if number.is_finite() && number != 0.0 && !(1e-4..1e15).contains(&number.abs()) {
        return format!("{number:e}");
    }
    let decimals = match number.abs() {
        n if n >= 1000.0 => 1,
        n if n >= 1.0 => 2,
        _ => 4,
    };
    let text = format!("{number:.decimals$}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_comes_from_outside_gives_no_orders_to_a_terminal_or_a_spreadsheet() {
        let hostile = "a\u{1b}]0;owned\u{7}b\u{9b}2Jc\u{202e}d\n\u{7f}";
        assert_eq!(safe(hostile), r"a\u{1b}]0;owned\u{7}b\u{9b}2Jc\u{202e}d\n\u{7f}");
        let json = safe_json(&json!({ "text": hostile }).to_string());
        assert!(
            !json.contains(is_unsafe) && serde_json::from_str::<Value>(&json).unwrap()["text"] == hostile,
            "{json}"
        );
        let fields = ["=1+1", "-12.5", "+3", "@sum(a1)", "-", "-x", "plain", "\t=1", "1e5"].map(safe_field);
        assert_eq!(fields, ["'=1+1", "-12.5", "+3", "'@sum(a1)", "-", "'-x", "plain", r"'\t=1", "1e5"]);
    }

    #[test]
    fn spans_are_said_as_people_say_them() {
        let said: Vec<_> = [-5, 432, 12_000, 119_000, 180_000, 7_300_000, 200_000_000].map(span).into();
        assert_eq!(said, ["0.0 s", "0.4 s", "12 s", "119 s", "3 min", "2 h", "2 d"]);
    }

    #[test]
    fn values_are_shown_as_a_meter_would() {
        assert_eq!(with_unit(&json!(54.32), "%", None), "54.32 %");
        assert_eq!(with_unit(&json!(41.0), "°C", Some(1)), "41.0 °C");
        assert_eq!(with_unit(&json!(212.347_923), "m³/h", None), "212.35 m³/h");
        assert_eq!(with_unit(&json!(0.2), "", None), "0.2");
        assert_eq!(with_unit(&json!(71_402_300), "kg", Some(0)), "71402300 kg");
        assert_eq!(with_unit(&json!(2.5e300), "", None), "2.5e300");
        assert_eq!(with_unit(&json!(0.000_02), "m", None), "2e-5 m");
        assert_eq!(with_unit(&json!(18_446_744_073_709_551_615_u64), "", None), "18446744073709551615");
        assert_eq!(with_unit(&Value::Null, "kg", None), "-");
    }
}
