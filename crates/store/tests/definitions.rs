//! What is said of datasets and metrics, and what arrives without having been said: both survive a restart, and neither is contradicted.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use fenetre_core::{
    model::{Kind, MetricDefinition, PointRef, PointSink, Refusal, Shape, ValueRef},
    time::{Nanos, SECOND},
};
use fenetre_store::{Batch, Options, Store, StoreError};

const START: Nanos = 1_790_000_000 * SECOND;

fn put(batch: &mut Batch, metric: &str, tags: &[(&str, &str)], value: ValueRef<'_>) -> Result<(), Refusal> {
    batch.accept(PointRef { metric, tags, time: START, value })
}

fn described(store: &Store) -> String {
    let catalogue = store.catalogue();
    let mut out = String::new();
    for dataset in catalogue.datasets() {
        out += &format!("{} {} {:?}\n", dataset.name, dataset.zone, dataset.description);
        for metric in dataset.metrics() {
            let MetricDefinition { kind, unit, shape, description } = &metric.definition;
            out += &format!("  {} {kind} {unit:?} {} {description:?}, {} series\n", metric.name, shape.as_str(), metric.series_count());
        }
        for series in dataset.all_series() {
            out += &format!("    {} {} {:?}\n", series.metric, series.tags, series.words());
        }
    }
    out
}

#[test]
fn definitions_survive_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), Options::default()).unwrap();
    assert!(store.put_dataset("velmar", "UTC", "").unwrap());
    assert!(!store.put_dataset("velmar", "Europe/Lisbon", "A canal").unwrap());
    let level = MetricDefinition { unit: Some("cm".into()), description: "Über alles, \"quoted\"".into(), ..Default::default() };
    assert!(store.put_metric("velmar", "level", level).unwrap());
    let boats = MetricDefinition { kind: Kind::Counter, shape: Shape::Stepped, ..Default::default() };
    assert!(store.put_metric("velmar", "boats", boats.clone()).unwrap());
    assert!(!store.put_metric("velmar", "boats", boats).unwrap());
    let mut batch = store.begin("velmar").unwrap();
    put(&mut batch, "level", &[("side", "up"), ("lock", "osier")], ValueRef::Number(1.0)).unwrap();
    put(&mut batch, "level", &[("lock", "osier"), ("side", "up")], ValueRef::Number(2.0)).unwrap();
    put(&mut batch, "gate", &[("lock", "Über \"x\" = ,")], ValueRef::Word("open")).unwrap();
    put(&mut batch, "odd name", &[], ValueRef::Number(-0.0)).unwrap();
    assert_eq!((batch.len(), batch.new_series(), batch.new_metrics().collect::<Vec<_>>()), (4, 3, vec!["gate", "odd name"]));
    store.write(batch).unwrap();
    let before = described(&store);
    drop(store);
    let store = support::try_open(folder.path(), Options::default()).unwrap();
    assert_eq!(described(&store), before);
    insta::assert_snapshot!(before);
}

#[test]
fn a_batch_that_is_not_written_leaves_no_trace() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), Options::default()).unwrap();
    let before = described(&store);
    let mut batch = store.begin("main").unwrap();
    put(&mut batch, "level", &[("lock", "osier")], ValueRef::Number(1.0)).unwrap();
    drop(batch);
    store.write(store.begin("main").unwrap()).unwrap();
    assert_eq!(described(&store), before);
}

#[test]
fn two_batches_that_bring_the_same_metric_as_number_and_as_word_do_not_both_land() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), Options::default()).unwrap();
    let (mut numbers, mut words) = (store.begin("main").unwrap(), store.begin("main").unwrap());
    put(&mut numbers, "gate", &[], ValueRef::Number(1.0)).unwrap();
    put(&mut words, "gate", &[], ValueRef::Word("open")).unwrap();
    store.write(words).unwrap();
    let refused = store.write(numbers).unwrap_err();
    assert!(matches!(&refused, StoreError::Definition(text) if text.contains("`gate` has just become a state")), "{refused}");
}

#[test]
fn a_metric_that_was_defined_decides_over_what_arrives() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), Options::default()).unwrap();
    let boats = MetricDefinition { kind: Kind::Counter, ..Default::default() };
    store.put_metric("main", "boats", boats.clone()).unwrap();
    let mut batch = store.begin("main").unwrap();
    put(&mut batch, "boats", &[], ValueRef::Number(3.0)).unwrap();
    let refusal = put(&mut batch, "boats", &[], ValueRef::Word("three")).unwrap_err();
    assert_eq!(refusal.reason, "is a counter, whose values are numbers: \"three\" is a text");
    store.write(batch).unwrap();
    // A gauge may turn out to be a counter: its numbers stay what they are.
    store.put_metric("main", "boats", MetricDefinition { kind: Kind::Gauge, ..boats }).unwrap();
    assert!(store.put_metric("main", "", MetricDefinition::default()).is_err());
    assert!(matches!(store.put_metric("nowhere", "boats", MetricDefinition::default()), Err(StoreError::NoDataset { .. })));
}
