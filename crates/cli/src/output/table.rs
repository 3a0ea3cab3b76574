//! An answer as tables for people: times in words, a column a line.

use std::{collections::BTreeMap, fmt::Write as _};

use comfy_table::Table;
use fenetre_core::{model::Value, time::Nanos, units};
use fenetre_formats::{
    document::{AnswerDocument, Form, LineDocument, ShowDocument},
    tables::{Column, Sheet},
};

use super::{
    list::{aligned, plain_table},
    sources::sources,
    words::{Clock, count_of, decimals, instant, value},
};

/// Columns of text that the window's time takes, and that part two values.
const TIME_WIDTH: usize = 28;
const GAP: usize = 3;
const MIN_VALUE: usize = 8;
/// Before a value that lacks something.
const PARTIAL: &str = "*";
const PARTIAL_LEGEND: &str = "* partial: not all of its points are kept\n";

/// The answer in tables, one or more for each show: lines that do not fit beside each other in `width` columns stand in further tables.
pub fn tables(answer: &AnswerDocument, width: u16) -> String {
    let mut out = String::new();
    for (i, show) in answer.shows.iter().enumerate() {
        if i > 0 {
            out.push('\n');
        }
        out.push_str(&heading(answer, show));
        out.push('\n');
        if show.lines.is_empty() {
            out.push_str("nothing matched\n");
            continue;
        }
        match show.form {
            Form::Points => out.push_str(&points(answer, show)),
            Form::Moment if answer.moments.len() < 2 => out.push_str(&figures(answer, show)),
            Form::Windows if answer.windows.starts.len() == 1 => out.push_str(&figures(answer, show)),
            Form::Windows | Form::Moment => {
                let widest = show.lines.iter().map(|line| line_name(line, &show.lines).chars().count()).max().unwrap_or(0).max(MIN_VALUE) + GAP;
                let beside = (usize::from(width).saturating_sub(TIME_WIDTH) / widest).max(1);
                let parts: Vec<String> = show.lines.chunks(beside).map(|lines| windows(answer, show, lines)).collect();
                out.push_str(&parts.join("\n"));
            }
        }
    }
    out
}

/// Caption: reducer, metric, unit, time range and zone.
pub fn heading(answer: &AnswerDocument, show: &ShowDocument) -> String {
    let range = [instant(&answer.from), instant(&answer.to)];
    let clock = Clock::of(&answer.zone, instant(&answer.asked_at), &range);
    let clock = if range[0] == range[1] { clock.in_seconds() } else { clock.in_minutes() };
    let mut out = show.label.clone();
    if let Some(unit) = show.unit.as_ref().map(|unit| units::text(unit)).filter(|unit| !unit.is_empty()) {
        let _ = write!(out, "  [{unit}]");
    }
    match range[0] == range[1] {
        true => drop(write!(out, "\nat {} ({})", clock.format(range[0]), answer.zone)),
        false => drop(write!(out, "\n{} to {} ({})", clock.format(range[0]), clock.format(range[1]), answer.zone)),
    }
    if let Some(width) = &answer.windows.width {
        let _ = write!(out, ", per {width}");
    }
    let common = common_tags(&show.lines);
    if !common.is_empty() && show.lines.len() > 1 {
        let tags: Vec<String> = common.iter().map(|(key, value)| format!("{key} {value}")).collect();
        let _ = write!(out, ", all of {}", tags.join(", "));
    }
    out.push('\n');
    out
}

/// Tags that all lines share.
fn common_tags(lines: &[LineDocument]) -> BTreeMap<&String, &String> {
    let Some((first, rest)) = lines.split_first() else { return BTreeMap::new() };
    first.tags.iter().filter(|(key, value)| rest.iter().all(|line| line.tags.get(*key) == Some(value))).collect()
}

/// A short label that distinguishes a line from the others.
pub fn line_name(line: &LineDocument, lines: &[LineDocument]) -> String {
    let common = if lines.len() > 1 { common_tags(lines) } else { BTreeMap::new() };
    let own: Vec<&str> = line.tags.iter().filter(|(key, _)| !common.contains_key(key)).map(|(_, value)| value.as_str()).collect();
    if own.is_empty() { "all".to_owned() } else { own.join(" ") }
}

fn numbers(lines: &[LineDocument]) -> impl Iterator<Item = f64> + '_ {
    lines.iter().flat_map(|line| line.values.iter().flatten().filter_map(Value::number))
}

fn windows(answer: &AnswerDocument, show: &ShowDocument, lines: &[LineDocument]) -> String {
    let (times, name) = match show.form {
        Form::Moment => (&answer.moments, "at"),
        _ => (&answer.windows.starts, "window from"),
    };
    let starts: Vec<Nanos> = times.iter().map(|text| instant(text)).collect();
    let clock = Clock::of(&answer.zone, instant(&answer.asked_at), &starts);
    let places = decimals(numbers(&show.lines));
    let mut table = plain_table();
    let names = lines.iter().map(|line| line_name(line, &show.lines));
    table.set_header(std::iter::once(aligned(name.to_owned(), false)).chain(names.map(|name| aligned(name, true))));
    let mut has_marks = false;
    for (i, start) in starts.iter().enumerate() {
        let lacks = |line: &LineDocument| line.partial.binary_search(&i).is_ok();
        let is_partial = answer.windows.partial.binary_search(&i).is_ok() || lines.iter().all(lacks);
        let time = aligned(format!("{}{}", clock.format(*start), if is_partial { " (partial)" } else { "" }), false);
        // Filled and partial values look different from measured ones.
        let mark = |line: &LineDocument| match (line.filled.binary_search(&i).is_ok(), lacks(line) && !is_partial) {
            (true, _) => "~",
            (_, true) => PARTIAL,
            _ => "",
        };
        has_marks |= !is_partial && lines.iter().any(lacks);
        let values = lines.iter().map(|line| aligned(format!("{}{}", mark(line), value(line.values[i].as_ref(), places)), true));
        table.add_row(std::iter::once(time).chain(values));
    }
    format!("{}\n{}", table.trim_fmt(), if has_marks { PARTIAL_LEGEND } else { "" })
}

/// One window or moment: a row a line.
fn figures(answer: &AnswerDocument, show: &ShowDocument) -> String {
    let places = decimals(numbers(&show.lines));
    let mut table = plain_table();
    let keys: Vec<&String> = show.lines.iter().flat_map(|line| line.tags.keys()).collect::<std::collections::BTreeSet<_>>().into_iter().collect();
    let header = keys.iter().map(|key| aligned((*key).clone(), false));
    let first_time = |line: &LineDocument| line.times.as_ref().and_then(|times| times.first()?.as_deref()).map(instant);
    let times: Vec<Nanos> = show.lines.iter().filter_map(first_time).collect();
    let has_times = show.form == Form::Moment && !times.is_empty();
    let clock = Clock::of(&answer.zone, instant(&answer.asked_at), &times);
    let as_of = has_times.then(|| aligned("of".to_owned(), false));
    table.set_header(header.chain([aligned("value".to_owned(), true)]).chain(as_of));
    let mut has_marks = false;
    for line in &show.lines {
        let tags = keys.iter().map(|key| aligned(line.tags.get(*key).cloned().unwrap_or_default(), false));
        let figure = line.values.first().and_then(Option::as_ref);
        let mark = if line.partial.is_empty() { "" } else { PARTIAL };
        has_marks |= !line.partial.is_empty();
        let time = has_times.then(|| aligned(first_time(line).map_or(String::new(), |time| clock.format(time)), false));
        table.add_row(tags.chain([aligned(format!("{mark}{}", value(figure, places)), true)]).chain(time));
    }
    format!("{}\n{}", table.trim_fmt(), if has_marks { PARTIAL_LEGEND } else { "" })
}

fn points(answer: &AnswerDocument, show: &ShowDocument) -> String {
    let times: Vec<Nanos> = show.lines.iter().flat_map(|line| line.times.iter().flatten().flatten()).map(|text| instant(text)).collect();
    let clock = Clock::of(&answer.zone, instant(&answer.asked_at), &times);
    let places = decimals(numbers(&show.lines));
    let mut out = String::new();
    if show.lines.iter().any(|line| line.metric != show.lines[0].metric) {
        return points_beside(answer, show, &clock, places);
    }
    for line in &show.lines {
        let name = if show.lines.len() > 1 { line_name(line, &show.lines) } else { "value".to_owned() };
        let mut table = plain_table();
        table.set_header([aligned("time".to_owned(), false), aligned(name, true)]);
        let line_times = line.times.iter().flatten().flatten();
        for (time, one) in line_times.zip(&line.values) {
            table.add_row([aligned(clock.format(instant(time)), false), aligned(value(one.as_ref(), places), true)]);
        }
        let _ = writeln!(out, "{}", table.trim_fmt());
    }
    out
}

/// Points of several metrics: a table for each set of tags, with a row for each instant.
fn points_beside(answer: &AnswerDocument, show: &ShowDocument, clock: &Clock, places: usize) -> String {
    let alone = AnswerDocument { shows: vec![show.clone()], ..answer.clone() };
    let sheet = Sheet::of(&alone);
    let metrics = sheet.columns().iter().filter(|column| matches!(column, Column::Beside(_))).map(Column::name);
    let metrics: Vec<String> = metrics.collect();
    let mut parts: Vec<(BTreeMap<String, String>, Table)> = Vec::new();
    // Only an invalid time could fail here, and the times were parsed above.
    let _ = sheet.each_row(&alone, &mut |row| {
        if parts.last().is_none_or(|(tags, _)| tags != row.tags) {
            let mut table = plain_table();
            table.set_header(std::iter::once(aligned("time".to_owned(), false)).chain(metrics.iter().map(|name| aligned(name.clone(), true))));
            parts.push((row.tags.clone(), table));
        }
        if let Some((_, table)) = parts.last_mut() {
            let values = row.values.iter().map(|one| aligned(one.map_or(String::new(), |one| value(Some(one), places)), true));
            table.add_row(std::iter::once(aligned(clock.format(instant(row.time)), false)).chain(values));
        }
        Ok(())
    });
    let has_several = parts.len() > 1;
    let rendered = |(tags, table): (BTreeMap<String, String>, Table)| {
        let tags: Vec<String> = tags.iter().map(|(key, value)| format!("{key} {value}")).collect();
        let title = if has_several { format!("{}\n", tags.join(", ")) } else { String::new() };
        format!("{title}{}\n", table.trim_fmt())
    };
    parts.into_iter().map(rendered).collect::<Vec<_>>().join("\n")
}

/// What an answer took, for standard error.
pub fn cost(answer: &AnswerDocument) -> String {
    let cost = &answer.cost;
    let windows = match answer.windows.starts.len() as u64 {
        0 => String::new(),
        count => format!(", {}", count_of(count, "window", "windows")),
    };
    let rolled = match cost.windows_read {
        0 => String::new(),
        count => format!(", {} of rollups", count_of(count, "window", "windows")),
    };
    let line = format!(
        "{}{windows} in {:.1} ms: {} skipped, {} answered by summary, {} decoded, {} read{rolled}",
        count_of(cost.series, "series", "series"),
        cost.milliseconds,
        count_of(cost.blocks_skipped, "block", "blocks"),
        cost.blocks_summarised,
        cost.blocks_decoded,
        count_of(cost.points_read, "point", "points"),
    );
    let parts = sources(&answer.sources, &answer.zone, instant(&answer.asked_at));
    if parts.is_empty() { line } else { format!("{line}\n\n{parts}") }
}

#[cfg(test)]
mod tests {
    use fenetre_formats::document::{CostDocument, WindowsDocument};

    use super::*;

    fn line(tags: &[(&str, &str)], values: &[Option<f64>]) -> LineDocument {
        LineDocument {
            tags: tags.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect(),
            metric: None,
            unit: None,
            times: None,
            filled: vec![],
            partial: vec![],
            values: values.iter().map(|value| value.map(Value::Number)).collect(),
        }
    }

    fn answer(lines: Vec<LineDocument>, hours: usize) -> AnswerDocument {
        let time = |hour: usize| format!("2026-05-01T{hour:02}:00:00+01:00");
        AnswerDocument {
            asked_at: time(12),
            zone: "Europe/Lisbon".to_owned(),
            from: time(0),
            to: time(hours),
            moments: vec![],
            windows: WindowsDocument {
                width: (hours > 1).then(|| "1h".to_owned()),
                stepping: None,
                starts: (0..hours).map(time).collect(),
                ends: (1..=hours).map(time).collect(),
                partial: vec![0],
            },
            shows: vec![ShowDocument { label: "mean of level".to_owned(), unit: Some("cm".to_owned()), form: Form::Windows, lines }],
            notes: vec![],
            sources: vec![],
            cost: CostDocument::default(),
        }
    }

    #[test]
    fn lines_share_the_width_of_the_terminal() {
        let lines = ["osier", "marl", "wick"].map(|lock| line(&[("lock", lock), ("side", "up")], &[Some(1.5), None]));
        insta::assert_snapshot!(tables(&answer(lines.to_vec(), 2), 60));
        let narrow = tables(&answer(lines.to_vec(), 2), 20);
        assert_eq!(narrow.matches("window from").count(), 3, "one beside the time, however narrow:\n{narrow}");
    }

    #[test]
    fn a_single_window_lists_lines_with_their_tags() {
        let lines = vec![line(&[("lock", "osier")], &[Some(310.0)]), line(&[("side", "up")], &[None])];
        insta::assert_snapshot!(tables(&answer(lines, 1), 80));
    }

    #[test]
    fn filled_values_are_marked() {
        let filled = LineDocument { filled: vec![1], ..line(&[("lock", "osier")], &[Some(310.0), Some(312.5)]) };
        let rendered = tables(&answer(vec![filled], 2), 80);
        assert!(rendered.contains("~312.5") && rendered.contains(" 310.0"), "{rendered}");
    }

    #[test]
    fn partial_values_are_marked_and_explained() {
        let whole = line(&[("lock", "osier")], &[Some(310.0), Some(311.0)]);
        let partial = LineDocument { partial: vec![1], ..line(&[("lock", "marl")], &[Some(210.0), Some(211.0)]) };
        let beside = tables(&answer(vec![whole, partial.clone()], 2), 80);
        assert!(beside.contains("*211") && !beside.contains("*311") && beside.contains(PARTIAL_LEGEND), "{beside}");
        // If all of a row is partial, the row says so.
        let alone = tables(&answer(vec![partial], 2), 80);
        assert!(alone.contains("01:00 (partial)") && !alone.contains(PARTIAL_LEGEND), "{alone}");
        let figure = LineDocument { partial: vec![0], ..line(&[("lock", "marl")], &[None]) };
        assert!(tables(&answer(vec![figure], 1), 80).contains(PARTIAL_LEGEND));
    }

    #[test]
    fn a_moment_has_the_time_of_each_value() {
        let mut moment = answer(vec![], 1);
        (moment.from, moment.to) = ("2026-05-01T09:00:30.25+01:00".to_owned(), "2026-05-01T09:00:30.25+01:00".to_owned());
        moment.windows = WindowsDocument::default();
        moment.moments = vec![moment.from.clone()];
        let of = |time: &str, value: f64| LineDocument {
            times: Some(vec![Some(time.to_owned())]),
            ..line(&[("lock", "osier"), ("side", time)], &[Some(value)])
        };
        let lines = vec![of("2026-05-01T08:59:47+01:00", 12.5), of("2026-05-01T09:00:00+01:00", 7.0), line(&[("lock", "wick")], &[None])];
        moment.shows = vec![ShowDocument { label: "battery".to_owned(), unit: Some("V".to_owned()), form: Form::Moment, lines }];
        insta::assert_snapshot!(tables(&moment, 80));
        assert!(cost(&moment).starts_with("0 series in 0.0 ms"));
    }

    #[test]
    fn an_empty_selection_says_so() {
        assert!(tables(&answer(vec![], 2), 80).ends_with("nothing matched\n"));
    }
}
