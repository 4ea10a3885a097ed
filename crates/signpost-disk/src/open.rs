//! The reader for each kind of volume. A program that leaves a feature out carries no such reader.

use alloc::boxed::Box;

use crate::block::SharedDevice;
use crate::error::VolumeError;
use crate::file_system::FileSystem;
use crate::identity::{Identity, VolumeKind};

/// Opens a volume's file system; `None` for a kind that is not looked into.
///
/// # Errors
/// Where the volume says it is of that kind and is broken or beyond us.
pub fn file_system(
    device: &SharedDevice,
    identity: &Identity,
) -> Option<Result<Box<dyn FileSystem>, VolumeError>> {
    Some(match identity.kind {
        VolumeKind::Fat12 | VolumeKind::Fat16 | VolumeKind::Fat32 => {
            boxed(crate::fat::FatVolume::open(device.clone()))
        }
        #[cfg(feature = "ext")]
        VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4 => boxed(crate::ext::ExtVolume::open(device)),
        #[cfg(feature = "xfs")]
        VolumeKind::Xfs => boxed(crate::xfs::XfsVolume::open(device.clone())),
        #[cfg(feature = "btrfs")]
        VolumeKind::Btrfs => boxed(crate::btrfs::BtrfsVolume::open(device.clone())),
        #[cfg(feature = "ntfs")]
        VolumeKind::Ntfs => boxed(crate::ntfs::NtfsVolume::open(device.clone())),
        #[cfg(feature = "exfat")]
        VolumeKind::ExFat => boxed(crate::exfat::ExFatVolume::open(device.clone())),
        #[cfg(feature = "udf")]
        VolumeKind::Udf => udf(device),
        #[cfg(feature = "iso")]
        VolumeKind::Iso9660 => boxed(crate::iso::IsoVolume::open(device.clone())),
        _ => return None,
    })
}

/// UDF, or the ISO 9660 that a medium may have beside it where its UDF is beyond us.
#[cfg(feature = "udf")]
fn udf(device: &SharedDevice) -> Result<Box<dyn FileSystem>, VolumeError> {
    let opened = boxed(crate::udf::UdfVolume::open(device.clone()));
    #[cfg(feature = "iso")]
    if opened.is_err()
        && let Ok(volume) = boxed(crate::iso::IsoVolume::open(device.clone()))
    {
        return Ok(volume);
    }
    opened
}

fn boxed<T: FileSystem + 'static>(
    opened: Result<T, VolumeError>,
) -> Result<Box<dyn FileSystem>, VolumeError> {
    opened.map(|volume| Box::new(volume) as Box<dyn FileSystem>)
}
