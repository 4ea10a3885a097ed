//! The superblock ("Superblocks").

use alloc::format;
use alloc::string::String;

use crate::block::{BlockDevice, read_vec};
use crate::bytes::{be16, be32, be64, short};
use crate::error::VolumeError;

/// Features that change what is read here, and are known: file types in folders, sparse inodes, another UUID
/// in metadata, times that reach further, more extents, exchanged ranges, links to parents.
const KNOWN_INCOMPAT: u32 = 0xef;
const NEEDS_REPAIR: u32 = 0x10;
const INCOMPAT_FTYPE: u32 = 0x1;
const FEATURES2_FTYPE: u32 = 0x200;

/// A volume's geometry ("Superblocks").
#[derive(Clone, Debug)]
pub(super) struct Superblock {
    pub(super) block_size: u64,
    pub(super) blocks: u64,
    pub(super) root_inode: u64,
    pub(super) group_blocks: u64,
    pub(super) groups: u64,
    pub(super) inode_size: u64,
    /// Bits of an inode's number within its block, and of a block's number within its group.
    pub(super) inode_bits: u32,
    pub(super) block_bits: u32,
    pub(super) folder_block_size: u64,
    pub(super) is_version_5: bool,
    pub(super) has_file_types: bool,
}

impl Superblock {
    pub(super) fn read(device: &dyn BlockDevice) -> Result<Self, VolumeError> {
        let bytes = read_vec(device, 0, 512)?;
        Self::decode(&bytes).ok_or_else(|| short("XFS superblock"))?.checked(&bytes, device.size())
    }

    pub(super) fn decode(bytes: &[u8]) -> Option<Self> {
        let byte = |at: usize| bytes.get(at).copied();
        let is_version_5 = be16(bytes, 100)? & 0xf == 5;
        let block_size = u64::from(be32(bytes, 4)?);
        Some(Self {
            block_size,
            blocks: be64(bytes, 8)?,
            root_inode: be64(bytes, 56)?,
            group_blocks: u64::from(be32(bytes, 84)?),
            groups: u64::from(be32(bytes, 88)?),
            inode_size: u64::from(be16(bytes, 104)?),
            inode_bits: u32::from(byte(123)?),
            block_bits: u32::from(byte(124)?),
            folder_block_size: block_size.checked_shl(u32::from(byte(192)?)).unwrap_or(0),
            is_version_5,
            has_file_types: if is_version_5 {
                be32(bytes, 216)? & INCOMPAT_FTYPE != 0
            } else {
                be32(bytes, 200)? & FEATURES2_FTYPE != 0
            },
        })
    }

    pub(super) fn checked(self, bytes: &[u8], size: u64) -> Result<Self, VolumeError> {
        let lie = |field: &str, found: u64, expected: String| {
            Err(VolumeError::Corrupt(format!("XFS superblock: {field} is {found}, expected {expected}")))
        };
        if !bytes.starts_with(b"XFSB") {
            return Err(VolumeError::Corrupt("no XFS superblock at offset 0".into()));
        }
        let version = be16(bytes, 100).unwrap_or(0) & 0xf;
        if !matches!(version, 4 | 5) {
            return Err(VolumeError::Unsupported(format!("XFS of version {version}; 4 and 5 are read")));
        }
        let incompat = be32(bytes, 216).unwrap_or(0);
        if self.is_version_5 && incompat & !KNOWN_INCOMPAT & !NEEDS_REPAIR != 0 {
            return Err(VolumeError::Unsupported(format!("XFS with the unknown features {incompat:#x}")));
        }
        if self.is_version_5 && incompat & NEEDS_REPAIR != 0 {
            return Err(VolumeError::Corrupt("XFS: it says that it needs its repair tool".into()));
        }
        if !self.block_size.is_power_of_two() || !(512..=65536).contains(&self.block_size) {
            return lie("sb_blocksize", self.block_size, "a power of two from 512 to 65536".into());
        }
        let room = size.checked_div(self.block_size).unwrap_or(0);
        if self.blocks == 0 || self.blocks > room {
            return lie("sb_dblocks", self.blocks, format!("1 to {room}, what the volume has room for"));
        }
        if self.inode_size < 256 || !self.inode_size.is_power_of_two() || self.inode_size > self.block_size {
            return lie(
                "sb_inodesize",
                self.inode_size,
                format!("a power of two from 256 to {}", self.block_size),
            );
        }
        if self.inode_bits > 16 || self.block_bits > 32 || self.group_blocks == 0 {
            return lie("sb_agblklog", u64::from(self.block_bits), "at most 32".into());
        }
        if self.folder_block_size < self.block_size || self.folder_block_size > 65536 {
            return lie(
                "sb_dirblklog",
                self.folder_block_size,
                "folder blocks of at most 65536 bytes".into(),
            );
        }
        Ok(self)
    }

    /// Offset in bytes of a block, whose number holds its group's in its upper bits.
    pub(super) fn block_offset(&self, number: u64) -> Option<u64> {
        let group = number.checked_shr(self.block_bits)?;
        let within = number & 1u64.checked_shl(self.block_bits)?.checked_sub(1)?;
        let block = group.checked_mul(self.group_blocks)?.checked_add(within)?;
        (group < self.groups && within < self.group_blocks && block < self.blocks)
            .then(|| block.checked_mul(self.block_size))?
    }

    pub(super) fn inode_offset(&self, number: u64) -> Option<u64> {
        let block = self.block_offset(number.checked_shr(self.inode_bits)?)?;
        let within = number & 1u64.checked_shl(self.inode_bits)?.checked_sub(1)?;
        block.checked_add(within.checked_mul(self.inode_size)?)
    }
}
