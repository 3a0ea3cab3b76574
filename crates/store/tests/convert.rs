//! A metric that has points gets another unit or kind: only when somebody says what that means for them, and with a way back.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use fenetre_core::{
    model::{Kind, MetricDefinition, PointRef, PointSink, Status, Thinning, ValueRef, WhenPaused},
    time::{Nanos, SECOND, Span, TimeRange},
};
use fenetre_store::{Conversion, Store, StoreError};

const NOW: Nanos = 1_790_000_000 * SECOND;

fn write(store: &Store, metric: &str, lock: &str, second: i64, value: ValueRef<'_>) {
    let mut batch = store.begin("main").unwrap();
    batch.accept(PointRef { metric, tags: &[("lock", lock)], time: NOW + second * SECOND, value }).unwrap();
    store.write(batch).unwrap();
}

fn unit(unit: &str) -> MetricDefinition {
    MetricDefinition { unit: Some(unit.into()), ..MetricDefinition::default() }
}

/// What a metric's series hold: numbers, or words.
fn held(store: &Store, metric: &str) -> Vec<String> {
    let series: Vec<_> = {
        store.with_catalogue(|catalogue| {
            let dataset = catalogue.dataset("main").unwrap();
            let of = |series: &&fenetre_core::catalogue::Series| *series.metric == *metric;
            dataset.all_series().filter(of).map(|series| (dataset.id, series.id, series.words().to_vec())).collect()
        })
    };
    let values = |(dataset, id, words): &(_, _, Vec<std::sync::Arc<str>>)| {
        let columns = support::columns(&store.source(), (*dataset, *id), TimeRange::ALL).unwrap();
        let value = |at: usize| match words.get(columns.values[at] as usize) {
            Some(word) => word.to_string(),
            None => columns.points().value(at).to_string(),
        };
        (0..columns.len()).map(value).collect::<Vec<_>>()
    };
    series.iter().flat_map(values).collect()
}

fn refusal(store: &Store, name: &str, definition: MetricDefinition) -> String {
    match store.definitions().put_metric("main", name, definition) {
        Err(StoreError::Definition(text)) => text,
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_unit_changes_only_by_conversion_or_relabelling() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    store.definitions().put_metric("main", "level", unit("cm")).unwrap();
    // Without points, a definition says it all.
    store.definitions().put_metric("main", "level", unit("mm")).unwrap();
    store.definitions().put_metric("main", "level", unit("cm")).unwrap();
    write(&store, "level", "osier", 0, ValueRef::Number(312.5));
    store.pack().unwrap();
    write(&store, "level", "marl", 1, ValueRef::Integer(57));
    let text = refusal(&store, "level", unit("m"));
    assert!(text.contains("has 2 series with points in cm") && text.contains("--convert") && text.contains("--relabel"), "{text}");
    assert!(refusal(&store, "level", MetricDefinition::default()).contains("cannot change them to no unit"));
    assert_eq!(store.convert_metric("main", "level", &unit("m"), true, NOW).unwrap(), Conversion { points: 2, ..Conversion::default() });
    assert_eq!(held(&store, "level"), ["312.5", "57"], "a dry run changes nothing");
    store.convert_metric("main", "level", &unit("m"), false, NOW).unwrap();
    assert_eq!(held(&store, "level"), ["3.125", "0.57"]);
    // The old metric comes back under another name, as it was.
    let bin = store.bin().list().unwrap();
    store.bin().restore(&bin[0].id, Some("level before")).unwrap();
    assert_eq!(held(&store, "level before"), ["312.5", "57"]);
    assert!(store.definitions().relabel_metric("main", "level before", unit("dm")).is_ok());
    assert_eq!(held(&store, "level before"), ["312.5", "57"]);
    for (wanted, reason) in
        [(unit("kW.h"), "cannot be converted to kW.h"), (unit("m"), "nothing to convert"), (MetricDefinition::default(), "no unit")]
    {
        let error = store.convert_metric("main", "level", &wanted, false, NOW).unwrap_err().to_string();
        assert!(error.contains(reason), "{error}");
    }
}

#[test]
fn a_numeric_state_converts_to_a_gauge_and_back_and_misfits_are_counted() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let state = MetricDefinition { kind: Kind::State, ..MetricDefinition::default() };
    store.definitions().put_metric("main", "level", state.clone()).unwrap();
    for (second, word) in ["21.5", " 22 ", "defect", "NaN", "23"].into_iter().enumerate() {
        write(&store, "level", "osier", second as i64, ValueRef::Word(word));
    }
    let text = refusal(&store, "level", MetricDefinition::default());
    assert!(text.contains("`level` is a state") && text.contains("--kind gauge --convert"), "{text}");
    let report = store.convert_metric("main", "level", &MetricDefinition::default(), true, NOW).unwrap();
    assert_eq!(report, Conversion { points: 5, unfit: 2, examples: vec!["defect".into(), "NaN".into()] });
    assert_eq!(store.convert_metric("main", "level", &MetricDefinition::default(), false, NOW).unwrap(), report);
    assert_eq!(held(&store, "level"), ["21.5", "22", "23"]);
    store.convert_metric("main", "level", &state, false, NOW + 1).unwrap();
    assert_eq!(held(&store, "level"), ["21.5", "22", "23"]);
    drop(store);
    let store = support::open(folder.path());
    assert_eq!(store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metric("level").unwrap().definition.kind), Kind::State);
    let names: Vec<String> =
        store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metrics().map(|metric| metric.name.to_string()).collect());
    assert_eq!(names, ["level"], "nothing unfinished is left");
}

#[test]
fn an_unfinished_conversion_restarts_and_histograms_are_not_converted() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    store.definitions().put_metric("main", "level", unit("cm")).unwrap();
    write(&store, "level", "osier", 0, ValueRef::Number(1.0));
    // As a kill in the middle leaves it.
    store.definitions().put_metric("main", "level (being converted)", unit("m")).unwrap();
    write(&store, "level (being converted)", "osier", 7, ValueRef::Number(9.0));
    store.convert_metric("main", "level", &unit("m"), false, NOW).unwrap();
    assert_eq!(held(&store, "level"), ["0.01"]);
    let wait = MetricDefinition { kind: Kind::Histogram, ..unit("s") };
    store.definitions().put_metric("main", "wait", wait.clone()).unwrap();
    let histogram = fenetre_core::model::Histogram { bounds: vec![1.0], counts: vec![1, 2], sum: 3.0 };
    write(&store, "wait", "osier", 0, ValueRef::Histogram(&histogram));
    for wanted in [MetricDefinition { unit: Some("ms".into()), ..wait }, MetricDefinition::default()] {
        let error = store.convert_metric("main", "wait", &wanted, false, NOW).unwrap_err().to_string();
        assert!(error.contains("histogram"), "{error}");
    }
}

#[test]
fn converting_keeps_a_metric_paused_thinned_and_renamed() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    store.definitions().put_metric("main", "height", unit("cm")).unwrap();
    (0..5).for_each(|second| write(&store, "height", "osier", second, ValueRef::Number(300.0)));
    store.definitions().rename_metric("main", "height", "level").unwrap();
    let thinning = Some(Thinning { dead_band: Some(10.0), max_silence: Span::parse("10m").ok(), ..Thinning::default() });
    let wanted = MetricDefinition { status: Status::Paused, when_paused: WhenPaused::Drop, thinning, ..unit("m") };
    assert_eq!(store.convert_metric("main", "level", &wanted, false, NOW).unwrap().points, 5);
    assert_eq!(held(&store, "level"), ["3"; 5]);
    store.with_catalogue(|catalogue| {
        let dataset = catalogue.dataset("main").unwrap();
        assert_eq!(dataset.metric("level").unwrap().definition, wanted);
        assert_eq!(dataset.old_metrics().collect::<Vec<_>>(), [("height", "level")]);
    })
}
