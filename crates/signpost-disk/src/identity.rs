//! What a volume is: its kind, and what it calls itself.

use alloc::string::String;
use alloc::vec::Vec;
use core::fmt;

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
    /// The journal of an ext volume that keeps it elsewhere.
    ExtJournal,
    /// XFS.
    Xfs,
    /// btrfs.
    Btrfs,
    /// NTFS.
    Ntfs,
    /// A volume that its vendor's own encryption covers.
    EncryptedNtfs,
    /// exFAT.
    ExFat,
    /// F2FS.
    F2fs,
    /// Linux swap.
    Swap,
    /// LVM2 physical volume.
    Lvm2,
    /// LUKS, version 1.
    Luks1,
    /// LUKS, version 2.
    Luks2,
    /// A member of a Linux RAID.
    MdRaid,
    /// ISO 9660.
    Iso9660,
    /// UDF.
    Udf,
    /// squashfs.
    Squashfs,
    /// EROFS.
    Erofs,
    /// UFS, version 1.
    Ufs1,
    /// UFS, version 2.
    Ufs2,
    /// HFS+.
    HfsPlus,
    /// APFS.
    Apfs,
    /// A member of a ZFS pool.
    Zfs,
    /// A virtual machine's disk in a qcow2 container.
    Qcow2,
    /// A virtual machine's disk in a VMDK container.
    Vmdk,
    /// A virtual machine's disk in a VHDX container.
    Vhdx,
    /// A virtual machine's disk in a VHD container.
    Vhd,
    /// A virtual machine's disk in a VDI container.
    Vdi,
    /// A disk of a Sun.
    SunLabel,
    /// A disk of an SGI.
    SgiLabel,
    /// A disk of an old Macintosh.
    AppleMap,
    /// None that is known here.
    Unknown,
}

impl VolumeKind {
    /// Every kind.
    const ALL: [Self; 36] = [
        Self::Fat12,
        Self::Fat16,
        Self::Fat32,
        Self::Ext2,
        Self::Ext3,
        Self::Ext4,
        Self::ExtJournal,
        Self::Xfs,
        Self::Btrfs,
        Self::Ntfs,
        Self::EncryptedNtfs,
        Self::ExFat,
        Self::F2fs,
        Self::Swap,
        Self::Lvm2,
        Self::Luks1,
        Self::Luks2,
        Self::MdRaid,
        Self::Iso9660,
        Self::Udf,
        Self::Squashfs,
        Self::Erofs,
        Self::Ufs1,
        Self::Ufs2,
        Self::HfsPlus,
        Self::Apfs,
        Self::Zfs,
        Self::Qcow2,
        Self::Vmdk,
        Self::Vhdx,
        Self::Vhd,
        Self::Vdi,
        Self::SunLabel,
        Self::SgiLabel,
        Self::AppleMap,
        Self::Unknown,
    ];

    /// The kind of this name.
    pub fn of_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }

    /// Whether UEFI firmware reads it (UEFI 2.10, 13.3).
    pub fn is_fat(self) -> bool {
        matches!(self, Self::Fat12 | Self::Fat16 | Self::Fat32)
    }

    /// Whether it is a part of something that lies on several.
    pub fn is_member(self) -> bool {
        matches!(self, Self::Lvm2 | Self::MdRaid | Self::Zfs)
    }

    /// Whether it is a virtual machine's disk in a container.
    pub fn is_container(self) -> bool {
        matches!(self, Self::Qcow2 | Self::Vmdk | Self::Vhdx | Self::Vhd | Self::Vdi)
    }

    /// Whether what is inside takes a key to read.
    pub fn is_encrypted(self) -> bool {
        matches!(self, Self::Luks1 | Self::Luks2 | Self::EncryptedNtfs)
    }

    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::Ext2 => "ext2",
            Self::Ext3 => "ext3",
            Self::Ext4 => "ext4",
            Self::ExtJournal => "ext journal",
            Self::Xfs => "XFS",
            Self::Btrfs => "btrfs",
            Self::Ntfs => "NTFS",
            Self::EncryptedNtfs => "NTFS, encrypted",
            Self::ExFat => "exFAT",
            Self::F2fs => "F2FS",
            Self::Swap => "swap",
            Self::Lvm2 => "LVM2 PV",
            Self::Luks1 => "LUKS1",
            Self::Luks2 => "LUKS2",
            Self::MdRaid => "RAID",
            Self::Iso9660 => "ISO 9660",
            Self::Udf => "UDF",
            Self::Squashfs => "squashfs",
            Self::Erofs => "EROFS",
            Self::Ufs1 => "UFS1",
            Self::Ufs2 => "UFS2",
            Self::HfsPlus => "HFS+",
            Self::Apfs => "APFS",
            Self::Zfs => "ZFS",
            Self::Qcow2 => "qcow2 container",
            Self::Vmdk => "VMDK container",
            Self::Vhdx => "VHDX container",
            Self::Vhd => "VHD container",
            Self::Vdi => "VDI container",
            Self::SunLabel => "Sun disk label",
            Self::SgiLabel => "SGI disk label",
            Self::AppleMap => "Apple partition map",
            Self::Unknown => "unknown",
        }
    }
}

impl fmt::Display for VolumeKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

/// A volume's kind, what it calls itself, and the state it was left in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Identity {
    /// Its kind.
    pub kind: VolumeKind,
    /// Its label, as `blkid` prints it.
    pub label: Option<String>,
    /// Its UUID or serial, in the form that `blkid` prints.
    pub uuid: Option<String>,
    /// Whether it was in use when the machine went down: its last writes may be in a journal alone.
    pub is_unclean: bool,
    /// Whether a sleeping system's memory lies on it.
    pub is_hibernated: bool,
    /// Names of volumes inside of it, where it is a container.
    pub inside: Vec<String>,
    /// Of a FAT: why UEFI firmware does not read it even so.
    pub firmware_refuses: Option<&'static str>,
    /// Of a FAT: why it is not to be written to.
    pub flaw: Option<&'static str>,
}

impl Identity {
    /// A kind that says nothing of itself.
    pub fn of_kind(kind: VolumeKind) -> Self {
        Self {
            kind,
            label: None,
            uuid: None,
            is_unclean: false,
            is_hibernated: false,
            inside: Vec::new(),
            firmware_refuses: None,
            flaw: None,
        }
    }

    pub(crate) fn named(kind: VolumeKind, label: Option<String>, uuid: Option<String>) -> Self {
        Self { label, uuid, ..Self::of_kind(kind) }
    }
}

/// Written by its name, which people read too.
#[cfg(feature = "serde")]
mod by_name {
    use alloc::borrow::Cow;

    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    use super::VolumeKind;

    impl Serialize for VolumeKind {
        fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
            serializer.serialize_str(self.name())
        }
    }

    impl<'de> Deserialize<'de> for VolumeKind {
        fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
            let name = Cow::<str>::deserialize(deserializer)?;
            Self::of_name(&name).ok_or_else(|| D::Error::custom("no kind of volume"))
        }
    }
}
