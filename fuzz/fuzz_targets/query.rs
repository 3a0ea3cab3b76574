//! Any row of words of the language is read or refused; what is read is printed, read back, planned and answered, without a panic.
#![no_main]

use std::sync::OnceLock;

use fenetre_core::{
    block::Points,
    catalogue::{Catalogue, Codes},
    evaluate::{End, Run, Source, SourceError, Visit, evaluate},
    model::{DatasetDefinition, DatasetId, Kind, MetricDefinition, MetricId, SeriesId, Shape},
    plan::{Limits, plan},
    query::{Frame, complete, format, parse},
    summary::Sample,
    time::{SECOND, Span, TimeRange},
};
use libfuzzer_sys::fuzz_target;

const NOW: i64 = 1_790_000_000 * SECOND;
const WORDS: [&str; 128] = [
    "let", "show", "of", "where", "and", "or", "not", "in", "by", "overall", "as", "points", "over", "last", "to", "since", "per", "zone", "at", "keeping", "gaps",
    "stepping", "starting", "taking", "within", "matches", "has", "lacks", "earlier", "auto", "top", "bottom", "unit", "from", "raw", "hold", "line", "empty",
    "natural", "before", "after", "nearest", "exact", "now", "today", "yesterday", "count", "sum", "mean", "min", "max", "spread", "first", "stddev", "variance",
    "median", "delta", "growth", "rate", "spot_rate", "area", "time_mean", "time_in", "share_in", "changes", "distinct", "slope", "coverage", "p90", "p99.9",
    "abs", "sqrt", "ln", "log10", "exp", "round", "floor", "ceil", "clamp", "smooth", "running", "change", "share", "level", "boats", "gate", "nothing", "lock",
    "reach", "value", "x", "y", "\"osier\"", "\"marl\"", "\"o.*\"", "\"open\"", "\"m\"", "\"UTC\"", "\"Europe/Lisbon\"", "\"(\"", "1h", "10m", "90s", "1d", "1w",
    "1mo", "2026-09-21", "2026-09", "2026-09-21T14:00", "06:00", "0", "1", "2.5", "-3", "1e300", "(", ")", ",", "+", "-", "*", "/", "=", "!=", "<", ">", "<=", "\n",
];

struct Water;

impl Water {
    fn points(series: SeriesId) -> (Vec<i64>, Vec<f64>) {
        let step = 60 * SECOND * (1 + i64::from(series.0));
        ((0..50).rev().map(|at| NOW - at * step - 1).collect(), (0..50).map(|at| f64::from((at * 7 + series.0) % 13)).collect())
    }
}

impl Source for Water {
    fn scan(&self, _: DatasetId, series: &[SeriesId], _: TimeRange, visit: Visit<'_>) -> Result<(), SourceError> {
        for (place, id) in series.iter().enumerate() {
            let (times, values) = Self::points(*id);
            visit(place, Run::Points(Points::of(&times, &values)))?;
        }
        Ok(())
    }

    fn outermost(&self, _: DatasetId, series: &[SeriesId], range: TimeRange, end: End) -> Result<Vec<Option<Sample>>, SourceError> {
        let of = |id: &SeriesId| {
            let (times, values) = Self::points(*id);
            let mut inside = times.into_iter().zip(values).filter(|(time, _)| range.contains(*time)).map(|(time, value)| Sample { time, value, rest: 0 });
            if end == End::Latest { inside.last() } else { inside.next() }
        };
        Ok(series.iter().map(of).collect())
    }
}

fn catalogue() -> &'static Catalogue {
    static KNOWN: OnceLock<Catalogue> = OnceLock::new();
    KNOWN.get_or_init(|| {
        let mut catalogue = Catalogue::default();
        catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition { zone: "Europe/Lisbon".into(), ..Default::default() });
        let dataset = catalogue.dataset_mut("velmar").expect("it was put there");
        let span = |seconds: i64| Some(Span::exact(seconds * SECOND));
        let level = MetricDefinition { unit: Some("cm".into()), stale_after: span(300), interval: span(60), ..Default::default() };
        dataset.put_metric(MetricId(1), "level", level);
        dataset.put_metric(MetricId(2), "boats", MetricDefinition { kind: Kind::Counter, shape: Shape::Stepped, ..Default::default() });
        dataset.put_metric(MetricId(3), "gate", MetricDefinition { kind: Kind::State, shape: Shape::Stepped, ..Default::default() });
        for (id, (lock, reach)) in [("osier", "upper"), ("marl", "lower")].into_iter().enumerate() {
            let tags = || [("lock", lock), ("reach", reach)].into_iter();
            let words = (0..13).map(|code| if code == 1 { "open".into() } else { format!("w{code}").into() }).collect();
            dataset.put_series(SeriesId(id as u32), "level", tags(), None);
            dataset.put_series(SeriesId(id as u32 + 10), "boats", tags(), None);
            dataset.put_series(SeriesId(id as u32 + 20), "gate", tags(), Some(Codes::Words(words)));
        }
        catalogue
    })
}

fuzz_target!(|bytes: &[u8]| {
    let text: Vec<&str> = bytes.iter().map(|byte| WORDS[usize::from(*byte) % WORDS.len()]).collect();
    let text = text.join(" ");
    let _ = complete(&text, text.len() / 2, catalogue(), "velmar");
    let Ok(query) = parse(&text) else { return };
    let canonical = format(&query);
    assert_eq!(parse(&canonical).as_ref(), Ok(&query), "{canonical}");
    let limits = Limits { windows: 2_000, cells: 20_000, ..Limits::default() };
    if let Ok(plan) = plan(&query, &Frame::default(), catalogue(), "velmar", NOW, &limits) {
        evaluate(plan, &Water, &|| false).expect("nothing fails in memory");
    }
});
