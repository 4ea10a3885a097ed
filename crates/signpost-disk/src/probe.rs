//! What a volume is, by the signatures that file systems and volume managers leave.

mod linux;
mod optical;
mod others;
mod pools;
mod vendor;

use alloc::borrow::Cow;
use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;
use core::fmt;

use crate::block::{BlockDevice, ReadError};
use crate::bytes::len;
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
    /// None that is known here.
    Unknown,
}

impl VolumeKind {
    /// Whether UEFI firmware reads it (UEFI 2.10, 13.3).
    pub fn is_fat(self) -> bool {
        matches!(self, Self::Fat12 | Self::Fat16 | Self::Fat32)
    }

    /// Whether it is a part of something that lies on several.
    pub fn is_member(self) -> bool {
        matches!(self, Self::Lvm2 | Self::MdRaid | Self::Zfs)
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
    /// Of a FAT: why UEFI firmware does not read it all the same.
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

/// Bytes at the start that most signatures lie in.
const HEAD: usize = 10 * 1024;

/// A volume's start, read once, and the rest of it when asked for.
struct Head<'a> {
    device: &'a dyn BlockDevice,
    start: &'a [u8],
}

impl<'a> Head<'a> {
    fn new(device: &'a dyn BlockDevice, room: &'a mut Vec<u8>) -> Self {
        room.resize(HEAD.min(len(device.size())), 0);
        let start = if device.read_at(0, room).is_ok() { room.as_slice() } else { &[] };
        Self { device, start }
    }

    /// Whether these bytes stand at an offset.
    fn has<const N: usize>(&self, offset: u64, mark: &[u8; N]) -> bool {
        self.array(offset).as_ref() == Some(mark)
    }

    /// As many bytes at an offset as the caller has room for: a mark, a magic number.
    fn array<const N: usize>(&self, offset: u64) -> Option<[u8; N]> {
        let mut room = [0; N];
        self.read_at(offset, &mut room).ok()?;
        Some(room)
    }

    /// Bytes at an offset; callers bound the length.
    fn bytes(&self, offset: u64, length: usize) -> Option<Cow<'_, [u8]>> {
        let from = len(offset);
        if let Some(held) = self.start.get(from..from.checked_add(length)?) {
            return Some(Cow::Borrowed(held));
        }
        if offset.checked_add(u64::try_from(length).ok()?)? > self.device.size() {
            return None;
        }
        let mut bytes = vec![0; length];
        self.device.read_at(offset, &mut bytes).ok()?;
        Some(Cow::Owned(bytes))
    }
}

/// For readers that take a device: what was read already is not read again.
impl BlockDevice for Head<'_> {
    fn size(&self) -> u64 {
        self.device.size()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        let from = len(offset);
        let held = from.checked_add(buffer.len()).and_then(|end| self.start.get(from..end));
        match held {
            Some(held) => {
                buffer.copy_from_slice(held);
                Ok(())
            }
            None => self.device.read_at(offset, buffer),
        }
    }
}

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
    match fat::identify(&head) {
        Ok(Some(identity)) => (identity, None),
        Ok(None) => (Identity::of_kind(VolumeKind::Unknown), None),
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

/// Text in a field of fixed length, ended by NUL or its end, trailing blanks dropped; `None` where empty.
pub(crate) fn fixed_text(field: &[u8]) -> Option<String> {
    let text = field.split(|byte| *byte == 0).next().unwrap_or_default();
    trimmed(&String::from_utf8_lossy(text))
}

/// Text of 16-bit units, ended by a zero or the field's end, trailing blanks dropped; `None` where empty.
pub(crate) fn utf16_text(field: &[u8], unit: fn([u8; 2]) -> u16) -> Option<String> {
    let units = field.as_chunks::<2>().0.iter().map(|pair| unit(*pair)).take_while(|unit| *unit != 0);
    trimmed(&String::from_utf16_lossy(&units.collect::<Vec<u16>>()))
}

fn trimmed(text: &str) -> Option<String> {
    let text = text.trim_end();
    (!text.is_empty()).then(|| text.to_string())
}
