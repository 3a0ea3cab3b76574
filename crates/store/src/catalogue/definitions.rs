//! What the catalogue learns: definitions that people give, and series, metrics, words and layouts that arrive. Each is on stable
//! storage before memory knows it, and before any point refers to it.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

use fenetre_core::{
    catalogue::{Catalogue, Metric},
    model::{DatasetDefinition, DatasetId, MetricDefinition, MetricId, RollupPolicy, SeriesId, TagDefinition, check_dataset_name, check_name},
    suggest::closest,
    time::{Nanos, zone},
};
use parking_lot::{Mutex, RwLock};
use serde::{Deserialize, Serialize};

use crate::{
    catalogue::{
        change::Change,
        documents::{Document, DocumentKind, Kept},
        records::{BinnedMetric, Records, record_of},
    },
    error::StoreError,
};

/// Points of a metric that thinning has seen, and those of them that stayed.
#[derive(Clone, Copy, Default, Serialize, Deserialize)]
struct ThinningCount(u64, u64);

impl Document for ThinningCount {
    const KIND: DocumentKind = DocumentKind::ThinningCount;
}

/// Points that were packed, and bytes of their blocks.
#[derive(Clone, Copy, Default, Serialize, Deserialize)]
struct PackedVolume(u64, u64);

impl Document for PackedVolume {
    const KIND: DocumentKind = DocumentKind::PackedVolume;
}

/// How often a partition was edited.
#[derive(Serialize, Deserialize)]
struct PartitionEdits(u64);

impl Document for PartitionEdits {
    const KIND: DocumentKind = DocumentKind::PartitionEdits;
}

/// Points that are there must stay what they are: of a kind like the new one, and in its unit.
fn check_points_fit(name: &str, metric: &Metric, wanted: &MetricDefinition, relabels: bool) -> Result<(), StoreError> {
    let series = metric.series_count();
    match Change::between(&metric.definition, wanted) {
        Change::Nothing => Ok(()),
        Change::Unit { .. } if relabels => Ok(()),
        Change::Unit { from, to } => {
            let to = to.unwrap_or_else(|| "no unit".to_owned());
            Err(StoreError::Definition(format!(
                "`{name}` has {series} series with points in {from}, and a definition cannot change them to {to}. Convert them (`fenetre metrics define {name} … --convert`) or, if the values were in {to} all along, keep them (`--relabel`)"
            )))
        }
        Change::Kind { from, to } => Err(StoreError::Definition(format!(
            "`{name}` is a {from} with {series} series, and a definition cannot make it a {to}. Convert its points: `fenetre metrics define {name} --kind {to} --convert`"
        ))),
    }
}

/// The catalogue, shared.
pub type SharedCatalogue = Arc<RwLock<Catalogue>>;

/// Points of each dataset that were packed, and bytes of their blocks.
pub type Written = BTreeMap<DatasetId, (u64, u64)>;

/// Points that came of each metric that is thinned, and those of them that stayed.
pub type Savings = BTreeMap<MetricId, (u64, u64)>;

/// Ids of a metric's series and of their parts.
pub fn series_of(catalogue: &SharedCatalogue, dataset: DatasetId, metric: MetricId) -> Vec<SeriesId> {
    let catalogue = catalogue.read();
    let found = catalogue.dataset_by_id(dataset).and_then(|dataset| Some(dataset.series_with_parts(dataset.metric_by_id(metric)?)));
    found.unwrap_or_default()
}

/// The records on disk and the index of them in memory, changed together, one change at a time.
pub struct Definitions {
    pub(crate) records: Mutex<Records>,
    pub(crate) catalogue: SharedCatalogue,
    store: i64,
}

impl Definitions {
    pub fn new(records: Records, catalogue: SharedCatalogue) -> Result<Self, StoreError> {
        Ok(Self { store: records.store()?, records: Mutex::new(records), catalogue })
    }

    /// The number of this store, which its files carry.
    pub fn store(&self) -> i64 {
        self.store
    }

    /// SQLite's own check of the catalogue's file: faults, one sentence each.
    pub fn check_integrity(&self) -> Result<Vec<String>, StoreError> {
        self.records.lock().check_integrity()
    }

    /// Notes that the head has begun a generation.
    pub fn set_generation(&self, number: u64) -> Result<(), StoreError> {
        self.records.lock().change(|changes| changes.set_generation(number))
    }

    /// Adds a dataset, or changes its definition. Returns whether it is new.
    pub fn put_dataset(&self, name: &str, definition: &DatasetDefinition) -> Result<bool, StoreError> {
        check_dataset_name(name).map_err(|error| StoreError::Definition(format!("the name `{name}` {error}")))?;
        zone(&definition.zone).map_err(|error| StoreError::Definition(error.to_string()))?;
        let mut records = self.records.lock();
        let is_new = self.catalogue.read().dataset(name).is_none();
        let (id, folder) = records.change(|changes| {
            if is_new {
                changes.forget_old_name("dataset", DatasetId(0), name)?;
            }
            changes.put_dataset(name, definition)
        })?;
        self.catalogue.write().put_dataset(id, name, &folder, definition.clone());
        Ok(is_new)
    }

    /// Whether metrics may become what definitions say; see [`Self::put_metrics`]. Gives the dataset, and which of them are known.
    pub fn check_metrics(&self, dataset: &str, metrics: &[(String, MetricDefinition)], relabels: bool) -> Result<(DatasetId, Vec<bool>), StoreError> {
        let catalogue = self.catalogue.read();
        let found = catalogue.dataset(dataset).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?;
        let mut known = Vec::with_capacity(metrics.len());
        for (name, definition) in metrics {
            let fault = |reason: String| StoreError::Definition(format!("the metric `{name}`: {reason}"));
            check_name(name).map_err(|error| fault(format!("the name {error}")))?;
            definition.check().map_err(fault)?;
            let metric = found.metric(name);
            if let Some(metric) = metric.filter(|metric| metric.series_count() > 0) {
                check_points_fit(name, metric, definition, relabels)?;
            }
            known.push(metric.is_some());
        }
        Ok((found.id, known))
    }

    /// Defines metrics, before or after their first points: all of them or none. Returns which are new. With `relabels`, units of points that are
    /// there may change without their values.
    pub fn put_metrics(&self, dataset: &str, metrics: Vec<(String, MetricDefinition)>, relabels: bool) -> Result<Vec<bool>, StoreError> {
        let mut records = self.records.lock();
        let (id, known) = self.check_metrics(dataset, &metrics, relabels)?;
        let ids = records.change(|changes| {
            let put = |((name, definition), is_known): (&(String, MetricDefinition), &bool)| {
                if !is_known {
                    changes.forget_old_name("metric", id, name)?;
                }
                changes.put_metric(id, name, definition)
            };
            metrics.iter().zip(&known).map(put).collect::<rusqlite::Result<Vec<_>>>()
        })?;
        if let Some(dataset) = self.catalogue.write().dataset_mut(dataset) {
            metrics.into_iter().zip(ids).for_each(|((name, definition), id)| dataset.put_metric(id, &name, definition));
        }
        Ok(known.into_iter().map(|known| !known).collect())
    }

    /// Stores a rollup policy of a dataset, or removes it if `policy` is none. Returns the earlier one.
    pub fn put_rollup(&self, dataset: &str, name: &str, policy: Option<&RollupPolicy>) -> Result<(DatasetId, Option<RollupPolicy>), StoreError> {
        check_dataset_name(name).map_err(|error| StoreError::Definition(format!("the policy's name {error}")))?;
        let mut records = self.records.lock();
        let id = self.dataset_id(dataset)?;
        let document = format!("{}.{name}", id.0);
        records.change(|changes| match policy {
            Some(policy) => changes.put_document(&document, policy, 0),
            None => changes.remove_document::<RollupPolicy>(&document).map(|_| ()),
        })?;
        let mut catalogue = self.catalogue.write();
        let Some(found) = catalogue.dataset_mut(dataset) else { return Ok((id, None)) };
        let before = match policy {
            Some(policy) => found.rollups.insert(name.to_owned(), policy.clone()),
            None => found.rollups.remove(name),
        };
        Ok((id, before))
    }

    /// Defines a tag, before or after the first series that carries it. Returns whether it was defined before.
    pub fn put_tag(&self, dataset: &str, key: &str, definition: TagDefinition) -> Result<bool, StoreError> {
        check_name(key).map_err(|error| StoreError::Definition(format!("the tag's key {error}")))?;
        definition.check().map_err(StoreError::Definition)?;
        let mut records = self.records.lock();
        let id = self.dataset_id(dataset)?;
        records.change(|changes| changes.put_tag(id, key, &definition))?;
        let mut catalogue = self.catalogue.write();
        let known = catalogue.dataset_mut(dataset).and_then(|dataset| dataset.tag_definitions.insert(key.to_owned(), definition));
        Ok(known.is_none())
    }

    fn dataset_id(&self, name: &str) -> Result<DatasetId, StoreError> {
        let catalogue = self.catalogue.read();
        catalogue.dataset(name).map(|dataset| dataset.id).ok_or_else(|| StoreError::no_dataset(&catalogue, name))
    }

    fn metric_id(&self, dataset: &str, name: &str) -> Result<(DatasetId, MetricId), StoreError> {
        let catalogue = self.catalogue.read();
        let dataset = catalogue.dataset(dataset).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?;
        let metric = dataset.metric(name).ok_or_else(|| {
            let hint =
                closest(name, dataset.metrics().map(|metric| &*metric.name)).map_or(String::new(), |known| format!(": did you mean `{known}`?"));
            StoreError::Missing(format!("the dataset `{}` has no metric `{name}`{hint}", dataset.name))
        })?;
        Ok((dataset.id, metric.id))
    }

    /// Rebuilds the index in memory, after a change that affects many parts of it.
    fn reload(&self, records: &Records) -> Result<(), StoreError> {
        let fresh = records.load()?;
        *self.catalogue.write() = fresh;
        Ok(())
    }

    /// Gives a dataset another name.
    pub fn rename_dataset(&self, old: &str, name: &str) -> Result<(), StoreError> {
        check_dataset_name(name).map_err(|error| StoreError::Definition(format!("the name `{name}` {error}")))?;
        let mut records = self.records.lock();
        let id = self.dataset_id(old)?;
        if self.catalogue.read().dataset(name).is_some() {
            return Err(StoreError::Definition(format!("the dataset `{name}` already exists")));
        }
        records.change(|changes| changes.rename_dataset(id, old, name))?;
        self.reload(&records)
    }

    /// Gives a metric another name.
    pub fn rename_metric(&self, dataset: &str, old: &str, name: &str) -> Result<(), StoreError> {
        check_name(name).map_err(|error| StoreError::Definition(format!("the metric's name {error}")))?;
        let mut records = self.records.lock();
        let (home, id) = self.metric_id(dataset, old)?;
        if self.catalogue.read().dataset(dataset).is_some_and(|dataset| dataset.metric(name).is_some()) {
            return Err(StoreError::Definition(format!("the dataset `{dataset}` already has a metric `{name}`")));
        }
        records.change(|changes| changes.rename_metric(home, id, old, name))?;
        self.reload(&records)
    }

    /// Gives a tag another key, in all series of a dataset.
    pub fn rename_tag(&self, dataset: &str, old: &str, key: &str) -> Result<(), StoreError> {
        check_name(key).map_err(|error| StoreError::Definition(format!("the tag's key {error}")))?;
        let mut records = self.records.lock();
        let id = self.dataset_id(dataset)?;
        {
            let catalogue = self.catalogue.read();
            let found = catalogue.dataset(dataset).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?;
            if !found.knows_tag(old) {
                return Err(StoreError::Missing(format!("the dataset `{dataset}` has no tag `{old}`")));
            }
            if found.knows_tag(key) {
                return Err(StoreError::Definition(format!("the dataset `{dataset}` already has a tag `{key}`, and two tags cannot be merged")));
            }
        }
        records.change(|changes| changes.rename_tag(id, old, key))?;
        self.reload(&records)
    }

    /// Removes an old name: of a dataset if `dataset` is none, else of a metric or tag in it. Returns whether it existed.
    pub fn forget_old_name(&self, noun: &str, dataset: Option<&str>, name: &str) -> Result<bool, StoreError> {
        let mut records = self.records.lock();
        let home = dataset.map_or(Ok(DatasetId(0)), |dataset| self.dataset_id(dataset))?;
        let did = records.change(|changes| changes.forget_old_name(noun, home, name))?;
        self.reload(&records)?;
        Ok(did)
    }

    /// Puts a metric into the bin, and gives its name, its old names and a definition to another one.
    pub fn exchange_metric(&self, dataset: &str, name: &str, other: &str, definition: &MetricDefinition, now: Nanos) -> Result<(), StoreError> {
        let mut records = self.records.lock();
        let ((home, old), (_, new)) = (self.metric_id(dataset, name)?, self.metric_id(dataset, other)?);
        records.change(|changes| {
            changes.bin_metric(old, name, now)?;
            changes.hand_over_old_names(old, new)?;
            changes.rename_metric(home, new, other, name)?;
            changes.forget_old_name("metric", home, other)?;
            changes.put_metric(home, name, definition)
        })?;
        self.reload(&records)
    }

    /// Puts a metric into the bin: nobody sees it or its points any more.
    pub fn bin_metric(&self, dataset: &str, name: &str, now: Nanos) -> Result<(), StoreError> {
        let mut records = self.records.lock();
        let (_, id) = self.metric_id(dataset, name)?;
        records.change(|changes| changes.bin_metric(id, name, now))?;
        self.reload(&records)
    }

    /// Metrics in the bin, the oldest first.
    pub fn binned_metrics(&self) -> Result<Vec<BinnedMetric>, StoreError> {
        self.records.lock().binned_metrics()
    }

    /// Brings a metric back from the bin, under its name or another one.
    pub fn restore_metric(&self, metric: &BinnedMetric, name: &str) -> Result<(), StoreError> {
        check_name(name).map_err(|error| StoreError::Definition(format!("the metric's name {error}")))?;
        let mut records = self.records.lock();
        let is_taken = self.catalogue.read().datasets().any(|dataset| dataset.id == metric.dataset && dataset.metric(name).is_some());
        if is_taken {
            return Err(StoreError::Definition(format!("another metric is called `{name}` now: restore it under another name")));
        }
        records.change(|changes| changes.unbin_metric(metric.id, name))?;
        self.reload(&records)
    }

    /// Series of a metric in the bin, and ids of their parts.
    pub fn series_of(&self, metric: &BinnedMetric) -> Result<Vec<SeriesId>, StoreError> {
        self.records.lock().series_of(metric.id)
    }

    /// Erases a metric of the bin; its points are removed already.
    pub fn erase_metric(&self, metric: &BinnedMetric) -> Result<(), StoreError> {
        self.records.lock().change(|changes| changes.erase_metric(metric.id))
    }

    /// The error for an unusable document.
    pub fn damaged(&self, kind: DocumentKind, name: &str, error: &dyn std::fmt::Display) -> StoreError {
        StoreError::Record { path: self.records.lock().path().to_owned(), record: record_of(kind, name), reason: error.to_string() }
    }

    /// Removes documents that are only names, and adds others, in one commit.
    pub fn replace_names<'n, D: Document + Default>(
        &self,
        gone: impl Iterator<Item = &'n String>,
        new: impl Iterator<Item = &'n String>,
    ) -> Result<(), StoreError> {
        self.records.lock().change(|changes| {
            for name in gone {
                changes.remove_document::<D>(name)?;
            }
            for name in new {
                changes.put_document(name, &D::default(), 0)?;
            }
            Ok(())
        })
    }

    /// Documents of a kind, by name.
    ///
    /// # Errors
    /// [`StoreError::Record`] for one that cannot be read.
    pub fn documents<D: Document>(&self) -> Result<Vec<Kept<D>>, StoreError> {
        self.records.lock().documents()
    }

    /// Names of the documents of a kind, whether they can be read or not.
    pub fn document_names(&self, kind: DocumentKind) -> Result<Vec<String>, StoreError> {
        self.records.lock().document_names(kind)
    }

    /// A document by its name.
    ///
    /// # Errors
    /// [`StoreError::Record`] if it cannot be read.
    pub fn document<D: Document>(&self, name: &str) -> Result<Option<Kept<D>>, StoreError> {
        self.records.lock().document(name)
    }

    /// Keeps a document under its name.
    pub fn put_document<D: Document>(&self, name: &str, body: &D, changed: Nanos) -> Result<(), StoreError> {
        self.records.lock().change(|changes| changes.put_document(name, body, changed))
    }

    /// Removes a document; returns whether there was one.
    pub fn remove_document<D: Document>(&self, name: &str) -> Result<bool, StoreError> {
        self.records.lock().change(|changes| changes.remove_document::<D>(name))
    }

    /// Adds to the counts of thinning, in a document per metric.
    pub fn add_savings(&self, savings: &Savings) -> Result<(), StoreError> {
        if savings.is_empty() {
            return Ok(());
        }
        let known: HashMap<String, ThinningCount> = self.documents()?.into_iter().map(|kept| (kept.name, kept.body)).collect();
        self.records.lock().change(|changes| {
            savings.iter().try_for_each(|(metric, (came, stayed))| {
                let name = metric.0.to_string();
                let ThinningCount(before, kept) = known.get(&name).copied().unwrap_or_default();
                changes.put_document(&name, &ThinningCount(before + came, kept + stayed), 0)
            })
        })
    }

    /// Adds to the volume packed today, in a document per day and dataset; old days are removed.
    pub fn add_written(&self, written: &Written) -> Result<(), StoreError> {
        if written.is_empty() {
            return Ok(());
        }
        let today = today();
        let known: Vec<Kept<PackedVolume>> = self.documents()?;
        self.records.lock().change(|changes| {
            for (dataset, (points, bytes)) in written {
                let name = format!("{today}.{}", dataset.0);
                let before = known.iter().find(|kept| kept.name == name).map_or(PackedVolume::default(), |kept| kept.body);
                changes.put_document(&name, &PackedVolume(before.0 + points, before.1 + bytes), 0)?;
            }
            let is_old = |name: &&String| day_of(name).is_none_or(|day| day + WRITTEN_DAYS < today);
            for name in known.iter().map(|kept| &kept.name).filter(is_old) {
                changes.remove_document::<PackedVolume>(name)?;
            }
            Ok(())
        })
    }

    /// Points and bytes of a dataset that were packed in the last so many days, today among them.
    pub fn written(&self, dataset: DatasetId, days: i64) -> Result<(u64, u64), StoreError> {
        let today = today();
        let is_asked = |name: &str| {
            let of = name.split_once('.').and_then(|(_, id)| id.parse().ok());
            of == Some(dataset.0) && day_of(name).is_some_and(|day| day + days > today)
        };
        let all: Vec<Kept<PackedVolume>> = self.documents()?;
        let volumes = all.iter().filter(|kept| is_asked(&kept.name)).map(|kept| kept.body);
        Ok(volumes.fold((0, 0), |sum, volume| (sum.0 + volume.0, sum.1 + volume.1)))
    }

    /// Notes that points are about to be taken out of a partition, or put back: backups that hold it as it was are no longer of it.
    pub fn note_edit(&self, partition: &str) -> Result<(), StoreError> {
        let next = self.next_edit(partition)?;
        self.put_document(partition, &next, 0)
    }

    fn next_edit(&self, partition: &str) -> Result<PartitionEdits, StoreError> {
        Ok(PartitionEdits(self.document::<PartitionEdits>(partition)?.map_or(0, |kept| kept.body.0) + 1))
    }

    /// The same, and keeps a document in the same commit.
    pub fn note_edit_with<D: Document>(&self, partition: &str, name: &str, body: &D, changed: Nanos) -> Result<(), StoreError> {
        let next = self.next_edit(partition)?;
        self.records.lock().change(|changes| {
            changes.put_document(partition, &next, 0)?;
            changes.put_document(name, body, changed)
        })
    }

    /// How often points were taken out of partitions or put back, by their files below the store's directory.
    pub fn edits(&self) -> Result<HashMap<String, u64>, StoreError> {
        Ok(self.documents::<PartitionEdits>()?.into_iter().map(|kept| (kept.name, kept.body.0)).collect())
    }

    /// Points of each metric that thinning has seen, and those of them that stayed.
    pub fn savings(&self) -> Result<Savings, StoreError> {
        let of = |Kept { name, body: ThinningCount(came, stayed), .. }: Kept<ThinningCount>| {
            let metric = name.parse().map_err(|error| self.damaged(ThinningCount::KIND, &name, &error))?;
            Ok((MetricId(metric), (came, stayed)))
        };
        self.documents()?.into_iter().map(of).collect()
    }

    /// Copies the records into a new file, as they are at this moment.
    pub fn copy_to(&self, path: &std::path::Path) -> Result<(), StoreError> {
        self.records.lock().copy_to(path)
    }
}

/// So many days of what was written are remembered.
const WRITTEN_DAYS: i64 = 60;

/// Days since 1970, in UTC.
fn today() -> i64 {
    let passed = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    (passed.as_secs() / 86_400).cast_signed()
}

fn day_of(name: &str) -> Option<i64> {
    name.split_once('.')?.0.parse().ok()
}
