//! ext2, ext3 and ext4 (the Linux kernel's document "ext4 Data Structures and Algorithms", "Super Block").
//!
//! Our own part is the superblock: identity, and a check of every number by which the reading crate
//! `ext4-view` would size its memory. Plain files and folders are read by `runs`, all else by that crate.

mod runs;

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::cell::OnceCell;

use ext4_view::{Ext4, Ext4Error, Ext4Read};
use uguid::Guid;
use zerocopy::byteorder::little_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, KnownLayout};

use crate::block::{BlockDevice, ReadAhead, ReadError, SharedDevice, read_vec};
use crate::bytes::uuid_text;
use crate::file_system::{FileSystem, Item, Metadata, VolumeError};
use crate::probe::{Identity, VolumeKind, fixed_text};
use runs::Layout;

const OFFSET: u64 = 1024; // bytes
const MAGIC: u16 = 0xef53;
/// A folder with more items than this is cut off.
const MAX_ITEMS: usize = 65536;

const COMPAT_HAS_JOURNAL: u32 = 0x4;
const INCOMPAT_JOURNAL_DEVICE: u32 = 0x8;
const INCOMPAT_RECOVER: u32 = 0x4;
const STATE_VALID: u16 = 0x1;
const INCOMPAT_64BIT: u32 = 0x80;
/// Incompatible features that only ext4 has: extents, 64 bits, flexible groups and later ones.
const INCOMPAT_EXT4: u32 = !0x3f;
/// Read-only compatible features that only ext4 has: all but sparse superblocks, large files, B-trees.
const RO_COMPAT_EXT4: u32 = !0x7;

/// The superblock's start, with the kernel's own names.
#[derive(FromBytes, KnownLayout, Immutable)]
#[repr(C)]
struct Raw {
    s_inodes_count: U32,
    s_blocks_count_lo: U32,
    s_r_blocks_count_lo: U32,
    s_free_blocks_count_lo: U32,
    s_free_inodes_count: U32,
    s_first_data_block: U32,
    s_log_block_size: U32,
    s_log_cluster_size: U32,
    s_blocks_per_group: U32,
    s_clusters_per_group: U32,
    s_inodes_per_group: U32,
    s_mtime: U32,
    s_wtime: U32,
    s_mnt_count: U16,
    s_max_mnt_count: U16,
    s_magic: U16,
    s_state: U16,
    s_errors: U16,
    s_minor_rev_level: U16,
    s_lastcheck: U32,
    s_checkinterval: U32,
    s_creator_os: U32,
    s_rev_level: U32,
    s_def_resuid: U16,
    s_def_resgid: U16,
    s_first_ino: U32,
    s_inode_size: U16,
    s_block_group_nr: U16,
    s_feature_compat: U32,
    s_feature_incompat: U32,
    s_feature_ro_compat: U32,
    s_uuid: [u8; 16],
    s_volume_name: [u8; 16],
}

/// A checked superblock.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Superblock {
    /// Which of the three it is, as `blkid` decides it.
    pub kind: VolumeKind,
    /// Its label.
    pub label: Option<String>,
    /// Its UUID.
    pub uuid: Guid,
    /// Bytes in a block.
    pub block_size: u32,
    /// Whether it was in use when the machine went down.
    pub is_unclean: bool,
}

impl Superblock {
    /// Reads and checks the superblock; `None` where there is none.
    ///
    /// # Errors
    /// Where its numbers cannot be true of this volume.
    pub fn read(device: &dyn BlockDevice) -> Result<Option<Self>, VolumeError> {
        let mut bytes = [0; 1024];
        if device.size() < OFFSET.saturating_add(1024) {
            return Ok(None);
        }
        device.read_at(OFFSET, &mut bytes)?;
        let Ok((raw, _)) = Raw::read_from_prefix(&bytes) else { return Ok(None) };
        if raw.s_magic.get() != MAGIC {
            return Ok(None);
        }
        let high = bytes.get(0x150..).and_then(|rest| rest.first_chunk()).copied().unwrap_or_default();
        raw.check(u32::from_le_bytes(high), device.size()).map(Some)
    }

    /// What the volume calls itself.
    pub fn identity(&self) -> Identity {
        let uuid = (!self.uuid.is_zero()).then(|| uuid_text(&self.uuid.to_bytes()));
        let mut identity = Identity::named(self.kind, self.label.clone(), uuid);
        identity.is_unclean = self.is_unclean;
        identity
    }
}

impl Raw {
    fn check(&self, blocks_hi: u32, size: u64) -> Result<Superblock, VolumeError> {
        let lie = |field: &str, found: u64, expected: String| {
            Err(VolumeError::Corrupt(format!(
                "ext superblock, offset 1024: {field} is {found}, expected {expected}"
            )))
        };
        let log = self.s_log_block_size.get();
        let Some(block_size) = 1024u32.checked_shl(log).filter(|_| log <= 6) else {
            return lie("s_log_block_size", log.into(), "0 to 6".into());
        };
        let blocks_hi = if self.s_feature_incompat.get() & INCOMPAT_64BIT == 0 { 0 } else { blocks_hi };
        let blocks = u64::from(blocks_hi) << 32 | u64::from(self.s_blocks_count_lo.get());
        let room = size.checked_div(block_size.into()).unwrap_or(0);
        if blocks == 0 || blocks > room {
            return lie("s_blocks_count", blocks, format!("1 to {room}, what the volume has room for"));
        }
        let per_group = self.s_blocks_per_group.get();
        let most = block_size.saturating_mul(8);
        // The reading crate keeps a record a group: a tiny group size would make it ask for gigabytes.
        if !(256..=most).contains(&per_group) {
            return lie("s_blocks_per_group", per_group.into(), format!("256 to {most}"));
        }
        let inodes = self.s_inodes_per_group.get();
        if !(1..=most).contains(&inodes) {
            return lie("s_inodes_per_group", inodes.into(), format!("1 to {most}"));
        }
        let inode_size = u32::from(self.s_inode_size.get());
        if self.s_rev_level.get() > 0
            && (!(128..=block_size).contains(&inode_size) || !inode_size.is_power_of_two())
        {
            return lie(
                "s_inode_size",
                inode_size.into(),
                format!("a power of two from 128 to {block_size}"),
            );
        }
        Ok(Superblock {
            kind: self.kind(),
            label: fixed_text(&self.s_volume_name),
            uuid: Guid::from_bytes(self.s_uuid),
            block_size,
            is_unclean: self.s_state.get() & STATE_VALID == 0
                || self.s_feature_incompat.get() & INCOMPAT_RECOVER != 0,
        })
    }

    fn kind(&self) -> VolumeKind {
        let (incompat, ro_compat) = (self.s_feature_incompat.get(), self.s_feature_ro_compat.get());
        if (incompat & !INCOMPAT_JOURNAL_DEVICE) & INCOMPAT_EXT4 != 0 || ro_compat & RO_COMPAT_EXT4 != 0 {
            VolumeKind::Ext4
        } else if self.s_feature_compat.get() & COMPAT_HAS_JOURNAL != 0 {
            VolumeKind::Ext3
        } else {
            VolumeKind::Ext2
        }
    }
}

/// An ext volume, opened.
pub struct ExtVolume {
    device: SharedDevice,
    /// The fast way to folders and whole files, where the volume is of a kind that allows it.
    layout: Option<Layout>,
    /// The other way, opened once it is needed.
    careful: OnceCell<Result<Careful, VolumeError>>,
}

impl ExtVolume {
    /// Opens a volume whose superblock holds.
    ///
    /// # Errors
    /// Where it is broken, or has features that cannot be read.
    pub fn open(device: &SharedDevice) -> Result<Self, VolumeError> {
        let Some(superblock) = Superblock::read(device.as_ref())? else {
            return Err(VolumeError::Corrupt("no ext superblock at offset 1024".into()));
        };
        let raw = read_vec(device.as_ref(), OFFSET, 1024)?;
        let layout = Layout::new(device.clone(), &raw, superblock.block_size);
        let volume = Self { device: device.clone(), layout, careful: OnceCell::new() };
        if volume.layout.is_none() {
            volume.careful()?;
        }
        Ok(volume)
    }

    /// The same volume without the fast way.
    ///
    /// # Errors
    /// Where it is broken, or has features that cannot be read.
    pub fn careful(&self) -> Result<&Careful, VolumeError> {
        let open = || {
            let reader = Box::new(Reader(ReadAhead::new(self.device.clone())));
            Ext4::load(reader).map(Careful).map_err(|error| fault(error, "/"))
        };
        self.careful.get_or_init(open).as_ref().map_err(Clone::clone)
    }
}

impl FileSystem for ExtVolume {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        match self.layout.as_ref().and_then(|layout| layout.list(folder, MAX_ITEMS)) {
            Some(found) => {
                let mut items = found.ok_or_else(|| VolumeError::NotFound(folder.to_string()))?;
                items.sort_unstable();
                Ok(items)
            }
            None => self.careful()?.list(folder),
        }
    }

    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        match self.layout.as_ref().and_then(|layout| layout.metadata(path)) {
            Some(found) => found.ok_or_else(|| VolumeError::NotFound(path.to_string())),
            None => self.careful()?.metadata(path),
        }
    }

    fn file_device(&self, path: &str) -> Result<Option<SharedDevice>, VolumeError> {
        Ok(self.layout.as_ref().and_then(|layout| layout.file_device(path)))
    }

    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        match self.layout.as_ref().and_then(|layout| layout.read_at(path, offset, buffer)) {
            Some(there) => Ok(there),
            None => self.careful()?.read_at(path, offset, buffer),
        }
    }
}

/// An ext volume, read by the crate `ext4-view`, block by block and with its checksums: right for every case, and slow.
pub struct Careful(Ext4);

impl FileSystem for Careful {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        let mut items = Vec::new();
        for entry in self.0.read_dir(folder).map_err(|error| fault(error, folder))?.take(MAX_ITEMS) {
            let entry = entry.map_err(|error| fault(error, folder))?;
            let name = entry.file_name().display().to_string();
            if name == "." || name == ".." {
                continue;
            }
            let is_folder = entry.file_type().is_ok_and(ext4_view::FileType::is_dir);
            items.push(Item { name, is_folder });
        }
        items.sort_unstable();
        Ok(items)
    }

    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        let found = self.0.metadata(path).map_err(|error| fault(error, path))?;
        Ok(Metadata { size: found.len(), is_folder: found.is_dir() })
    }

    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        let failed = |error| fault(error, path);
        let mut file = self.0.open(path).map_err(failed)?;
        file.seek_to(offset).map_err(failed)?;
        let mut done = 0usize;
        while let Some(rest) = buffer.get_mut(done..).filter(|rest| !rest.is_empty()) {
            match file.read_bytes(rest).map_err(failed)? {
                0 => break,
                read => done = done.saturating_add(read),
            }
        }
        Ok(done)
    }
}

struct Reader(ReadAhead);

impl Ext4Read for Reader {
    fn read(
        &mut self,
        start_byte: u64,
        dst: &mut [u8],
    ) -> Result<(), Box<dyn core::error::Error + Send + Sync + 'static>> {
        self.0.read(start_byte, dst).map_err(Into::into)
    }
}

fn fault(error: Ext4Error, path: &str) -> VolumeError {
    match error {
        Ext4Error::NotFound => VolumeError::NotFound(path.to_string()),
        Ext4Error::NotADirectory => VolumeError::WrongKind { path: path.to_string(), found: "no folder" },
        Ext4Error::IsADirectory => VolumeError::WrongKind { path: path.to_string(), found: "a folder" },
        Ext4Error::IsASpecialFile => {
            VolumeError::WrongKind { path: path.to_string(), found: "no plain file" }
        }
        Ext4Error::Io(error) => match error.downcast::<ReadError>() {
            Ok(error) => VolumeError::Device(*error),
            Err(error) => VolumeError::Corrupt(format!("{path}: {error}")),
        },
        Ext4Error::Corrupt(what) => VolumeError::Corrupt(format!("{path}: {what}")),
        Ext4Error::Incompatible(what) => VolumeError::Unsupported(format!("{path}: {what}")),
        other => VolumeError::Unsupported(format!("{path}: {other}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::sync::Arc;
    use alloc::vec;

    /// A superblock whose numbers fit a volume of 64 blocks of 1 KiB.
    fn volume() -> Vec<u8> {
        let mut bytes = vec![0; 64 * 1024];
        let mut put = |offset: usize, value: u32| {
            bytes[1024 + offset..1024 + offset + 4].copy_from_slice(&value.to_le_bytes());
        };
        for (offset, value) in [(0, 16), (4, 64), (20, 1), (32, 8192), (40, 16), (76, 1), (88, 128)] {
            put(offset, value);
        }
        bytes[1024 + 56..1024 + 58].copy_from_slice(&MAGIC.to_le_bytes());
        bytes[1024 + 104..1024 + 120].copy_from_slice(&[0x5c; 16]);
        bytes[1024 + 120..1024 + 126].copy_from_slice("Ebbe\0x".as_bytes());
        bytes
    }

    #[test]
    fn identity_is_read() {
        let identity = Superblock::read(&volume()).unwrap().unwrap().identity();
        assert_eq!(identity.kind, VolumeKind::Ext2);
        assert_eq!(identity.label.as_deref(), Some("Ebbe"));
        assert_eq!(identity.uuid.as_deref(), Some("5c5c5c5c-5c5c-5c5c-5c5c-5c5c5c5c5c5c"));
        assert_eq!(Superblock::read(&vec![0; 4096]), Ok(None));
        assert_eq!(Superblock::read(&vec![]), Ok(None));
    }

    #[test]
    fn each_lie_is_named_before_anything_is_read_by_it() {
        let cases = [
            (4, 65, "s_blocks_count"),
            (4, 0, "s_blocks_count"),
            (24, 40, "s_log_block_size"),
            (32, 1, "s_blocks_per_group"),
            (32, 0xffff_ffff, "s_blocks_per_group"),
            (40, 0, "s_inodes_per_group"),
            (88, 100, "s_inode_size"),
        ];
        for (offset, value, field) in cases {
            let mut bytes = volume();
            bytes[1024 + offset..1024 + offset + 4].copy_from_slice(&u32::to_le_bytes(value));
            let device: SharedDevice = Arc::new(bytes);
            match ExtVolume::open(&device) {
                Err(VolumeError::Corrupt(what)) => assert!(what.contains(field), "{what}"),
                other => panic!("{field} = {value}: {:?}", other.err()),
            }
        }
    }
}
