//! What a volume is, by the signatures that file systems and volume managers leave.

mod containers;
mod head;
mod linux;
mod optical;
mod others;
mod pools;
mod vendor;
mod xfs_log;

use alloc::vec::Vec;

use crate::block::BlockDevice;
use crate::error::VolumeError;
pub use crate::identity::{Identity, VolumeKind};
use crate::{ext, fat};
use head::Head;

type Probe = fn(&Head<'_>) -> Option<Identity>;

/// RAID and managers come first, since what lies inside of them may show through; FAT comes last, since it
/// has no mark worth the name.
const PROBES: [Probe; 16] = [
    pools::md_raid,
    pools::luks,
    pools::lvm2,
    vendor::ntfs,
    vendor::exfat,
    linux::xfs,
    linux::btrfs,
    linux::f2fs,
    linux::erofs,
    linux::squashfs,
    linux::swap,
    vendor::apfs,
    vendor::hfs_plus,
    optical::iso_or_udf,
    others::ufs,
    others::zfs,
];

/// Looks at a volume's signatures. A volume that says it is of a kind that we look into, and is broken,
/// gives its kind together with what is wrong.
pub fn identify(device: &dyn BlockDevice) -> (Identity, Option<VolumeError>) {
    identify_in(device, &mut Vec::new())
}

/// As [`identify`], with room for what is read, which serves for one volume after the other.
pub(crate) fn identify_in(device: &dyn BlockDevice, room: &mut Vec<u8>) -> (Identity, Option<VolumeError>) {
    let head = Head::new(device, room);
    if let Some(identity) = PROBES.iter().find_map(|probe| probe(&head)) {
        return (identity, None);
    }
    match ext::Superblock::read(&head) {
        Ok(Some(superblock)) => return (superblock.identity(), None),
        Ok(None) => {}
        Err(fault) => return (Identity::of_kind(VolumeKind::Ext4), Some(fault)),
    }
    if let Some(identity) = ext::Superblock::journal_identity(&head) {
        return (identity, None);
    }
    match fat::identify(&head) {
        Ok(Some(identity)) => (identity, None),
        Ok(None) => {
            (containers::containers(&head).unwrap_or_else(|| Identity::of_kind(VolumeKind::Unknown)), None)
        }
        Err(fault) => (Identity::of_kind(VolumeKind::Fat32), Some(fault)),
    }
}

/// What shows at the start of a RAID member whose own mark is at its end: firmware knows nothing of the
/// RAID, and reads it as this.
pub fn identify_beneath_raid(device: &dyn BlockDevice) -> VolumeKind {
    match fat::identify(device) {
        Ok(Some(identity)) if identity.firmware_refuses.is_none() => identity.kind,
        _ => VolumeKind::Unknown,
    }
}
