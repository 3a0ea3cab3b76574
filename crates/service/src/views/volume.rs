//! The volume that the store lies on.

use fenetre_core::keeping::Volume;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The volume of the store.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct VolumeInfo {
    /// Bytes of it.
    pub total: u64,
    /// Bytes that are free.
    pub free: u64,
    /// Bytes that always stay free.
    pub reserve: u64,
}

impl From<Volume> for VolumeInfo {
    fn from(volume: Volume) -> Self {
        Self { total: volume.total, free: volume.free, reserve: volume.reserve }
    }
}
