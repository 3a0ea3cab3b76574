//! Plans run over points in memory, against a loop that anyone can check.

mod beside;
mod dropped;
mod memory;
mod reference;
mod steps;

use std::fmt::Write as _;

use memory::Memory;

use super::*;
use crate::{
    catalogue::{Catalogue, Codes, Layout},
    model::{DatasetDefinition, Kind, MetricDefinition, MetricId, Value},
    plan::{Limits, plan},
    query::{Frame, parse},
    time::{Nanos, SECOND, format_utc},
};

const NOW: Nanos = 1_790_000_000 * SECOND;

fn waterway() -> (Catalogue, Memory) {
    let mut catalogue = Catalogue::default();
    catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition { zone: "Europe/Lisbon".into(), ..Default::default() });
    let dataset = catalogue.dataset_mut("velmar").unwrap();
    dataset.put_metric(MetricId(1), "level", MetricDefinition { unit: Some("cm".into()), ..Default::default() });
    dataset.put_metric(MetricId(2), "gate", MetricDefinition { kind: Kind::State, ..Default::default() });
    let mut memory = Memory::default();
    for (id, (lock, reach)) in [("osier", "upper"), ("marl", "upper"), ("wick", "lower")].into_iter().enumerate() {
        let tags = || [("lock", lock), ("reach", reach)].into_iter();
        dataset.put_series(SeriesId(id as u32), "level", tags(), None);
        // Each series learnt its words in another order.
        let mut words = vec!["open".into(), "closed".into()];
        words.rotate_left(id % 2);
        dataset.put_series(SeriesId(id as u32 + 10), "gate", tags(), Some(Codes::Words(words)));
        let minutes = |count: i64| (0..count).map(|i| NOW - (count - i) * 60 * SECOND).collect::<Vec<_>>();
        let values = |count: i64, step: f64| (0..count).map(|i| id as f64 * 100.0 + i as f64 * step).collect::<Vec<_>>();
        let runs = [(true, 0..40), (false, 40..60)];
        let (times, all) = (minutes(60), values(60, 1.0));
        let level = runs.map(|(packed, part)| (packed, Points::of(&times[part.clone()], &all[part]).to_columns()));
        memory.runs.insert(SeriesId(id as u32), level.to_vec());
        let states: Vec<f64> = (0..60).map(|i| f64::from(u8::from(i % 2 == 0))).collect();
        memory.runs.insert(SeriesId(id as u32 + 10), vec![(false, Points::of(&minutes(60), &states).to_columns())]);
    }
    dataset.put_metric(MetricId(5), "temperature", MetricDefinition { unit: Some("Cel".into()), ..Default::default() });
    for (id, (lock, least)) in [("osier", 10.0), ("marl", 20.0)].into_iter().enumerate() {
        dataset.put_series(SeriesId(id as u32 + 40), "temperature", [("lock", lock)].into_iter(), None);
        let times = [NOW - 120 * SECOND, NOW - 60 * SECOND];
        memory.runs.insert(SeriesId(id as u32 + 40), vec![(false, Points::of(&times, &[least, least + 9.0]).to_columns())]);
    }
    // A counter near the end of what 64 bits hold, and a histogram of two layouts.
    dataset.put_metric(MetricId(3), "turns", MetricDefinition { kind: Kind::Counter, ..Default::default() });
    dataset.put_series(SeriesId(20), "turns", [].into_iter(), None);
    let mut turns = Columns::default();
    for i in 0..3 {
        let (value, rest) = crate::model::split_integer(i128::from(i64::MAX) - 3 + i128::from(i));
        turns.push(NOW - (3 - i) * 60 * SECOND, value, rest);
    }
    memory.runs.insert(SeriesId(20), vec![(false, turns)]);
    dataset.put_metric(MetricId(4), "lockage", MetricDefinition { kind: Kind::Histogram, unit: Some("s".into()), ..Default::default() });
    let layouts = [(&[300.0][..], 100), (&[300.0, 600.0], 110)].map(|(bounds, first)| Layout { bounds: bounds.into(), first_part: SeriesId(first) });
    dataset.put_series(SeriesId(30), "lockage", [].into_iter(), Some(Codes::Layouts(layouts.to_vec())));
    let at = |minutes: &[i64]| minutes.iter().map(|m| NOW - m * 60 * SECOND).collect::<Vec<_>>();
    let mut put = |id: u32, minutes: &[i64], values: &[f64]| {
        memory.runs.insert(SeriesId(id), vec![(false, Points::of(&at(minutes), values).to_columns())]);
    };
    put(30, &[3, 2, 1], &[0.0, 1.0, 0.0]);
    [(100, [4.0, 2.0]), (101, [1.0, 0.0]), (102, [1_500.5, 250.0])].iter().for_each(|(id, values)| put(*id, &[3, 1], values));
    [(110, 1.0), (111, 2.0), (112, 3.0), (113, 4_000.0)].iter().for_each(|(id, value)| put(*id, &[2], &[*value]));
    (catalogue, memory)
}

fn ask(text: &str) -> String {
    let (catalogue, memory) = waterway();
    let limits = Limits { series: 100, lines: 5, windows: 100, cells: 250, points: 50, ..Limits::default() };
    let query = match parse(text) {
        Ok(query) => query,
        Err(error) => return error.render(text),
    };
    let plan = match plan(&query, &Frame::default(), &catalogue, "velmar", NOW, &limits) {
        Ok(plan) => plan,
        Err(crate::plan::PlanError::Query(error)) => return error.render(text),
        Err(error) => return error.to_string(),
    };
    let answer = match evaluate(plan, &memory, &|| false) {
        Ok(answer) => answer,
        Err(error) => return error.to_string(),
    };
    let mut out = String::new();
    for show in &answer.shows {
        let _ = writeln!(out, "{} [{}]", show.label, show.unit.as_deref().unwrap_or("-"));
        match &show.lines {
            Lines::Windows(lines) | Lines::Moments(lines) => {
                for line in lines {
                    let values: Vec<String> = line.values.iter().map(|value| value.as_ref().map_or("-".to_owned(), Value::to_string)).collect();
                    let times = line.times.iter().flatten().flatten().map(|at| format!(" of {}", format_utc(*at)));
                    let filled = if line.filled.is_empty() { String::new() } else { format!(" filled {:?}", line.filled) };
                    let times: String = times.collect();
                    let _ = writeln!(out, "  {}: {}{times}{filled}", crate::model::TagsDisplay(&line.tags), values.join(" "));
                }
            }
            Lines::Points(lines) => {
                for line in lines {
                    let times: Vec<String> = line.times.iter().map(|at| format_utc(*at)).collect();
                    let _ = writeln!(out, "  {}: {} {:?}", crate::model::TagsDisplay(&line.tags), times.join(" "), line.values);
                }
            }
        }
    }
    for note in &answer.notes {
        let _ = writeln!(out, "note: {note}");
    }
    let Cost { series, blocks_summarised, blocks_decoded, points_read, .. } = answer.cost;
    let _ = writeln!(out, "{series} series, {blocks_summarised} blocks summarised, {blocks_decoded} decoded, {points_read} points read");
    out
}

#[test]
fn answers_and_refusals() {
    let queries = [
        r#"show mean of level where reach = "upper" over last 1h per 30m"#,
        "show count of level by reach over last 1h",
        "show max of level overall as \"highest\" over last 10m",
        "show sum of level by lock, reach over last 3m per 1m",
        "show last of gate over last 1h",
        "show first of gate overall over last 1h",
        "show count of gate over last 1h",
        "show last of turns over last 1h",
        "show points of turns over last 1h",
        "show points of lockage over last 1h",
        "show count of lockage over last 1h",
        "show mean of lockage over last 1h",
        "show points of gate where lock = \"marl\" over last 2m",
        "show points of level where lock = \"wick\" over last 22m",
        "show mean of level where lock = \"oiser\" over last 1h",
        "show mean of level where lock = \"osier\" over 2026-01-01 to 2026-01-02",
        "show mean of velmar::level overall over last 1m",
        "show mean of gate over last 1h",
        "show mean of lebel over last 1h",
        "show mean of voltage over last 1h",
        "show mean of other::level over last 1h",
        "show mean of level where loc = \"osier\" over last 1h",
        "show mean of level by keeper over last 1h",
        "show mean of level",
        "show mean of level over now to now - 1h",
        "show mean of level over 2026-03-29T01:30 to now",
        "show mean of level over last 1h zone \"Nowhere\"",
        "show mean of level over last 10h per 1s",
        "show mean of level over last 90m per 1m",
        "show points of level over last 1h",
        // Arithmetic, names, lines reduced to fewer.
        "let up = mean of level where reach = \"upper\" overall\nlet low = mean of level where reach = \"lower\" overall\nshow up - low show (up - low) * 100 in \"m\" over last 2m per 1m",
        "show max of (mean of level) by reach show mean of level / mean of level by reach over last 1m",
        "show share(count of level by lock) show running(count of level overall) over last 3m per 1m",
        "show mean of level top 1 by max show mean of level bottom 1 show mean of level keeping < 100 over last 2m",
        "show mean of level in \"m\" show stddev of level overall show variance of level overall over last 5m",
        "show smooth(max of level overall, 2) show change(max of level overall) show -round(max of level overall / 7) over last 3m per 1m",
        "show sum of level where value >= 150 overall show count of level where value < 0 by reach over last 1h",
        "show mean of level where lock = \"osier\" over 2026-09-21T14:30 to 2026-09-21T16:00 per 30m gaps 0",
        "show last of gate where lock = \"osier\" over last 4m per 40s gaps hold",
        "show mean of level where lock = \"osier\" over last 3m per 30s gaps line",
        // Counters, states, histograms.
        "show growth of turns show delta of turns show rate of turns show spot_rate of turns over last 3m",
        "show time_in(\"open\") of gate show share_in(\"open\") of gate overall show changes of gate by reach show distinct of gate over last 10m",
        "show growth of lockage show mean of lockage show p50 of lockage show sum of lockage show rate of lockage over last 10m",
        "show area of level overall show time_mean of level overall show slope of level where lock = \"wick\" over last 10m",
        // Moments.
        "show level at now - 90s",
        "show level at now - 90s taking before",
        "show level at now - 90s taking nearest within 10s",
        "show gate at now show lockage at now show max of (level) overall at now",
        "show level 30m earlier at now",
        // Readings on a scale with a zero of its own, and how far they lie apart.
        "show mean of temperature in \"K\" show spread of temperature in \"K\" show stddev of temperature in \"[degF]\" over last 10m",
        "show max of temperature - min of temperature in \"K\" show change(max of temperature) in \"K\" show max of temperature - 5 in \"K\" over last 2m per 1m",
        "show max of (mean of temperature) overall in \"K\" show spread of (mean of temperature) overall in \"K\" over last 10m",
        "show sum of temperature in \"K\" over last 10m",
        "show -mean of temperature in \"K\" over last 10m",
        "show mean of temperature + mean of temperature in \"K\" over last 10m",
        "show slope of temperature in \"K/h\" over last 10m",
        // What cannot be.
        "show level over last 1h",
        "show levle over last 1h",
        "show mean of (level) by reach over last 1h",
        "show mean of (mean of level) over last 1h",
        "show growth of (mean of level) overall over last 1h",
        "show mean of (mean of level by reach) by lock over last 1h",
        "show mean of level at now",
        "show points of level at now",
        "show smooth(level, 3) at now",
        "show mean of level + last of gate over last 1h",
        "show mean of level + max of turns over last 1h",
        "show mean of level by lock + mean of level by reach over last 1h",
        "show mean of level where lock = \"osier\" by lock / mean of level where lock = \"marl\" by lock over last 1h",
        "show mean of level + growth of lockage in \"m\" over last 1h",
        "show mean of level in \"kW.h\" over last 1h",
        "show mean of level in \"furlong\" over last 1h",
        "show growth of turns in \"m\" over last 1h",
        "show growth of level over last 1h",
        "show time_in(\"open\") of level over last 1h",
        "show time_in(\"opne\") of gate overall over last 1h",
        "show stddev of gate over last 1h",
        "show max of lockage over last 1h",
        "show coverage of level over last 1h",
        "show count of level where lock matches \"(\" over last 1h",
        "show count of level where lock matches \"os\" over last 1h",
        "show count of level where value > 3 or lock = \"osier\" over last 1h",
        "show count of gate where value > 3 over last 1h",
        "show growth of turns where value > 3 over last 1h",
        "show count of gate where value = \"open\" over last 1h",
        "show count of level where value = \"open\" over last 1h",
        "show mean of level_of_the_gate over last 1h",
        "show points of level keeping > 3 over last 1h",
        "show points of level top 3 over last 1h",
        "show mean of level top 1 by growth over last 1h",
        "show last of gate top 1 over last 1h",
        "show mean of level over last 1h per 10m stepping 3m",
        "show mean of level over last 1h stepping 3m",
        "show mean of level over last 1h per 7h starting 06:00",
        "show mean of level over last 1h within 5m",
        "show mean of level per 5m at now",
        "show mean of level over last 1h from 1h",
        "let a = b show mean of level over last 1h",
        "let a = mean of level show a where lock = \"osier\" over last 1h",
        "let a = c let c = 1 show a over last 1h",
        "show count of level show count of gate show count of gate by lock show count of level by lock show 1 over last 50m per 1m",
    ];
    let answers: String = queries.iter().map(|text| format!("> {text}\n{}\n", ask(text))).collect();
    insta::assert_snapshot!(answers);
}

#[test]
fn the_query_text_overrides_the_frame_with_a_note() {
    let (catalogue, _) = waterway();
    let query = parse("show mean of level over last 2h").unwrap();
    let outer = crate::query::parse_frame("over last 1h per 15m zone \"UTC\"").unwrap();
    let plan = plan(&query, &outer, &catalogue, "velmar", NOW, &Limits::default()).unwrap();
    assert_eq!(plan.notes, ["the query's own `over last 2h` was used, not the frame's `over last 1h`"]);
    let PlannedTime::Windows(windows, _) = &plan.time else { panic!() };
    assert_eq!(windows.width().unwrap().to_string(), "15m");
    assert_eq!(plan.zone.iana_name(), Some("UTC"));
}

#[test]
fn a_stopped_query_gives_nothing() {
    let (catalogue, memory) = waterway();
    let plan = plan(&parse("show mean of level over last 1h").unwrap(), &Frame::default(), &catalogue, "velmar", NOW, &Limits::default());
    assert!(matches!(evaluate(plan.unwrap(), &memory, &|| true), Err(EvaluateError::Stopped)));
}

#[test]
fn a_query_can_be_stopped_between_empty_series() {
    let (catalogue, _) = waterway();
    let query = parse("show points of level over last 1h").unwrap();
    let plan = plan(&query, &Frame::default(), &catalogue, "velmar", NOW, &Limits::default()).unwrap();
    let asked = AtomicUsize::new(0);
    let stop = || asked.fetch_add(1, Ordering::Relaxed) >= 2;
    assert!(matches!(evaluate(plan, &Memory::default(), &stop), Err(EvaluateError::Stopped)));
    assert_eq!(asked.into_inner(), 3);
}

#[test]
fn a_sum_beyond_doubles_is_empty_and_noted() {
    let (catalogue, mut memory) = waterway();
    memory.runs.insert(SeriesId(0), vec![(false, Points::of(&[NOW - 2, NOW - 1], &[f64::MAX, f64::MAX]).to_columns())]);
    let query = parse("show sum of level where lock = \"osier\" over last 1m").unwrap();
    let plan = plan(&query, &Frame::default(), &catalogue, "velmar", NOW, &Limits::default()).unwrap();
    let answer = evaluate(plan, &memory, &|| false).unwrap();
    assert_eq!(answer.notes.len(), 1);
}
