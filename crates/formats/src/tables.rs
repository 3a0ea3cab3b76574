//! An answer as rows: CSV and JSON Lines, a row for each value.

use std::{collections::BTreeSet, io};

use fenetre_core::model::Value;
use serde::Serialize;

use crate::document::{AnswerDocument, Form, LineDocument, ShowDocument};

/// Writes the answer as CSV: `show`, `start`, `end`, a column for each tag, `value`, `unit`. A point's `end` is empty, as is the value of an
/// empty window.
///
/// # Errors
/// Those of the writer.
pub fn write_csv(answer: &AnswerDocument, mut out: impl io::Write) -> io::Result<()> {
    let keys = keys(answer);
    out.write_all(&csv_header(&keys)?)?;
    each_line(answer).try_for_each(|(show, line)| out.write_all(&csv_line(answer, &keys, show, line)?))
}

/// The same in parts, of a line of the answer each.
pub fn csv_parts(answer: AnswerDocument) -> impl Iterator<Item = io::Result<Vec<u8>>> {
    let keys: Vec<String> = keys(&answer).into_iter().map(str::to_owned).collect();
    let places = places(&answer);
    let header = csv_header(&keys.iter().map(String::as_str).collect::<Vec<_>>());
    let line = move |(show, line): (usize, usize)| {
        let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
        let show = &answer.shows[show];
        csv_line(&answer, &keys, show, &show.lines[line])
    };
    std::iter::once(header).chain(places.into_iter().map(line))
}

/// Writes the answer as JSON Lines: an object with `show`, `start` and `end` (a point: `time`), `tags`, `value` a line.
///
/// # Errors
/// Those of the writer.
pub fn write_json_lines(answer: &AnswerDocument, mut out: impl io::Write) -> io::Result<()> {
    each_line(answer).try_for_each(|(show, line)| out.write_all(&json_lines(answer, show, line)?))
}

/// The same in parts, of a line of the answer each.
pub fn json_line_parts(answer: AnswerDocument) -> impl Iterator<Item = io::Result<Vec<u8>>> {
    let places = places(&answer);
    places.into_iter().map(move |(show, line)| {
        let show = &answer.shows[show];
        json_lines(&answer, show, &show.lines[line])
    })
}

fn keys(answer: &AnswerDocument) -> Vec<&str> {
    let keys: BTreeSet<&str> = each_line(answer).flat_map(|(_, line)| line.tags.keys().map(String::as_str)).collect();
    keys.into_iter().collect()
}

fn each_line(answer: &AnswerDocument) -> impl Iterator<Item = (&ShowDocument, &LineDocument)> {
    answer.shows.iter().flat_map(|show| show.lines.iter().map(move |line| (show, line)))
}

fn places(answer: &AnswerDocument) -> Vec<(usize, usize)> {
    answer.shows.iter().enumerate().flat_map(|(at, show)| (0..show.lines.len()).map(move |line| (at, line))).collect()
}

fn csv_header(keys: &[&str]) -> io::Result<Vec<u8>> {
    let mut writer = ::csv::Writer::from_writer(Vec::new());
    writer.write_record(["show", "start", "end"].into_iter().chain(keys.iter().copied()).chain(["value", "unit"]))?;
    writer.into_inner().map_err(|error| error.into_error())
}

fn csv_line(answer: &AnswerDocument, keys: &[&str], show: &ShowDocument, line: &LineDocument) -> io::Result<Vec<u8>> {
    let mut writer = ::csv::Writer::from_writer(Vec::new());
    each_row_of(answer, show, line, &mut |row| {
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
    writer.into_inner().map_err(|error| error.into_error())
}

fn json_lines(answer: &AnswerDocument, show: &ShowDocument, line: &LineDocument) -> io::Result<Vec<u8>> {
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
        #[serde(skip_serializing_if = "Option::is_none")]
        unit: Option<&'a str>,
    }
    let mut out = Vec::new();
    each_row_of(answer, show, line, &mut |row| {
        let is_point = row.end.is_none();
        let object = Object {
            show: &row.show.label,
            time: is_point.then_some(row.start),
            start: (!is_point).then_some(row.start),
            end: row.end,
            tags: &row.line.tags,
            value: row.value,
            unit: row.show.unit.as_deref(),
        };
        serde_json::to_writer(&mut out, &object)?;
        out.push(b'\n');
        Ok(())
    })?;
    Ok(out)
}

/// One value of an answer.
pub struct Row<'a> {
    /// Of which `show`.
    pub show: &'a ShowDocument,
    /// Of which line.
    pub line: &'a LineDocument,
    /// From when, or at which instant.
    pub start: &'a str,
    /// None for a point.
    pub end: Option<&'a str>,
    /// None where a window is empty.
    pub value: Option<&'a Value>,
}

/// Gives every value, line by line.
///
/// # Errors
/// What `each` returned.
pub fn each_row<'a>(answer: &'a AnswerDocument, mut each: impl FnMut(Row<'a>) -> io::Result<()>) -> io::Result<()> {
    each_line(answer).try_for_each(|(show, line)| each_row_of(answer, show, line, &mut each))
}

fn each_row_of<'a>(
    answer: &'a AnswerDocument,
    show: &'a ShowDocument,
    line: &'a LineDocument,
    each: &mut dyn FnMut(Row<'a>) -> io::Result<()>,
) -> io::Result<()> {
    let moment = std::slice::from_ref(&answer.from);
    let starts = match show.form {
        Form::Windows => answer.windows.starts.as_slice(),
        // A value that was computed of several is of the moment itself.
        Form::Moment => line.times.as_deref().unwrap_or(moment),
        Form::Points => line.times.as_deref().unwrap_or_default(),
    };
    for (i, (start, value)) in starts.iter().zip(&line.values).enumerate() {
        let end = if show.form == Form::Windows { answer.windows.ends.get(i).map(String::as_str) } else { None };
        each(Row { show, line, start, end, value: value.as_ref() })?;
    }
    Ok(())
}
