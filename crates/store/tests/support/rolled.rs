//! What the tests of rollups share: metrics of every kind, questions asked of rollups and of points, and a look at every window.

#![allow(dead_code, reason = "each test uses a part of it")]

use fenetre_core::{
    answer::{Lines, WindowLine},
    evaluate::evaluate,
    model::{DatasetId, Histogram, Kind, MetricDefinition, PointRef, PointSink, RollupLevel, RollupPolicy, Value, ValueRef},
    plan::{Limits, plan},
    query::{Frame, parse},
    time::{Nanos, SECOND, Span},
};
use fenetre_store::{LevelSize, Store, Verified};

pub const MINUTE: Nanos = 60 * SECOND;
/// On a border of every level here.
pub const BEGIN: Nanos = 1_790_000_000 * SECOND / (24 * 60 * MINUTE) * (24 * 60 * MINUTE);

pub fn policy(levels: &[&str]) -> RollupPolicy {
    let levels = levels.iter().map(|width| RollupLevel { width: Span::parse(width).unwrap(), keep_for: None }).collect();
    RollupPolicy { metrics: vec![], condition: None, zone: None, levels, lateness: Span::exact(MINUTE) }
}

pub fn main(store: &Store) -> DatasetId {
    store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().id)
}

pub fn define(store: &Store) {
    let define = |name: &str, kind: Kind, stale: i64| {
        let seconds = |seconds: i64| Some(Span::exact(seconds * SECOND));
        let definition = MetricDefinition { kind, stale_after: seconds(stale), interval: seconds(30), ..MetricDefinition::default() };
        store.definitions().put_metric("main", name, definition).unwrap();
    };
    define("level", Kind::Gauge, 200);
    define("boats", Kind::Counter, 1_000);
    define("gate", Kind::State, 600);
    define("wait", Kind::Histogram, 600);
}

/// One arrival: a lock, when in seconds, and a number that all metrics are made of.
pub type Arrival = (u8, i64, u8);

pub fn write(store: &Store, arrivals: &[Arrival]) {
    let mut batch = store.begin("main").unwrap();
    for (lock, second, number) in arrivals {
        let lock = format!("lock-{lock}");
        let tags = [("lock", lock.as_str())];
        let time = BEGIN + second * SECOND;
        let mut put = |metric: &str, value: ValueRef<'_>| batch.accept(PointRef { metric, tags: &tags, time, value }).unwrap();
        put("level", ValueRef::Number(f64::from(*number) / 4.0 - 20.0));
        put("boats", ValueRef::Integer((second * 3 + i64::from(*number)).into()));
        put("gate", ValueRef::Word(["open", "closed", "stuck"][usize::from(*number) % 3]));
        let counts = vec![u64::from(*number % 5), u64::from(*number % 3), 1];
        put("wait", ValueRef::Histogram(&Histogram { bounds: vec![1.0, 2.0], counts, sum: f64::from(*number) }));
    }
    store.write(batch).unwrap();
}

pub const REDUCERS: [&str; 26] = [
    "count of level",
    "sum of level",
    "mean of level",
    "min of level",
    "max of level",
    "spread of level",
    "first of level",
    "last of level",
    "stddev of level",
    "slope of level",
    "delta of level",
    "area of level",
    "time_mean of level",
    "changes of level",
    "coverage of level",
    "growth of boats",
    "rate of boats",
    "last of boats",
    "mean of boats",
    "time_in(\"open\") of gate",
    "share_in(\"stuck\") of gate",
    "changes of gate",
    "distinct of gate",
    "last of gate",
    "mean of wait",
    "p90 of wait",
];

pub fn numbers(store: &Store, text: &str, now: Nanos) -> (Vec<Vec<Option<Value>>>, u64, Vec<String>) {
    let (lines, windows, notes) = answered(store, text, now);
    (lines.into_iter().map(|line| line.values).collect(), windows, notes)
}

/// The lines of an answer, how many windows of rollups were read for them, and its notes.
pub fn answered(store: &Store, text: &str, now: Nanos) -> (Vec<WindowLine>, u64, Vec<String>) {
    let query = parse(text).unwrap_or_else(|error| panic!("{}", error.render(text)));
    let planned = store
        .with_catalogue(|catalogue| plan(&query, &Frame::default(), catalogue, "main", now, &Limits::default()))
        .unwrap_or_else(|error| panic!("{error}"));
    let answer = evaluate(planned, &store.source(), &|| false).unwrap();
    let Lines::Windows(lines) = answer.shows.into_iter().next().unwrap().lines else { unreachable!() };
    (lines, answer.cost.windows_read, answer.notes)
}

pub fn same(a: &Option<Value>, b: &Option<Value>) -> bool {
    match (a.as_ref().and_then(Value::number), b.as_ref().and_then(Value::number)) {
        (Some(a), Some(b)) => (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1.0),
        _ => a == b,
    }
}

/// Asks everything twice, and says how many windows of rollups were read.
pub fn check(store: &Store, now: Nanos, frame: &str) -> u64 {
    let mut read = 0;
    for reducer in REDUCERS {
        for grouping in ["", " overall"] {
            // Of several series at one instant, any may be the last.
            if !grouping.is_empty() && (reducer.starts_with("last") || reducer.starts_with("first")) {
                continue;
            }
            let text = format!("show {reducer}{grouping} {frame}");
            let ((rolled, windows, _), (raw, none, _)) = (numbers(store, &text, now), numbers(store, &format!("{text} from raw"), now));
            assert_eq!(none, 0);
            read += windows;
            for (line, (rolled, raw)) in rolled.iter().zip(&raw).enumerate() {
                for (at, (rolled, raw)) in rolled.iter().zip(raw).enumerate() {
                    assert!(same(rolled, raw), "{text}\nline {line}, window {at}: from rollups {rolled:?}, from points {raw:?}");
                }
            }
        }
    }
    let looked = verified(store);
    assert_eq!(looked.faults, Vec::<String>::new());
    read
}

pub fn levels(store: &Store) -> Vec<LevelSize> {
    store.inspect().report(BEGIN).unwrap().datasets.remove(0).levels
}

/// A look at all files of rollups.
pub fn verified(store: &Store) -> Verified {
    let mut sum = Verified::default();
    for file in levels(store).into_iter().flat_map(|level| level.files) {
        let found = store.inspect().verify(file.strip_prefix(store.root()).unwrap().to_str().unwrap()).unwrap();
        sum.windows += found.windows;
        sum.points += found.points;
        sum.faults.extend(found.faults);
    }
    sum
}
