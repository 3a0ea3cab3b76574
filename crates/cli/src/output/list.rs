//! Lists of records: a table for people, and the same records as JSON, CSV and JSON Lines.

use std::io::{self, Write};

use comfy_table::{Cell, CellAlignment, Table, TableStyle, presets};
use serde::Serialize;

use crate::{args::ListOutput, failure::Failure};

/// A column of a list.
pub struct Column<T> {
    /// Its heading; CSV has it without what stands in brackets.
    pub name: &'static str,
    /// Whether it is aligned to the right.
    pub right: bool,
    /// The cell for people.
    pub told: fn(&T) -> String,
    /// The cell for programs.
    pub plain: fn(&T) -> String,
}

/// Writes records.
pub fn write<T: Serialize>(records: &[T], columns: &[Column<T>], output: ListOutput) -> Result<(), Failure> {
    let mut out = io::stdout().lock();
    match output {
        ListOutput::Table => writeln!(out, "{}", told(records, columns))?,
        ListOutput::Json => writeln!(out, "{}", serde_json::to_string_pretty(records)?)?,
        ListOutput::Ndjson => {
            for record in records {
                writeln!(out, "{}", serde_json::to_string(record)?)?;
            }
        }
        ListOutput::Csv => {
            let rows = records.iter().map(|record| columns.iter().map(|column| (column.plain)(record)).collect());
            let header = columns.iter().map(|column| column.name.split(" (").next().unwrap_or_default().to_owned()).collect();
            write_csv(&mut out, header, rows)?;
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

fn told<T>(records: &[T], columns: &[Column<T>]) -> String {
    let mut table = plain_table();
    table.set_header(columns.iter().map(|column| aligned(column.name.to_owned(), column.right)));
    for record in records {
        table.add_row(columns.iter().map(|column| aligned((column.told)(record), column.right)));
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
