//! How levels compare with the points that they stand for: in room, reckoned by day, and in time, measured.

use fenetre_core::{
    answer::Answer,
    catalogue::Metric,
    evaluate::evaluate,
    model::Kind,
    plan::{Limits, plan},
    query::{Frame, parse},
    rollup::RollupPolicy,
    time::{Nanos, SECOND, Span, format_utc},
};
use fenetre_store::{LevelState, MetricSize};
use jiff::tz::TimeZone;

use super::datasets::find;
use crate::{problem::Problem, state::State};

/// How fast points of a policy's series came.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Pace {
    /// Points a day.
    pub points: f64,
    /// Bytes a day, as they lie at rest.
    pub bytes: f64,
}

/// How fast points of a policy's series came, since the first of each metric that is there.
pub fn pace(state: &State, dataset: &str, policy: &RollupPolicy, now: Nanos) -> Result<Pace, Problem> {
    let sizes = state.store.metric_sizes()?;
    let catalogue = state.store.catalogue();
    let dataset = find(&catalogue, dataset)?;
    let mut pace = Pace::default();
    for metric in dataset.metrics().filter(|metric| policy.takes(metric)) {
        let size = sizes.iter().find(|size| *size.dataset == *dataset.name && size.metric.as_deref() == Some(&*metric.name));
        let Some((size, first)) = size.and_then(|size| Some((size, size.first?))) else { continue };
        // Less than an hour says nothing of a day.
        let days = now.saturating_sub(first).max(3_600 * SECOND) as f64 / 86_400e9;
        let share = policy.members(dataset, metric).len() as f64 / metric.series_count().max(1) as f64 / days;
        pace.points += size.points as f64 * share;
        pace.bytes += size.bytes as f64 * share;
    }
    Ok(pace)
}

/// Bytes of a window of some width: as many as windows of a width near it have here, where there are any; else as many as they have of the usual sensors.
pub fn bytes_of_window(width: Span, known: &[LevelState]) -> f64 {
    let told: Vec<&LevelState> = known.iter().filter(|level| level.windows > 1_000).collect();
    let apart = |level: &&&LevelState| (days(level.width) / days(width)).ln().abs();
    match told.iter().min_by(|a, b| apart(a).total_cmp(&apart(b))) {
        Some(level) => level.bytes as f64 / level.windows as f64,
        None if days(width) < 0.02 => 10.0,
        None if days(width) < 0.5 => 20.0,
        None => 60.0,
    }
}

/// A span in days; of months about.
pub fn days(span: Span) -> f64 {
    span.nanos as f64 / 86_400e9 + f64::from(span.days) + f64::from(span.months) * 30.4
}

/// Asks the same of a level and of points, where both are there: how many times faster the level is, and what was asked.
pub fn measure(state: &State, dataset: &str, level: &LevelState, metrics: &[String], now: Nanos) -> Option<(f64, String)> {
    const WINDOWS: u32 = 500;
    const ROUNDS: usize = 4;
    let covered = level.covered.filter(|covered| !covered.is_empty())?;
    let metric = most_points(state, dataset, metrics)?;
    let start = level.width.times(WINDOWS).before(covered.end, &TimeZone::UTC).max(covered.start).max(level.first.unwrap_or(Nanos::MIN));
    let question = format!("show stddev of '{metric}' overall over {} to {} per {}", format_utc(start), format_utc(covered.end), level.width);
    // The best of some: the first finds nothing in memory.
    let time = |source: &str| (0..ROUNDS).filter_map(|_| ask(state, dataset, &format!("{question} from {source}"), now)).min_by(f64::total_cmp);
    let (rolled, raw) = (time(&level.width.to_string())?, time("raw")?);
    Some((raw / rolled.max(1e-6), question))
}

/// Of some metrics, the one of numbers with the most points.
fn most_points(state: &State, dataset: &str, metrics: &[String]) -> Option<String> {
    let sizes = state.store.metric_sizes().ok()?;
    let catalogue = state.store.catalogue();
    let dataset = find(&catalogue, dataset).ok()?;
    let points = |metric: &Metric| {
        let is_it = |size: &&MetricSize| *size.dataset == *dataset.name && size.metric.as_deref() == Some(&*metric.name);
        sizes.iter().find(is_it).map_or(0, |size| size.points)
    };
    let is_number = |metric: &&Metric| matches!(metric.definition.kind, Kind::Gauge | Kind::Counter) && metrics.contains(&metric.name.to_string());
    dataset.metrics().filter(is_number).max_by_key(|metric| points(metric)).map(|metric| metric.name.to_string())
}

/// Seconds that a question takes; none where it cannot be answered in a few.
fn ask(state: &State, dataset: &str, text: &str, now: Nanos) -> Option<f64> {
    let began = std::time::Instant::now();
    let query = parse(text).ok()?;
    let planned = plan(&query, &Frame::default(), &state.store.catalogue(), dataset, now, &Limits::default()).ok()?;
    let answer: Answer = evaluate(planned, &state.store.source(), &|| began.elapsed().as_secs() > 5).ok()?;
    (answer.cost.points_read + answer.cost.windows_read + answer.cost.blocks_summarised > 0).then(|| began.elapsed().as_secs_f64())
}
