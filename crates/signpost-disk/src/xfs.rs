//! XFS, versions 4 and 5 (the "XFS Algorithms & Data Structures" guide, third edition). Numbers are big-endian.
//!
//! Every link is bounded: block numbers by the volume, trees by depth and count, folders by length.

mod folder;
mod inode;
pub(crate) mod log;

use alloc::format;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;

use crate::block::{BlockDevice, SharedDevice, read_vec};
use crate::bytes::{be16, be32, be64, len, short};
use crate::file_system::VolumeError;
use crate::runs::{self, Run};
use crate::tree::{NodeKind, Nodes, Tree};
use inode::{Fork, Inode};

/// Features that change what is read here, and are known: file types in folders, sparse inodes, another UUID
/// in metadata, times that reach further, more extents, exchanged ranges, links to parents.
const KNOWN_INCOMPAT: u32 = 0xef;
const NEEDS_REPAIR: u32 = 0x10;
const INCOMPAT_FTYPE: u32 = 0x1;
const FEATURES2_FTYPE: u32 = 0x200;
/// Bytes of a folder's data that are looked through.
const MAX_FOLDER: u64 = 16 << 20;
/// Folder data lies before this offset, its index behind.
const INDEX_OFFSET: u64 = 1 << 35;
/// Header of a block of a link's target, version 5: "Symbolic Links".
const LINK_HEADER: usize = 56;

/// A volume's geometry ("Superblocks").
#[derive(Clone, Debug)]
struct Superblock {
    block_size: u64,
    blocks: u64,
    root_inode: u64,
    group_blocks: u64,
    groups: u64,
    inode_size: u64,
    /// Bits of an inode's number within its block, and of a block's number within its group.
    inode_bits: u32,
    block_bits: u32,
    folder_block_size: u64,
    is_version_5: bool,
    has_file_types: bool,
}

impl Superblock {
    fn read(device: &dyn BlockDevice) -> Result<Self, VolumeError> {
        let bytes = read_vec(device, 0, 512)?;
        Self::decode(&bytes).ok_or_else(|| short("XFS superblock"))?.checked(&bytes, device.size())
    }

    fn decode(bytes: &[u8]) -> Option<Self> {
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

    fn checked(self, bytes: &[u8], size: u64) -> Result<Self, VolumeError> {
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
    fn block_offset(&self, number: u64) -> Option<u64> {
        let group = number.checked_shr(self.block_bits)?;
        let within = number & 1u64.checked_shl(self.block_bits)?.checked_sub(1)?;
        let block = group.checked_mul(self.group_blocks)?.checked_add(within)?;
        (group < self.groups && within < self.group_blocks && block < self.blocks)
            .then(|| block.checked_mul(self.block_size))?
    }

    fn inode_offset(&self, number: u64) -> Option<u64> {
        let block = self.block_offset(number.checked_shr(self.inode_bits)?)?;
        let within = number & 1u64.checked_shl(self.inode_bits)?.checked_sub(1)?;
        block.checked_add(within.checked_mul(self.inode_size)?)
    }
}

/// An XFS volume, opened.
pub(crate) struct XfsVolume {
    device: SharedDevice,
    superblock: Superblock,
}

impl XfsVolume {
    /// Opens a volume whose superblock holds.
    pub(crate) fn open(device: SharedDevice) -> Result<Tree<Self>, VolumeError> {
        let superblock = Superblock::read(device.as_ref())?;
        Ok(Tree(Self { device, superblock }))
    }

    fn inode(&self, number: u64) -> Result<Inode, VolumeError> {
        let lost = || VolumeError::Corrupt(format!("XFS: inode {number} lies outside of the volume"));
        let offset = self.superblock.inode_offset(number).ok_or_else(lost)?;
        let bytes = read_vec(self.device.as_ref(), offset, len(self.superblock.inode_size))?;
        Inode::decode(number, &bytes, self.superblock.is_version_5)
    }

    fn map(&self, inode: &Inode) -> Result<Vec<Run>, VolumeError> {
        inode::Mapper { device: self.device.as_ref(), superblock: &self.superblock }.runs(inode)
    }

    /// A folder's names: of each its inode's number.
    fn names(&self, folder: &Inode) -> Result<Vec<folder::Name>, VolumeError> {
        let layout = folder::Layout {
            has_file_types: self.superblock.has_file_types,
            block_size: len(self.superblock.folder_block_size),
        };
        if let Fork::Local(bytes) = &folder.fork {
            return folder::short_form(bytes, &layout).ok_or_else(|| short("XFS short folder"));
        }
        let runs = self.map(folder)?;
        let data: Vec<&Run> = runs.iter().filter(|run| run.at < INDEX_OFFSET).collect();
        let end = data.last().map_or(0, |run| run.at.saturating_add(run.length));
        if end > MAX_FOLDER {
            return Err(VolumeError::Unsupported(format!("an XFS folder of {end} bytes")));
        }
        let mut names = Vec::new();
        let mut block = vec![0; layout.block_size];
        let mut at = 0u64;
        while at < end {
            runs::read(self.device.as_ref(), &runs, at, &mut block)?;
            folder::block(&block, &layout, &mut names)?;
            at = at.saturating_add(self.superblock.folder_block_size);
        }
        Ok(names)
    }
}

impl Nodes for XfsVolume {
    type Node = Inode;

    fn root(&self) -> Result<Inode, VolumeError> {
        self.inode(self.superblock.root_inode)
    }

    fn kind(&self, node: &Inode) -> NodeKind {
        NodeKind::of_mode(node.mode)
    }

    fn size(&self, node: &Inode) -> u64 {
        node.size
    }

    fn child(&self, folder: &Inode, name: &str) -> Result<Option<Inode>, VolumeError> {
        let names = self.names(folder)?;
        let found = names.iter().find(|found| found.name == name.as_bytes());
        found.map(|found| self.inode(found.inode)).transpose()
    }

    fn children(&self, folder: &Inode) -> Result<Vec<(String, NodeKind)>, VolumeError> {
        let names = self.names(folder)?.into_iter().map(|found| {
            let kind = match found.kind {
                Some(kind) => kind,
                None => {
                    self.inode(found.inode).map_or(NodeKind::Other, |inode| NodeKind::of_mode(inode.mode))
                }
            };
            (String::from_utf8_lossy(&found.name).into_owned(), kind)
        });
        Ok(names.collect())
    }

    fn target(&self, link: &Inode) -> Result<Vec<u8>, VolumeError> {
        let size = len(link.size.min(1024));
        if let Fork::Local(bytes) = &link.fork {
            return Ok(bytes.get(..size).unwrap_or(bytes).to_vec());
        }
        let runs = self.map(link)?;
        let block_size = len(self.superblock.block_size);
        let (mut target, mut at) = (Vec::new(), 0u64);
        let header = if self.superblock.is_version_5 { LINK_HEADER } else { 0 };
        while target.len() < size {
            let mut block = vec![0; block_size];
            runs::read(self.device.as_ref(), &runs, at, &mut block)?;
            let left = size.saturating_sub(target.len());
            let piece = block.get(header..).unwrap_or_default();
            target.extend_from_slice(piece.get(..left).unwrap_or(piece));
            at = at.saturating_add(self.superblock.block_size);
        }
        Ok(target)
    }

    fn runs(&self, file: &Inode) -> Result<Option<(SharedDevice, Vec<Run>)>, VolumeError> {
        Ok(Some((self.device.clone(), self.map(file)?)))
    }

    fn read(&self, node: &Inode, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError> {
        if let Fork::Local(_) = node.fork {
            return Err(VolumeError::Corrupt(format!("XFS: file inode {} has its data in it", node.number)));
        }
        Ok(runs::read(self.device.as_ref(), &self.map(node)?, offset, buffer)?)
    }
}
