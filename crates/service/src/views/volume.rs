//! The volume of the store.

use fenetre_core::keeping::Volume;
use fenetre_wire::retention::VolumeInfo;

/// Its size and its free space.
pub fn volume_info(volume: Volume) -> VolumeInfo {
    VolumeInfo { total: volume.total, free: volume.free, reserve: volume.reserve }
}
