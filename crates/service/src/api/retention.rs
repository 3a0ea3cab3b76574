//! How long and how much is kept: limits in force and where each comes from, what a changed one would drop, and expiry by hand.

use std::collections::{BTreeMap, HashMap};

use actix_web::{get, post, web};
use fenetre_core::{
    catalogue::Catalogue,
    keeping::{ByteSize, Expiry, InForce, Place, Policies, Said, Source, Step},
    model::{DatasetId, MetricId, SeriesId},
    time::{Nanos, TimeRange, format_day, format_utc, zone},
};
use fenetre_store::{DatasetSize, MetricSize, PartitionSize, SeriesCount, StorageReport};
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::{
    Body,
    datasets::{find, find_metric},
    outlook::{NextInfo, OutlookInfo, ahead, next},
    read_json,
    storage::VolumeInfo,
};
use crate::{
    access::{Access, Define, Operate, Read},
    config_file,
    problem::{Problem, Sort},
    state::{Shared, State, blocking_long, now},
};

/// Everything that is said of keeping.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetentionInfo {
    /// The volume of the store, where that can be told.
    pub volume: Option<VolumeInfo>,
    /// The store, its datasets and their metrics.
    pub places: Vec<PlaceInfo>,
    /// Places of which something was said live that the configuration file does not say.
    pub differing: Vec<String>,
    /// Limits that are nearly reached, or passed.
    pub warnings: Vec<String>,
    /// The configuration file, if the service has one.
    pub config_file: Option<String>,
}

/// One place and its limits.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlaceInfo {
    /// `store`, `dataset` or `metric`.
    pub noun: String,
    /// Its name: empty for the store, `velmar`, or `velmar::level`.
    pub name: String,
    /// How long points are kept.
    pub keep_for: LimitInfo,
    /// How much is kept.
    pub keep_under: LimitInfo,
    /// What is said live of this place itself.
    #[schema(value_type = Object)]
    pub live: Said,
    /// What the configuration file says of this place itself.
    #[schema(value_type = Object)]
    pub file: Said,
    /// Points that it holds; in `storage`, those that are packed.
    pub points: u64,
    /// Bytes that it holds, bin and rollups of it among them.
    pub bytes: u64,
    /// Bytes of its points alone.
    pub packed_bytes: u64,
    /// Its earliest point.
    pub oldest: Option<String>,
    /// What will be there; none of a metric.
    pub outlook: Option<OutlookInfo>,
    /// What goes next by age; of a dataset.
    #[serde(default)]
    pub next: Option<NextInfo>,
}

/// A limit in force.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LimitInfo {
    /// Such as `90d` or `20GB`; none for no limit.
    pub limit: Option<String>,
    /// At which place it is said; none where there is no limit.
    pub place: Option<String>,
    /// `file`, `live`, or `built in`.
    pub source: String,
    /// In words.
    pub told: String,
}

/// What is to be said of a place.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RetentionOrder {
    /// Empty for the store, `velmar`, or `velmar::level`.
    #[serde(default)]
    pub place: String,
    /// `keep_for` and `keep_under`; one that is left out stays as it is, `null` is no limit.
    #[serde(default)]
    #[schema(value_type = Object)]
    pub say: Said,
    /// Go back to what the configuration file says, before the rest of this.
    #[serde(default)]
    pub reset: bool,
    /// Only say what would go.
    #[serde(default)]
    pub preview: bool,
}

/// What a change does.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetentionChange {
    /// The place as it was.
    pub before: PlaceInfo,
    /// The place as it is, or would be.
    pub after: PlaceInfo,
    /// What goes by it.
    pub goes: Departure,
}

/// What goes.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Departure {
    /// Partitions and parts of them.
    pub parts: Vec<DepartingPart>,
    /// Points.
    pub points: u64,
    /// Bytes, about.
    pub bytes: u64,
    /// The first and last instant.
    pub span: Option<(String, String)>,
    /// Metrics that lose points.
    pub metrics: Vec<String>,
    /// Partitions that are old enough to go, and stay until rollups tell of them.
    #[serde(default)]
    pub waiting: u64,
    /// Whether it was carried out.
    pub done: bool,
    /// The reserve of the volume is touched, and nothing is left that could go.
    pub is_full: bool,
}

/// A part that goes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DepartingPart {
    /// `velmar / 2026-05-07` or `velmar::level before …`.
    pub what: String,
    /// Why.
    pub why: String,
    /// Bytes, about.
    pub bytes: u64,
    /// Whether it does not stay in the bin.
    pub for_good: bool,
}

/// Whether it is only asked.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema, IntoParams)]
#[serde(default, deny_unknown_fields)]
pub struct ExpiryOrder {
    /// Only say what would go.
    pub dry_run: bool,
    /// Accept the system clock after a leap.
    pub accept_clock: bool,
}

/// What was written into the configuration file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WrittenFile {
    /// The file.
    pub file: String,
    /// Places whose limits are in it now.
    pub places: Vec<String>,
}

/// Which places are asked for.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct Asked {
    /// Of this dataset, not of all.
    dataset: Option<String>,
    /// Metrics too, which takes a look at every block's row; `true` unless said otherwise.
    metrics: Option<bool>,
}

/// Limits in force, where each comes from, what is held and what will be.
#[utoipa::path(tag = "keeping", params(Asked), responses((status = 200, body = RetentionInfo), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/retention")]
pub(crate) async fn show(_: Access<Read>, state: Shared, asked: web::Query<Asked>) -> Result<web::Json<RetentionInfo>, Problem> {
    blocking_long(&state, move |state| info(state, asked.dataset.as_deref(), asked.metrics.unwrap_or(true))).await.map(web::Json)
}

/// Says live how long and how much is kept at a place, or what would go by that.
#[utoipa::path(tag = "keeping", request_body = RetentionOrder,
    responses((status = 200, body = RetentionChange), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/retention")]
pub(crate) async fn set(_: Access<Define>, state: Shared, body: Body) -> Result<web::Json<RetentionChange>, Problem> {
    let order: RetentionOrder = read_json(&body)?;
    let work = move |state: &State| {
        let now = now();
        let place = place_named(&state.store.catalogue(), &order.place)?;
        let before = state.store.policies();
        let known = if order.reset { Said::default() } else { state.store.said_live(place) };
        let said = order.say.or(known);
        let mut after = before.clone();
        after.live.insert(place, said);
        let sizes = state.store.metric_sizes()?;
        let report = state.store.storage(now)?;
        let goes = departure(state, &state.store.plan_expiry(&after, now)?, &report)?;
        if !order.preview {
            state.store.say(place, said, now)?;
            let at = if order.place.is_empty() { "the store".to_owned() } else { order.place.clone() };
            let told =
                |limit: Option<Option<String>>| limit.map_or_else(|| "nothing".to_owned(), |limit| limit.unwrap_or_else(|| "no limit".to_owned()));
            let keep_for = told(said.keep_for.map(|limit| limit.map(|limit| limit.to_string())));
            let keep_under = told(said.keep_under.map(|limit| limit.map(|limit| limit.to_string())));
            tracing::info!(place = at, keep_for, keep_under, "what is said live of retention was changed");
            if after.differing().contains(&place) && state.config_file.is_some() {
                warn_of_difference(&at);
            }
            state.upkeep_is_due();
        }
        let sizes = Sizes::of(state, &sizes);
        let of = |policies: &Policies| place_info(state, policies, place, &report, &sizes, &Held::new(), now);
        Ok(RetentionChange { before: of(&before)?, after: of(&after)?, goes })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Writes what was said live into the configuration file, which then says it.
#[utoipa::path(tag = "keeping", responses((status = 200, body = WrittenFile), (status = 403, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/retention/write-file")]
pub(crate) async fn write_file(_: Access<Operate>, state: Shared) -> Result<web::Json<WrittenFile>, Problem> {
    let work = |state: &State| {
        let fault = |text: String| Problem::new(Sort::Definition, text);
        let Some(file) = &state.config_file else {
            return Err(fault("the service was started without a configuration file: start it with --config FILE".to_owned()));
        };
        let live: BTreeMap<String, Said> = {
            let policies = state.store.policies();
            let catalogue = state.store.catalogue();
            policies.live.iter().map(|(place, said)| (name_of(&catalogue, *place), *said)).collect()
        };
        let places: Vec<Place> = state.store.policies().live.keys().copied().collect();
        let written = config_file::write_retention(file, &live).map_err(fault)?;
        // The file's word first, so that there is no moment without a limit.
        state.store.set_file_retention(written);
        places.into_iter().try_for_each(|place| state.store.say(place, Said::default(), now()))?;
        Ok(WrittenFile { file: file.display().to_string(), places: live.into_keys().map(told_name).collect() })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Lets go of what is older or more than is kept, at once and not with the next look; or says what would go.
#[utoipa::path(tag = "keeping", request_body = Option<ExpiryOrder>, responses((status = 200, body = Departure), (status = 403, body = Problem), (status = 409, body = Problem, description = "the clock has leapt")))]
#[post("/api/v1/expire")]
pub(crate) async fn expire(_: Access<Define>, state: Shared, body: Body) -> Result<web::Json<Departure>, Problem> {
    let order: ExpiryOrder = if body.is_empty() { ExpiryOrder::default() } else { read_json(&body)? };
    let work = move |state: &State| {
        let now = now();
        let report = state.store.storage(now)?;
        let planned = departure(state, &state.store.plan_expiry(&state.store.policies(), now)?, &report)?;
        if order.dry_run {
            return Ok(planned);
        }
        if order.accept_clock {
            state.clock.accept();
        }
        state.clock.check(&state.store)?;
        let done = state.store.expire(now)?;
        Ok(Departure { done: true, is_full: done.is_full, ..planned })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// The place of that name.
pub(crate) fn place_named(catalogue: &Catalogue, name: &str) -> Result<Place, Problem> {
    if name.is_empty() {
        return Ok(Place::Store);
    }
    let (dataset, metric) = name.split_once("::").map_or((name, None), |(dataset, metric)| (dataset, Some(metric)));
    let home = find(catalogue, dataset)?;
    Ok(find_metric(home, metric)?.map_or(Place::Dataset(home.id), |metric| Place::Metric(home.id, metric.id)))
}

fn name_of(catalogue: &Catalogue, place: Place) -> String {
    let dataset = |id: DatasetId| catalogue.datasets().find(|dataset| dataset.id == id);
    let named = |id: DatasetId| dataset(id).map_or_else(|| "?".to_owned(), |dataset| dataset.name.to_string());
    let metric = |id: DatasetId, metric: MetricId| dataset(id)?.metrics().find(|known| known.id == metric).map(|metric| metric.name.to_string());
    match place {
        Place::Store => String::new(),
        Place::Dataset(id) => named(id),
        Place::Metric(id, of) => format!("{}::{}", named(id), metric(id, of).unwrap_or_else(|| "?".to_owned())),
    }
}

fn told_name(name: String) -> String {
    if name.is_empty() { "the store".to_owned() } else { name }
}

/// Points of every series of some datasets, those in memory among them.
type Held = BTreeMap<DatasetId, BTreeMap<SeriesId, SeriesCount>>;

/// Points of the series of a dataset, or of all.
fn held(state: &State, only: Option<DatasetId>) -> Result<Held, Problem> {
    let all: Vec<DatasetId> = state.store.catalogue().datasets().map(|dataset| dataset.id).collect();
    let wanted = all.into_iter().filter(|id| only.is_none_or(|only| only == *id));
    wanted.map(|id| Ok((id, state.store.counts(id)?))).collect()
}

fn warn_of_difference(place: &str) {
    tracing::warn!(place, "what was set live differs from the configuration file (`fenetre retention write-file`, `fenetre retention reset`)");
}

/// Says in the log where what was set live differs from what the configuration file says.
pub(crate) fn tell_differences(state: &State) {
    if state.config_file.is_some() {
        let catalogue = state.store.catalogue();
        state.store.policies().differing().into_iter().for_each(|place| warn_of_difference(&told_name(name_of(&catalogue, place))));
    }
}

/// Limits that are nearly reached, or passed.
pub(crate) fn warnings_now(state: &State) -> Result<Vec<String>, Problem> {
    Ok(info(state, None, false)?.warnings)
}

/// Everything, or what concerns one dataset.
pub(crate) fn info(state: &State, dataset: Option<&str>, with_metrics: bool) -> Result<RetentionInfo, Problem> {
    let now = now();
    let policies = state.store.policies();
    let report = state.store.storage(now)?;
    let sizes = if with_metrics { state.store.metric_sizes()? } else { Vec::new() };
    let places = {
        let catalogue = state.store.catalogue();
        let only = dataset.map(|name| find(&catalogue, name).map(|dataset| dataset.id)).transpose()?;
        let mut places = vec![Place::Store];
        for dataset in catalogue.datasets().filter(|dataset| only.is_none_or(|only| only == dataset.id)) {
            places.push(Place::Dataset(dataset.id));
            if with_metrics {
                places.extend(dataset.metrics().map(|metric| Place::Metric(dataset.id, metric.id)));
            }
        }
        places
    };
    // Who asks for metrics wants to see what came a moment ago, too.
    let held = if with_metrics { held(state, None)? } else { Held::new() };
    let sizes = Sizes::of(state, &sizes);
    let info = |place| place_info(state, &policies, place, &report, &sizes, &held, now);
    let places: Vec<PlaceInfo> = places.into_iter().map(info).collect::<Result<_, _>>()?;
    let differing = {
        let catalogue = state.store.catalogue();
        if state.config_file.is_some() {
            policies.differing().into_iter().map(|place| told_name(name_of(&catalogue, place))).collect()
        } else {
            Vec::new()
        }
    };
    let volume = state.store.volume().map(VolumeInfo::from);
    let mut warnings = warnings(&places, volume.as_ref(), state.store.is_full());
    warnings.extend(state.clock.leap());
    warnings.extend(report.faults.iter().map(|(_, fault)| fault.clone()));
    Ok(RetentionInfo { volume, places, differing, warnings, config_file: state.config_file.as_ref().map(|file| file.display().to_string()) })
}

/// From so much of a limit on people are warned.
const WARN_FROM: f64 = 0.8;

fn warnings(places: &[PlaceInfo], volume: Option<&VolumeInfo>, is_full: bool) -> Vec<String> {
    let mut warnings = Vec::new();
    for place in places.iter().filter(|place| place.noun != "metric") {
        let own = |limit: &LimitInfo| limit.place.as_deref() == Some(told_name(place.name.clone()).as_str());
        let Some(limit) = place.keep_under.limit.as_ref().filter(|_| own(&place.keep_under)) else { continue };
        let most = limit.parse::<ByteSize>().map_or(u64::MAX, |size| size.0);
        let share = place.bytes as f64 / most as f64;
        if share >= WARN_FROM {
            let name = told_name(place.name.clone());
            let percent = (share * 100.0).floor();
            warnings.push(format!("{name} takes {percent}% of its limit of {limit}: the oldest of it goes when that is passed"));
        }
    }
    if let Some(volume) = volume {
        let taken = volume.total.saturating_sub(volume.free) as f64;
        let usable = volume.total.saturating_sub(volume.reserve).max(1) as f64;
        if is_full || volume.free < volume.reserve {
            warnings.push("the reserve of the volume is touched: no more points are taken until there is space again".to_owned());
        } else if volume.free < volume.reserve.saturating_mul(2) && taken / usable >= WARN_FROM {
            let (free, reserve) = (ByteSize(volume.free).words(), ByteSize(volume.reserve).words());
            warnings.push(format!("the volume has {free} left, of which {reserve} are kept free: before that is touched, the oldest goes"));
        }
    }
    warnings
}

fn limit_info<T: ToString>(catalogue: &Catalogue, place: Place, found: Option<InForce<T>>) -> LimitInfo {
    let Some(found) = found else {
        return LimitInfo { limit: None, place: None, source: "built in".to_owned(), told: "no limit, built in".to_owned() };
    };
    let (limit, at) = (found.limit.to_string(), told_name(name_of(catalogue, found.place)));
    let (source, words) = match found.source {
        Source::File => ("file", "by the configuration file"),
        Source::Live => ("live", "set live"),
    };
    // How it is said there stands there.
    let told = if found.place == place { format!("{limit}, {words}") } else { format!("{limit}, inherited from {at}") };
    LimitInfo { limit: Some(limit), place: Some(at), source: source.to_owned(), told }
}

/// Names of places, and sizes of metrics by name. Computed once, because there may be thousands of places.
struct Sizes<'s> {
    names: BTreeMap<Place, String>,
    of_metrics: HashMap<String, &'s MetricSize>,
}

impl<'s> Sizes<'s> {
    fn of(state: &State, sizes: &'s [MetricSize]) -> Self {
        let catalogue = state.store.catalogue();
        let mut names = BTreeMap::from([(Place::Store, String::new())]);
        for dataset in catalogue.datasets() {
            names.insert(Place::Dataset(dataset.id), dataset.name.to_string());
            names.extend(dataset.metrics().map(|metric| (Place::Metric(dataset.id, metric.id), format!("{}::{}", dataset.name, metric.name))));
        }
        let named = |size: &'s MetricSize| Some((format!("{}::{}", size.dataset, size.metric.as_ref()?), size));
        Self { names, of_metrics: sizes.iter().filter_map(named).collect() }
    }
}

/// Points in memory count where `held` has their dataset.
fn place_info(
    state: &State,
    policies: &Policies,
    place: Place,
    report: &StorageReport,
    sizes: &Sizes<'_>,
    held: &Held,
    now: Nanos,
) -> Result<PlaceInfo, Problem> {
    let catalogue = state.store.catalogue();
    let tz = match place {
        Place::Store => TimeZone::UTC,
        Place::Dataset(id) | Place::Metric(id, _) => {
            let dataset = catalogue.datasets().find(|dataset| dataset.id == id);
            dataset.and_then(|dataset| zone(&dataset.definition.zone).ok()).unwrap_or(TimeZone::UTC)
        }
    };
    let limits = policies.in_force(place, now, &tz);
    let name = sizes.names.get(&place).cloned().unwrap_or_else(|| name_of(&catalogue, place));
    let of = |dataset: &&DatasetSize| match place {
        Place::Store => true,
        Place::Dataset(id) | Place::Metric(id, _) => dataset.id == id,
    };
    let datasets: Vec<&DatasetSize> = report.datasets.iter().filter(of).collect();
    let (noun, points, bytes, oldest, ahead) = match place {
        Place::Metric(..) => {
            let found = sizes.of_metrics.get(&name);
            ("metric", found.map_or(0, |size| size.points), found.map_or(0, |size| size.bytes), found.and_then(|size| size.first), None)
        }
        _ => {
            let packed: u64 = datasets.iter().map(|dataset| dataset.bytes()).sum();
            let beside = if place == Place::Store { report.catalogue_bytes + report.journal.bytes } else { 0 };
            let points = datasets.iter().flat_map(|dataset| &dataset.partitions).map(|partition| partition.points).sum();
            let noun = if place == Place::Store { "store" } else { "dataset" };
            let ahead = ahead(state, &datasets, packed + beside, &limits, now, &tz);
            (noun, points, packed + beside, datasets.iter().filter_map(|dataset| dataset.oldest).min(), Some(ahead))
        }
    };
    let (points, oldest) = counted(&catalogue, held, place, &name).unwrap_or((points, oldest));
    let mut info = PlaceInfo {
        noun: noun.to_owned(),
        keep_for: limit_info(&catalogue, place, limits.keep_for),
        keep_under: limit_info(&catalogue, place, limits.keep_under),
        live: policies.live.get(&place).copied().unwrap_or_default(),
        file: policies.file.get(&place).copied().unwrap_or_default(),
        name,
        points,
        packed_bytes: match place {
            Place::Metric(..) => bytes,
            _ => datasets.iter().flat_map(|dataset| &dataset.partitions).map(|partition| partition.bytes).sum(),
        },
        bytes,
        oldest: oldest.map(format_utc),
        outlook: ahead,
        next: None,
    };
    // Files are read for it, with nothing locked.
    drop(catalogue);
    if let (Place::Dataset(_), Some(dataset)) = (place, datasets.first()) {
        info.next = next(state, dataset, &limits, now, &tz)?;
    }
    Ok(info)
}

/// Points of a place and the earliest of them, where all of them were counted.
fn counted(catalogue: &Catalogue, held: &Held, place: Place, name: &str) -> Option<(u64, Option<Nanos>)> {
    let sum = |counts: &mut dyn Iterator<Item = &SeriesCount>| {
        counts
            .fold((0, None), |(points, first), count| (points + count.points, Some(first.map_or(count.first, |first: Nanos| first.min(count.first)))))
    };
    match place {
        Place::Store if held.is_empty() => None,
        Place::Store => Some(sum(&mut held.values().flat_map(BTreeMap::values))),
        Place::Dataset(id) => Some(sum(&mut held.get(&id)?.values())),
        Place::Metric(id, _) => {
            let counts = held.get(&id)?;
            let dataset = catalogue.datasets().find(|dataset| dataset.id == id)?;
            let metric = dataset.metric(name.split_once("::")?.1)?;
            Some(sum(&mut metric.series().filter_map(|series| counts.get(&series))))
        }
    }
}

/// What a plan lets go of, told by names and counted.
fn departure(state: &State, plan: &Expiry, report: &StorageReport) -> Result<Departure, Problem> {
    let catalogue_name = |place: Place| name_of(&state.store.catalogue(), place);
    let mut departure = Departure { bytes: plan.bytes(), is_full: plan.is_full, waiting: plan.waiting as u64, ..Departure::default() };
    let mut span: Option<(Nanos, Nanos)> = None;
    let mut widen = |first: Nanos, last: Nanos| span = Some(span.map_or((first, last), |(start, end)| (start.min(first), end.max(last))));
    for step in &plan.steps {
        let (what, why, bytes, for_good) = match step {
            Step::EmptyBin { id, bytes, why } => (format!("{id} of the bin"), why, *bytes, true),
            Step::Drop { dataset, partition, why, for_good } => {
                let of = report.datasets.iter().find(|size| size.id == *dataset);
                let range = TimeRange { start: partition.start, end: partition.last.saturating_add(1) };
                let is_whole = |size: &&PartitionSize| (size.start, size.last) == (partition.start, partition.last);
                let (points, held) = match of.and_then(|size| size.partitions.iter().find(is_whole)) {
                    Some(size) => (size.points, size.held),
                    // A part of a partition that is longer than its points are to be kept.
                    None => state.store.held_in(*dataset, range).map(|weight| (weight.points, weight.span))?,
                };
                departure.points += points;
                if let Some((first, last)) = held {
                    widen(first, last);
                }
                departure.metrics.extend(state.store.metrics_in(*dataset, range)?);
                (format!("{} / {}", catalogue_name(Place::Dataset(*dataset)), format_day(partition.start)), why, partition.bytes, *for_good)
            }
            Step::Trim { dataset, metric, before, bytes, why } => {
                let name = catalogue_name(Place::Metric(*dataset, *metric));
                departure.metrics.push(name.clone());
                let weight = state.store.weigh_trim(*dataset, *metric, *before)?;
                departure.points += weight.points;
                if let Some((first, last)) = weight.span {
                    widen(first, last);
                }
                (format!("{name} before {}", format_utc(*before)), why, *bytes, *why != fenetre_core::keeping::Why::Age)
            }
        };
        departure.parts.push(DepartingPart { what, why: why.describe().to_owned(), bytes, for_good });
    }
    departure.metrics.sort_unstable();
    departure.metrics.dedup();
    departure.span = span.map(|(first, last)| (format_utc(first), format_utc(last)));
    Ok(departure)
}
