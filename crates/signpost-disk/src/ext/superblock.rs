//! The superblock ("Super Block"): identity, and a check of every number by which the reading crate would size its memory.

use alloc::format;
use alloc::string::String;

use uguid::Guid;
use zerocopy::byteorder::little_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, KnownLayout};

use crate::block::BlockDevice;
use crate::bytes::uuid_text;
use crate::error::VolumeError;
use crate::identity::{Identity, VolumeKind};
use crate::text::fixed_text;

pub(super) const OFFSET: u64 = 1024; // bytes
pub(super) const MAGIC: u16 = 0xef53;
const COMPAT_HAS_JOURNAL: u32 = 0x4;
const INCOMPAT_JOURNAL_DEVICE: u32 = 0x8;
const INCOMPAT_RECOVER: u32 = 0x4;
const STATE_VALID: u16 = 0x1;
const INCOMPAT_64BIT: u32 = 0x80;
const RO_COMPAT_BIGALLOC: u32 = 0x200;
const MAX_BLOCKS_IN_CLUSTER: u32 = 1 << 15;
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
    /// Whether its journal holds changes that are not yet where they belong.
    pub needs_journal: bool,
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
        if raw.is_journal() {
            return Ok(None);
        }
        raw.check(u32::from_le_bytes(high), device.size()).map(Some)
    }

    /// What a volume calls itself that holds nothing but another one's journal.
    pub(crate) fn journal_identity(device: &dyn BlockDevice) -> Option<Identity> {
        let mut bytes = [0; 1024];
        device.read_at(OFFSET, &mut bytes).ok()?;
        let (raw, _) = Raw::read_from_prefix(&bytes).ok()?;
        let is_one = raw.s_magic.get() == MAGIC && raw.is_journal();
        is_one.then(|| {
            Identity::named(VolumeKind::ExtJournal, fixed_text(&raw.s_volume_name), uuid(&raw.s_uuid))
        })
    }

    /// What the volume calls itself.
    pub fn identity(&self) -> Identity {
        let mut identity = Identity::named(self.kind, self.label.clone(), uuid(&self.uuid.to_bytes()));
        identity.is_unclean = self.is_unclean;
        identity
    }
}

fn uuid(bytes: &[u8; 16]) -> Option<String> {
    bytes.iter().any(|byte| *byte != 0).then(|| uuid_text(bytes))
}

impl Raw {
    fn is_journal(&self) -> bool {
        self.s_feature_incompat.get() & INCOMPAT_JOURNAL_DEVICE != 0
    }

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
        // A bitmap of one block tells of each cluster of a group, which is a block but where clusters are larger.
        let most = block_size.saturating_mul(8);
        let has_clusters = self.s_feature_ro_compat.get() & RO_COMPAT_BIGALLOC != 0;
        let (log, clusters) = (self.s_log_cluster_size.get(), self.s_clusters_per_group.get());
        let in_cluster = if has_clusters {
            1u32.checked_shl(log.wrapping_sub(self.s_log_block_size.get()))
        } else {
            Some(1)
        };
        let Some(in_cluster) = in_cluster.filter(|count| *count <= MAX_BLOCKS_IN_CLUSTER) else {
            return lie(
                "s_log_cluster_size",
                log.into(),
                "at least s_log_block_size, at most 2 to the 15th blocks".into(),
            );
        };
        if has_clusters && clusters > most {
            return lie("s_clusters_per_group", clusters.into(), format!("1 to {most}"));
        }
        // The reading crate keeps a record a group: a tiny group size would make it ask for gigabytes.
        let most_blocks = most.saturating_mul(in_cluster);
        if !(256..=most_blocks).contains(&per_group) {
            return lie("s_blocks_per_group", per_group.into(), format!("256 to {most_blocks}"));
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
        let needs_journal = self.s_feature_incompat.get() & INCOMPAT_RECOVER != 0;
        Ok(Superblock {
            kind: self.kind(),
            label: fixed_text(&self.s_volume_name),
            uuid: Guid::from_bytes(self.s_uuid),
            block_size,
            is_unclean: self.s_state.get() & STATE_VALID == 0 || needs_journal,
            needs_journal,
        })
    }

    fn kind(&self) -> VolumeKind {
        let (incompat, ro_compat) = (self.s_feature_incompat.get(), self.s_feature_ro_compat.get());
        if incompat & INCOMPAT_EXT4 != 0 || ro_compat & RO_COMPAT_EXT4 != 0 {
            VolumeKind::Ext4
        } else if self.s_feature_compat.get() & COMPAT_HAS_JOURNAL != 0 {
            VolumeKind::Ext3
        } else {
            VolumeKind::Ext2
        }
    }
}
