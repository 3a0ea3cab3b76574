//! Forecast of storage use: in 30 days, when it stops growing, and when a size limit is reached.

use fenetre_core::{
    keeping::{ByteSize, Growth, Limits, Outlook, PARTITION_DAYS, PartitionHolding, Stream, outlook},
    time::{Nanos, Span, TimeRange, format_day, format_utc},
};
use fenetre_store::DatasetSize;
use fenetre_wire::retention::{NextInfo, OutlookInfo};
use jiff::tz::TimeZone;

use crate::{problem::ApiError, state::State};

/// The partition that expires next by age, if any.
pub fn next(state: &State, dataset: &DatasetSize, limits: &Limits, now: Nanos, tz: &TimeZone) -> Result<Option<NextInfo>, ApiError> {
    let Some(keep_for) = limits.keep_for.map(|found| found.limit) else { return Ok(None) };
    let when = |piece: &PartitionHolding| keep_for.after(piece.last, tz).saturating_add(1);
    let mut waiting: Vec<PartitionHolding> =
        state.store.retention().pieces(dataset.id, limits, now)?.into_iter().filter(|piece| when(piece) > now).collect();
    waiting.sort_by_key(|piece| piece.last);
    for piece in waiting {
        let points = match dataset.partitions.iter().find(|size| (size.start, size.last) == (piece.start, piece.last)) {
            Some(whole) => whole.points,
            None => state.store.bin().held_in(dataset.id, TimeRange { start: piece.start, end: piece.last.saturating_add(1) })?.points,
        };
        if points > 0 {
            let what = format!("{} / {}", dataset.name, format_day(piece.start));
            return Ok(Some(NextInfo { what, at: format_utc(when(&piece)), points, bytes: piece.bytes }));
        }
    }
    Ok(None)
}

const DAY: f64 = 86_400e9;

/// A span in days, as the calendar has it now.
fn days_of(span: Span, now: Nanos, tz: &TimeZone) -> f64 {
    now.saturating_sub(span.before(now, tz)) as f64 / DAY
}

/// Forecast for some datasets together, under limits.
pub fn ahead(state: &State, datasets: &[&DatasetSize], held: u64, limits: &Limits, now: Nanos, tz: &TimeZone) -> OutlookInfo {
    let mut growth = Growth::default();
    for dataset in datasets {
        growth.points_a_day += dataset.growth.points_a_day;
        growth.bytes_a_day += dataset.growth.bytes_a_day;
        growth.over_days = growth.over_days.max(dataset.growth.over_days);
    }
    let kept = limits.keep_for.map(|found| days_of(found.limit, now, tz));
    // Whole partitions go, and stay in the bin for a while.
    let more = PARTITION_DAYS + state.limits.bin_retention as f64 / DAY;
    let of_points = |dataset: &&DatasetSize| dataset.bytes() - dataset.rollup_bytes;
    let held_points = datasets.iter().map(of_points).sum::<u64>() as f64;
    let points = Stream { bytes_a_day: growth.bytes_a_day, held_days: kept.map(|days| days + more), held: held_points };
    let levels = datasets.iter().flat_map(|dataset| &dataset.levels);
    let levels: Vec<Stream> =
        levels.map(|level| Stream { bytes_a_day: level.bytes_a_day, held_days: level.held_days, held: level.bytes as f64 }).collect();
    let ahead = outlook(now, held, points, &levels, limits.keep_under.map(|found| found.limit.0));
    OutlookInfo {
        points_a_day: growth.points_a_day,
        bytes_a_day: ahead.bytes_a_day,
        rollup_bytes_a_day: ahead.bytes_a_day - growth.bytes_a_day,
        over_days: growth.over_days,
        at_rest: ahead.at_rest,
        at_rest_from: ahead.at_rest_from.map(format_utc),
        beside_a_day: ahead.beside_a_day,
        in_30_days: ahead.in_30_days,
        reached: ahead.reached.map(format_utc),
        days_that_fit: ahead.days_that_fit,
        recommended: ahead.recommended,
        arithmetic: arithmetic(&growth, kept.map(|days| (days, more)), &levels, &ahead),
    }
}

/// The calculation of a recommended limit, such as `(127 kB/day x 414 days + 107 MB rollups) x 1.2; 414 days = 400 kept + 7 until a whole partition
/// expires + 7 in the bin`. Empty without a limit by age, and without growth.
fn arithmetic(growth: &Growth, kept: Option<(f64, f64)>, levels: &[Stream], ahead: &Outlook) -> String {
    let size = |bytes: f64| ByteSize(bytes as u64).words();
    let Some(((days, more), _)) = kept.zip(ahead.recommended).filter(|_| growth.bytes_a_day > 0.0) else { return String::new() };
    let kept_levels: f64 = levels.iter().filter_map(|level| Some(level.held_days? * level.bytes_a_day)).sum();
    let rollups = if kept_levels >= 1.0 { format!(" + {} rollups", size(kept_levels)) } else { String::new() };
    let forever = levels.iter().filter(|level| level.held_days.is_none()).fold(0.0, |sum, level| sum + level.bytes_a_day);
    let year = if forever >= 1.0 { format!(" + 365 days x {}/day of rollups without a limit", size(forever)) } else { String::new() };
    format!(
        "({}/day x {:.0} days{rollups}) x 1.2{year}; {:.0} days = {days:.0} kept + {PARTITION_DAYS:.0} until a whole partition expires + {:.0} in the bin",
        size(growth.bytes_a_day),
        days + more,
        days + more,
        more - PARTITION_DAYS
    )
}
