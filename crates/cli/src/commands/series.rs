//! `fenetre series` and `fenetre latest`

use std::collections::BTreeMap;

use fenetre_core::time::{Nanos, SECOND};
use fenetre_service::api::series::{LatestPoint, SeriesInfo};

use crate::{
    args::SeriesArgs,
    client::{Client, SeriesQuery},
    failure::Failure,
    output::{
        list::{Column, write},
        words::{decimals, grouped, instant, utc, value},
    },
};

/// Lists the series.
pub fn list(args: &SeriesArgs) -> Result<(), Failure> {
    let page = Client::of(&args.list.target)?.series(&args.list.target.dataset, &query(args))?;
    write(&page.items, &series_columns(), args.list.output)?;
    tell_rest(page.total, page.items.len());
    Ok(())
}

/// Lists the latest point of each series.
pub fn latest(args: &SeriesArgs) -> Result<(), Failure> {
    let page = Client::of(&args.list.target)?.latest(&args.list.target.dataset, &query(args))?;
    write(&page.items, &latest_columns(), args.list.output)?;
    tell_rest(page.total, page.items.len());
    Ok(())
}

fn query(args: &SeriesArgs) -> SeriesQuery<'_> {
    SeriesQuery { metric: args.list.metric.as_deref(), search: args.search.as_deref(), limit: args.limit }
}

fn tell_rest(total: u64, shown: usize) {
    if total > shown as u64 {
        eprintln!("{shown} of {} series: narrow with --metric or --search, or raise --limit", grouped(total));
    }
}

fn tags(tags: &BTreeMap<String, String>) -> String {
    tags.iter().map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ")
}

fn series_columns() -> Vec<Column<SeriesInfo>> {
    vec![
        Column { name: "metric", right: false, told: |s| s.metric.clone(), plain: |s| s.metric.clone() },
        Column { name: "tags", right: false, told: |s| tags(&s.tags), plain: |s| tags(&s.tags) },
        Column { name: "points", right: true, told: |s| grouped(s.held.points), plain: |s| s.held.points.to_string() },
        Column { name: "first (UTC)", right: false, told: |s| utc(s.held.first.as_ref()), plain: |s| s.held.first.clone().unwrap_or_default() },
        Column { name: "last (UTC)", right: false, told: |s| utc(s.held.last.as_ref()), plain: |s| s.held.last.clone().unwrap_or_default() },
    ]
}

fn latest_columns() -> Vec<Column<LatestPoint>> {
    vec![
        Column { name: "metric", right: false, told: |l| l.metric.clone(), plain: |l| l.metric.clone() },
        Column { name: "tags", right: false, told: |l| tags(&l.tags), plain: |l| tags(&l.tags) },
        Column { name: "value", right: true, told: told_value, plain: |l| l.value.as_ref().map_or(String::new(), plain_value) },
        Column { name: "unit", right: false, told: |l| l.unit.clone().unwrap_or_default(), plain: |l| l.unit.clone().unwrap_or_default() },
        Column { name: "time (UTC)", right: false, told: |l| utc(l.time.as_ref()) + &told_age(l), plain: |l| l.time.clone().unwrap_or_default() },
    ]
}

fn told_value(latest: &LatestPoint) -> String {
    let number = latest.value.as_ref().and_then(fenetre_core::model::Value::number);
    value(latest.value.as_ref(), decimals(number.into_iter()))
}

fn plain_value(value: &fenetre_core::model::Value) -> String {
    match value {
        fenetre_core::model::Value::Number(number) => number.to_string(),
        fenetre_core::model::Value::Word(word) => word.to_string(),
    }
}

fn told_age(latest: &LatestPoint) -> String {
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
