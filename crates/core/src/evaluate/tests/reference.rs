//! The engine held against a slow, obvious evaluator: loops over all points for each window, written from the reference of the language alone.

use std::collections::BTreeMap;

use proptest::prelude::*;

use super::{
    super::*,
    NOW,
    memory::{Memory, RolledUp},
};
use crate::{
    answer::ReadSource,
    catalogue::{Catalogue, Codes},
    model::{DatasetDefinition, Kind, LineTags, MetricDefinition, MetricId, MetricTraits, RollupLevel, RollupPolicy, Shape, Temporality, Value},
    plan::{Limits, plan},
    query::{Frame, parse},
    rollup::Rules,
    time::{Nanos, SECOND, Span},
};

/// A series with all its points.
#[derive(Clone, Debug)]
struct Given {
    lock: &'static str,
    reach: &'static str,
    points: Vec<(Nanos, f64)>,
    /// Lengths of the runs that it is stored in, and whether each is packed.
    runs: Vec<(usize, bool)>,
}

#[derive(Clone, Debug)]
struct Case {
    kind: Kind,
    shape: Shape,
    stale: Option<i64>,
    interval: i64,
    series: Vec<Given>,
    reducer: String,
    grouping: &'static str,
    condition: &'static str,
    test: Option<i32>,
    frame: String,
    rolled: Option<Rolled>,
}

/// How the case's points are rolled up: into windows of so many seconds, over a stretch that begins and ends so many seconds before now; some
/// windows are out of date; and points of some stretches were dropped.
#[derive(Clone, Debug)]
struct Rolled {
    seconds: i64,
    from: i64,
    to: i64,
    dropped: Vec<(i64, i64)>,
    dirty: i64,
    is_forced: bool,
}

const STATES: [&str; 3] = ["open", "closed", "stuck"];

/// What is asked of each kind.
fn reducers_of(kind: Kind) -> &'static [&'static str] {
    match kind {
        Kind::State => &["count", "first", "last", "changes", "distinct", "time_in(\"open\")", "share_in(\"stuck\")", "coverage"],
        Kind::Counter => &["growth", "rate", "spot_rate", "delta", "max", "last", "count", "coverage"],
        _ => &[
            "count",
            "sum",
            "mean",
            "min",
            "max",
            "spread",
            "first",
            "last",
            "stddev",
            "variance",
            "median",
            "p90",
            "p2.5",
            "delta",
            "area",
            "time_mean",
            "area(stepped)",
            "time_mean(linear)",
            "time_mean(stepped)",
            "changes",
            "distinct",
            "slope",
            "coverage",
        ],
    }
}

fn a_series() -> impl Strategy<Value = Given> {
    let points = prop::collection::vec((1i64..900, -40i32..40), 0..60);
    let runs = prop::collection::vec((1usize..20, any::<bool>()), 1..8);
    (prop::sample::select(vec!["osier", "marl", "wick"]), prop::sample::select(vec!["upper", "lower"]), 0i64..20_000, points, runs).prop_map(
        |(lock, reach, start, steps, runs)| {
            let mut at = NOW - 24_000 * SECOND + start * SECOND;
            let points = steps.into_iter().map(|(step, value)| {
                at += step * SECOND;
                (at, f64::from(value) / 4.0)
            });
            Given { lock, reach, points: points.filter(|(at, _)| *at < NOW).collect(), runs }
        },
    )
}

fn a_case() -> impl Strategy<Value = Case> {
    let kind = prop::sample::select(vec![Kind::Gauge, Kind::Gauge, Kind::Counter, Kind::State]);
    let (back, width) = (1i64..26_000, 60i64..9_000);
    let frame = (back, 1i64..6_000, width, 0u8..4).prop_map(|(back, until, width, form)| match form {
        0 => format!("over now - {}s to now - {until}s per {width}s", until + back),
        1 => format!("over last {back}s per {}s stepping {width}s", width * 3),
        2 => format!("over last {back}s zone \"Pacific/Chatham\" per 2h starting 00:30"),
        _ => format!("over last {back}s"),
    });
    let grouping = prop::sample::select(vec!["", " overall", " by reach", " by lock, reach"]);
    let conditions =
        vec!["", "lock != \"marl\"", "lock matches \".*i.*\" and not reach = \"upper\"", "reach = \"lower\" or lock = \"osier\"", "lacks reach"];
    let head = (kind, any::<bool>(), prop::option::of(30i64..2_000), 100i64..700, prop::collection::vec(a_series(), 1..7));
    // Retention takes everything up to some time; what came back from the bin leaves holes.
    let dropped = prop_oneof![
        Just(vec![]),
        (0i64..20_000).prop_map(|until| vec![(40_000, until)]),
        prop::collection::vec((0i64..30_000, 1i64..4_000), 1..4).prop_map(|holes| holes.into_iter().map(|(ago, long)| (ago, ago - long)).collect()),
    ];
    let stretch = (prop::sample::select(vec![1i64, 1, 10, 60, 300, 3_600]), 0i64..40_000, prop_oneof![Just(0i64), 0i64..20_000]);
    let rolled = (stretch, dropped, 0i64..25_000, prop::bool::weighted(0.3)).prop_map(|((seconds, from, to), dropped, dirty, is_forced)| Rolled {
        seconds,
        from,
        to,
        dropped,
        dirty,
        is_forced,
    });
    let rest = (prop::option::weighted(0.2, -5i32..5), frame, prop::option::weighted(0.7, rolled));
    (head, any::<prop::sample::Index>(), grouping, prop::sample::select(conditions), rest).prop_map(
        |((kind, linear, stale, interval, mut series), reducer, grouping, condition, (test, frame, rolled))| {
            // Of one set of tags there is one series.
            series.sort_by_key(|series| (series.lock, series.reach));
            series.dedup_by_key(|series| (series.lock, series.reach));
            let reducers = reducers_of(kind);
            if kind != Kind::Gauge {
                for (_, value) in series.iter_mut().flat_map(|series| &mut series.points) {
                    *value = if kind == Kind::State { (value.abs() * 4.0) % 3.0 } else { value.abs() * 16.0 };
                }
            }
            let shape = if linear && kind == Kind::Gauge { Shape::Linear } else { Shape::Stepped };
            let reducer = reducers[reducer.index(reducers.len())].to_owned();
            Case { kind, shape, stale, interval, series, reducer, grouping, condition, test, frame, rolled }
        },
    )
}

impl Case {
    fn looks_at_neighbours(&self) -> bool {
        let word = self.reducer.split('(').next().unwrap_or_default();
        ["changes", "coverage", "delta", "area", "time_mean", "growth", "rate", "spot_rate", "time_in", "share_in"].contains(&word)
    }

    fn text(&self) -> String {
        let by_value = self.test.filter(|_| self.kind == Kind::Gauge && !self.looks_at_neighbours());
        let tests = by_value.map(|number| format!("value >= {number}"));
        let tags = Some(self.condition).filter(|text| !text.is_empty()).map(|text| format!("({text})"));
        let both: Vec<String> = tags.into_iter().chain(tests).collect();
        let condition = if both.is_empty() { String::new() } else { format!(" where {}", both.join(" and ")) };
        let frame = if self.reducer == "spot_rate" { self.frame.replace(" stepping ", " gaps empty per ") } else { self.frame.clone() };
        // A width twice is a mistake: of the two the step stays.
        let frame = match frame.split_once(" gaps empty per ") {
            Some((_, step)) => format!("over last 20000s per {step}"),
            None => frame,
        };
        let from = self.rolled.as_ref().filter(|rolled| rolled.is_forced).map(|rolled| format!(" from {}s", rolled.seconds));
        format!("show {} of metric{condition}{} {frame}{}", self.reducer, self.grouping, from.unwrap_or_default())
    }

    fn store(&self) -> (Catalogue, Memory) {
        let (mut catalogue, mut memory) = (Catalogue::default(), Memory::default());
        catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition::default());
        let dataset = catalogue.dataset_mut("velmar").unwrap();
        let seconds = |seconds: i64| Some(Span::exact(seconds * SECOND));
        let definition = MetricDefinition {
            kind: self.kind,
            shape: self.shape,
            stale_after: self.stale.and_then(seconds),
            interval: seconds(self.interval),
            ..MetricDefinition::default()
        };
        dataset.put_metric(MetricId(1), "metric", definition);
        if let Some(rolled) = &self.rolled {
            let levels = vec![RollupLevel { width: Span::exact(rolled.seconds * SECOND), keep_for: None }];
            let policy = RollupPolicy { metrics: vec![], condition: None, zone: None, levels, lateness: Span::exact(SECOND) };
            dataset.rollups.insert("all".to_owned(), policy);
        }
        for (at, given) in self.series.iter().enumerate() {
            let id = SeriesId(at as u32);
            // Each series learnt its words in another order.
            let shift = at % 3;
            let words = (0..3).map(|code| STATES[(code + shift) % 3].into()).collect();
            let codes = (self.kind == Kind::State).then_some(Codes::Words(words));
            dataset.put_series(id, "metric", [("lock", given.lock), ("reach", given.reach)].into_iter(), codes);
            let stored = |value: f64| if self.kind == Kind::State { ((value as usize + 3 - shift) % 3) as f64 } else { value };
            let (mut rest, mut lengths, mut runs) = (&given.points[..], given.runs.iter().cycle(), Vec::new());
            while !rest.is_empty() {
                let (length, packed) = lengths.next().unwrap();
                let (run, after) = rest.split_at((*length).min(rest.len()));
                let columns = Columns { times: run.iter().map(|p| p.0).collect(), values: run.iter().map(|p| stored(p.1)).collect(), rests: vec![] };
                runs.push((*packed, columns));
                rest = after;
            }
            memory.runs.insert(id, runs);
            if self.kind == Kind::Counter {
                memory.counters.push(id);
            }
        }
        if let Some(rolled) = &self.rolled {
            self.roll_up(&mut memory, rolled);
        }
        (catalogue, memory)
    }

    fn roll_up(&self, memory: &mut Memory, rolled: &Rolled) {
        let facts = MetricTraits {
            metric: "metric".into(),
            kind: self.kind,
            shape: self.shape,
            temporality: Temporality::Cumulative,
            stale_after: self.stale.map(|stale| stale * SECOND),
            interval: Some(self.interval * SECOND),
        };
        let border = |ago: i64| (NOW - ago * SECOND).div_euclid(rolled.seconds * SECOND) * rolled.seconds * SECOND;
        let (far, near) = (border(rolled.from.max(rolled.to)), border(rolled.from.min(rolled.to)));
        let all = |runs: &Vec<(bool, Columns)>| {
            let mut all = Columns::default();
            runs.iter().for_each(|(_, columns)| all.extend(columns.points()));
            all
        };
        let points = memory.runs.iter().map(|(id, runs)| (*id, all(runs))).collect();
        let mut dropped: Vec<TimeRange> = Vec::new();
        let ago = |seconds: i64| NOW - seconds * SECOND;
        let mut stretches: Vec<TimeRange> = rolled.dropped.iter().map(|(from, to)| TimeRange { start: ago(*from), end: ago(*to) }).collect();
        stretches.sort_by_key(|range| range.start);
        for range in stretches {
            match dropped.last_mut() {
                Some(last) if range.start <= last.end => last.end = last.end.max(range.end),
                _ => dropped.push(range),
            }
        }
        for (_, columns) in memory.runs.values_mut().flatten() {
            let mut kept = Columns::default();
            for at in (0..columns.len()).filter(|at| !dropped.iter().any(|range| range.contains(columns.times[*at]))) {
                kept.push(columns.times[at], columns.values[at], 0);
            }
            *columns = kept;
        }
        let dirty = TimeRange { start: NOW - rolled.dirty * SECOND, end: NOW - rolled.dirty * SECOND + 500 * SECOND };
        let dirty = memory.runs.keys().filter(|id| id.0 % 2 == 0).map(|id| (*id, dirty)).collect();
        memory.rolled = Some(RolledUp { range: TimeRange { start: far, end: near }, rules: Rules::of(&facts, false), points, dropped, dirty });
    }

    /// Whether a window may lack something: an unreadable stretch touches it, or a pair of neighbours that counts in it.
    fn may_lack(&self, series: &[&Given], window: TimeRange, unreadable: &[TimeRange]) -> bool {
        let touches = |start: Nanos, end: Nanos| unreadable.iter().any(|range| range.start <= end && start <= range.end);
        let is_paired = self.looks_at_neighbours();
        let overlaps = unreadable.iter().any(|range| range.start < window.end && window.start < range.end);
        // The time before the first point counts too: there may have been others.
        let pair = |one: &Given, at: usize| {
            let start = at.checked_sub(1).map_or(Nanos::MIN, |at| one.points[at].0);
            let end = one.points.get(at).map_or(NOW, |next| next.0);
            touches(start, end) && start < window.end && window.start <= end
        };
        overlaps || (is_paired && series.iter().any(|one| (0..=one.points.len()).any(|at| pair(one, at))))
    }

    fn matches(&self, given: &Given) -> bool {
        match self.condition {
            "" => true,
            "lock != \"marl\"" => given.lock != "marl",
            "lock matches \".*i.*\" and not reach = \"upper\"" => given.lock.contains('i') && given.reach != "upper",
            "reach = \"lower\" or lock = \"osier\"" => given.reach == "lower" || given.lock == "osier",
            _ => false,
        }
    }

    fn line(&self, given: &Given) -> LineTags {
        let all = [("lock", given.lock), ("reach", given.reach)];
        let keeps = |key: &str| self.grouping.is_empty() || self.grouping.contains(key);
        all.into_iter().filter(|(key, _)| keeps(key)).map(|(key, value)| (key.into(), value.into())).collect()
    }

    /// One window of one line, by the words of the reference.
    fn window(&self, series: &[&Given], window: TimeRange, by_value: Option<f64>) -> Option<f64> {
        let joined = |a: Nanos, b: Nanos| self.stale.is_none_or(|stale| b - a <= stale * SECOND);
        let mut inside: Vec<(Nanos, f64)> = series.iter().flat_map(|one| &one.points).copied().filter(|(at, _)| window.contains(*at)).collect();
        inside.retain(|(_, value)| by_value.is_none_or(|least| *value >= least));
        inside.sort_by(|a, b| a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)));
        let mut values: Vec<f64> = inside.iter().map(|point| point.1).collect();
        values.sort_by(f64::total_cmp);
        let count = values.len() as f64;
        let sum: f64 = values.iter().sum();
        let mean = sum / count;
        let variance = values.iter().map(|value| (value - mean) * (value - mean)).sum::<f64>() / (count - 1.0);
        let quantile = |share: f64| {
            let rank = (count - 1.0) * share;
            let (low, high) = (*values.get(rank.floor() as usize)?, *values.get(rank.ceil() as usize)?);
            Some(low + (high - low) * rank.fract())
        };
        let some = |value: f64| (count > 0.0).then_some(value);
        let passed = (window.end - window.start) as f64 / SECOND as f64;
        // Every pair of neighbours, with the later one in the window.
        let mut changes: Vec<f64> = Vec::new();
        let mut spots: Vec<f64> = Vec::new();
        let (mut area, mut covered, mut matching, mut regular) = (0.0, 0.0, 0.0, 0.0);
        let wanted = if self.reducer.contains("open") { 0.0 } else { 2.0 };
        for one in series {
            let mut spot = None;
            for at in 0..one.points.len() {
                let (time, value) = one.points[at];
                let before = at.checked_sub(1).map(|before| one.points[before]);
                if window.contains(time) {
                    let pair = before.filter(|(from, _)| joined(*from, time));
                    let change = |from: f64| match self.reducer.as_str() {
                        "delta" => value - from,
                        "changes" => f64::from(u8::from(from != value)),
                        _ => {
                            if value >= from {
                                value - from
                            } else {
                                value
                            }
                        }
                    };
                    changes.extend(pair.map(|(_, from)| change(from)));
                    spot = pair.map(|(from, low)| change(low) / ((time - from) as f64 / SECOND as f64));
                }
                // The time from this point to the next.
                let next = one.points.get(at + 1).copied();
                let part = |from: Nanos, to: Nanos| {
                    let (from, to) = (from.max(window.start), to.min(window.end));
                    if from < to { (from, to, (to - from) as f64 / SECOND as f64) } else { (0, 0, 0.0) }
                };
                let stale = self.stale.map_or(Nanos::MAX, |stale| time + stale * SECOND);
                let held = part(time, next.map_or(NOW, |next| next.0).min(stale));
                let shape = match self.reducer.split_once('(') {
                    Some((_, "linear)")) => Shape::Linear,
                    Some((_, "stepped)")) => Shape::Stepped,
                    _ => self.shape,
                };
                if shape == Shape::Stepped {
                    area += value * held.2;
                    covered += held.2;
                    matching += if value == wanted { held.2 } else { 0.0 };
                } else if let Some((end, high)) = next.filter(|next| joined(time, next.0)) {
                    let (from, to, seconds) = part(time, end);
                    let at = |moment: Nanos| value + (high - value) * (moment - time) as f64 / (end - time) as f64;
                    area += (at(from) + at(to)) / 2.0 * seconds;
                    covered += seconds;
                }
                let end = next.map_or(NOW, |next| next.0);
                if end - time <= self.interval * SECOND * 3 / 2 {
                    regular += part(time, end).2;
                }
            }
            spots.extend(spot);
        }
        match self.reducer.as_str() {
            "count" => some(count),
            "sum" => some(sum),
            "mean" => some(mean),
            "min" => values.first().copied(),
            "max" => values.last().copied(),
            "spread" => some(values.last()? - values.first()?),
            "first" => inside.first().map(|point| point.1),
            "last" => inside.last().map(|point| point.1),
            "stddev" => (count > 1.0).then(|| variance.sqrt()),
            "variance" => (count > 1.0).then_some(variance),
            "median" => quantile(0.5),
            "p90" => quantile(0.9),
            "p2.5" => quantile(0.025),
            "distinct" => {
                values.dedup();
                some(values.len() as f64)
            }
            "slope" => {
                let time = |at: Nanos| (at - window.start) as f64 / SECOND as f64;
                let middle = inside.iter().map(|point| time(point.0)).sum::<f64>() / count;
                let squares: f64 = inside.iter().map(|point| (time(point.0) - middle).powi(2)).sum();
                let products: f64 = inside.iter().map(|point| (time(point.0) - middle) * (point.1 - mean)).sum();
                (squares > 0.0).then(|| products / squares)
            }
            "delta" | "growth" | "changes" => (!changes.is_empty()).then(|| changes.iter().sum()),
            "rate" => (!changes.is_empty() && passed > 0.0).then(|| changes.iter().sum::<f64>() / passed),
            "spot_rate" => (!spots.is_empty()).then(|| spots.iter().sum()),
            "area" | "area(stepped)" => (covered > 0.0).then_some(area),
            "time_mean" | "time_mean(linear)" | "time_mean(stepped)" => (covered > 0.0).then(|| area / covered),
            "coverage" => (passed > 0.0).then(|| regular / (passed * series.len() as f64)),
            reducer if reducer.starts_with("time_in") => (covered > 0.0).then_some(matching),
            _ => (covered > 0.0).then(|| matching / covered),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1_500))]
    #[test]
    fn every_reduction_equals_the_obvious_loops(case in a_case()) {
        let text = case.text();
        let (catalogue, memory) = case.store();
        let query = parse(&text).map_err(|error| error.render(&text)).unwrap();
        let planned = plan(&query, &Frame::default(), &catalogue, "velmar", NOW, &Limits::default());
        let planned = match planned {
            // Not every question can be answered from the level that it names.
            Err(crate::plan::PlanError::Query(_)) if text.contains(" from ") => return Ok(()),
            Err(crate::plan::PlanError::Query(error)) => panic!("{}", error.render(&text)),
            other => other.unwrap(),
        };
        let PlannedTime::Windows(windows, _) = planned.time.clone() else { unreachable!() };
        let answer = evaluate(planned, &memory, &|| false).unwrap();
        let Lines::Windows(lines) = &answer.shows[0].lines else { unreachable!() };
        let unreadable: Vec<TimeRange> = answer.parts.iter().filter(|part| part.source == ReadSource::Nothing).map(|part| part.range).collect();
        let is_noted = answer.notes.iter().any(|note| note.contains("no longer kept") || note.contains("was not read") || note.contains("nothing was read"));
        let marks = lines.iter().any(|line| !line.partial.is_empty());
        prop_assert!(is_noted || unreadable.is_empty() && !marks, "{}\n{:?}", text, answer.notes);
        // Beyond the range, neighbours are looked for.
        let range = windows.range();
        let beyond = memory.rolled.iter().flat_map(|rolled| &rolled.dropped);
        let beyond = beyond.flat_map(|hole| [TimeRange { end: hole.end.min(range.start), ..*hole }, TimeRange { start: hole.start.max(range.end), ..*hole }]);
        let lost: Vec<TimeRange> = unreadable.iter().copied().chain(beyond.filter(|part| !part.is_empty())).collect();
        let mut groups: BTreeMap<LineTags, Vec<&Given>> = BTreeMap::new();
        for given in case.series.iter().filter(|given| case.matches(given)) {
            groups.entry(case.line(given)).or_default().push(given);
        }
        prop_assert_eq!(lines.iter().map(|line| &line.tags).collect::<Vec<_>>(), groups.keys().collect::<Vec<_>>());
        let by_value = text.split("value >= ").nth(1).map(|rest| rest.split_whitespace().next().unwrap().trim_end_matches(')').parse().unwrap());
        for (line, series) in lines.iter().zip(groups.values()) {
            for (at, found) in line.values.iter().enumerate() {
                let passed = windows.passed(at, NOW);
                let wanted = case.window(series, passed, by_value);
                let is_partial = line.partial.contains(&at);
                let is_cut = unreadable.iter().any(|range| range.start.max(passed.start) < range.end.min(passed.end));
                prop_assert!(is_partial || !is_cut, "{text}\nwindow {at} of {:?} is touched by {unreadable:?}, and not marked", line.tags);
                let may_lack = case.may_lack(series, passed, &lost);
                prop_assert!(may_lack || !is_partial, "{text}\nwindow {at} of {:?} is marked, and lacks nothing: {lost:?}", line.tags);
                let found = match found {
                    Some(Value::Word(word)) => STATES.iter().position(|state| *state == &**word).map(|code| code as f64),
                    other => other.as_ref().and_then(Value::number),
                };
                let is_tied = case.kind == Kind::State && matches!(case.reducer.as_str(), "first" | "last");
                // Of values that are kept in sketches alone, each is within a percent; the greatest here is 160.
                let is_sketched = answer.cost.windows_read > 0 && (case.reducer == "median" || case.reducer.starts_with('p'));
                let close = match (found, wanted) {
                    (Some(found), Some(wanted)) if is_sketched => (found - wanted).abs() <= 0.011 * if case.kind == Kind::Gauge { 10.0 } else { wanted.abs() },
                    (Some(found), Some(wanted)) => (found - wanted).abs() <= 1e-9 * wanted.abs().max(1.0) || is_tied,
                    (found, wanted) => found == wanted,
                };
                prop_assert!(close || is_partial, "{text}\nwindow {at} of {:?}: found {found:?}, wanted {wanted:?}", line.tags);
            }
        }
    }

    #[test]
    fn growth_of_windows_adds_up_and_means_are_of_merged_points(case in a_case(), cuts in 2i64..9) {
        let case = Case { condition: "", test: None, grouping: " overall", rolled: case.rolled.clone().filter(|rolled| rolled.dropped.is_empty()), ..case };
        let (catalogue, memory) = case.store();
        let ask = |text: &str| {
            let planned = plan(&parse(text).unwrap(), &Frame::default(), &catalogue, "velmar", NOW, &Limits::default()).unwrap();
            let answer = evaluate(planned, &memory, &|| false).unwrap();
            let Lines::Windows(lines) = &answer.shows[0].lines else { unreachable!() };
            lines[0].values.iter().flatten().filter_map(Value::number).collect::<Vec<f64>>()
        };
        let sum = match case.kind {
            Kind::Gauge => "area",
            Kind::Counter => "growth",
            _ => "changes",
        };
        let whole: f64 = ask(&format!("show {sum} of metric overall over last 24000s")).iter().sum();
        let parts: f64 = ask(&format!("show {sum} of metric overall over last 24000s per {}s", 24_000 / cuts)).iter().sum();
        prop_assert!((whole - parts).abs() <= 1e-9 * whole.abs().max(1.0), "{sum} {whole} {parts}");
        if case.kind == Kind::Gauge {
            let all: Vec<f64> = case.series.iter().flat_map(|series| &series.points).filter(|point| point.0 >= NOW - 24_000 * SECOND).map(|point| point.1).collect();
            let mean = ask("show mean of metric overall over last 24000s");
            prop_assert_eq!(mean.len(), usize::from(!all.is_empty()));
            if let Some(mean) = mean.first() {
                prop_assert!((mean - all.iter().sum::<f64>() / all.len() as f64).abs() < 1e-9);
            }
        }
    }
}

#[test]
fn every_reducer_is_in_the_reference() {
    let asked: Vec<&str> =
        [Kind::Gauge, Kind::Counter, Kind::State].into_iter().flat_map(reducers_of).map(|text| text.split('(').next().unwrap_or(text)).collect();
    let missing: Vec<&str> = crate::query::REDUCER_WORDS.into_iter().filter(|word| !asked.contains(word)).collect();
    assert_eq!(missing, [""; 0], "each is to be held against the obvious loops");
}
