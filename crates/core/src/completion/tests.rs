//! What is offered at a place, for an editor.

use super::*;
use crate::{
    catalogue::{Catalogue, Codes},
    model::{DatasetDefinition, DatasetId, Kind, MetricDefinition, MetricId, SeriesId},
};

fn waterway() -> Catalogue {
    let mut catalogue = Catalogue::default();
    catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition { zone: "Europe/Lisbon".into(), ..Default::default() });
    let dataset = catalogue.dataset_mut("velmar").unwrap();
    dataset.put_metric(MetricId(1), "level", MetricDefinition { unit: Some("cm".into()), ..Default::default() });
    dataset.put_metric(MetricId(2), "gate", MetricDefinition { kind: Kind::State, ..Default::default() });
    dataset.put_metric(MetricId(3), "water level", MetricDefinition::default());
    for (id, (lock, reach)) in [("osier", "upper"), ("marl", "upper"), ("wick", "lower")].into_iter().enumerate() {
        dataset.put_series(SeriesId(id as u32), "level", [("lock", lock), ("reach", reach)].into_iter(), None);
    }
    let codes = Codes::Words(vec!["open".into(), "closed".into()]);
    dataset.put_series(SeriesId(9), "gate", [("lock", "osier")].into_iter(), Some(codes));
    catalogue
}

/// What is offered where the bar stands.
fn offered(marked: &str) -> String {
    let cursor = marked.find('|').unwrap();
    let text = marked.replace('|', "");
    let Completion { start, end, suggestions } = complete(&text, cursor, &waterway(), "velmar");
    let listed = suggestions.iter().map(|one| match &one.detail {
        Some(detail) => format!("{} ({detail})", one.text),
        None => one.text.clone(),
    });
    format!("{marked}\n  {:?}: {}\n", &text[start..end], listed.collect::<Vec<_>>().join(", "))
}

#[test]
fn completions_follow_grammar_and_catalogue() {
    let places = [
        "|",
        "sh|",
        "show |",
        "show me|",
        "show mean |",
        "show mean of |",
        "show mean of lev|",
        "show mean of level |",
        "show mean of level where |",
        "show mean of level where lo|",
        "show mean of level where lock |",
        "show mean of level where lock = |",
        "show mean of level where lock = \"o|",
        "show mean of level where lock in (\"osier\", |",
        "show mean of level where lock = \"osier\" |",
        "show mean of level by |",
        "show mean of level by lock, |",
        "show time_in(|",
        "show mean of level top 3 by |",
        "show mean of level over |",
        "show mean of level over last |",
        "show mean of level over last 1h |",
        "show mean of level over last 1h per 5m g|",
        "show mean of level over last 1h gaps |",
        "show mean of level over last 1h zone |",
        "show level at |",
        "show level at now taking |",
        "let a = mean of level show |",
        "let a = mean of level |",
        "show mean of lev| over last 1h",
        "show mean of level; |",
        "",
    ];
    let listed: String = places.iter().filter(|place| place.contains('|')).map(|place| offered(place)).collect();
    insta::assert_snapshot!(listed);
}

#[test]
fn completion_handles_any_position() {
    for text in ["show mean of 'Pegelstände' ", "ä", "\"", "show \u{1F6A4}"] {
        for cursor in 0..text.len() + 2 {
            let found = complete(text, cursor, &waterway(), "nowhere");
            assert!(found.start <= found.end && found.end <= text.len());
        }
    }
}
