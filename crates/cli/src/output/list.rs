//! Lists of records: a table for people, and the same records as JSON, CSV and JSON Lines.

use std::io::{self, Write};

use comfy_table::{Cell, CellAlignment, ColumnConstraint, ContentArrangement, Table, TableStyle, Width, presets};
use serde::Serialize;

use super::terminal::terminal_width;
use crate::{args::ListOutput, failure::Failure};

/// Texts of empty cells.
const EMPTY: [&str; 2] = ["", "–"];
/// Maximum number of words of a cell that does not wrap.
const MAX_WHOLE_WORDS: usize = 5;
/// Maximum number of letters of a cell with several words that does not wrap.
const MAX_WHOLE_LETTERS: usize = 40;
/// Minimum width of a wrapped text, however narrow the terminal.
const MIN_TEXT_WIDTH: u16 = 24;

/// A column of a list.
pub struct Column<T> {
    /// Its heading; CSV has it without what stands in brackets.
    pub name: &'static str,
    /// Whether it is aligned to the right.
    pub right: bool,
    /// The cell for people.
    pub text: fn(&T) -> String,
    /// The cell for programs.
    pub plain: fn(&T) -> String,
}

/// Writes records.
pub fn write<T: Serialize>(records: &[T], columns: &[Column<T>], output: ListOutput) -> Result<(), Failure> {
    write_to(&mut io::stdout().lock(), records, columns, output)
}

fn write_to<T: Serialize>(out: &mut impl Write, records: &[T], columns: &[Column<T>], output: ListOutput) -> Result<(), Failure> {
    match output {
        ListOutput::Table => writeln!(out, "{}", table(records, columns, terminal_width()))?,
        ListOutput::Json => writeln!(out, "{}", serde_json::to_string_pretty(records)?)?,
        ListOutput::Ndjson => {
            for record in records {
                writeln!(out, "{}", serde_json::to_string(record)?)?;
            }
        }
        ListOutput::Csv => {
            let rows = records.iter().map(|record| columns.iter().map(|column| (column.plain)(record)).collect());
            let header = columns.iter().map(|column| column.name.split(" (").next().unwrap_or_default().to_owned()).collect();
            write_csv(out, header, rows)?;
        }
    }
    Ok(())
}

fn write_csv(out: &mut impl Write, header: Vec<String>, rows: impl Iterator<Item = Vec<String>>) -> io::Result<()> {
    for row in std::iter::once(header).chain(rows) {
        let cell = |cell: &String| match cell.contains([',', '"', '\n', '\r']) {
            true => format!("\"{}\"", cell.replace('"', "\"\"")),
            false => cell.clone(),
        };
        writeln!(out, "{}", row.iter().map(cell).collect::<Vec<_>>().join(","))?;
    }
    Ok(())
}

/// A table of at most `width` columns, if a width is given: texts and lists wrap, other cells do not. Columns that are empty in all records are omitted.
fn table<T>(records: &[T], columns: &[Column<T>], width: Option<u16>) -> String {
    let cells = |column: &Column<T>| records.iter().map(column.text).collect();
    let mut shown: Vec<(&Column<T>, Vec<String>)> = columns.iter().map(|column| (column, cells(column))).collect();
    shown.retain(|(_, cells)| records.is_empty() || cells.iter().any(|cell| !EMPTY.contains(&cell.as_str())));
    let mut table = plain_table();
    table.set_header(shown.iter().map(|(column, _)| aligned(column.name.to_owned(), column.right)));
    for at in 0..records.len() {
        table.add_row(shown.iter().map(|(column, cells)| aligned(cells[at].clone(), column.right)));
    }
    if let Some(width) = width {
        table.set_content_arrangement(ContentArrangement::Dynamic).set_width(width);
        let is_whole = |cell: &String| match cell.split(' ').count() {
            1 => true,
            words => words <= MAX_WHOLE_WORDS && cell.chars().count() <= MAX_WHOLE_LETTERS,
        };
        for (at, (_, cells)) in shown.iter().enumerate() {
            let constraint = if cells.iter().all(is_whole) {
                ColumnConstraint::ContentWidth
            } else {
                ColumnConstraint::LowerBoundary(Width::Fixed(MIN_TEXT_WIDTH))
            };
            if let Some(column) = table.column_mut(at) {
                column.set_constraint(constraint);
            }
        }
    }
    table.trim_fmt()
}

/// A table with a line under its header and nothing else.
pub fn plain_table() -> Table {
    const STYLE: TableStyle = presets::NOTHING.header_separator(comfy_table::LineStyle::new('─', '─', '─', '─'));
    let mut table = Table::new();
    table.load_style(STYLE);
    table
}

/// A cell, to the left or to the right.
pub fn aligned(text: String, right: bool) -> Cell {
    Cell::new(text).set_alignment(if right { CellAlignment::Right } else { CellAlignment::Left })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Serialize)]
    struct Lock {
        name: &'static str,
        boats: u64,
    }

    fn written(records: &[Lock], output: ListOutput) -> String {
        let columns = [
            Column { name: "lock", right: false, text: |lock: &Lock| lock.name.to_owned(), plain: |lock: &Lock| lock.name.to_owned() },
            Column {
                name: "boats (a day)",
                right: true,
                text: |lock: &Lock| format!("{} boats", lock.boats),
                plain: |lock: &Lock| lock.boats.to_string(),
            },
        ];
        let mut out = Vec::new();
        write_to(&mut out, records, &columns, output).unwrap();
        String::from_utf8(out).unwrap()
    }

    #[test]
    fn text_and_json_output_hold_the_same_records() {
        let locks = [Lock { name: "osier", boats: 12 }, Lock { name: "the \"old\" lock, at Marl", boats: 3 }];
        assert_eq!(written(&locks, ListOutput::Csv), "lock,boats\nosier,12\n\"the \"\"old\"\" lock, at Marl\",3\n");
        assert_eq!(written(&locks, ListOutput::Ndjson).lines().next(), Some(r#"{"name":"osier","boats":12}"#));
        let json: serde_json::Value = serde_json::from_str(&written(&locks, ListOutput::Json)).unwrap();
        assert_eq!(json[1]["boats"], 3);
        let table = written(&locks, ListOutput::Table);
        assert!(table.contains("12 boats") && table.contains("boats (a day)"), "{table}");
    }

    #[test]
    fn a_table_fits_the_terminal_and_omits_empty_columns() {
        let column = |name, text: fn(&Lock) -> String| Column { name, right: false, text, plain: text };
        let columns = [
            column("lock", |lock| lock.name.to_owned()),
            column("gauges", |_| "up (12), down (12), middle (9), pump house (3)".to_owned()),
            column("closed", |_| "–".to_owned()),
            column("keeper", |_| "open from May to October".to_owned()),
        ];
        let locks = [Lock { name: "osier", boats: 12 }, Lock { name: "marl", boats: 3 }];
        let narrow = table(&locks, &columns, Some(72));
        assert!(narrow.lines().all(|line| line.chars().count() <= 72), "{narrow}");
        assert!(!narrow.contains("closed") && narrow.contains("osier"), "{narrow}");
        let wide = table(&locks, &columns, None);
        assert_eq!(wide.lines().count(), 4, "{wide}");
    }

    #[test]
    fn nothing_is_a_header() {
        assert_eq!(written(&[], ListOutput::Csv), "lock,boats\n");
        assert_eq!(written(&[], ListOutput::Json), "[]\n");
        assert_eq!(written(&[], ListOutput::Ndjson), "");
    }
}
