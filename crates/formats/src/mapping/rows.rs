//! A mapping resolved against the names of a table: rows in, points out.

use std::{
    borrow::Cow,
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::atomic::{AtomicBool, Ordering},
};

use fenetre_core::{
    model::{About, Cause, Histogram, Kind, KnownSeries, PointRef, PointSink, Refusal, ValueRef},
    suggest::{closest, listing},
    time::{EpochUnit, Nanos, TimeFormat, TimeRule, format_day, format_utc, from_epoch},
};

use super::{Absent, Cell, Column, Mapping, NamedMetric, NotFinite, Notation, Others, Role, cell::Numbers};
use crate::{FormatError, Output, Tally};

/// Maximum number of columns of a table.
pub const MAX_COLUMNS: usize = 20_000;

/// Where each part of a row stands.
pub struct Rows {
    time: Option<(usize, String)>,
    /// The column of the time of the day, if the other one holds the date alone.
    time_of_day: Option<usize>,
    rule: TimeRule,
    tags: Vec<(usize, String)>,
    constants: Vec<(String, String)>,
    metric: Option<(usize, String)>,
    unit: Option<usize>,
    /// What the mapping says of metrics that rows name.
    named: BTreeMap<String, NamedMetric>,
    values: Vec<ValueColumn>,
    missing: Vec<String>,
    absent: Absent,
    not_finite: NotFinite,
    has_noted_guess: AtomicBool,
}

struct ValueColumn {
    place: usize,
    column: Column,
    form: Form,
    numbers: Numbers,
    missing: Vec<String>,
}

/// What the cells of a value column are.
#[derive(Clone, Copy, PartialEq)]
enum Form {
    Numbers,
    Words,
    Histograms,
}

impl Rows {
    /// Resolves a mapping.
    ///
    /// # Errors
    /// [`FormatError::Table`] if the table lacks a column that the mapping names, or no column is a value.
    pub fn new(mapping: &Mapping, names: &[&str]) -> Result<Self, FormatError> {
        let mapping = &mapping.completed(names);
        let rule = mapping.time_rule().map_err(FormatError::Table)?;
        if names.len() > MAX_COLUMNS {
            let text =
                format!("the table has {} columns; the maximum is {MAX_COLUMNS}. Split it, or use a long table with one row per value", names.len());
            return Err(FormatError::Table(text));
        }
        // Several columns may have no name; the first one counts.
        let places: HashMap<&str, usize> = names.iter().enumerate().rev().map(|(at, name)| (*name, at)).collect();
        let place = |wanted: &str| places.get(wanted).copied().ok_or_else(|| lacks(names, wanted));
        let time = match &mapping.time.column {
            Some(column) => Some((place(column)?, column.clone())),
            None => places.get("time").map(|at| (*at, "time".to_owned())),
        };
        let time_of_day = mapping.time.time_of_day.as_deref().map(place).transpose()?;
        let mut rows = Self {
            time,
            time_of_day,
            rule,
            tags: Vec::new(),
            constants: mapping.tags.iter().map(|(key, value)| (key.clone(), value.clone())).collect(),
            metric: None,
            unit: None,
            named: mapping.metrics.clone(),
            values: Vec::new(),
            missing: mapping.missing.clone(),
            absent: mapping.empty,
            not_finite: mapping.not_finite,
            has_noted_guess: AtomicBool::new(false),
        };
        let notation = Notation { decimal_comma: mapping.table.decimal == Some(','), is_known: mapping.table.decimal.is_some() };
        for column in &mapping.columns {
            rows.add(place(&column.column)?, column.clone(), notation);
        }
        let named: BTreeSet<&str> = mapping.columns.iter().map(|column| column.column.as_str()).collect();
        let role = match mapping.others {
            Others::Skip => Role::Skip,
            Others::Tag => Role::Tag,
            Others::Value => Role::Value,
        };
        for (at, name) in names.iter().enumerate() {
            let is_time = rows.time.as_ref().is_some_and(|(time, _)| *time == at) || rows.time_of_day == Some(at);
            // A column called `time` is a time, of whatever.
            if !is_time && !named.contains(name) && *name != "time" {
                rows.add(at, Column { column: (*name).to_owned(), role, ..Column::default() }, notation);
            }
        }
        if rows.values.is_empty() {
            let known = listing(names.iter().copied(), 20);
            let text = format!(
                "no column is a value: name at least one with value=COLUMN (or state=COLUMN for words), or use a mapping. The columns are {known}"
            );
            return Err(FormatError::Table(text));
        }
        let unnamed = |form: Form| rows.values.iter().filter(|value| value.column.name.is_none() && value.form == form).count();
        if rows.metric.is_some() && [Form::Numbers, Form::Words, Form::Histograms].into_iter().any(|form| unnamed(form) > 1) {
            return Err(FormatError::Table(
                "with a column of the role metric, one value column without a name of its own holds the values; here are several".to_owned(),
            ));
        }
        Ok(rows)
    }

    fn add(&mut self, place: usize, column: Column, notation: Notation) {
        match column.role {
            Role::Skip => {}
            Role::Tag => self.tags.push((place, column.target().to_owned())),
            Role::Metric => self.metric = Some((place, column.column)),
            Role::Unit => self.unit = Some(place),
            Role::Value | Role::State | Role::Histogram => {
                let form = match (column.role, column.kind) {
                    (Role::State, _) | (_, Some(Kind::State)) => Form::Words,
                    (Role::Histogram, _) | (_, Some(Kind::Histogram)) => Form::Histograms,
                    _ => Form::Numbers,
                };
                let numbers = Numbers { notation, scale: column.scale, offset: column.offset };
                let missing = column.missing.clone();
                self.values.push(ValueColumn { place, column, form, numbers, missing });
            }
        }
    }

    /// Whether each row states the unit of its value: then even rows of one series differ.
    pub fn has_units(&self) -> bool {
        self.unit.is_some()
    }

    /// Places of the columns that tell series apart, and how many values a row has.
    pub fn key_places(&self) -> (Vec<usize>, usize) {
        let places = self.tags.iter().map(|(at, _)| *at).chain(self.metric.iter().map(|(at, _)| *at)).collect();
        (places, self.values.len())
    }

    /// Tells the sink what the mapping says of its metrics.
    pub fn describe(&self, sink: &mut dyn PointSink, tally: &mut Tally) {
        let mut give = |metric: &str, about: About<'_>| {
            if about != About::default()
                && let Some(note) = sink.describe(metric, about).note
            {
                tally.note(note);
            }
        };
        for ValueColumn { column, form, .. } in &self.values {
            if self.metric.is_some() && column.name.is_none() {
                continue;
            }
            let by_form = match form {
                Form::Words => Some(Kind::State),
                Form::Histograms => Some(Kind::Histogram),
                Form::Numbers => None,
            };
            let kind = column.kind.or(by_form);
            give(column.target(), About { kind, unit: column.unit.as_deref(), description: column.description.as_deref(), temporality: None });
        }
        for (name, metric) in &self.named {
            give(name, About { kind: metric.kind, unit: metric.unit.as_deref(), ..About::default() });
        }
    }

    /// A note for the end of a table whose rows had no times.
    pub fn note_now(&self, now: Nanos, tally: &mut Tally) {
        if self.time.is_none() && tally.accepted > 0 {
            tally.note(format!("no column is the time, so every row is of now, {}: name one with time=COLUMN", format_utc(now)));
        }
    }

    /// Reads a row. `cell` gives the cell at a place, `line` the row's line; `tags` is used again for each row.
    pub fn take<'r>(
        &'r self,
        cell: &impl Fn(usize) -> Cell<'r>,
        tags: &mut Vec<(&'r str, &'r str)>,
        line: &mut dyn FnMut() -> u64,
        out: &mut Output<'_>,
    ) {
        self.take_known(cell, tags, &mut [], line, out);
    }

    /// Reads a row of which it is known which rows share its series: of each of its values, `known` holds the series, once there is one.
    pub fn take_known<'r>(
        &'r self,
        cell: &impl Fn(usize) -> Cell<'r>,
        tags: &mut Vec<(&'r str, &'r str)>,
        known: &mut [Option<KnownSeries>],
        line: &mut dyn FnMut() -> u64,
        out: &mut Output<'_>,
    ) {
        out.tally.rows += 1;
        let time = match &self.time {
            None => out.now,
            Some((at, column)) => match self.time_of_row(*at, column, cell, out.tally) {
                Ok(time) => time,
                Err(refusal) => return out.tally.refuse(line(), refusal),
            },
        };
        tags.clear();
        if !known.is_empty() && known.iter().all(Option::is_some) {
            return self.take_values(cell, tags, known, time, line, out);
        }
        tags.extend(self.constants.iter().map(|(key, value)| (key.as_str(), value.as_str())));
        let mut all_texts = true;
        for (at, key) in &self.tags {
            match cell(*at).text() {
                // An empty cell is a row without that tag.
                Some("") => {}
                Some(value) if self.is_missing(value, &[]) => {}
                Some(value) => tags.push((key, value)),
                None => all_texts = false,
            }
        }
        if all_texts {
            return self.take_values(cell, tags, known, time, line, out);
        }
        let owned: Result<Vec<(usize, String)>, Refusal> = self
            .tags
            .iter()
            .enumerate()
            .filter(|(_, (at, _))| cell(*at).text().is_none())
            .map(|(i, (at, key))| cell(*at).to_text().map(|text| (i, text)).map_err(|what| Refusal::of(Cause::Tag, key, format!("is {what}"))))
            .collect();
        match owned {
            Ok(owned) => {
                let mut tags: Vec<(&str, &str)> = tags.clone();
                tags.extend(owned.iter().map(|(i, text)| (self.tags[*i].1.as_str(), text.as_str())));
                self.take_values(cell, &tags, known, time, line, out);
            }
            Err(refusal) => out.tally.refuse(line(), refusal),
        }
    }

    fn take_values<'r>(
        &self,
        cell: &impl Fn(usize) -> Cell<'r>,
        tags: &[(&str, &str)],
        known: &mut [Option<KnownSeries>],
        time: Nanos,
        line: &mut dyn FnMut() -> u64,
        out: &mut Output<'_>,
    ) {
        let named: Option<Cow<'_, str>> = match &self.metric {
            None => None,
            Some((at, column)) => {
                let found = cell(*at);
                let name = found.text().map_or_else(|| found.to_text().map(Cow::Owned), |text| Ok(Cow::Borrowed(text)));
                match name {
                    Ok(name) if !name.is_empty() => Some(name),
                    Ok(_) => {
                        return out.tally.refuse(line(), Refusal::of(Cause::Value, column, "is empty: it must name the metric of the row's value"));
                    }
                    Err(what) => return out.tally.refuse(line(), Refusal::of(Cause::Value, column, format!("is {what}"))),
                }
            }
        };
        let unit = match self.unit.map(cell) {
            Some(Cell::Text(unit)) if !unit.is_empty() && !self.is_missing(unit, &[]) => Some(unit),
            _ => None,
        };
        for (at, value) in self.values.iter().enumerate() {
            let ValueColumn { place, column, .. } = value;
            let found = cell(*place);
            if found == Cell::Empty || found.text().is_some_and(|text| text.is_empty() || self.is_missing(text, &value.missing)) {
                match self.absent {
                    Absent::Skip => out.tally.empty_cells += 1,
                    Absent::Reject => {
                        out.tally.refuse(line(), Refusal::of(Cause::Value, &column.column, "is empty, and the mapping rejects empty cells"))
                    }
                }
                continue;
            }
            let metric = match (&column.name, &named) {
                (None, Some(named)) => &**named,
                _ => column.target(),
            };
            if let Some(unit) = unit
                && let Some(note) = out.sink.describe(metric, About { unit: Some(unit), ..About::default() }).note
            {
                out.tally.note(note);
            }
            let (word, histogram);
            // In a long table the column does not tell which metrics are states.
            let is_word = value.form == Form::Words
                || (named.is_some() && value.form == Form::Numbers && found.text().is_some() && out.sink.kind_of(metric) == Some(Kind::State));
            let read = if is_word {
                match found.to_text() {
                    Ok(text) => {
                        word = text;
                        Ok(ValueRef::Word(&word))
                    }
                    Err(what) => Err(Refusal::of(Cause::Value, &column.column, format!("is {what}"))),
                }
            } else if value.form == Form::Histograms {
                match serde_json::from_str::<Histogram>(found.text().unwrap_or_default()) {
                    Ok(found) => {
                        histogram = found;
                        Ok(ValueRef::Histogram(&histogram))
                    }
                    Err(error) => Err(Refusal::of(
                        Cause::Value,
                        &column.column,
                        format!("is not a histogram ({error}): write {{\"bounds\": [300, 600], \"counts\": [4, 2, 0], \"sum\": 1800}}"),
                    )),
                }
            } else {
                let in_long_table = |text: &str| {
                    let help = format!("`{metric}` is not known as a state (to make it one: `fenetre metrics define {metric} --kind state`)");
                    Refusal::of(Cause::Value, &column.column, format!("`{text}` is not a number, and {help}"))
                };
                match (value.numbers.read(found, &column.column), found) {
                    (Err(_), Cell::Text(text)) if named.is_some() => Err(in_long_table(text)),
                    (read, _) => read,
                }
            };
            match read {
                Ok(ValueRef::Number(number)) if !number.is_finite() && self.not_finite == NotFinite::Skip => out.tally.empty_cells += 1,
                Ok(value) => {
                    let taken = match known.get(at) {
                        Some(Some(series)) => out.sink.accept_again(*series, metric, time, value),
                        _ => out.sink.accept(PointRef { metric, tags, time, value }),
                    };
                    if let Some(slot @ None) = known.get_mut(at) {
                        *slot = out.sink.last_series();
                    }
                    out.tally.count(&mut *line, taken);
                }
                Err(refusal) => out.tally.refuse(line(), refusal),
            }
        }
    }

    fn time_of_row<'r>(&self, at: usize, column: &str, cell: &impl Fn(usize) -> Cell<'r>, tally: &mut Tally) -> Result<Nanos, Refusal> {
        let Some(of_day) = self.time_of_day else { return self.time_of(cell(at), column, tally) };
        match (cell(at), cell(of_day)) {
            (Cell::Text(date), Cell::Text(time)) if !date.is_empty() && !time.is_empty() => {
                self.time_of(Cell::Text(&format!("{date} {time}")), column, tally)
            }
            (Cell::Time(day) | Cell::LocalTime(day), Cell::Text(time)) if !time.is_empty() => {
                self.time_of(Cell::Text(&format!("{} {time}", format_day(day))), column, tally)
            }
            _ => Err(Refusal::of(Cause::Time, column, "or the time of the day beside it is empty: every row needs both")),
        }
    }

    fn is_missing(&self, text: &str, more: &[String]) -> bool {
        self.missing.iter().chain(more).any(|mark| mark == text)
    }

    fn time_of(&self, cell: Cell<'_>, column: &str, tally: &mut Tally) -> Result<Nanos, Refusal> {
        let refuse = |reason: String| Refusal::of(Cause::Time, column, reason);
        let (read, guessed) = match cell {
            Cell::Time(at) => (Ok(at), None),
            Cell::LocalTime(wall) => (self.rule.local_instant(wall), None),
            Cell::Text("") | Cell::Empty => return Err(refuse("is empty: every row needs a time".to_owned())),
            Cell::Text(text) => match self.rule.read(text) {
                Ok((at, guessed)) => (Ok(at), guessed),
                Err(error) => (Err(error), None),
            },
            Cell::Number(number) => self.epoch(number, |unit| from_epoch(number, unit)),
            Cell::Integer(integer) => self.epoch(integer as f64, |unit| {
                TimeRule { format: TimeFormat::Epoch(unit), ..TimeRule::default() }.read(&integer.to_string()).map(|(at, _)| at)
            }),
            Cell::Bool(_) => return Err(refuse("is true or false, not a time".to_owned())),
            Cell::Unusable(what) => return Err(refuse(format!("is {what}"))),
        };
        if let Some(unit) = guessed
            && !self.has_noted_guess.swap(true, Ordering::Relaxed)
        {
            let unit = unit.as_str();
            tally.note(format!("times in `{column}` are numbers, read as {unit} since 1970 because of their size: set format = \"{unit}\" (or time_format={unit}) to be sure"));
        }
        read.map_err(|error| refuse(error.to_string()))
    }

    fn epoch<E>(&self, number: f64, read: impl Fn(EpochUnit) -> Result<Nanos, E>) -> (Result<Nanos, E>, Option<EpochUnit>) {
        match self.rule.format {
            TimeFormat::Epoch(unit) => (read(unit), None),
            _ => {
                let unit = EpochUnit::guess(number);
                (read(unit), Some(unit))
            }
        }
    }
}

fn lacks(names: &[&str], wanted: &str) -> FormatError {
    let hint = match (closest(wanted, names.iter().copied()), names) {
        (Some(name), _) => format!(" Did you mean `{name}`?"),
        (None, [one]) if one.contains([',', ';', '\t', '|']) => {
            " The delimiter seems to be another one: set `delimiter` under [table] of a mapping.".to_owned()
        }
        _ => String::new(),
    };
    FormatError::Table(format!("there is no column `{wanted}`: there are {}.{hint}", listing(names.iter().copied(), 20)))
}
