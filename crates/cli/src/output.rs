use crate::args::Output;
use comfy_table::{Cell, Color, ContentArrangement, Table, presets};
use jiff::{Timestamp, tz::TimeZone};
use serde_json::Value;

/// A table without lines, as wide as it needs or as the terminal allows.
pub(crate) fn table(header: &[&str]) -> Table {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    if std::env::var_os("NO_COLOR").is_some_and(|text| !text.is_empty()) {
        table.force_no_tty();
        table.set_content_arrangement(ContentArrangement::Disabled);
    }
    table.set_header(header.iter().map(|title| Cell::new(title).fg(Color::DarkGrey)));
    table
}

/// A state as a cell: what is well is plain, what needs a person is coloured. The word says it without the colour.
pub(crate) fn state_cell(word: &str) -> Cell {
    let cell = Cell::new(word);
    match word {
        "bad" | "down" | "silent" | "offline" | "unreachable" | "away" => cell.fg(Color::Red),
        "uncertain" | "connecting" | "waiting" => cell.fg(Color::Yellow),
        _ => cell,
    }
}

/// Text in a colour, for lines outside a table; plain where colours are not wanted.
pub(crate) fn paint(text: &str, color: Option<anstyle::AnsiColor>) -> String {
    let style = anstyle::Style::new().fg_color(color.map(Into::into));
    format!("{style}{text}{style:#}")
}

/// Prints a table without the spaces that its last column ends with.
pub(crate) fn print_table(table: &Table) {
    for line in table.lines() {
        anstream::println!("{}", line.trim_end());
    }
}

/// Writes rows as CSV to standard output.
pub(crate) fn print_csv(header: &[&str], rows: impl Iterator<Item = Vec<String>>) -> anyhow::Result<()> {
    let mut writer = csv::Writer::from_writer(anstream::stdout());
    writer.write_record(header)?;
    for row in rows {
        writer.write_record(row)?;
    }
    Ok(writer.flush()?)
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

/// Prints rows in the form that was asked for; `json` is what the service said.
pub(crate) fn print_rows(
    output: Output,
    header: &[&str],
    rows: Vec<Vec<String>>,
    json: &Value,
    empty: &str,
) -> anyhow::Result<()> {
    match output {
        Output::Json => anstream::println!("{}", serde_json::to_string_pretty(json)?),
        Output::Csv => print_csv(header, rows.into_iter())?,
        Output::Table if rows.is_empty() => anstream::println!("{empty}"),
        Output::Table => {
            let mut shown = table(header);
            rows.into_iter().for_each(|row| {
                shown.add_row(row);
            });
            print_table(&shown);
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
        Value::Number(number) if decimals.is_some() && number.is_f64() => {
            let decimals = decimals.and_then(|decimals| usize::try_from(decimals).ok()).unwrap_or(0);
            format!("{:.decimals$}", number.as_f64().unwrap_or(0.0))
        }
        Value::Number(number) if number.is_f64() => trimmed(number.as_f64().unwrap_or(0.0)),
        other => plain(other),
    };
    if unit.is_empty() || value.is_null() { shown } else { format!("{shown} {unit}") }
}

fn trimmed(number: f64) -> String {
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
        assert_eq!(with_unit(&Value::Null, "kg", None), "-");
    }
}
