//! Plans run over points in memory, against a loop that anyone can check.

use std::{collections::BTreeMap, fmt::Write as _};

use proptest::prelude::*;

use super::*;
use crate::{
    catalogue::Catalogue,
    model::{DatasetDefinition, Kind, MetricDefinition, MetricId},
    plan::{Limits, plan},
    query::{Frame, parse},
    time::{SECOND, format_utc},
};

/// A source that keeps some runs as blocks and some as points.
#[derive(Default)]
struct Memory {
    runs: BTreeMap<SeriesId, Vec<(bool, Columns)>>,
}

struct MemoryBlock<'a>(&'a Columns, Summary);

impl StoredBlock for MemoryBlock<'_> {
    fn summary(&self) -> &Summary {
        &self.1
    }

    fn decode(&self, out: &mut Columns) -> Result<(), SourceError> {
        out.extend(self.0.points());
        Ok(())
    }
}

impl Source for Memory {
    fn scan(&self, _: DatasetId, series: SeriesId, range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        for (packed, columns) in self.runs.get(&series).into_iter().flatten() {
            let Some(summary) = Summary::of(columns.points()) else { continue };
            if !range.meets(summary.first.time, summary.last.time) {
                continue;
            }
            match packed {
                true => visit(Run::Block(&MemoryBlock(columns, summary)))?,
                false => visit(Run::Points(columns.points()))?,
            }
        }
        Ok(())
    }
}

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
    let limits = Limits { series: 100, windows: 100, cells: 200, points: 50 };
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
            Lines::Windows(lines) => {
                for line in lines {
                    let values: Vec<String> = line.values.iter().map(|v| format!("{v:?}")).collect();
                    let _ = writeln!(out, "  {}: {}", crate::model::TagsDisplay(&line.tags), values.join(" "));
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
    let _ = writeln!(out, "{:?}", answer.cost);
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
    ];
    let told: String = queries.iter().map(|text| format!("> {text}\n{}\n", ask(text))).collect();
    insta::assert_snapshot!(told);
}

#[test]
fn the_text_wins_over_the_frame_from_outside_and_says_so() {
    let (catalogue, _) = waterway();
    let query = parse("show mean of level over last 2h").unwrap();
    let outer = crate::query::parse_frame("over last 1h per 15m zone \"UTC\"").unwrap();
    let plan = plan(&query, &outer, &catalogue, "velmar", NOW, &Limits::default()).unwrap();
    assert_eq!(plan.notes, ["the query's own `over last 2h` was used, not the frame's `over last 1h`"]);
    assert_eq!(plan.windows.width().unwrap().to_string(), "15m");
    assert_eq!(plan.zone.iana_name(), Some("UTC"));
}

#[test]
fn a_stopped_query_gives_nothing() {
    let (catalogue, memory) = waterway();
    let plan = plan(&parse("show mean of level over last 1h").unwrap(), &Frame::default(), &catalogue, "velmar", NOW, &Limits::default());
    assert!(matches!(evaluate(plan.unwrap(), &memory, &|| true), Err(EvaluateError::Stopped)));
}

#[test]
fn a_query_is_stopped_between_series_that_have_nothing_too() {
    let (catalogue, _) = waterway();
    let query = parse("show points of level over last 1h").unwrap();
    let plan = plan(&query, &Frame::default(), &catalogue, "velmar", NOW, &Limits::default()).unwrap();
    let asked = std::cell::Cell::new(0);
    let stop = || {
        asked.set(asked.get() + 1);
        asked.get() > 2
    };
    assert!(matches!(evaluate(plan, &Memory::default(), &stop), Err(EvaluateError::Stopped)));
    assert_eq!(asked.get(), 3);
}

#[test]
fn a_sum_beyond_doubles_is_empty_and_told() {
    let (catalogue, mut memory) = waterway();
    memory.runs.insert(SeriesId(0), vec![(false, Points::of(&[NOW - 2, NOW - 1], &[f64::MAX, f64::MAX]).to_columns())]);
    let query = parse("show sum of level where lock = \"osier\" over last 1m").unwrap();
    let plan = plan(&query, &Frame::default(), &catalogue, "velmar", NOW, &Limits::default()).unwrap();
    let answer = evaluate(plan, &memory, &|| false).unwrap();
    assert_eq!(answer.notes.len(), 1);
}

/// What the reducers mean, in the plainest way.
fn obvious(points: &[(Nanos, f64)], windows: &Windows, reducer: Reducer) -> Vec<Option<f64>> {
    let window = |pair: &[Nanos]| {
        let inside: Vec<(Nanos, f64)> =
            points.iter().copied().filter(|(at, _)| pair[0] <= *at && *at < pair[1] && windows.range().contains(*at)).collect();
        let values = inside.iter().map(|(_, value)| *value);
        let count = inside.len() as f64;
        (count > 0.0).then(|| match reducer {
            Reducer::Count => count,
            Reducer::Sum => values.sum(),
            Reducer::Mean => values.sum::<f64>() / count,
            Reducer::Min => values.fold(f64::INFINITY, f64::min),
            Reducer::Max => values.fold(f64::NEG_INFINITY, f64::max),
            Reducer::First => inside[0].1,
            Reducer::Last => inside[inside.len() - 1].1,
        })
    };
    windows.bounds().windows(2).map(window).collect()
}

proptest! {
    #[test]
    fn every_reducer_equals_the_obvious_loop(
        steps in prop::collection::vec((1i64..400, -100i64..100), 1..200),
        cuts in prop::collection::vec((1usize..40, any::<bool>()), 1..20),
        reducer in prop::sample::select(Reducer::ALL.to_vec()),
        back in 1i64..40_000, width in 1i64..5_000,
    ) {
        let (catalogue, mut memory) = waterway();
        let mut at = NOW - 30_000 * SECOND;
        let points: Vec<(Nanos, f64)> = steps.iter().map(|(step, value)| { at += step * SECOND; (at, *value as f64 / 4.0) }).collect();
        let mut runs = Vec::new();
        let (mut rest, mut cuts) = (&points[..], cuts.iter().cycle());
        while !rest.is_empty() {
            let (length, packed) = cuts.next().unwrap();
            let (run, after) = rest.split_at((*length).min(rest.len()));
            runs.push((*packed, Columns { times: run.iter().map(|p| p.0).collect(), values: run.iter().map(|p| p.1).collect(), rests: vec![] }));
            rest = after;
        }
        memory.runs.insert(SeriesId(0), runs);
        let text = format!("show {reducer} of level where lock = \"osier\" over last {back}s per {width}s");
        let plan = plan(&parse(&text).unwrap(), &Frame::default(), &catalogue, "velmar", NOW, &Limits::default()).unwrap();
        let wanted = obvious(&points, &plan.windows, reducer);
        let answer = evaluate(plan, &memory, &|| false).unwrap();
        let Lines::Windows(lines) = &answer.shows[0].lines else { panic!() };
        let found: Vec<Option<f64>> = lines[0].values.iter().map(|v| v.as_ref().and_then(Value::number)).collect();
        // Quarters add up without rounding, so the sums are equal whatever their order.
        prop_assert_eq!(found, wanted);
    }
}
