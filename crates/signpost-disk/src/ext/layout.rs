//! Where inodes are ("Block Group Descriptors", "Meta Block Groups", "Inode Table").

use alloc::format;

use crate::block::{SharedDevice, read_vec};
use crate::bytes::{le16, le32, len};
use crate::error::VolumeError;

const COMPAT_SPARSE_SUPER2: u32 = 0x200;
const RO_COMPAT_SPARSE_SUPER: u32 = 0x1;
const INCOMPAT_META_BG: u32 = 0x10;
const INCOMPAT_64BIT: u32 = 0x80;
/// Features under which what is read here lies where it is looked for: file types in folders, a journal to write out (which is
/// the caller's to heed), meta block groups, extents, 64 bits, protection against two mounts, flexible groups,
/// attributes in inodes, checksum seed, large folders, data in inodes, encryption, names in any case.
const KNOWN_INCOMPAT: u32 = 0x3_e7d6;

/// A volume's blocks, groups and inodes.
pub(super) struct Layout {
    pub(super) device: SharedDevice,
    /// Bytes.
    pub(super) block_size: u64,
    pub(super) blocks: u64,
    first_data_block: u64,
    blocks_per_group: u64,
    /// Bytes.
    pub(super) inode_size: u64,
    inodes_per_group: u32,
    /// Bytes of a group's descriptor.
    descriptor_size: u64,
    /// The first group of descriptors that lie with the groups they describe; `None` where all lie together.
    first_meta_group: Option<u64>,
    /// Which groups start with a copy of the superblock.
    backups: Backups,
}

/// Groups with a copy of the superblock, beside the first.
enum Backups {
    All,
    /// The second, and those whose numbers are powers of 3, 5 and 7.
    Powers,
    These([u64; 2]),
}

impl Layout {
    /// From a superblock that was checked.
    pub(super) fn new(device: SharedDevice, superblock: &[u8], block_size: u32) -> Result<Self, VolumeError> {
        let field = |at| le32(superblock, at).unwrap_or(0);
        let (compat, incompat, ro_compat) = (field(0x5c), field(0x60), field(0x64));
        let unknown = incompat & !KNOWN_INCOMPAT;
        if unknown != 0 {
            return Err(VolumeError::Unsupported(format!(
                "ext superblock, offset 1120: s_feature_incompat has features {unknown:#x}, which are not known here"
            )));
        }
        let is_64_bit = incompat & INCOMPAT_64BIT != 0;
        let high = if is_64_bit { u64::from(field(0x150)) } else { 0 };
        let descriptor_size = if is_64_bit { le16(superblock, 0xfe).unwrap_or(0).max(32) } else { 32 };
        // Revision 0 has no such field.
        let inode_size = if field(0x4c) == 0 { 128 } else { le16(superblock, 0x58).unwrap_or(0) };
        let backups = if compat & COMPAT_SPARSE_SUPER2 != 0 {
            Backups::These([u64::from(field(0x24c)), u64::from(field(0x250))])
        } else if ro_compat & RO_COMPAT_SPARSE_SUPER != 0 {
            Backups::Powers
        } else {
            Backups::All
        };
        Ok(Self {
            device,
            block_size: u64::from(block_size),
            blocks: high << 32 | u64::from(field(4)),
            first_data_block: u64::from(field(0x14)),
            blocks_per_group: u64::from(field(0x20)),
            inode_size: u64::from(inode_size),
            inodes_per_group: field(0x28),
            descriptor_size: u64::from(descriptor_size),
            first_meta_group: (incompat & INCOMPAT_META_BG != 0).then(|| u64::from(field(0x104))),
            backups,
        })
    }

    /// Offset of an inode in bytes.
    pub(super) fn inode_at(&self, number: u32) -> Result<Option<u64>, VolumeError> {
        let split = || {
            let index = number.checked_sub(1)?;
            let within = index.checked_rem(self.inodes_per_group)?;
            Some((u64::from(index.checked_div(self.inodes_per_group)?), u64::from(within)))
        };
        let Some((group, within)) = split() else { return Ok(None) };
        let Some(at) = self.descriptor_at(group) else { return Ok(None) };
        let descriptor = read_vec(self.device.as_ref(), at, len(self.descriptor_size))?;
        let low = le32(&descriptor, 8).map(u64::from);
        let high = le32(&descriptor, 0x28).map_or(0, u64::from);
        let start = low.and_then(|low| (high << 32 | low).checked_mul(self.block_size));
        Ok(start.and_then(|start| start.checked_add(within.checked_mul(self.inode_size)?)))
    }

    /// Offset of a group's descriptor in bytes.
    fn descriptor_at(&self, group: u64) -> Option<u64> {
        let in_block = self.block_size.checked_div(self.descriptor_size)?;
        let meta_group = group.checked_div(in_block)?;
        if self.first_meta_group.is_none_or(|first| meta_group < first) {
            // Behind the block that holds the superblock, which lies at 1024 bytes.
            let first = 1024u64.checked_div(self.block_size)?.checked_add(1)?.checked_mul(self.block_size)?;
            return first.checked_add(group.checked_mul(self.descriptor_size)?);
        }
        let first = meta_group.checked_mul(in_block)?;
        let start = first.checked_mul(self.blocks_per_group)?.checked_add(self.first_data_block)?;
        let block = start.checked_add(u64::from(self.has_superblock(first)))?;
        let within = group.checked_rem(in_block)?.checked_mul(self.descriptor_size)?;
        block.checked_mul(self.block_size)?.checked_add(within)
    }

    /// Whether a group starts with a copy of the superblock.
    fn has_superblock(&self, group: u64) -> bool {
        let is_power_of = |base: u64| {
            let mut power = base;
            while power < group {
                power = power.saturating_mul(base);
            }
            power == group
        };
        match self.backups {
            Backups::All => true,
            Backups::These(groups) => group == 0 || groups.contains(&group),
            Backups::Powers => group <= 1 || [3, 5, 7].into_iter().any(is_power_of),
        }
    }
}
