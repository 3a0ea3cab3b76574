//! An answer as rows: CSV and JSON Lines, a row for each value.

use std::{collections::BTreeSet, io};

use fenetre_core::model::Value;
use serde::Serialize;

use crate::document::{AnswerDocument, LineDocument, ShowDocument};

/// Writes the answer as CSV: `show`, `start`, `end`, a column for each tag, `value`, `unit`. A point's `end` is empty, as is the value of an
/// empty window.
///
/// # Errors
/// Those of the writer.
pub fn write_csv(answer: &AnswerDocument, out: impl io::Write) -> io::Result<()> {
    let mut writer = ::csv::Writer::from_writer(out);
    let lines = answer.shows.iter().flat_map(|show| &show.lines);
    let keys: BTreeSet<&str> = lines.flat_map(|line| line.tags.keys().map(String::as_str)).collect();
    let header = ["show", "start", "end"].into_iter().chain(keys.iter().copied()).chain(["value", "unit"]);
    writer.write_record(header)?;
    each_row(answer, |row| {
        let text;
        let value = match row.value {
            None => "",
            Some(Value::Word(word)) => word,
            Some(Value::Histogram(histogram)) => {
                text = serde_json::to_string(histogram)?;
                &text
            }
            Some(number) => {
                text = number.to_string();
                &text
            }
        };
        let tags = keys.iter().map(|key| row.line.tags.get(*key).map_or("", String::as_str));
        let cells = [row.show.label.as_str(), row.start, row.end.unwrap_or_default()].into_iter().chain(tags);
        Ok(writer.write_record(cells.chain([value, row.show.unit.as_deref().unwrap_or_default()]))?)
    })?;
    writer.flush()
}

/// Writes the answer as JSON Lines: an object with `show`, `start` and `end` (a point: `time`), `tags`, `value` a line.
///
/// # Errors
/// Those of the writer.
pub fn write_json_lines(answer: &AnswerDocument, mut out: impl io::Write) -> io::Result<()> {
    #[derive(Serialize)]
    struct Object<'a> {
        show: &'a str,
        #[serde(skip_serializing_if = "Option::is_none")]
        time: Option<&'a str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        start: Option<&'a str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        end: Option<&'a str>,
        tags: &'a std::collections::BTreeMap<String, String>,
        value: Option<&'a Value>,
    }
    each_row(answer, |row| {
        let is_point = row.end.is_none();
        let object = Object {
            show: &row.show.label,
            time: is_point.then_some(row.start),
            start: (!is_point).then_some(row.start),
            end: row.end,
            tags: &row.line.tags,
            value: row.value,
        };
        serde_json::to_writer(&mut out, &object)?;
        out.write_all(b"\n")
    })
}

struct Row<'a> {
    show: &'a ShowDocument,
    line: &'a LineDocument,
    start: &'a str,
    /// None for a point.
    end: Option<&'a str>,
    value: Option<&'a Value>,
}

fn each_row<'a>(answer: &'a AnswerDocument, mut each: impl FnMut(Row<'a>) -> io::Result<()>) -> io::Result<()> {
    for show in &answer.shows {
        for line in &show.lines {
            let starts = line.times.as_ref().unwrap_or(&answer.windows.starts);
            for (i, (start, value)) in starts.iter().zip(&line.values).enumerate() {
                let end = if line.times.is_some() { None } else { answer.windows.ends.get(i).map(String::as_str) };
                each(Row { show, line, start, end, value: value.as_ref() })?;
            }
        }
    }
    Ok(())
}
