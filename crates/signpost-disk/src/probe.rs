//! What a volume is, by the signatures that file systems and volume managers leave.

use alloc::string::{String, ToString};
use core::fmt;

use crate::block::BlockDevice;
use crate::file_system::VolumeError;
use crate::{ext, fat};

/// Kinds of volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum VolumeKind {
    /// FAT with 12-bit entries.
    Fat12,
    /// FAT with 16-bit entries.
    Fat16,
    /// FAT with 32-bit entries.
    Fat32,
    /// ext without a journal.
    Ext2,
    /// ext with a journal.
    Ext3,
    /// ext with extents.
    Ext4,
    /// XFS.
    Xfs,
    /// btrfs.
    Btrfs,
    /// NTFS.
    Ntfs,
    /// exFAT.
    ExFat,
    /// F2FS.
    F2fs,
    /// Linux swap.
    Swap,
    /// LVM2 physical volume.
    Lvm2,
    /// LUKS, either version.
    Luks,
    /// A member of a Linux RAID.
    MdRaid,
    /// ISO 9660.
    Iso9660,
    /// squashfs.
    Squashfs,
    /// EROFS.
    Erofs,
    /// HFS+.
    HfsPlus,
    /// APFS.
    Apfs,
    /// None that is known here.
    Unknown,
}

impl VolumeKind {
    /// Whether UEFI firmware reads it (UEFI 2.10, 13.3).
    pub fn is_fat(self) -> bool {
        matches!(self, Self::Fat12 | Self::Fat16 | Self::Fat32)
    }
}

impl fmt::Display for VolumeKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::Ext2 => "ext2",
            Self::Ext3 => "ext3",
            Self::Ext4 => "ext4",
            Self::Xfs => "XFS",
            Self::Btrfs => "btrfs",
            Self::Ntfs => "NTFS",
            Self::ExFat => "exFAT",
            Self::F2fs => "F2FS",
            Self::Swap => "swap",
            Self::Lvm2 => "LVM2",
            Self::Luks => "LUKS",
            Self::MdRaid => "RAID member",
            Self::Iso9660 => "ISO 9660",
            Self::Squashfs => "squashfs",
            Self::Erofs => "EROFS",
            Self::HfsPlus => "HFS+",
            Self::Apfs => "APFS",
            Self::Unknown => "unknown",
        })
    }
}

/// A volume's kind and, where it is known for the kind, what it calls itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Identity {
    /// Its kind.
    pub kind: VolumeKind,
    /// Its label.
    pub label: Option<String>,
    /// Its UUID or serial, in the form that `blkid` prints.
    pub uuid: Option<String>,
}

impl Identity {
    fn of_kind(kind: VolumeKind) -> Self {
        Self { kind, label: None, uuid: None }
    }
}

/// Where a kind leaves its mark: offset in bytes, the mark. RAID and managers come first, since what lies
/// inside of them may show through.
const MARKS: [(u64, &[u8], VolumeKind); 21] = [
    (0x1000, &[0xfc, 0x4e, 0x2b, 0xa9], VolumeKind::MdRaid),
    (0, &[0xfc, 0x4e, 0x2b, 0xa9], VolumeKind::MdRaid),
    (0, b"LUKS\xba\xbe", VolumeKind::Luks),
    (0x218, b"LVM2 001", VolumeKind::Lvm2),
    (0x18, b"LVM2 001", VolumeKind::Lvm2),
    (0, b"XFSB", VolumeKind::Xfs),
    (0x1_0040, b"_BHRfS_M", VolumeKind::Btrfs),
    (3, b"NTFS    ", VolumeKind::Ntfs),
    (3, b"EXFAT   ", VolumeKind::ExFat),
    (0x400, &[0x10, 0x20, 0xf5, 0xf2], VolumeKind::F2fs),
    (0xff6, b"SWAPSPACE2", VolumeKind::Swap),
    (0x1ff6, b"SWAPSPACE2", VolumeKind::Swap),
    (0x3ff6, b"SWAPSPACE2", VolumeKind::Swap),
    (0xfff6, b"SWAPSPACE2", VolumeKind::Swap),
    (0x8001, b"CD001", VolumeKind::Iso9660),
    (0, b"hsqs", VolumeKind::Squashfs),
    (0x400, &[0xe2, 0xe1, 0xf5, 0xe0], VolumeKind::Erofs),
    (0x400, b"H+\0\x04", VolumeKind::HfsPlus),
    (0x400, b"HX\0\x05", VolumeKind::HfsPlus),
    (0x20, b"NXSB", VolumeKind::Apfs),
    (0x8001, b"BEA01", VolumeKind::Unknown),
];

/// Looks at a volume's signatures. A volume that says it is of a kind that we look into, and is broken,
/// gives its kind together with what is wrong.
pub fn identify(device: &dyn BlockDevice) -> (Identity, Option<VolumeError>) {
    for (offset, mark, kind) in MARKS {
        let mut found = [0; 10];
        let Some(found) = found.get_mut(..mark.len()) else { continue };
        if device.read_at(offset, found).is_ok() && *found == *mark {
            return (Identity::of_kind(kind), None);
        }
    }
    match ext::Superblock::read(device) {
        Ok(Some(superblock)) => return (superblock.identity(), None),
        Ok(None) => {}
        Err(fault) => return (Identity::of_kind(VolumeKind::Ext4), Some(fault)),
    }
    match fat::identify(device) {
        Ok(Some(identity)) => (identity, None),
        Ok(None) => (Identity::of_kind(VolumeKind::Unknown), None),
        Err(fault) => (Identity::of_kind(VolumeKind::Fat32), Some(fault)),
    }
}

/// Text in a field of fixed length, ended by NUL or its end, trailing blanks dropped; `None` where empty.
pub(crate) fn fixed_text(field: &[u8]) -> Option<String> {
    let text = field.split(|byte| *byte == 0).next().unwrap_or_default();
    let text = String::from_utf8_lossy(text);
    let text = text.trim_end();
    (!text.is_empty()).then(|| text.to_string())
}
