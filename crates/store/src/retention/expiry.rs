//! Expiry: what the core decides must go is carried out here. Partitions are dropped whole: a record first, then no new query sees them, and when
//! those from before have ended their files move to the bin. Killed at any moment, the next start moves what the records name.

use std::{collections::BTreeMap, sync::Arc, time::Duration};

use jiff::tz::TimeZone;

use fenetre_core::{
    block::Columns,
    keeping::{
        BinHolding, ByteSize, DatasetHolding, Expiry, InForce, Limits, MetricHolding, PartitionHolding, Policies, Scope, Step, StoreHolding, Why,
    },
    model::{DatasetId, MetricId, SeriesId},
    time::{Nanos, TimeRange, format_day, format_utc},
};

use crate::{
    bin::{self, BinItem, BinItemKind, Selection, partitions},
    compact::respan,
    disk::files::{bytes_on_disk, folder_bytes},
    engine::{Engine, losses},
    error::StoreError,
    limits::settings::{horizon, zone_of},
    missing::{dropped::DroppedPartition, trims::Trim},
    partition::Partition,
    read::census::packed_counts,
    rollup::rolled_before,
    span::Span,
};

/// Blocks of all generations.
const EVERY_GENERATION: u64 = u64::MAX >> 1;
/// How long queries from before are waited for; then the next turn does it.
const READER_WAIT: Duration = Duration::from_secs(5);

/// What is held, beside the limits in force.
pub fn holding(shared: &Engine, policies: &Policies, now: Nanos) -> Result<StoreHolding, StoreError> {
    let datasets: Vec<(DatasetId, String)> = shared.catalogue.read().datasets().map(|dataset| (dataset.id, dataset.folder.to_string())).collect();
    let binned = bin::list(shared)?;
    let mut held = Vec::with_capacity(datasets.len());
    for (id, folder) in datasets {
        let tz = zone_of(&shared.catalogue.read(), id);
        let limits = policies.in_force(Scope::Dataset(id), now, &tz);
        let partitions = shared.partitions_of(id, TimeRange::ALL);
        let of_dataset = |item: &&BinItem| item.dataset_id == id && item.kind != BinItemKind::Metric;
        let in_bin = binned.iter().filter(of_dataset).map(|item| BinHolding { id: item.id.clone(), bytes: bin::bytes(shared, &item.id) });
        let own = |place: &Scope| match place {
            Scope::Metric(dataset, metric) if *dataset == id => Some(*metric),
            _ => None,
        };
        let mut metrics = Vec::new();
        for metric in crate::limits::settings::places(policies).iter().filter_map(own) {
            let found = policies.in_force(Scope::Metric(id, metric), now, &tz);
            let is_own = |place: Scope| place == Scope::Metric(id, metric);
            let at = found.keep_for.filter(|limit| is_own(limit.place)).and_then(|_| horizon(&found, now, &tz));
            let keep_under = policies.at(Scope::Metric(id, metric)).keep_under.map(|limit| limit.limit.0);
            if at.is_some() || keep_under.is_some() {
                let series = shared.series_of(id, metric);
                let size = |partition: &Arc<Partition>| Ok(shared.unless_damaged(partition, size_of(partition, &series))?.unwrap_or_default());
                let parts = partitions.iter().map(size).collect::<Result<_, StoreError>>()?;
                metrics.push(MetricHolding { id: metric, horizon: at, keep_under, partitions: parts });
            }
        }
        // A size that is the store's own counts over the whole store, and is looked at there.
        let own_size = |found: &InForce<ByteSize>| matches!(found.place, Scope::Dataset(_));
        held.push(DatasetHolding {
            id,
            horizon: horizon(&limits, now, &tz),
            keep_under: policies.at(Scope::Dataset(id)).keep_under.filter(own_size).map(|found| found.limit.0),
            rolled_before: rolled_before(shared, id, now)?,
            partitions: pieces(shared, &partitions, &limits, now, &tz)?,
            others: folder_bytes(&shared.files.rollups(&folder)),
            bin: in_bin.collect(),
            metrics,
        });
    }
    let others = bytes_on_disk(&shared.files.catalogue()) + folder_bytes(&shared.files.journals());
    let keep_under = policies.at(Scope::Store).keep_under.map(|found| found.limit.0);
    Ok(StoreHolding { datasets: held, others, keep_under, volume: shared.volume() })
}

/// What of a dataset can be dropped by itself under some limits: partitions, or, of those that are longer than their points are kept, the parts that
/// they are split into first.
pub fn pieces_of(shared: &Engine, dataset: DatasetId, limits: &Limits, now: Nanos) -> Result<Vec<PartitionHolding>, StoreError> {
    let tz = zone_of(&shared.catalogue.read(), dataset);
    pieces(shared, &shared.partitions_of(dataset, TimeRange::ALL), limits, now, &tz)
}

fn pieces(shared: &Engine, partitions: &[Arc<Partition>], limits: &Limits, now: Nanos, tz: &TimeZone) -> Result<Vec<PartitionHolding>, StoreError> {
    let longest = respan::longest_under(shared, limits, now, tz);
    let mut pieces = Vec::with_capacity(partitions.len());
    for partition in partitions {
        let (span, bytes) = (partition.span, bytes_on_disk(partition.path()));
        let piece = |span: Span, bytes: u64| PartitionHolding { start: span.start, last: span.last(), bytes };
        if !span.is_long() || span.days() <= longest {
            pieces.push(piece(span, bytes));
            continue;
        }
        let Some(by_part) = shared.unless_damaged(partition, points_by_part(partition, longest))? else {
            pieces.push(piece(span, bytes));
            continue;
        };
        let all = by_part.values().sum::<u64>().max(1);
        let share = |points: u64| (u128::from(bytes) * u128::from(points) / u128::from(all)) as u64;
        pieces.extend(by_part.iter().map(|(part, points)| piece(*part, share(*points))));
    }
    Ok(pieces)
}

/// Points of a partition, by the parts of its span.
fn points_by_part(partition: &Partition, longest: i64) -> Result<BTreeMap<Span, u64>, StoreError> {
    let mut by_part = BTreeMap::new();
    partition.read(|reading| {
        reading.all_places(EVERY_GENERATION, |series, places| {
            for place in places {
                let mut parts = partition.span.parts(longest, place.start..=place.end).peekable();
                let Some(first) = parts.next() else { continue };
                if parts.peek().is_none() {
                    *by_part.entry(first).or_default() += place.count;
                    continue;
                }
                let mut block = Columns::default();
                reading.decode(series, place, &mut block)?;
                for part in std::iter::once(first).chain(parts) {
                    let inside = block.points().places_in(part.range()).len() as u64;
                    *by_part.entry(part).or_default() += inside;
                }
            }
            Ok(())
        })
    })?;
    by_part.retain(|_, points| *points > 0);
    Ok(by_part)
}

/// Bytes of some series, in order, in a partition, and their first instant.
fn size_of(partition: &Partition, series: &[SeriesId]) -> Result<(u64, Option<Nanos>), StoreError> {
    let shares = crate::inspect::sizes::shares(partition)?;
    let mine = shares.iter().filter(|(id, ..)| series.binary_search(id).is_ok());
    Ok(mine.fold((0, None), |(sum, first), (_, bytes, start)| (sum + bytes, Some(first.map_or(*start, |first: Nanos| first.min(*start))))))
}

/// What must go now, as some policies would have it.
pub fn plan(shared: &Engine, policies: &Policies, now: Nanos) -> Result<Expiry, StoreError> {
    Ok(Expiry::plan(&holding(shared, policies, now)?, now))
}

/// Expires data past its limits; returns what was done. `pack` packs everything that was acknowledged so far.
pub fn expire(shared: &Engine, now: Nanos, pack: impl FnOnce() -> Result<(), StoreError>) -> Result<Expiry, StoreError> {
    partitions::move_files(shared)?;
    let plan = plan(shared, &shared.policies(), now)?;
    if plan.is_full && !shared.is_full() {
        tracing::error!("the reserve of the volume is used, and nothing is left to expire: no more points are accepted");
    }
    shared.set_full(plan.is_full);
    let waits_before = |dataset: DatasetId, end: Nanos| shared.head.read().earliest_from(dataset, Nanos::MIN).is_some_and(|at| at < end);
    let is_waiting = |step: &Step| match step {
        Step::EmptyBin { .. } => false,
        Step::Drop { dataset, partition, .. } => waits_before(*dataset, partition.last.saturating_add(1)),
        Step::Trim { dataset, before, .. } => waits_before(*dataset, *before),
    };
    // Trims that a stop interrupted are completed whatever the limits are by now: some of their points are removed already.
    let is_planned = |trim: &Trim| {
        let of = (DatasetId(trim.dataset), MetricId(trim.metric));
        plan.steps.iter().any(|step| matches!(step, Step::Trim { dataset, metric, .. } if (*dataset, *metric) == of))
    };
    let interrupted: Vec<(String, Trim)> = shared.trims.unfinished().into_iter().filter(|(_, trim)| !is_planned(trim)).collect();
    if plan.steps.iter().any(is_waiting) || interrupted.iter().any(|(_, trim)| waits_before(DatasetId(trim.dataset), trim.until)) {
        // What is too old is no longer taken, so nothing comes into these spans after this.
        pack()?;
    }
    if !interrupted.is_empty() && shared.wait_for_earlier(READER_WAIT) {
        for (id, trim) in &interrupted {
            move_trimmed(shared, id, trim, Why::Age.describe(), now)?;
        }
    }
    shorten(shared, &plan.steps)?;
    for step in &plan.steps {
        carry_out(shared, step, now)?;
    }
    partitions::move_files(shared)?;
    Ok(plan)
}

/// Splits partitions that are only partly dropped.
fn shorten(shared: &Engine, steps: &[Step]) -> Result<(), StoreError> {
    let mut until: BTreeMap<DatasetId, Nanos> = BTreeMap::new();
    for step in steps {
        if let Step::Drop { dataset, partition, .. } = step {
            let known = until.entry(*dataset).or_insert(partition.last);
            *known = partition.last.max(*known);
        }
    }
    until.into_iter().try_for_each(|(dataset, last)| respan::shorten(shared, dataset, respan::longest(shared, dataset), last).map(|_| ()))
}

fn carry_out(shared: &Engine, step: &Step, now: Nanos) -> Result<(), StoreError> {
    match step {
        Step::EmptyBin { id, why, .. } => {
            tracing::warn!(id, "erased from the bin early, {}", why.describe());
            bin::erase(shared, id)
        }
        Step::Drop { dataset, partition, why, for_good } => drop_partition(shared, *dataset, partition, *why, *for_good, now),
        Step::Trim { dataset, metric, before, why, .. } => trim(shared, (*dataset, *metric), *before, *why, now),
    }
}

/// Takes a metric's points of before an instant out of partitions that stay: hidden first, moved when queries from before have ended.
fn trim(shared: &Engine, (dataset, metric): (DatasetId, MetricId), before: Nanos, why: Why, now: Nanos) -> Result<(), StoreError> {
    let is_of = |trim: &Trim| (trim.dataset, trim.metric) == (dataset.0, metric.0);
    let begun = shared.trims.unfinished().into_iter().find(|(_, trim)| is_of(trim));
    let id = begun.map_or_else(|| bin::free_id(shared, now), |(id, _)| Ok(id))?;
    let trim = Trim { dataset: dataset.0, metric: metric.0, until: before, is_erased: false, is_moved: false };
    shared.trims.note(&shared.trim_records(), &id, trim)?;
    if !shared.wait_for_earlier(READER_WAIT) {
        // They take long: the next turn continues.
        return Ok(());
    }
    move_trimmed(shared, &id, &trim, why.describe(), now)?;
    if why == Why::Age { Ok(()) } else { bin::erase(shared, &id) }
}

/// Moves the points of a trim to the bin, those that are left if some were moved before.
fn move_trimmed(shared: &Engine, id: &str, trim: &Trim, why: &str, now: Nanos) -> Result<(), StoreError> {
    let (dataset, metric) = (DatasetId(trim.dataset), MetricId(trim.metric));
    let selection = Selection { dataset, series: shared.series_of(dataset, metric), range: TimeRange { start: Nanos::MIN, end: trim.until } };
    let name = metric_name(shared, dataset, metric);
    let what = format!("{name} before {}, {why}", format_utc(trim.until));
    let binned = bin::delete_points(shared, id.to_owned(), &selection, &what, true, now)?;
    shared.trims.note_moved(&shared.trim_records(), id)?;
    let points = binned.points.map_or(0, |weight| weight.points);
    tracing::info!(metric = name, points, before = format_utc(trim.until), "trimmed, {why}");
    Ok(())
}

fn metric_name(shared: &Engine, dataset: DatasetId, metric: MetricId) -> String {
    let catalogue = shared.catalogue.read();
    let found = catalogue.dataset_by_id(dataset);
    found.and_then(|dataset| dataset.metric_by_id(metric)).map_or_else(|| "?".to_owned(), |metric| metric.name.to_string())
}

/// Drops a partition. The record comes first: whatever happens after it, the partition is in the bin.
fn drop_partition(shared: &Engine, dataset: DatasetId, piece: &PartitionHolding, why: Why, for_good: bool, now: Nanos) -> Result<(), StoreError> {
    let _spans = shared.spans.read_recursive();
    let (partitions, start) = (shared.partitions(), piece.start);
    // One that has another span by now is looked at again in the next turn.
    let is_same = |partition: &&Arc<Partition>| partition.span.last() == piece.last;
    let Some(partition) = partitions.get(&(dataset, start)).filter(is_same) else { return Ok(()) };
    // Counted already for the preview.
    let counts = packed_counts(partition, &shared.snapshot())?;
    let whole = counts.iter().filter(|(series, _)| series.is_whole()).map(|(_, count)| count);
    let (points, span) = whole.fold((0, None), |(points, span), count| {
        let (first, last) = span.unwrap_or((count.first, count.last));
        (points + count.points, Some((first.min(count.first), last.max(count.last))))
    });
    let file = shared.files.name_of(partition.path());
    let bytes = bytes_on_disk(partition.path());
    let record = DroppedPartition { dataset: dataset.0, file, why: why.describe().to_owned(), points, bytes, span, for_good };
    let id = format!("d{}-{}-{}", now / 1_000_000, dataset.0, format_day(start));
    shared.definitions.note_edit_with(&record.file, &id, &record, now)?;
    drop(partitions);
    if let (true, Some(dropped)) = (for_good, record.dropped()) {
        shared.floors.erase(&shared.definitions, dataset, dropped)?;
    }
    shared.take_out(dataset, start);
    losses::note(shared)?;
    shared.reload_floors()?;
    tracing::info!(file = record.file, points, bytes, for_good, "expired, {}", record.why);
    Ok(())
}

/// Why an item would expire again at once if it were restored now; none if it would not.
pub fn expires_again(shared: &Engine, id: &str, now: Nanos) -> Result<Option<String>, StoreError> {
    let Some(item) = bin::list(shared)?.into_iter().find(|item| item.id == id) else { return Ok(None) };
    let way_out = |what: &str, end: Nanos, place: &str| {
        let end = format_utc(end);
        Some(format!(
            "it would expire again at once: {what}, and this ends at {end}. Raise the limit first: `fenetre retention set {place} --keep-for …`"
        ))
    };
    if let Some(trim) = shared.trims.get(id) {
        let metric = MetricId(trim.metric);
        let is_old = shared.horizons(item.dataset_id, now).own(metric).is_some_and(|horizon| trim.until <= horizon);
        let name = metric_name(shared, item.dataset_id, metric);
        let reason = || way_out(&format!("`{name}` is kept for less long"), trim.until, &format!("{}::{name}", item.dataset));
        return Ok(if is_old { reason() } else { None });
    }
    let tz = zone_of(&shared.catalogue.read(), item.dataset_id);
    let found = shared.policies().in_force(Scope::Dataset(item.dataset_id), now, &tz);
    let last = item.points.and_then(|weight| weight.span).map(|(_, last)| last);
    Ok(match (item.kind, found.keep_for, horizon(&found, now, &tz), last) {
        (BinItemKind::Partition, Some(limit), Some(horizon), Some(last)) if last < horizon => {
            way_out(&format!("`{}` keeps {}", item.dataset, limit.limit), last, &item.dataset)
        }
        _ => None,
    })
}
