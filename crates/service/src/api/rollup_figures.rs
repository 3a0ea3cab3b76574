//! How levels compare with the points that they stand for: in size, estimated per day, and in query time, measured.

use fenetre_core::{
    answer::Answer,
    catalogue::{Dataset, Metric},
    evaluate::evaluate,
    model::{Kind, RollupPolicy},
    plan::{Limits, plan},
    query::{Frame, parse},
    time::{Nanos, SECOND, Span, format_utc},
};
use fenetre_store::{DatasetSize, LevelSize, LevelState, MetricSize};
use jiff::tz::TimeZone;

use crate::{problem::ApiError, state::State, views::names::find};

/// How fast points of a policy's series came.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Pace {
    /// Points per day.
    pub points: f64,
    /// Bytes per day, packed.
    pub bytes: f64,
}

/// Rate of points of a policy's series, from the first of each metric to the latest packed point of the dataset.
pub fn pace(state: &State, size: &DatasetSize, policy: &RollupPolicy) -> Result<Pace, ApiError> {
    let sizes = state.store.inspect().metrics()?;
    state.store.with_catalogue(|catalogue| {
        let dataset = find(catalogue, &size.name)?;
        let mut pace = Pace::default();
        let Some(until) = size.partitions.iter().filter_map(|partition| Some(partition.held?.1)).max() else { return Ok(pace) };
        for metric in dataset.metrics().filter(|metric| policy.takes(metric)) {
            let Some((size, first)) = size_of(&sizes, dataset, metric).and_then(|size| Some((size, size.first?))) else { continue };
            // Less than an hour is too little to estimate a day.
            let days = until.saturating_sub(first).max(3_600 * SECOND) as f64 / 86_400e9;
            let share = policy.members(dataset, metric).len() as f64 / metric.series_count().max(1) as f64 / days;
            pace.points += size.points as f64 * share;
            pace.bytes += size.bytes as f64 * share;
        }
        Ok(pace)
    })
}

fn size_of<'s>(sizes: &'s [MetricSize], dataset: &Dataset, metric: &Metric) -> Option<&'s MetricSize> {
    sizes.iter().find(|size| *size.dataset == *dataset.name && size.metric.as_deref() == Some(&*metric.name))
}

/// What a level takes, among those of its dataset.
pub fn level_size<'s>(sizes: &'s [LevelSize], level: &LevelState) -> Option<&'s LevelSize> {
    let width = level.width.to_string();
    sizes.iter().find(|size| size.policy == level.policy && size.width == width && size.bytes_a_day > 0.0)
}

/// Bytes of a series' window of some width, those of a histogram's buckets among them: as many as a level of a width near it takes here, where there is
/// any; else as many as windows of the usual sensors.
pub fn bytes_of_window(width: Span, known: &[LevelState], sizes: &[LevelSize]) -> f64 {
    let measured = |level: &LevelState| {
        let size = level_size(sizes, level).filter(|_| level.windows > 1_000 && level.series > 0)?;
        Some((days(level.width), size.bytes_a_day * days(level.width) / level.series as f64))
    };
    let apart = |(wide, _): &(f64, f64)| (wide / days(width)).ln().abs();
    match known.iter().filter_map(measured).min_by(|a, b| apart(a).total_cmp(&apart(b))) {
        Some((_, bytes)) => bytes,
        None if days(width) < 0.02 => 10.0,
        None if days(width) < 0.5 => 20.0,
        None => 60.0,
    }
}

/// A span in days; of months about.
pub fn days(span: Span) -> f64 {
    span.nanos as f64 / 86_400e9 + f64::from(span.days) + f64::from(span.months) * 30.4
}

/// Runs one query on a level and on points where both exist: how many times faster the level is, and the query.
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
    let sizes = state.store.inspect().metrics().ok()?;
    state.store.with_catalogue(|catalogue| {
        let dataset = find(catalogue, dataset).ok()?;
        let points = |metric: &Metric| size_of(&sizes, dataset, metric).map_or(0, |size| size.points);
        let is_number =
            |metric: &&Metric| matches!(metric.definition.kind, Kind::Gauge | Kind::Counter) && metrics.contains(&metric.name.to_string());
        dataset.metrics().filter(is_number).max_by_key(|metric| points(metric)).map(|metric| metric.name.to_string())
    })
}

/// Seconds that a query takes; none if it takes longer than a few.
fn ask(state: &State, dataset: &str, text: &str, now: Nanos) -> Option<f64> {
    let began = std::time::Instant::now();
    let query = parse(text).ok()?;
    let planned = state.store.with_catalogue(|catalogue| plan(&query, &Frame::default(), catalogue, dataset, now, &Limits::default()).ok())?;
    let answer: Answer = evaluate(planned, &state.store.source(), &|| began.elapsed().as_secs() > 5).ok()?;
    (answer.cost.points_read + answer.cost.windows_read + answer.cost.blocks_summarised > 0).then(|| began.elapsed().as_secs_f64())
}
