//! `fenetre series` and `fenetre latest`

use std::collections::{BTreeMap, HashMap};

use fenetre_core::{
    model::Value,
    time::{Nanos, SECOND},
    units,
};
use fenetre_wire::{
    series::{LatestPoint, SeriesInfo},
    sources::SeriesTrouble,
};
use serde::Serialize;

use crate::{
    args::{ListOutput, SeriesArgs},
    client::{Client, SeriesQuery},
    failure::Failure,
    output::{
        list::{Column, write},
        words::{decimals, grouped, instant, minute, utc, value},
    },
};

/// Lists the series.
pub fn list(args: &SeriesArgs) -> Result<(), Failure> {
    let page = Client::of(&args.list.target.service)?.series(&args.list.target.dataset, &query(args))?;
    let mut columns = series_columns();
    if args.list.output != ListOutput::Table || page.items.iter().any(|series| series.trouble.is_some()) {
        let trouble = |series: &SeriesInfo| trouble(series.trouble.as_ref());
        columns.push(Column { name: "trouble", right: false, text: trouble, plain: trouble });
    }
    write(&page.items, &columns, args.list.output)?;
    print_rest(page.total, page.items.len());
    Ok(())
}

/// Lists the latest point of each series.
pub fn latest(args: &SeriesArgs) -> Result<(), Failure> {
    let page = Client::of(&args.list.target.service)?.latest(&args.list.target.dataset, &query(args))?;
    let rows = rows(page.items);
    let mut columns = latest_columns();
    if args.list.output != ListOutput::Table || rows.iter().any(|row| row.point.trouble.is_some()) {
        let trouble = |row: &LatestRow| trouble(row.point.trouble.as_ref());
        columns.push(Column { name: "trouble", right: false, text: trouble, plain: trouble });
    }
    write(&rows, &columns, args.list.output)?;
    print_rest(page.total, rows.len());
    Ok(())
}

/// A latest point, with the decimals that the values of its metric have in common.
#[derive(Serialize)]
struct LatestRow {
    #[serde(flatten)]
    point: LatestPoint,
    #[serde(skip)]
    places: usize,
}

fn rows(points: Vec<LatestPoint>) -> Vec<LatestRow> {
    let mut numbers: HashMap<String, Vec<f64>> = HashMap::new();
    for point in &points {
        numbers.entry(point.metric.clone()).or_default().extend(point.value.as_ref().and_then(Value::number));
    }
    let places: HashMap<String, usize> = numbers.into_iter().map(|(metric, numbers)| (metric, decimals(numbers.into_iter()))).collect();
    points.into_iter().map(|point| LatestRow { places: places.get(&point.metric).copied().unwrap_or_default(), point }).collect()
}

fn query(args: &SeriesArgs) -> SeriesQuery<'_> {
    SeriesQuery { metric: args.list.metric.as_deref(), search: args.search.as_deref(), limit: args.limit }
}

fn print_rest(total: u64, shown: usize) {
    if total > shown as u64 {
        noteln!("{shown} of {} series: narrow with --metric or --search, or raise --limit", grouped(total));
    }
}

fn tags(tags: &BTreeMap<String, String>) -> String {
    tags.iter().map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ")
}

fn series_columns() -> Vec<Column<SeriesInfo>> {
    vec![
        Column { name: "metric", right: false, text: |s| s.metric.clone(), plain: |s| s.metric.clone() },
        Column { name: "tags", right: false, text: |s| tags(&s.tags), plain: |s| tags(&s.tags) },
        Column { name: "points", right: true, text: |s| grouped(s.stored.points), plain: |s| s.stored.points.to_string() },
        Column {
            name: "first (UTC)",
            right: false,
            text: |s| minute(s.stored.first.as_ref()),
            plain: |s| s.stored.first.clone().unwrap_or_default(),
        },
        Column { name: "last (UTC)", right: false, text: |s| minute(s.stored.last.as_ref()), plain: |s| s.stored.last.clone().unwrap_or_default() },
    ]
}

/// Trouble with a series: `stale since 2026-05-01 12:00`.
fn trouble(trouble: Option<&SeriesTrouble>) -> String {
    trouble.map_or_else(String::new, |trouble| format!("{} since {}", trouble.trouble.words(), minute(Some(&trouble.since))))
}

fn latest_columns() -> Vec<Column<LatestRow>> {
    vec![
        Column { name: "metric", right: false, text: |l| l.point.metric.clone(), plain: |l| l.point.metric.clone() },
        Column { name: "tags", right: false, text: |l| tags(&l.point.tags), plain: |l| tags(&l.point.tags) },
        Column { name: "value", right: true, text: |l| value(l.point.value.as_ref(), l.places), plain: plain_value },
        Column { name: "unit", right: false, text: |l| units::text(&unit(&l.point)), plain: |l| unit(&l.point) },
        Column {
            name: "time (UTC)",
            right: false,
            text: |l| utc(l.point.time.as_ref()) + &shown_age(&l.point),
            plain: |l| l.point.time.clone().unwrap_or_default(),
        },
    ]
}

fn unit(latest: &LatestPoint) -> String {
    latest.unit.clone().unwrap_or_default()
}

fn plain_value(latest: &LatestRow) -> String {
    match &latest.point.value {
        None => String::new(),
        Some(Value::Histogram(histogram)) => serde_json::to_string(histogram).unwrap_or_default(),
        Some(value) => value.to_string(),
    }
}

fn shown_age(latest: &LatestPoint) -> String {
    let now = Nanos::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or_default();
    let Some(time) = &latest.time else { return String::new() };
    let seconds = (now - instant(time)) / SECOND;
    match seconds {
        i64::MIN..0 => ", in the future".to_owned(),
        0..120 => format!(", {seconds} s ago"),
        120..7_200 => format!(", {} min ago", seconds / 60),
        7_200..172_800 => format!(", {} h ago", seconds / 3_600),
        _ => format!(", {} d ago", seconds / 86_400),
    }
}
