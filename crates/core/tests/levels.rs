//! Which rollup levels answer a query, and the error of a query for a level that cannot.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use fenetre_core::{
    answer::{ReadPart, ReadSource},
    catalogue::Catalogue,
    evaluate::{Coverage, End, Source, SourceError, Visit, sources},
    model::{DatasetDefinition, DatasetId, Kind, MetricDefinition, MetricId, RollupPolicy, SeriesId},
    plan::{LevelPlan, Limits, Plan, PlanError, plan},
    query::{Frame, parse},
    summary::Sample,
    time::{Nanos, TimeRange, format_utc, parse_rfc3339},
};

const NOW: &str = "2026-05-20T10:20:00Z";

fn at(text: &str) -> Nanos {
    parse_rfc3339(text).unwrap()
}

/// Nothing to read; levels that reach from the beginning to an instant, and points that are kept from another on.
struct Reach {
    until: Nanos,
    raw_from: Nanos,
}

impl Source for Reach {
    fn scan(&self, _: DatasetId, _: &[SeriesId], _: TimeRange, _: Visit<'_>) -> Result<(), SourceError> {
        Ok(())
    }

    fn outermost(&self, _: DatasetId, series: &[SeriesId], _: TimeRange, _: End) -> Result<Vec<Option<Sample>>, SourceError> {
        Ok(vec![None; series.len()])
    }

    fn covered(&self, _: DatasetId, _: MetricId, levels: &[LevelPlan]) -> Coverage {
        let of = |level: &LevelPlan| Some(TimeRange { start: Nanos::MIN, end: level.level.floor(self.until) });
        Coverage { levels: levels.iter().map(of).collect(), dropped: vec![TimeRange { start: Nanos::MIN, end: self.raw_from }] }
    }
}

fn catalogue() -> Catalogue {
    let mut catalogue = Catalogue::default();
    catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition { zone: "Europe/Lisbon".into(), ..DatasetDefinition::default() });
    let dataset = catalogue.dataset_mut("velmar").unwrap();
    let metrics =
        [("level", Kind::Gauge), ("boats", Kind::Counter), ("gate", Kind::State), ("lockage_time", Kind::Histogram), ("battery", Kind::Gauge)];
    for (id, (name, kind)) in (0u32..).zip(metrics) {
        dataset.put_metric(MetricId(id), name, MetricDefinition { kind, ..MetricDefinition::default() });
        dataset.put_series(SeriesId(2 * id), name, [("lock", "osier")].into_iter(), None);
        dataset.put_series(SeriesId(2 * id + 1), name, [("lock", "marl")].into_iter(), None);
    }
    let policy = |text: &str| serde_json::from_str::<RollupPolicy>(text).unwrap();
    dataset
        .rollups
        .insert("all".into(), policy(r#"{"metrics":["level","boats","gate","lock*"],"levels":[{"width":"15m"},{"width":"1h"},{"width":"1d"}]}"#));
    dataset.rollups.insert("osier".into(), policy(r#"{"metrics":["battery"],"where":"lock = \"osier\"","levels":[{"width":"1h"}]}"#));
    catalogue
}

fn planned(text: &str) -> Result<Plan, String> {
    let query = parse(text).map_err(|error| error.render(text))?;
    plan(&query, &Frame::default(), &catalogue(), "velmar", at(NOW), &Limits::default()).map_err(|error| match error {
        PlanError::Query(error) => error.render(text),
        other => other.to_string(),
    })
}

fn rendered(text: &str, reach: &Reach) -> String {
    let plan = match planned(text) {
        Ok(plan) => plan,
        Err(error) => return error,
    };
    let part = |part: &ReadPart| {
        let from = match part.source {
            ReadSource::Level(width) => width.to_string(),
            ReadSource::Points => "points".to_owned(),
            ReadSource::Nothing => "nothing".to_owned(),
        };
        format!(
            "  {} to {}: {from}{}\n",
            format_utc(part.range.start),
            format_utc(part.range.end),
            part.why.map_or(String::new(), |why| format!(" ({why})"))
        )
    };
    let parts = sources(&plan, reach);
    if parts.is_empty() { "  points, and nothing else in question\n".to_owned() } else { parts.iter().map(part).collect() }
}

#[test]
fn the_coarsest_exact_level_is_chosen_and_others_are_explained() {
    let whole = Reach { until: at("2026-05-20T10:00:00Z"), raw_from: Nanos::MIN };
    let gone = Reach { until: at("2026-05-20T10:00:00Z"), raw_from: at("2026-05-14T00:00:00Z") };
    let mut out = String::new();
    for text in [
        "show mean of level over last 7d per 1d",
        "show mean of level over last 7d per 1d zone \"UTC\"",
        "show mean of level over last 6h per 1h",
        "show growth of boats by lock over 2026-05-18 to 2026-05-20 per 8h starting 06:00",
        "show time_in(\"open\") of gate over last 2h per 15m stepping 5m",
        "show mean of level over last 2h per 7m",
        "show p90 of lockage_time over yesterday",
        "show median of level over 2026-05-12 to 2026-05-16 per 1d",
        "show distinct of level over yesterday",
        "show distinct of gate over yesterday",
        "show count of level where value > 3 over yesterday",
        "show points of level over last 1h",
        "show mean of battery over yesterday",
        "show mean of battery where lock = \"osier\" over yesterday",
        "show mean of level 1w earlier over yesterday per 6h",
        "show mean of level over yesterday from raw",
        "show mean of level over last 7d per 1d from 1h",
        "show mean of level over yesterday per 15m from 1h",
        "show mean of level over yesterday from 7m",
        "show mean of level 24h earlier over 2026-03-28 to 2026-04-01 per 1d from 1d",
        "show mean of level 1d earlier over 2026-03-28 to 2026-04-01 per 1d from 1d",
        "show mean of level 30m earlier over yesterday per 1h from 1h",
        "show spot_rate of boats over yesterday from 1h",
        "show mean of battery over yesterday from 1h",
        "show level at now",
    ] {
        out += &format!("{text}\n{}", rendered(text, &whole));
        if text.contains("median") {
            out += &format!("the same where points before 14 May are gone\n{}", rendered(text, &gone));
        }
    }
    insta::assert_snapshot!(out);
}
