//! Limits in force, where each comes from, and what is stored under it.

use std::collections::{BTreeMap, HashMap};

use fenetre_access::token::TokenState;
use fenetre_core::{
    catalogue::Catalogue,
    keeping::{ByteSize, InForce, Limits, Policies, Scope, Source},
    model::{DatasetId, SeriesId},
    time::{Nanos, SECOND, format_utc, zone},
    visibility::{Visibility, VisibleCatalogue},
};
use fenetre_store::{DatasetSize, MetricSize, SeriesCount, StorageReport};
use fenetre_wire::retention::{LimitInfo, PlaceInfo, RetentionInfo, VolumeInfo};
use jiff::tz::TimeZone;

use super::{
    names::{find, name_of, shown_name},
    outlook::{ahead, next},
    volume::volume_info,
};
use crate::{clock::now, problem::ApiError, state::State, warnings::Warning};

/// Points of every series by dataset, those in memory among them.
type Counts = BTreeMap<DatasetId, BTreeMap<SeriesId, SeriesCount>>;

/// The store as it was found at one time: sizes, points and names. Taken once for all places, because there may be thousands of them.
pub struct Survey {
    now: Nanos,
    /// Sizes of datasets and their files.
    pub report: StorageReport,
    names: BTreeMap<Scope, String>,
    of_metrics: HashMap<String, MetricSize>,
    counts: Counts,
}

impl Survey {
    /// Looks at every file. With `metrics`, the row of every block is read too.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn take(state: &State, now: Nanos, metrics: bool) -> Result<Self, ApiError> {
        let report = state.store.inspect().report(now)?;
        let sizes = if metrics { state.store.inspect().metrics()? } else { Vec::new() };
        let named = |size: MetricSize| Some((format!("{}::{}", size.dataset, size.metric.as_ref()?), size));
        let of_metrics = sizes.into_iter().filter_map(named).collect();
        state.store.with_catalogue(|catalogue| {
            let mut names = BTreeMap::from([(Scope::Store, String::new())]);
            for dataset in catalogue.datasets() {
                names.insert(Scope::Dataset(dataset.id), dataset.name.to_string());
                names.extend(dataset.metrics().map(|metric| (Scope::Metric(dataset.id, metric.id), format!("{}::{}", dataset.name, metric.name))));
            }
            Ok(Self { now, report, names, of_metrics, counts: Counts::new() })
        })
    }

    /// The same, with points that are not packed yet.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn with_waiting(mut self, state: &State) -> Result<Self, ApiError> {
        let all = self.report.datasets.iter().map(|dataset| dataset.id);
        self.counts = all.map(|id| Ok((id, state.store.inspect().counts(id)?))).collect::<Result<_, ApiError>>()?;
        Ok(self)
    }
}

/// Says in the log that a runtime setting differs from the configuration file.
pub fn warn_of_difference(place: &str) {
    tracing::warn!(place, "a runtime setting differs from the configuration file (`fenetre retention write-file` or `fenetre retention reset`)");
}

/// Reports in the log each place whose runtime setting differs from the configuration file.
pub fn log_differences(state: &State) {
    if state.config_file.is_some() {
        let differing = state.store.retention().policies().differing();
        state.store.with_catalogue(|catalogue| differing.into_iter().for_each(|place| warn_of_difference(&shown_name(name_of(catalogue, place)))));
    }
}

/// Limits that are nearly reached or exceeded, files that need attention, and the state of the clock.
pub fn warnings_now(state: &State) -> Result<Vec<Warning>, ApiError> {
    assemble(state, &Survey::take(state, now(), false)?, &Visibility::everything(), None, false).map(|(_, warnings)| warnings)
}

/// Everything that may be seen, or what concerns one dataset.
pub fn info(state: &State, visibility: &Visibility, dataset: Option<&str>, with_metrics: bool) -> Result<RetentionInfo, ApiError> {
    let survey = Survey::take(state, now(), with_metrics)?;
    // A list of metrics also counts points that are not packed yet.
    let survey = if with_metrics { survey.with_waiting(state)? } else { survey };
    assemble(state, &survey, visibility, dataset, with_metrics).map(|(info, _)| info)
}

/// The store and its datasets, as a survey found them.
pub fn info_of(state: &State, survey: &Survey, visibility: &Visibility) -> Result<RetentionInfo, ApiError> {
    assemble(state, survey, visibility, None, false).map(|(info, _)| info)
}

fn assemble(
    state: &State,
    survey: &Survey,
    visibility: &Visibility,
    dataset: Option<&str>,
    with_metrics: bool,
) -> Result<(RetentionInfo, Vec<Warning>), ApiError> {
    // Figures of the whole store would reveal datasets that the caller may not see.
    let sees_store = visibility.is_everything();
    let policies = state.store.retention().policies();
    let places = state.store.with_catalogue(|catalogue| {
        let only = dataset.map(|name| find(catalogue, name).map(|dataset| dataset.id)).transpose()?;
        let mut places = if sees_store { vec![Scope::Store] } else { Vec::new() };
        for dataset in VisibleCatalogue::new(catalogue, visibility).datasets().filter(|dataset| only.is_none_or(|only| only == dataset.id)) {
            places.push(Scope::Dataset(dataset.id));
            if with_metrics {
                places.extend(dataset.metrics().map(|metric| Scope::Metric(dataset.id, metric.id)));
            }
        }
        Ok::<_, ApiError>(places)
    })?;
    let info = |place| Ok((place, place_info(state, survey, &policies, place)?));
    let places: Vec<(Scope, PlaceInfo)> = places.into_iter().map(info).collect::<Result<_, ApiError>>()?;
    let differing = if state.config_file.is_some() && sees_store { policies.differing() } else { Vec::new() };
    let differing = state.store.with_catalogue(|catalogue| differing.into_iter().map(|place| shown_name(name_of(catalogue, place))).collect());
    let volume = state.store.volume().filter(|_| sees_store).map(volume_info);
    let mut warnings = warnings(&places, &policies, volume.as_ref(), state.store.is_full());
    if sees_store {
        warnings.extend(state.clock.leap().map(Warning::Clock));
        warnings.extend(survey.report.faults.iter().map(|(_, fault)| Warning::Fault(fault.clone())));
        warnings.extend(state.certificate.as_ref().and_then(|certificate| certificate.warning(survey.now)).map(Warning::Fault));
        warnings.extend(expiring_tokens(state, survey.now));
    }
    let config_file = state.config_file.as_ref().filter(|_| sees_store).map(|file| file.display().to_string());
    let texts = warnings.iter().map(ToString::to_string).collect();
    let places = places.into_iter().map(|(_, info)| info).collect();
    Ok((RetentionInfo { volume, places, differing, warnings: texts, config_file }, warnings))
}

/// A warning is given so long before the end of a token.
const TOKEN_WARNING: Nanos = 7 * 24 * 3_600 * SECOND;

/// Tokens that end soon, and those that have ended, are in use, and were not revoked.
fn expiring_tokens(state: &State, now: Nanos) -> Vec<Warning> {
    let active = state.gate.registry.tokens().into_iter().filter(|holder| holder.token.state == TokenState::Active);
    let soon = active.filter_map(|holder| Some((holder.token.name.clone(), holder.token.expires?)));
    let warning = |(name, expires): (String, Nanos)| Warning::Token { name, expires, is_over: expires <= now };
    soon.filter(|(_, expires)| (now - TOKEN_WARNING..now + TOKEN_WARNING).contains(expires)).map(warning).collect()
}

/// The share of a limit above which a warning is given.
const WARN_FROM: f64 = 0.8;

fn warnings(places: &[(Scope, PlaceInfo)], policies: &Policies, volume: Option<&VolumeInfo>, is_full: bool) -> Vec<Warning> {
    let mut warnings = Vec::new();
    for (place, info) in places.iter().filter(|(place, _)| !matches!(place, Scope::Metric(..))) {
        let Some(limit) = policies
            .at(*place)
            .keep_under
            .map(|found| found.limit)
            .filter(|_| policies.at(*place).keep_under.is_some_and(|found| found.place == *place))
        else {
            continue;
        };
        let share = info.bytes as f64 / limit.0 as f64;
        if share >= WARN_FROM {
            warnings.push(Warning::NearLimit { place: shown_name(info.name.clone()), percent: (share * 100.0) as u64, limit });
        }
    }
    if let Some(volume) = volume {
        let taken = volume.total.saturating_sub(volume.free) as f64;
        let usable = volume.total.saturating_sub(volume.reserve).max(1) as f64;
        if is_full || volume.free < volume.reserve {
            warnings.push(Warning::NoSpace);
        } else if volume.free < volume.reserve.saturating_mul(2) && taken / usable >= WARN_FROM {
            warnings.push(Warning::LittleSpace { free: ByteSize(volume.free), reserve: ByteSize(volume.reserve) });
        }
    }
    warnings
}

fn limit_info<T: ToString>(catalogue: &Catalogue, place: Scope, found: Option<InForce<T>>) -> LimitInfo {
    let Some(found) = found else {
        return LimitInfo { limit: None, place: None, source: "built in".to_owned(), text: "no limit, built in".to_owned() };
    };
    let (limit, at) = (found.limit.to_string(), shown_name(name_of(catalogue, found.place)));
    let (source, words) = match found.source {
        Source::File => ("file", "configuration file"),
        Source::Live => ("live", "runtime setting"),
    };
    // The other place shows its own source.
    let text = if found.place == place { format!("{limit}, {words}") } else { format!("{limit}, from {at}") };
    LimitInfo { limit: Some(limit), place: Some(at), source: source.to_owned(), text }
}

/// A place with its limits and what is stored in it.
///
/// # Errors
/// If files fail or are damaged.
pub fn place_info(state: &State, survey: &Survey, policies: &Policies, place: Scope) -> Result<PlaceInfo, ApiError> {
    let now = survey.now;
    let of = |dataset: &&DatasetSize| match place {
        Scope::Store => true,
        Scope::Dataset(id) | Scope::Metric(id, _) => dataset.id == id,
    };
    let datasets: Vec<&DatasetSize> = survey.report.datasets.iter().filter(of).collect();
    let tz = state.store.with_catalogue(|catalogue| match place {
        Scope::Store => TimeZone::UTC,
        Scope::Dataset(id) | Scope::Metric(id, _) => {
            let dataset = catalogue.dataset_by_id(id);
            dataset.and_then(|dataset| zone(&dataset.definition.zone).ok()).unwrap_or(TimeZone::UTC)
        }
    });
    let limits = policies.in_force(place, now, &tz);
    let mut info = state.store.with_catalogue(|catalogue| found(catalogue, survey, policies, &limits, place, &datasets));
    if !matches!(place, Scope::Metric(..)) {
        info.outlook = Some(ahead(state, &datasets, info.bytes, &limits, now, &tz));
    }
    if let (Scope::Dataset(_), Some(dataset)) = (place, datasets.first()) {
        info.next = next(state, dataset, &limits, now, &tz)?;
    }
    Ok(info)
}

/// What a survey found of a place, without a forecast.
fn found(catalogue: &Catalogue, survey: &Survey, policies: &Policies, limits: &Limits, place: Scope, datasets: &[&DatasetSize]) -> PlaceInfo {
    let Survey { report, names, of_metrics, counts, .. } = survey;
    let name = names.get(&place).cloned().unwrap_or_else(|| name_of(catalogue, place));
    let (kind, points, bytes, oldest) = match place {
        Scope::Metric(..) => {
            let size = of_metrics.get(&name);
            ("metric", size.map_or(0, |size| size.points), size.map_or(0, |size| size.bytes), size.and_then(|size| size.first))
        }
        _ => {
            let packed: u64 = datasets.iter().map(|dataset| dataset.bytes()).sum();
            let beside = if place == Scope::Store { report.catalogue_bytes + report.journal.bytes } else { 0 };
            let points = datasets.iter().flat_map(|dataset| &dataset.partitions).map(|partition| partition.points).sum();
            let kind = if place == Scope::Store { "store" } else { "dataset" };
            (kind, points, packed + beside, datasets.iter().filter_map(|dataset| dataset.oldest).min())
        }
    };
    let (points, oldest) = counted(catalogue, counts, place, &name).unwrap_or((points, oldest));
    PlaceInfo {
        kind: kind.to_owned(),
        keep_for: limit_info(catalogue, place, limits.keep_for),
        keep_under: limit_info(catalogue, place, limits.keep_under),
        live: policies.live.get(&place).copied().unwrap_or_default(),
        file: policies.file.get(&place).copied().unwrap_or_default(),
        name,
        points,
        packed_bytes: match place {
            Scope::Metric(..) => bytes,
            _ => datasets.iter().flat_map(|dataset| &dataset.partitions).map(|partition| partition.bytes).sum(),
        },
        bytes,
        oldest: oldest.map(format_utc),
        outlook: None,
        next: None,
    }
}

/// Points of a place and the earliest of them, where all of them were counted.
fn counted(catalogue: &Catalogue, counts: &Counts, place: Scope, name: &str) -> Option<(u64, Option<Nanos>)> {
    let sum = |all: &mut dyn Iterator<Item = &SeriesCount>| {
        all.fold((0, None), |(points, first), count| (points + count.points, Some(first.map_or(count.first, |first: Nanos| first.min(count.first)))))
    };
    match place {
        Scope::Store if counts.is_empty() => None,
        Scope::Store => Some(sum(&mut counts.values().flat_map(BTreeMap::values))),
        Scope::Dataset(id) => Some(sum(&mut counts.get(&id)?.values())),
        Scope::Metric(id, _) => {
            let of_series = counts.get(&id)?;
            let dataset = catalogue.dataset_by_id(id)?;
            let metric = dataset.metric(name.split_once("::")?.1)?;
            Some(sum(&mut metric.series().filter_map(|series| of_series.get(&series))))
        }
    }
}
