//! What the store weighs on the disk, as the file system counts it.

use actix_web::{get, web};
use fenetre_core::time::format_utc;
use fenetre_store::{PartitionSize, StorageReport};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{
    access::{Access, Read},
    problem::Problem,
    state::{Shared, blocking},
};

/// The store on the disk.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StorageInfo {
    /// Its directory.
    pub path: String,
    /// Bytes of everything.
    pub bytes: u64,
    /// Bytes of the catalogue.
    pub catalogue_bytes: u64,
    /// Bytes of the journal.
    pub journal_bytes: u64,
    /// Points in the journal and in memory that are not packed into blocks yet.
    pub waiting_points: u64,
    /// Datasets, by name.
    pub datasets: Vec<DatasetStorage>,
}

/// A dataset on the disk.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DatasetStorage {
    /// Its name.
    pub name: String,
    /// Bytes of its partitions.
    pub bytes: u64,
    /// Points in its partitions.
    pub points: u64,
    /// Its partitions, oldest first.
    pub partitions: Vec<PartitionStorage>,
}

/// A partition on the disk.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PartitionStorage {
    /// The file.
    pub path: String,
    /// First instant of its span.
    pub start: String,
    /// Last instant of its span.
    pub last: String,
    /// Bytes of the file.
    pub bytes: u64,
    /// Points in it.
    pub points: u64,
    /// Blocks in it.
    pub blocks: u64,
}

impl From<StorageReport> for StorageInfo {
    fn from(report: StorageReport) -> Self {
        let partition = |size: PartitionSize| PartitionStorage {
            path: size.path.display().to_string(),
            start: format_utc(size.start),
            last: format_utc(size.last),
            bytes: size.bytes,
            points: size.points,
            blocks: size.blocks,
        };
        let datasets: Vec<DatasetStorage> = report
            .datasets
            .into_iter()
            .map(|dataset| DatasetStorage {
                name: dataset.name,
                bytes: dataset.partitions.iter().map(|size| size.bytes).sum(),
                points: dataset.partitions.iter().map(|size| size.points).sum(),
                partitions: dataset.partitions.into_iter().map(partition).collect(),
            })
            .collect();
        let (catalogue_bytes, journal_bytes) = (report.catalogue_bytes, report.journal.bytes);
        let bytes = catalogue_bytes + journal_bytes + datasets.iter().map(|dataset| dataset.bytes).sum::<u64>();
        Self { path: report.root.display().to_string(), bytes, catalogue_bytes, journal_bytes, waiting_points: report.journal.points, datasets }
    }
}

/// What the store weighs.
#[utoipa::path(tag = "store", responses((status = 200, body = StorageInfo), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/storage")]
pub(crate) async fn storage(_: Access<Read>, state: Shared) -> Result<web::Json<StorageInfo>, Problem> {
    blocking(&state, |state| Ok(state.store.storage()?.into())).await.map(web::Json)
}
