//! Definitions, and metrics made on arrival: both survive a restart, and neither contradicts the other.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use fenetre_core::{
    model::{
        About, Cause, DatasetDefinition, Described, Histogram, Kind, MetricDefinition, PointRef, PointSink, Refusal, Shape, Status, TagDefinition,
        Temporality, ValueRef, WhenPaused,
    },
    time::{Nanos, SECOND},
};
use fenetre_store::{Batch, Options, Store, StoreError};

const START: Nanos = 1_790_000_000 * SECOND;

fn put(batch: &mut Batch, metric: &str, tags: &[(&str, &str)], value: ValueRef<'_>) -> Result<(), Refusal> {
    batch.accept(PointRef { metric, tags, time: START, value })
}

fn described(store: &Store) -> String {
    store.with_catalogue(|catalogue| {
        let mut out = String::new();
        for dataset in catalogue.datasets() {
            out += &format!("{} {} {:?}\n", dataset.name, dataset.definition.zone, dataset.definition.description);
            for metric in dataset.metrics() {
                let MetricDefinition { kind, unit, shape, description, .. } = &metric.definition;
                out += &format!("  {} {kind} {unit:?} {} {description:?}, {} series\n", metric.name, shape.as_str(), metric.series_count());
            }
            for series in dataset.all_series() {
                out += &format!("    {} {} {:?}\n", series.metric, series.tags, series.words());
            }
        }
        out
    })
}

#[test]
fn definitions_survive_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), Options::default()).unwrap();
    assert!(store.definitions().put_dataset("velmar", &DatasetDefinition::default()).unwrap());
    assert!(
        !store
            .definitions()
            .put_dataset("velmar", &DatasetDefinition { zone: "Europe/Lisbon".into(), description: "A canal".into(), ..Default::default() })
            .unwrap()
    );
    let level = MetricDefinition { unit: Some("cm".into()), description: "Über alles, \"quoted\"".into(), ..Default::default() };
    assert!(store.definitions().put_metric("velmar", "level", level).unwrap());
    let boats = MetricDefinition { kind: Kind::Counter, shape: Shape::Stepped, ..Default::default() };
    assert!(store.definitions().put_metric("velmar", "boats", boats.clone()).unwrap());
    assert!(!store.definitions().put_metric("velmar", "boats", boats).unwrap());
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
fn a_definition_overrides_arriving_metadata() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path(), Options::default()).unwrap();
    let boats = MetricDefinition { kind: Kind::Counter, ..Default::default() };
    store.definitions().put_metric("main", "boats", boats.clone()).unwrap();
    let mut batch = store.begin("main").unwrap();
    put(&mut batch, "boats", &[], ValueRef::Number(3.0)).unwrap();
    let refusal = put(&mut batch, "boats", &[], ValueRef::Word("three")).unwrap_err();
    assert_eq!(refusal.reason, "is a counter, whose values are numbers: \"three\" is a text");
    store.write(batch).unwrap();
    // A gauge may turn out to be a counter: its numbers stay what they are.
    store.definitions().put_metric("main", "boats", MetricDefinition { kind: Kind::Gauge, ..boats }).unwrap();
    assert!(store.definitions().put_metric("main", "", MetricDefinition::default()).is_err());
    assert!(matches!(store.definitions().put_metric("nowhere", "boats", MetricDefinition::default()), Err(StoreError::NoDataset { .. })));
}

fn defined(store: &Store, name: &str) -> MetricDefinition {
    store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metric(name).unwrap().definition.clone())
}

fn number(batch: &mut Batch, metric: &str, tags: &[(&str, &str)]) -> Result<(), Refusal> {
    put(batch, metric, tags, ValueRef::Number(1.0))
}

#[test]
fn metadata_in_a_body_fills_only_unset_fields() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let about = About { kind: Some(Kind::Counter), unit: Some("By"), description: Some("Sent"), temporality: Some(Temporality::Delta) };
    let mut batch = store.begin("main").unwrap();
    assert_eq!(batch.describe("sent", about), Described::default());
    assert_eq!(batch.describe("never", about), Described::default());
    number(&mut batch, "sent", &[]).unwrap();
    store.write(batch).unwrap();
    let known = defined(&store, "sent");
    assert_eq!((known.kind, known.unit.as_deref(), known.description.as_str(), known.unreviewed), (Kind::Counter, Some("By"), "Sent", true));
    assert_eq!(known.temporality(), Some(Temporality::Delta));
    assert!(store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metric("never").is_none()), "a metric without a point is none");
    // Of one that came without a word, a later body says it; of one that somebody has defined, the definition stands.
    store.definitions().put_metric("main", "plain", MetricDefinition { unreviewed: true, ..Default::default() }).unwrap();
    store.definitions().put_metric("main", "own", MetricDefinition { unit: Some("cm".into()), ..Default::default() }).unwrap();
    let mut batch = store.begin("main").unwrap();
    assert!(batch.describe("plain", About { kind: None, ..about }).note.is_none());
    let note = batch.describe("own", About { unit: Some("m"), kind: Some(Kind::State), ..About::default() }).note.unwrap();
    assert!(note.contains("the body has the kind state, the catalogue gauge") && note.contains("values in m are converted to cm"), "{note}");
    store.write(batch).unwrap();
    assert_eq!((defined(&store, "plain").unit.as_deref(), defined(&store, "own").unit.as_deref()), (Some("By"), Some("cm")));
}

#[test]
fn dataset_rules_apply_to_new_series_only() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let mut batch = store.begin("main").unwrap();
    number(&mut batch, "level", &[("lock", "old one"), ("side", "up")]).unwrap();
    store.write(batch).unwrap();
    let rules = DatasetDefinition { closed: true, max_series: Some(5), max_tag_value_bytes: Some(8), max_tags: Some(2), ..Default::default() };
    store.definitions().put_dataset("main", &rules).unwrap();
    store.definitions().put_metric("main", "flow", MetricDefinition { max_series: Some(1), ..Default::default() }).unwrap();
    let tag = |definition: TagDefinition| definition;
    store
        .definitions()
        .put_tag("main", "lock", tag(TagDefinition { required: true, pattern: Some("[a-z]+".into()), max_values: Some(3), ..Default::default() }))
        .unwrap();
    store.definitions().put_tag("main", "side", tag(TagDefinition { allowed: vec!["up".into(), "down".into()], ..Default::default() })).unwrap();
    assert!(store.definitions().put_tag("main", "x", TagDefinition { pattern: Some("(".into()), ..Default::default() }).is_err());
    let mut batch = store.begin("main").unwrap();
    let mut message = |metric: &str, tags: &[(&str, &str)]| match number(&mut batch, metric, tags) {
        Ok(()) => format!("{metric} {tags:?}: taken"),
        Err(refusal) => format!("{metric} {tags:?}: {:?} {}: {}", refusal.cause, refusal.field.unwrap_or_default(), refusal.reason),
    };
    insta::assert_snapshot!(
        [
            message("level", &[("lock", "old one"), ("side", "up")]),
            message("levle", &[("lock", "marl")]),
            message("level", &[("lock", "marl"), ("pump", "p1")]),
            message("level", &[("side", "up")]),
            message("level", &[("lock", "Marl!")]),
            message("level", &[("lock", "marl"), ("side", "upp")]),
            message("level", &[("lock", "morethaneight")]),
            message("level", &[("lock", "marl")]),
            message("flow", &[("lock", "marl")]),
            message("flow", &[("lock", "osier")]),
            message("level", &[("lock", "osier")]),
            message("level", &[("lock", "wick")]),
            message("level", &[("lock", "marl"), ("side", "up")]),
            message("level", &[("lock", "marl"), ("side", "down")]),
            message("level", &[("lock", "old one"), ("side", "up")]),
        ]
        .join("\n")
    );
    store.write(batch).unwrap();
}

#[test]
fn renamed_items_answer_to_both_names() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let write = |dataset: &str, metric: &str, tag: &str| {
        let mut batch = store.begin(dataset).unwrap();
        number(&mut batch, metric, &[(tag, "osier")]).unwrap();
        let notes = batch.notes().join("; ");
        store.write(batch).unwrap();
        notes
    };
    assert_eq!(write("main", "level", "lock"), "");
    store.definitions().rename_metric("main", "level", "water_level").unwrap();
    store.definitions().rename_tag("main", "lock", "gate").unwrap();
    store.definitions().rename_dataset("main", "velmar").unwrap();
    assert!(store.definitions().rename_metric("velmar", "nothing", "x").is_err());
    assert!(store.definitions().rename_metric("velmar", "water_level", "").is_err());
    let check = |store: &Store| {
        store.with_catalogue(|catalogue| {
            let dataset = catalogue.dataset_by_any_name("main").unwrap();
            let metric = dataset.metric_by_any_name("level").unwrap();
            assert_eq!(
                (&*dataset.name, &*metric.name, dataset.series_count(), dataset.renamed_tag("lock")),
                ("velmar", "water_level", 1, Some("gate"))
            );
            assert_eq!(dataset.all_series().next().unwrap().tags.to_string(), "gate=osier");
        })
    };
    check(&store);
    let notes = write("main", "level", "lock");
    assert!(
        notes.contains("`main` is called `velmar`") && notes.contains("`level` is called `water_level`") && notes.contains("`lock` is called `gate`"),
        "{notes}"
    );
    check(&store);
    store.pack().unwrap();
    // A new dataset may have the old name, and has a folder of its own; then the old name means that one.
    assert!(store.definitions().put_dataset("main", &DatasetDefinition::default()).unwrap());
    drop(store);
    let store = support::open(folder.path());
    assert_eq!(store.with_catalogue(|catalogue| catalogue.dataset_by_any_name("main").unwrap().series_count()), 0);
    assert_eq!(store.with_catalogue(|catalogue| catalogue.dataset("velmar").unwrap().metric_by_any_name("level").unwrap().series_count()), 1);
    assert!(store.definitions().forget_old_name("metric", Some("velmar"), "level").unwrap());
    assert!(!store.definitions().forget_old_name("metric", Some("velmar"), "level").unwrap());
    assert!(store.with_catalogue(|catalogue| catalogue.dataset("velmar").unwrap().metric_by_any_name("level").is_none()));
}

#[test]
fn a_paused_metric_refuses_or_drops() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let put = |status, when_paused| {
        store.definitions().put_metric("main", "level", MetricDefinition { status, when_paused, ..Default::default() }).unwrap();
        let mut batch = store.begin("main").unwrap();
        let taken = number(&mut batch, "level", &[]).map_err(|refusal| refusal.cause);
        (taken, batch.dropped(), batch.len())
    };
    assert_eq!(put(Status::Paused, WhenPaused::Refuse), (Err(Cause::Paused), 0, 0));
    assert_eq!(put(Status::Retired, WhenPaused::Refuse), (Err(Cause::Paused), 0, 0));
    assert_eq!(put(Status::Paused, WhenPaused::Drop), (Ok(()), 1, 0));
    assert_eq!(put(Status::Active, WhenPaused::Drop), (Ok(()), 0, 1));
}

#[test]
fn many_definitions_apply_all_or_none() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let wanted = |last: &str| ["a", "b", last].map(|name| (name.to_owned(), MetricDefinition::default())).to_vec();
    assert!(store.definitions().put_metrics("main", wanted(""), false).is_err());
    assert_eq!(store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().metrics().count()), 0);
    assert_eq!(store.definitions().put_metrics("main", wanted("c"), false).unwrap(), [true; 3]);
    assert_eq!(store.definitions().put_metrics("main", wanted("d"), false).unwrap(), [false, false, true]);
}

#[test]
fn points_too_far_ahead_are_refused_and_numeric_text_is_accepted() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let mut batch = store.begin("main").unwrap();
    number(&mut batch, "level", &[]).unwrap();
    put(&mut batch, "level", &[], ValueRef::Word(" 312.5 ")).unwrap();
    assert_eq!(put(&mut batch, "level", &[], ValueRef::Word("high")).unwrap_err().cause, Cause::Value);
    assert_eq!(put(&mut batch, "level", &[], ValueRef::Word("nan")).unwrap_err().cause, Cause::NotFinite);
    batch.refuse_after(START - 1);
    let refusal = number(&mut batch, "level", &[]).unwrap_err();
    assert!(refusal.cause == Cause::Future && refusal.reason.contains("too far in the future"), "{refusal:?}");
}

/// What the values of a metric are, in order of time.
fn values(store: &Store, metric: &str) -> Vec<f64> {
    let place = {
        store.with_catalogue(|catalogue| {
            let dataset = catalogue.dataset("main").unwrap();
            (dataset.id, dataset.all_series().find(|series| *series.metric == *metric).unwrap().id)
        })
    };
    support::columns(&store.source(), place, fenetre_core::time::TimeRange::ALL).unwrap().values
}

#[test]
fn values_in_another_unit_are_converted_and_those_that_cannot_be_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let unit = |unit| About { unit: Some(unit), ..About::default() };
    let put = |batch: &mut Batch, metric: &str, second: i64, value: ValueRef<'_>| {
        batch.accept(PointRef { metric, tags: &[], time: START + second * SECOND, value })
    };
    let number = |batch: &mut Batch, second, value| put(batch, "level", second, ValueRef::Number(value));
    // The first body that states a unit decides the metric's, and others are converted to it: in the same batch, and in later ones.
    let mut batch = store.begin("main").unwrap();
    assert_eq!(batch.describe("level", unit("cm")), Described::default());
    number(&mut batch, 0, 312.0).unwrap();
    assert_eq!(batch.describe("level", unit("m")).note.as_deref(), Some("`level`: values in m are converted to cm"));
    number(&mut batch, 1, 3.125).unwrap();
    assert_eq!(batch.describe("level", unit("cm")), Described::default());
    number(&mut batch, 2, 313.0).unwrap();
    assert!(batch.describe("level", unit("kW.h")).is_unfit);
    let refusal = number(&mut batch, 3, 5.0).unwrap_err();
    assert_eq!(
        (refusal.cause, refusal.reason.as_str()),
        (Cause::Unit, "has values in kW.h, which cannot be converted to the unit of the metric, cm")
    );
    store.write(batch).unwrap();
    let mut batch = store.begin("main").unwrap();
    batch.describe("level", unit("m"));
    number(&mut batch, 4, 3.0).unwrap();
    let series = batch.last_series().unwrap();
    batch.accept_again(series, "level", START + 5 * SECOND, ValueRef::Integer(2)).unwrap();
    store.write(batch).unwrap();
    assert_eq!(values(&store, "level"), [312.0, 312.5, 313.0, 300.0, 200.0]);
    // A metric without a unit gets the first one that a body states, with a note.
    store.definitions().put_metric("main", "plain", MetricDefinition::default()).unwrap();
    let mut batch = store.begin("main").unwrap();
    assert_eq!(batch.describe("plain", unit("V")).note.as_deref(), Some("`plain` had no unit: it is in V now"));
    assert!(batch.describe("odd", unit("kWh")).note.unwrap().contains("write `kW.h`"), "codes are checked");
    // Temperatures have zeros of their own; what a counter counted has none.
    store.definitions().put_metric("main", "temp", MetricDefinition { unit: Some("Cel".into()), ..Default::default() }).unwrap();
    store
        .definitions()
        .put_metric("main", "warmth", MetricDefinition { unit: Some("Cel".into()), kind: Kind::Counter, ..Default::default() })
        .unwrap();
    batch.describe("temp", unit("K"));
    put(&mut batch, "temp", 0, ValueRef::Number(300.15)).unwrap();
    assert!(batch.describe("warmth", unit("K")).is_unfit);
    let wait = Histogram { bounds: vec![0.5, 1.0], counts: vec![1, 2, 3], sum: 4.5 };
    store
        .definitions()
        .put_metric("main", "wait", MetricDefinition { unit: Some("ms".into()), kind: Kind::Histogram, ..Default::default() })
        .unwrap();
    batch.describe("wait", unit("s"));
    put(&mut batch, "wait", 0, ValueRef::Histogram(&wait)).unwrap();
    store.write(batch).unwrap();
    assert!((values(&store, "temp")[0] - 27.0).abs() < 1e-9);
    let layout = store.with_catalogue(|catalogue| {
        catalogue.dataset("main").unwrap().all_series().find(|series| *series.metric == *"wait").unwrap().layouts()[0].bounds.clone()
    });
    assert_eq!(*layout, [500.0, 1000.0]);
}

#[test]
fn a_batch_is_refused_if_a_unit_changes_before_it_is_written() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let unit = |unit| About { unit: Some(unit), ..About::default() };
    let (mut one, mut other) = (store.begin("main").unwrap(), store.begin("main").unwrap());
    one.describe("level", unit("cm"));
    other.describe("level", unit("m"));
    for batch in [&mut one, &mut other] {
        number(batch, "level", &[]).unwrap();
    }
    store.write(one).unwrap();
    let error = store.write(other).unwrap_err().to_string();
    assert!(error.contains("the unit of `level` has just become cm"), "{error}");
    assert_eq!(values(&store, "level"), [1.0]);
}

#[test]
fn a_numeric_first_value_makes_a_gauge() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let mut batch = store.begin("main").unwrap();
    put(&mut batch, "level", &[], ValueRef::Word("21.5")).unwrap();
    put(&mut batch, "gate", &[], ValueRef::Word("open")).unwrap();
    assert!(batch.notes()[0].starts_with("`level` became a gauge, since its first value, the text \"21.5\", is a number"), "{:?}", batch.notes());
    store.write(batch).unwrap();
    assert_eq!((defined(&store, "level").kind, defined(&store, "gate").kind), (Kind::Gauge, Kind::State));
    assert_eq!(values(&store, "level"), [21.5]);
}

#[test]
fn points_of_a_batch_that_replace_each_other_are_counted() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let mut batch = store.begin("main").unwrap();
    for (second, lock) in [(1, "osier"), (1, "marl"), (2, "osier"), (1, "osier"), (0, "marl"), (1, "osier")] {
        let point = PointRef { metric: "level", tags: &[("lock", lock)], time: START + second * SECOND, value: ValueRef::Number(1.0) };
        batch.accept(point).unwrap();
    }
    assert_eq!((batch.len(), batch.duplicates()), (6, 2));
}

#[test]
fn without_a_defined_kind_the_first_point_decides() {
    let folder = tempfile::tempdir().unwrap();
    let store = support::open(folder.path());
    let mut batch = store.begin("main").unwrap();
    let histogram = Histogram { bounds: vec![300.0], counts: vec![2, 6], sum: 4500.0 };
    for (metric, value) in [
        ("lockage", ValueRef::Histogram(&histogram)),
        ("gate", ValueRef::Word("open")),
        ("level", ValueRef::Word("312.5")),
        ("flow", ValueRef::Number(4.5)),
    ] {
        assert_eq!(batch.describe(metric, About { unit: Some("s"), ..About::default() }), Described::default());
        batch.accept(PointRef { metric, tags: &[], time: 1, value }).unwrap();
    }
    let notes = batch.notes();
    assert!(notes.iter().any(|note| note.contains("`gate` is a state, which has no unit: \"s\" was ignored")), "{notes:?}");
    assert!(notes.iter().any(|note| note.contains("`level` became a gauge")), "{notes:?}");
    store.write(batch).unwrap();
    store.with_catalogue(|catalogue| {
        let of = |metric: &str| {
            let definition = &catalogue.dataset("main").unwrap().metric(metric).unwrap().definition;
            (definition.kind, definition.unit.clone())
        };
        let seconds = || Some("s".to_owned());
        assert_eq!(
            ["lockage", "gate", "level", "flow"].map(of),
            [(Kind::Histogram, seconds()), (Kind::State, None), (Kind::Gauge, seconds()), (Kind::Gauge, seconds())]
        );
    })
}
