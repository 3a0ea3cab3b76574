//! Which columns hold the time of a row, and how it is written.

use fenetre_core::time::{EpochUnit, TimeFormat, TimeRule, format_in_zone, zone};

use super::columns::Seen;

/// Order of day and month in a date.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Order {
    /// Beyond doubt: by a name, by points, or with the year first.
    Certain,
    DayFirst,
    MonthFirst,
}

/// Forms of dates. Years of two digits come first: a pattern of four would take them for years of antiquity.
const DATES: [(&str, Order); 23] = [
    ("%Y-%m-%d", Order::Certain),
    ("%d.%m.%y", Order::Certain),
    ("%d.%m.%Y", Order::Certain),
    ("%Y/%m/%d", Order::Certain),
    ("%Y.%m.%d", Order::Certain),
    ("%Y%m%d", Order::Certain),
    ("%d/%m/%y", Order::DayFirst),
    ("%d/%m/%Y", Order::DayFirst),
    ("%d-%m-%y", Order::DayFirst),
    ("%d-%m-%Y", Order::DayFirst),
    ("%m/%d/%y", Order::MonthFirst),
    ("%m/%d/%Y", Order::MonthFirst),
    ("%m-%d-%y", Order::MonthFirst),
    ("%m-%d-%Y", Order::MonthFirst),
    ("%d %b %Y", Order::Certain),
    ("%d %B %Y", Order::Certain),
    ("%d-%b-%y", Order::Certain),
    ("%d-%b-%Y", Order::Certain),
    ("%d/%b/%Y", Order::Certain),
    ("%b %d, %Y", Order::Certain),
    ("%b %d %Y", Order::Certain),
    ("%B %d, %Y", Order::Certain),
    ("%a %d %b %Y", Order::Certain),
];
/// Forms of times of the day; those that end with an offset need no zone.
const TIMES: [&str; 11] = [
    "%H:%M:%S",
    "%H:%M",
    "%H:%M:%S%.f",
    "%I:%M:%S %p",
    "%I:%M %p",
    "%I:%M:%S%.f %p",
    "%I:%M%p",
    "%H:%M:%S %z",
    "%H:%M:%S%z",
    "%H:%M:%S%.f %z",
    "%H%M%S",
];
/// What stands between both.
const JOINTS: [&str; 4] = [" ", "T", ", ", ""];
/// Of a hundred cells so many may be no times: they are rejects.
const MAX_MISFITS_PERCENT: usize = 5;
/// Serial dates from 1954 to 2119.
const SERIALS: std::ops::Range<f64> = 20_000.0..80_000.0;
/// Epoch numbers from 1973 on.
const MIN_EPOCH: f64 = 1e8;

/// Names that columns of times have.
pub const TIME_NAMES: [&str; 20] = [
    "time",
    "timestamp",
    "ts",
    "date",
    "datetime",
    "at",
    "when",
    "epoch",
    "unixtime",
    "unix",
    "zeit",
    "datum",
    "zeitpunkt",
    "hora",
    "fecha",
    "heure",
    "tijd",
    "tid",
    "recorded",
    "measured",
];

/// The time of a row.
#[derive(Clone, Debug, PartialEq)]
pub struct Found {
    /// Place of its column.
    pub at: usize,
    /// Place of the column of the time of the day, if that has its own.
    pub time_of_day: Option<usize>,
    /// As a mapping writes it; nothing if that is the default.
    pub format: Option<String>,
    /// Whether times lack an offset.
    pub needs_zone: bool,
    /// What it was recognised as.
    pub form: &'static str,
    /// The patterns between which the sample does not decide, with day and month in either order.
    pub orders: Option<[String; 2]>,
}

/// What the cells of one column are.
#[derive(Clone, Debug, PartialEq)]
enum Form {
    /// Dates with a time of the day, or numbers that stand for both.
    Whole(Reading),
    Date(Reading),
    TimeOfDay(Reading),
}

#[derive(Clone, Debug, PartialEq)]
struct Reading {
    format: TimeFormat,
    needs_zone: bool,
    form: &'static str,
    other_order: Option<String>,
}

/// The column of the time, or those of date and time of the day. `wanted` are names that somebody gave: then no other columns are looked at.
pub fn find(columns: &[Seen<'_>], wanted: (Option<&str>, Option<&str>)) -> Option<Found> {
    let is_wanted = |column: &&Seen<'_>| match wanted {
        (None, None) => true,
        (date, time) => date == Some(column.name) || time == Some(column.name),
    };
    let forms: Vec<(&Seen<'_>, Form)> = columns.iter().filter(is_wanted).filter_map(|column| Some((column, form_of(column)?))).collect();
    let best = |pick: fn(&Form) -> Option<&Reading>| {
        let found = forms.iter().filter_map(|(column, form)| Some((*column, pick(form)?)));
        found.max_by_key(|(column, _)| (column.is_called(&TIME_NAMES), std::cmp::Reverse(column.at)))
    };
    if let Some((column, reading)) = best(|form| if let Form::Whole(reading) = form { Some(reading) } else { None }) {
        return Some(found(column, None, reading.clone()));
    }
    let (column, date) = best(|form| if let Form::Date(reading) = form { Some(reading) } else { None })?;
    match best(|form| if let Form::TimeOfDay(reading) = form { Some(reading) } else { None }) {
        Some((clock, time)) => Some(found(column, Some(clock.at), joined(date, time))),
        None => Some(found(column, None, date.clone())),
    }
}

fn found(column: &Seen<'_>, time_of_day: Option<usize>, reading: Reading) -> Found {
    let format = match &reading.format {
        TimeFormat::Guess | TimeFormat::Iso => None,
        TimeFormat::Epoch(unit) => Some(unit.as_str().to_owned()),
        TimeFormat::Serial => Some("serial".to_owned()),
        TimeFormat::Pattern(pattern) => Some(pattern.clone()),
    };
    let orders = format.clone().zip(reading.other_order).map(|(one, other)| [one, other]);
    Found { at: column.at, time_of_day, format, needs_zone: reading.needs_zone, form: reading.form, orders }
}

/// A date and a time of the day, as one text with a space between.
fn joined(date: &Reading, time: &Reading) -> Reading {
    let pattern = |format: &TimeFormat| if let TimeFormat::Pattern(pattern) = format { pattern.clone() } else { String::new() };
    let both = |date: String| format!("{date} {}", pattern(&time.format));
    let whole = both(pattern(&date.format));
    let is_iso = ["%Y-%m-%d %H:%M", "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%S%.f"].contains(&whole.as_str());
    Reading {
        format: if is_iso { TimeFormat::Iso } else { TimeFormat::Pattern(whole) },
        needs_zone: time.needs_zone,
        form: "a date and a time of the day",
        other_order: date.other_order.clone().map(both),
    }
}

fn form_of(column: &Seen<'_>) -> Option<Form> {
    let cells = &column.cells;
    if cells.is_empty() {
        return None;
    }
    if column.is_number() {
        return numbers(column).map(Form::Whole);
    }
    let plain = |format: TimeFormat, needs_zone: bool, form: &'static str| Reading { format, needs_zone, form, other_order: None };
    // A date alone is no ISO time here: the time of the day may stand beside it.
    let with_clock: Vec<&str> = cells.iter().copied().filter(|cell| cell.contains(':')).collect();
    if with_clock.len() == cells.len() {
        for needs_zone in [false, true] {
            if fit(cells, &TimeFormat::Iso, needs_zone) {
                return Some(Form::Whole(plain(TimeFormat::Iso, needs_zone, "ISO times")));
            }
        }
    }
    if let Some(reading) = dates(cells, true) {
        return Some(Form::Whole(reading));
    }
    if let Some(reading) = dates(cells, false) {
        return Some(Form::Date(reading));
    }
    let of_day = TIMES.iter().find(|time| are_times_of_day(cells, time))?;
    Some(Form::TimeOfDay(plain(TimeFormat::Pattern((*of_day).to_owned()), !of_day.contains("%z"), "times of the day")))
}

/// Numbers count since some moment only in a column whose name says so.
fn numbers(column: &Seen<'_>) -> Option<Reading> {
    if !column.is_called(&TIME_NAMES) {
        return None;
    }
    let number: f64 = column.cells.first()?.replacen(',', ".", 1).parse().ok()?;
    let reading = |format: TimeFormat, needs_zone: bool, form: &'static str| Reading { format, needs_zone, form, other_order: None };
    let digits = column.cells.first().map_or(0, |cell| cell.len());
    for (length, pattern) in [(8, "%Y%m%d"), (12, "%Y%m%d%H%M"), (14, "%Y%m%d%H%M%S")] {
        let format = TimeFormat::Pattern(pattern.to_owned());
        if digits == length && fit(&column.cells, &format, true) {
            return Some(reading(format, true, "dates"));
        }
    }
    if SERIALS.contains(&number) {
        return fit(&column.cells, &TimeFormat::Serial, true).then(|| reading(TimeFormat::Serial, true, "serial dates of a spreadsheet"));
    }
    let format = TimeFormat::Epoch(EpochUnit::guess(number));
    (number > MIN_EPOCH && fit(&column.cells, &format, false)).then(|| reading(format, false, "numbers since 1970"))
}

/// Dates by one of the patterns, with a time of the day or without.
fn dates(cells: &[&str], has_time: bool) -> Option<Reading> {
    let mut found: Vec<(String, Order)> = Vec::new();
    for (date, order) in DATES {
        let patterns: Vec<String> = if has_time {
            JOINTS.iter().flat_map(|joint| TIMES.iter().map(move |time| format!("{date}{joint}{time}"))).collect()
        } else {
            vec![date.to_owned()]
        };
        found.extend(patterns.into_iter().find(|pattern| fit(cells, &TimeFormat::Pattern(pattern.clone()), true)).map(|pattern| (pattern, order)));
        if order == Order::Certain && !found.is_empty() {
            break;
        }
    }
    let (pattern, order) = found.first()?.clone();
    let other = match order {
        Order::Certain => None,
        Order::DayFirst => found.iter().find(|(_, order)| *order == Order::MonthFirst),
        Order::MonthFirst => found.iter().find(|(_, order)| *order == Order::DayFirst),
    };
    let needs_zone = !pattern.contains("%z");
    let other_order = other.map(|(pattern, _)| pattern.clone());
    Some(Reading { format: TimeFormat::Pattern(pattern), needs_zone, form: "dates", other_order })
}

fn rule(format: &TimeFormat, needs_zone: bool) -> TimeRule {
    TimeRule { format: format.clone(), zone: needs_zone.then_some(jiff::tz::TimeZone::UTC), ..TimeRule::default() }
}

/// Whether cells are times of a form, but for a few.
fn fit(cells: &[&str], format: &TimeFormat, needs_zone: bool) -> bool {
    let rule = rule(format, needs_zone);
    let allowed = cells.len() * MAX_MISFITS_PERCENT / 100;
    let mut misfits = 0;
    cells.iter().all(|cell| {
        misfits += usize::from(rule.read(cell).is_err());
        misfits <= allowed
    })
}

fn are_times_of_day(cells: &[&str], pattern: &str) -> bool {
    let days: Vec<String> = cells.iter().map(|cell| format!("2026-05-01 {cell}")).collect();
    let days: Vec<&str> = days.iter().map(String::as_str).collect();
    fit(&days, &TimeFormat::Pattern(format!("%Y-%m-%d {pattern}")), true)
}

/// What an example is read as, in a zone.
pub fn example(text: &str, format: Option<&str>, needs_zone: bool, zone_name: &str) -> Option<String> {
    let zone = zone(zone_name).ok()?;
    let format = format.map_or(Ok(TimeFormat::Guess), TimeFormat::parse).ok()?;
    let rule = TimeRule { format, zone: needs_zone.then(|| zone.clone()), ..TimeRule::default() };
    rule.read(text).ok().map(|(at, _)| format!("`{text}` is read as {}", format_in_zone(at, &zone)))
}
