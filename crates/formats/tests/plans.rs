//! Plans as documents: how each kind of source is described.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use fenetre_core::{
    catalogue::Catalogue,
    model::{DatasetDefinition, DatasetId, Kind, MetricDefinition, MetricId, SeriesId},
    plan::{Limits, plan},
    query::{Frame, format, parse},
    time::{Span, parse_rfc3339},
};
use fenetre_formats::plan_document::PlanDocument;

fn planned(text: &str) -> PlanDocument {
    let mut catalogue = Catalogue::default();
    catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition { zone: "Europe/Lisbon".into(), ..Default::default() });
    let dataset = catalogue.dataset_mut("velmar").unwrap();
    let span = |text: &str| Some(Span::parse(text).unwrap());
    let kinds = [
        ("level", MetricDefinition { unit: Some("cm".into()), interval: span("1m"), stale_after: span("5m"), ..Default::default() }),
        ("boats", MetricDefinition { kind: Kind::Counter, unit: Some("{boat}".into()), ..Default::default() }),
        ("gate", MetricDefinition { kind: Kind::State, ..Default::default() }),
        ("lockage", MetricDefinition { kind: Kind::Histogram, unit: Some("s".into()), ..Default::default() }),
    ];
    for (id, (name, definition)) in kinds.into_iter().enumerate() {
        dataset.put_metric(MetricId(id as u32), name, definition);
        for (at, lock) in ["osier", "marl", "wick"].into_iter().enumerate() {
            let reach = if at == 2 { "lower" } else { "upper" };
            dataset.put_series(SeriesId((id * 10 + at) as u32), name, [("lock", lock), ("reach", reach)].into_iter(), None);
        }
    }
    let query = parse(text).map_err(|error| error.render(text)).unwrap();
    let now = parse_rfc3339("2026-05-20T12:34:56Z").unwrap();
    let plan = plan(&query, &Frame::default(), &catalogue, "velmar", now, &Limits::default()).unwrap();
    PlanDocument::of(&plan, format(&query), &[])
}

#[test]
fn a_plan_lists_what_is_read() {
    let mut rendered = String::new();
    for text in [
        "show mean of level by reach over last 24h per 1h",
        "show p95 of level show stddev of level show slope of level over today per 2h gaps hold",
        "show growth of boats show spot_rate of boats over last 1h per 10m gaps 0",
        "show delta of level show coverage of level show area of level over yesterday gaps line",
        "show time_in(\"open\") of gate show changes of gate show last of gate over last 1d per 8h starting 06:00",
        "show growth of lockage show count of lockage over last 1h per 30m stepping 10m",
        "show count of level where value > 3 over last 1h",
        "show points of level where lock = \"osier\" over last 1h",
        "show level show max of (level) overall at now - 1h taking nearest within 10m",
        "show gate at yesterday",
        // The same thing twice is read once, and what is named is shown as it was named.
        "let up = mean of level where reach = \"upper\"\nshow up / mean of level where reach = \"upper\" * 100 as \"share\" unit \"%\" show up over last 1h",
    ] {
        let document = planned(text);
        rendered += &format!("{}{}, {}\n", document.query, document.zone, document.time);
        for read in &document.reads {
            rendered += &format!("  read {}: {} series, {} lines; {}\n", read.what, read.series, read.lines, read.how);
        }
        for show in &document.shows {
            rendered += &format!("  show {} [{}]: {} lines\n", show.label, show.unit.as_deref().unwrap_or("-"), show.lines);
        }
        rendered += "\n";
    }
    insta::assert_snapshot!(rendered);
}

#[test]
fn a_plan_document_round_trips() {
    let document = planned("show mean of level by reach over last 24h per 1h");
    assert_eq!((document.from.as_str(), document.to.as_str()), ("2026-05-19T13:34:56+01:00", "2026-05-20T13:34:56+01:00"));
    let text = serde_json::to_string(&document).unwrap();
    assert_eq!(serde_json::from_str::<PlanDocument>(&text).unwrap(), document);
}
