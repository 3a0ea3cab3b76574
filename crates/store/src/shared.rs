//! What readers, the committer and the packer share: the catalogue, the head, and the partitions that are there.

use std::{collections::BTreeMap, fs, path::PathBuf, sync::Arc, time::Duration};

use fenetre_core::{
    catalogue::Catalogue,
    model::DatasetId,
    time::{Nanos, parse_rfc3339},
};
use parking_lot::RwLock;

use crate::{
    batch::SharedCatalogue,
    error::{Context, StoreError},
    files::{Files, partition_start},
    head::Head,
    partition::Partition,
};

/// When points are packed, and how many may wait for it. A point in memory takes 16 bytes.
#[derive(Clone, Debug)]
pub struct Options {
    /// So many points in memory are packed.
    pub pack_points: usize,
    /// Points are packed after so long at the latest.
    pub pack_after: Duration,
    /// So many points in memory, and batches are refused until some are packed.
    pub most_points: usize,
}

impl Default for Options {
    fn default() -> Self {
        Self { pack_points: 1_000_000, pack_after: Duration::from_secs(3_600), most_points: 4_000_000 }
    }
}

/// What readers, the committer and the packer share.
pub struct Shared {
    pub files: Files,
    pub options: Options,
    pub catalogue: SharedCatalogue,
    pub head: RwLock<Head>,
    partitions: RwLock<BTreeMap<(DatasetId, Nanos), Arc<Partition>>>,
}

impl Shared {
    /// Finds the partitions that are there.
    pub fn open(files: Files, options: Options, catalogue: SharedCatalogue, head: Head) -> Result<Self, StoreError> {
        let partitions = find_partitions(&files, &catalogue.read())?;
        Ok(Self { files, options, catalogue, head: RwLock::new(head), partitions: RwLock::new(partitions) })
    }

    /// The partitions of a dataset, oldest first.
    pub fn partitions_of(&self, dataset: DatasetId) -> Vec<Arc<Partition>> {
        let partitions = self.partitions.read();
        partitions.range((dataset, Nanos::MIN)..=(dataset, Nanos::MAX)).map(|(_, partition)| Arc::clone(partition)).collect()
    }

    /// The partition that begins at `start`, made where it is new.
    pub fn partition(&self, dataset: &str, start: Nanos) -> Result<Arc<Partition>, StoreError> {
        let id = self.catalogue.read().dataset(dataset).map(|dataset| dataset.id);
        let id = id.ok_or_else(|| StoreError::no_dataset(&self.catalogue.read(), dataset))?;
        if let Some(partition) = self.partitions.read().get(&(id, start)) {
            return Ok(Arc::clone(partition));
        }
        let path = self.files.partition(dataset, start);
        let folder = self.files.dataset(dataset);
        fs::create_dir_all(&folder).at("create the folder", folder)?;
        let partition = Arc::new(Partition::new(start, path));
        partition.open()?;
        Ok(Arc::clone(self.partitions.write().entry((id, start)).or_insert(partition)))
    }
}

/// The partition files that are there, by the date in their names.
fn find_partitions(files: &Files, catalogue: &Catalogue) -> Result<BTreeMap<(DatasetId, Nanos), Arc<Partition>>, StoreError> {
    let mut partitions = BTreeMap::new();
    for dataset in catalogue.datasets() {
        let folder = files.dataset(&dataset.name);
        if !folder.exists() {
            continue;
        }
        for entry in fs::read_dir(&folder).at("read the folder", &folder)? {
            let path: PathBuf = entry.at("read the folder", &folder)?.path();
            let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            let Some((date, "7d.db")) = name.split_once('_') else { continue };
            // The first partition of all begins within its first day, where the range of instants does.
            let start = parse_rfc3339(&format!("{date}T00:00:00Z")).map_or(Nanos::MIN, partition_start);
            partitions.insert((dataset.id, start), Arc::new(Partition::new(start, path)));
        }
    }
    Ok(partitions)
}
