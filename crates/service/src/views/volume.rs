//! The volume that the store lies on.

use fenetre_core::keeping::Volume;
use fenetre_wire::retention::VolumeInfo;

/// Its size, and what is free.
pub fn volume_info(volume: Volume) -> VolumeInfo {
    VolumeInfo { total: volume.total, free: volume.free, reserve: volume.reserve }
}
