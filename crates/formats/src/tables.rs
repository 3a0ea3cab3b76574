//! An answer as rows, for CSV, JSON Lines and columnar formats: a row for each value, or, if points of several metrics are asked for, a row for each
//! instant. The columns have the names that long tables have, so that rows are read back without a mapping.

use std::{
    collections::{BTreeMap, BTreeSet},
    io,
};

use fenetre_core::{
    model::Value,
    time::{Nanos, parse_rfc3339},
};
use serde::Serialize;

use crate::{
    document::{AnswerDocument, Form, LineDocument, ShowDocument},
    mapping::tag_column,
};

/// A column of an answer's rows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Column {
    /// The instant of a point, or the first of a window.
    Time,
    /// The first instant after a window.
    End,
    /// The moment that was asked for.
    Moment,
    /// The metric of a point; of a window, the label of its `show`.
    Metric,
    /// The value of the tag of that key.
    Tag(String),
    /// A number.
    Value,
    /// A word of a state.
    Word,
    /// A histogram, as JSON.
    Histogram,
    /// The UCUM code of its unit.
    Unit,
    /// Whether it lacks something: a window that is not whole, or points that are no longer kept.
    Partial,
    /// The values of one of several metrics.
    Beside(String),
}

impl Column {
    /// Its name in the header.
    pub fn name(&self) -> String {
        match self {
            Self::Time => "time".to_owned(),
            Self::End => "end".to_owned(),
            Self::Moment => "moment".to_owned(),
            Self::Metric => "metric".to_owned(),
            Self::Tag(key) => tag_column(key),
            Self::Value => "value".to_owned(),
            Self::Word => "word".to_owned(),
            Self::Histogram => "histogram".to_owned(),
            Self::Unit => "unit".to_owned(),
            Self::Partial => "partial".to_owned(),
            Self::Beside(metric) => metric.clone(),
        }
    }
}

/// One row.
#[derive(Clone, Debug)]
pub struct Row<'a> {
    /// The instant of a point, or the first of a window.
    pub time: &'a str,
    /// The first instant after a window.
    pub end: Option<&'a str>,
    /// The moment that was asked for.
    pub moment: Option<&'a str>,
    /// The metric, or the label.
    pub metric: &'a str,
    /// Tags of its line.
    pub tags: &'a BTreeMap<String, String>,
    /// Of each metric beside the others; of one alone, its only value. None for an empty window.
    pub values: &'a [Option<&'a Value>],
    /// UCUM code of its unit.
    pub unit: Option<&'a str>,
    /// Whether it lacks something.
    pub is_partial: bool,
}

/// The columns of an answer's rows: those that hold anything, and a few that are always there.
#[derive(Clone, Debug)]
pub struct Sheet {
    columns: Vec<Column>,
    parts: Vec<Part>,
}

/// What is written at a time.
#[derive(Clone, Debug)]
enum Part {
    /// A line of a `show`.
    Line(usize, usize),
    /// Lines of several metrics and of the same tags, each with the place of its metric.
    Beside(Vec<(usize, usize)>),
}

impl Sheet {
    /// The columns of an answer.
    pub fn of(answer: &AnswerDocument) -> Self {
        let keys: BTreeSet<&str> = each_line(answer).flat_map(|(_, line)| line.tags.keys().map(String::as_str)).collect();
        let tags = keys.into_iter().map(|key| Column::Tag(key.to_owned()));
        if let Some(metrics) = metrics_beside(answer) {
            let mut groups: BTreeMap<&BTreeMap<String, String>, Vec<(usize, usize)>> = BTreeMap::new();
            for (at, line) in answer.shows[0].lines.iter().enumerate() {
                let place = metrics.iter().position(|metric| Some(*metric) == line.metric.as_deref()).unwrap_or_default();
                groups.entry(&line.tags).or_default().push((place, at));
            }
            let columns = [Column::Time].into_iter().chain(tags).chain(metrics.into_iter().map(|metric| Column::Beside(metric.to_owned())));
            return Self { columns: columns.collect(), parts: groups.into_values().map(Part::Beside).collect() };
        }
        let has_form = |form: Form| answer.shows.iter().any(|show| show.form == form);
        let values = || each_line(answer).flat_map(|(_, line)| &line.values).flatten();
        let has_words = values().any(|value| matches!(value, Value::Word(_)));
        let has_histograms = values().any(|value| matches!(value, Value::Histogram(_)));
        let has_numbers = values().any(|value| value.number().is_some()) || !has_words && !has_histograms;
        let is_partial = has_form(Form::Windows) && !answer.windows.partial.is_empty() || each_line(answer).any(|(_, line)| !line.partial.is_empty());
        let some = |column: Column, is_there: bool| is_there.then_some(column);
        let before =
            [Some(Column::Time), some(Column::End, has_form(Form::Windows)), some(Column::Moment, has_form(Form::Moment)), Some(Column::Metric)];
        let after = [
            some(Column::Value, has_numbers),
            some(Column::Word, has_words),
            some(Column::Histogram, has_histograms),
            Some(Column::Unit),
            some(Column::Partial, is_partial),
        ];
        let columns = before.into_iter().flatten().chain(tags).chain(after.into_iter().flatten()).collect();
        let parts = answer.shows.iter().enumerate().flat_map(|(at, show)| (0..show.lines.len()).map(move |line| Part::Line(at, line)));
        Self { columns, parts: parts.collect() }
    }

    /// In order.
    pub fn columns(&self) -> &[Column] {
        &self.columns
    }

    /// Gives every row.
    ///
    /// # Errors
    /// What `each` returned; a time of a document that is none.
    pub fn each_row(&self, answer: &AnswerDocument, each: &mut dyn FnMut(Row<'_>) -> io::Result<()>) -> io::Result<()> {
        self.parts.iter().try_for_each(|part| self.each_row_of(answer, part, each))
    }

    fn each_row_of(&self, answer: &AnswerDocument, part: &Part, each: &mut dyn FnMut(Row<'_>) -> io::Result<()>) -> io::Result<()> {
        match part {
            Part::Line(show, line) => {
                let show = &answer.shows[*show];
                each_row_of_line(answer, show, &show.lines[*line], each)
            }
            Part::Beside(lines) => {
                let metrics = self.columns.iter().filter(|column| matches!(column, Column::Beside(_))).count();
                each_row_beside(&answer.shows[0], lines, metrics, each)
            }
        }
    }

    fn header(&self) -> io::Result<Vec<u8>> {
        let mut writer = ::csv::Writer::from_writer(Vec::new());
        writer.write_record(self.columns.iter().map(Column::name))?;
        writer.into_inner().map_err(|error| error.into_error())
    }

    fn csv(&self, answer: &AnswerDocument, part: &Part) -> io::Result<Vec<u8>> {
        let mut writer = ::csv::Writer::from_writer(Vec::new());
        self.each_row_of(answer, part, &mut |row| {
            let mut beside = row.values.iter();
            let cells = self.columns.iter().map(|column| cell(&row, column, &mut beside)).collect::<io::Result<Vec<String>>>()?;
            Ok(writer.write_record(cells)?)
        })?;
        writer.into_inner().map_err(|error| error.into_error())
    }

    fn json_lines(&self, answer: &AnswerDocument, part: &Part) -> io::Result<Vec<u8>> {
        let metrics: Vec<&str> =
            self.columns.iter().filter_map(|column| if let Column::Beside(metric) = column { Some(metric.as_str()) } else { None }).collect();
        let mut out = Vec::new();
        self.each_row_of(answer, part, &mut |row| {
            if metrics.is_empty() {
                let Row { time, end, moment, metric, tags, values, unit, is_partial } = row;
                let value = values.first().copied().flatten();
                let partial = is_partial.then_some(true);
                serde_json::to_writer(&mut out, &Object { time, end, moment, metric, tags, value, unit, partial })?;
            } else {
                let values = metrics.iter().copied().zip(row.values).filter_map(|(metric, value)| Some((metric, (*value)?))).collect();
                serde_json::to_writer(&mut out, &Beside { time: row.time, tags: row.tags, values })?;
            }
            out.push(b'\n');
            Ok(())
        })?;
        Ok(out)
    }
}

/// A row as JSON: absent fields are omitted, and the value keeps its type.
#[derive(Serialize)]
struct Object<'a> {
    time: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    end: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    moment: Option<&'a str>,
    metric: &'a str,
    tags: &'a BTreeMap<String, String>,
    value: Option<&'a Value>,
    #[serde(skip_serializing_if = "Option::is_none")]
    unit: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    partial: Option<bool>,
}

#[derive(Serialize)]
struct Beside<'a> {
    time: &'a str,
    tags: &'a BTreeMap<String, String>,
    values: BTreeMap<&'a str, &'a Value>,
}

/// Writes the answer as CSV.
///
/// # Errors
/// Those of the writer.
pub fn write_csv(answer: &AnswerDocument, mut out: impl io::Write) -> io::Result<()> {
    let sheet = Sheet::of(answer);
    out.write_all(&sheet.header()?)?;
    sheet.parts.iter().try_for_each(|part| out.write_all(&sheet.csv(answer, part)?))
}

/// The same in parts, of a line of the answer each.
pub fn csv_parts(answer: AnswerDocument) -> impl Iterator<Item = io::Result<Vec<u8>>> {
    let sheet = Sheet::of(&answer);
    let header = sheet.header();
    let parts = sheet.parts.clone();
    std::iter::once(header).chain(parts.into_iter().map(move |part| sheet.csv(&answer, &part)))
}

/// Writes the answer as JSON Lines: an object for each row.
///
/// # Errors
/// Those of the writer.
pub fn write_json_lines(answer: &AnswerDocument, mut out: impl io::Write) -> io::Result<()> {
    let sheet = Sheet::of(answer);
    sheet.parts.iter().try_for_each(|part| out.write_all(&sheet.json_lines(answer, part)?))
}

/// The same in parts, of a line of the answer each.
pub fn json_line_parts(answer: AnswerDocument) -> impl Iterator<Item = io::Result<Vec<u8>>> {
    let sheet = Sheet::of(&answer);
    let parts = sheet.parts.clone();
    parts.into_iter().map(move |part| sheet.json_lines(&answer, &part))
}

fn each_line(answer: &AnswerDocument) -> impl Iterator<Item = (&ShowDocument, &LineDocument)> {
    answer.shows.iter().flat_map(|show| show.lines.iter().map(move |line| (show, line)))
}

/// The metrics whose points stand beside each other, in the order in which they were asked for.
fn metrics_beside(answer: &AnswerDocument) -> Option<Vec<&str>> {
    let [show] = answer.shows.as_slice() else { return None };
    let mut metrics: Vec<&str> = Vec::new();
    for metric in show.lines.iter().filter_map(|line| line.metric.as_deref()) {
        if !metrics.contains(&metric) {
            metrics.push(metric);
        }
    }
    (show.form == Form::Points && metrics.len() > 1).then_some(metrics)
}

fn cell<'r>(row: &Row<'_>, column: &Column, beside: &mut impl Iterator<Item = &'r Option<&'r Value>>) -> io::Result<String> {
    let value = row.values.first().copied().flatten();
    let text = |value: Option<&Value>| -> io::Result<String> {
        Ok(match value {
            None => String::new(),
            Some(Value::Histogram(histogram)) => serde_json::to_string(histogram)?,
            Some(value) => value.to_string(),
        })
    };
    Ok(match column {
        Column::Time => row.time.to_owned(),
        Column::End => row.end.unwrap_or_default().to_owned(),
        Column::Moment => row.moment.unwrap_or_default().to_owned(),
        Column::Metric => row.metric.to_owned(),
        Column::Tag(key) => row.tags.get(key).cloned().unwrap_or_default(),
        Column::Value => text(value.filter(|value| value.number().is_some()))?,
        Column::Word => text(value.filter(|value| matches!(value, Value::Word(_))))?,
        Column::Histogram => text(value.filter(|value| matches!(value, Value::Histogram(_))))?,
        Column::Unit => row.unit.unwrap_or_default().to_owned(),
        Column::Partial => if row.is_partial { "true" } else { "false" }.to_owned(),
        Column::Beside(_) => text(beside.next().copied().flatten())?,
    })
}

fn each_row_of_line(
    answer: &AnswerDocument,
    show: &ShowDocument,
    line: &LineDocument,
    each: &mut dyn FnMut(Row<'_>) -> io::Result<()>,
) -> io::Result<()> {
    let own_times = line.times.as_deref().unwrap_or_default();
    let instants = match show.form {
        Form::Windows => answer.windows.starts.as_slice(),
        Form::Moment => answer.moments.as_slice(),
        Form::Points => &[],
    };
    for (at, value) in line.values.iter().enumerate() {
        let own = own_times.get(at).and_then(Option::as_deref);
        // A value that was computed of several is of the moment itself.
        let Some(time) = own.or(instants.get(at).map(String::as_str)) else { continue };
        each(Row {
            time,
            end: if show.form == Form::Windows { answer.windows.ends.get(at).map(String::as_str) } else { None },
            moment: if show.form == Form::Moment { instants.get(at).map(String::as_str) } else { None },
            metric: line.metric.as_deref().unwrap_or(&show.label),
            tags: &line.tags,
            values: &[value.as_ref()],
            unit: line.unit.as_deref().or(show.unit.as_deref()),
            is_partial: line.partial.binary_search(&at).is_ok() || show.form == Form::Windows && answer.windows.partial.binary_search(&at).is_ok(),
        })?;
    }
    Ok(())
}

/// Points of several metrics that share their tags, an instant a row.
fn each_row_beside(
    show: &ShowDocument,
    places: &[(usize, usize)],
    metrics: usize,
    each: &mut dyn FnMut(Row<'_>) -> io::Result<()>,
) -> io::Result<()> {
    let instants = |line: &LineDocument| -> io::Result<Vec<Nanos>> {
        let read = |time: &Option<String>| parse_rfc3339(time.as_deref().unwrap_or_default()).map_err(io::Error::other);
        line.times.iter().flatten().map(read).collect()
    };
    let lines: Vec<(usize, &LineDocument)> = places.iter().map(|(metric, line)| (*metric, &show.lines[*line])).collect();
    let times: Vec<Vec<Nanos>> = lines.iter().map(|(_, line)| instants(line)).collect::<io::Result<_>>()?;
    let mut next = vec![0; lines.len()];
    while let Some(earliest) = times.iter().zip(&next).filter_map(|(times, at)| times.get(*at)).min().copied() {
        let (mut values, mut row): (Vec<Option<&Value>>, Option<(&str, &LineDocument)>) = (vec![None; metrics], None);
        for (((metric, line), times), at) in lines.iter().zip(&times).zip(&mut next) {
            if times.get(*at) == Some(&earliest) {
                values[*metric] = line.values[*at].as_ref();
                row = row.or(line.times.as_ref().and_then(|times| Some((times[*at].as_deref()?, *line))));
                *at += 1;
            }
        }
        if let Some((time, line)) = row {
            each(Row { time, end: None, moment: None, metric: "", tags: &line.tags, values: &values, unit: None, is_partial: false })?;
        }
    }
    Ok(())
}
