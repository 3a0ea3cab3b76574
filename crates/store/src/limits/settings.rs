//! Retention limits: those of the configuration file, by name, and live ones, by id, stored in the catalogue.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

use fenetre_core::{
    catalogue::Catalogue,
    keeping::{LimitSettings, Limits, Policies, Scope},
    model::{DatasetId, MetricId},
    time::{Nanos, zone},
};
use jiff::tz::TimeZone;
use parking_lot::RwLock;

use crate::{
    catalogue::{
        definitions::{Definitions, SharedCatalogue},
        documents::{Document, Kept},
    },
    error::StoreError,
    limits::horizons::Horizons,
    options::FileRetention,
};

/// Limits of the file, and live ones.
pub struct RetentionSettings {
    file: RwLock<Arc<FileRetention>>,
    live: RwLock<Arc<BTreeMap<Scope, LimitSettings>>>,
}

fn name_of(place: Scope) -> String {
    match place {
        Scope::Store => "store".to_owned(),
        Scope::Dataset(dataset) => format!("d{}", dataset.0),
        Scope::Metric(dataset, metric) => format!("d{}.m{}", dataset.0, metric.0),
    }
}

fn place_of(name: &str) -> Option<Scope> {
    if name == "store" {
        return Some(Scope::Store);
    }
    let id = |text: &str, mark: char| text.strip_prefix(mark)?.parse().ok();
    match name.split_once('.') {
        None => id(name, 'd').map(|dataset| Scope::Dataset(DatasetId(dataset))),
        Some((dataset, metric)) => Some(Scope::Metric(DatasetId(id(dataset, 'd')?), MetricId(id(metric, 'm')?))),
    }
}

impl RetentionSettings {
    /// Reads the live limits.
    pub fn open(definitions: &Definitions, file: FileRetention) -> Result<Self, StoreError> {
        let setting = |Kept { name, body, .. }: Kept<LimitSettings>| {
            let scope = place_of(&name).ok_or_else(|| definitions.damaged(LimitSettings::KIND, &name, &"it names no scope"))?;
            Ok::<_, StoreError>((scope, body))
        };
        let live = definitions.documents()?.into_iter().map(setting).collect::<Result<_, _>>()?;
        Ok(Self { file: RwLock::new(Arc::new(file)), live: RwLock::new(Arc::new(live)) })
    }

    /// The file was changed.
    pub fn set_file(&self, file: FileRetention) {
        *self.file.write() = Arc::new(file);
    }

    /// The live limits of a scope.
    pub fn live(&self, place: Scope) -> LimitSettings {
        self.live.read().get(&place).copied().unwrap_or_default()
    }

    /// Replaces the live limits of a scope. Empty ones remove it, and the file's apply again.
    pub fn set(&self, definitions: &Definitions, place: Scope, limits: LimitSettings, now: Nanos) -> Result<(), StoreError> {
        let mut live = self.live.write();
        let mut changed = BTreeMap::clone(&live);
        if limits.is_nothing() {
            definitions.remove_document::<LimitSettings>(&name_of(place))?;
            changed.remove(&place);
        } else {
            definitions.put_document(&name_of(place), &limits, now)?;
            changed.insert(place, limits);
        }
        *live = Arc::new(changed);
        Ok(())
    }
}

impl RetentionSettings {
    /// All limits, those of the file by the ids of their names.
    pub fn policies(&self, catalogue: &SharedCatalogue) -> Policies {
        let file = Arc::clone(&self.file.read());
        let mut by_place = BTreeMap::new();
        let mut put = |place: Scope, limits: LimitSettings| {
            if !limits.is_nothing() {
                by_place.insert(place, limits);
            }
        };
        put(Scope::Store, file.store);
        let catalogue = catalogue.read();
        for (name, of_dataset) in &file.datasets {
            let Some(dataset) = catalogue.dataset_by_any_name(name) else { continue };
            put(Scope::Dataset(dataset.id), of_dataset.limits);
            for (name, limits) in &of_dataset.metrics {
                if let Some(metric) = dataset.metric_by_any_name(name) {
                    put(Scope::Metric(dataset.id, metric.id), *limits);
                }
            }
        }
        Policies { file: by_place, live: BTreeMap::clone(&self.live.read()) }
    }

    /// First instants that are kept of a dataset and of its metrics.
    pub fn horizons(&self, catalogue: &SharedCatalogue, id: DatasetId, now: Nanos) -> Horizons {
        if **self.file.read() == FileRetention::default() && self.live.read().is_empty() {
            return Horizons::default();
        }
        let policies = self.policies(catalogue);
        let tz = zone_of(&catalogue.read(), id);
        let at = |place: Scope| horizon(&policies.in_force(place, now, &tz), now, &tz);
        let of_metric = |place: Scope| match place {
            Scope::Metric(dataset, metric) if dataset == id => Some((metric, at(place)?)),
            _ => None,
        };
        let metrics: HashMap<MetricId, Nanos> = places(&policies).into_iter().filter_map(of_metric).collect();
        Horizons { dataset: at(Scope::Dataset(id)), metrics }
    }
}

/// Places with limits of their own, by file or live.
pub fn places(policies: &Policies) -> Vec<Scope> {
    let mut places: Vec<Scope> = policies.file.keys().chain(policies.live.keys()).copied().collect();
    places.sort_unstable();
    places.dedup();
    places
}

/// The calendar of a dataset.
pub fn zone_of(catalogue: &Catalogue, id: DatasetId) -> TimeZone {
    let dataset = catalogue.dataset_by_id(id);
    dataset.and_then(|dataset| zone(&dataset.definition.zone).ok()).unwrap_or(TimeZone::UTC)
}

/// First instant that is kept under some limits.
pub fn horizon(limits: &Limits, now: Nanos, tz: &TimeZone) -> Option<Nanos> {
    limits.keep_for.map(|found| found.limit.before(now, tz))
}
