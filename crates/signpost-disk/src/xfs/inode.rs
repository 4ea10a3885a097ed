//! Inodes and where their data is ("On-disk Inode", "Data Extents").

use alloc::format;
use alloc::vec::Vec;

use super::superblock::Superblock;
use crate::block::{BlockDevice, read_vec};
use crate::bytes::{be16, be32, be64, le32, len, short};
use crate::checksum::crc32c_without;
use crate::error::VolumeError;
use crate::runs::{self, Run};

/// Levels of a B+tree.
const MAX_LEVEL: u16 = 9;
/// Extents of one file that are followed.
const MAX_EXTENTS: usize = 200_000;
/// Data lies on the realtime device.
const FLAG_REALTIME: u16 = 1;
/// Extents are counted in another field.
const FLAG2_MANY_EXTENTS: u64 = 1 << 4;

/// An inode.
#[derive(Clone, Debug)]
pub(crate) struct Inode {
    pub(super) number: u64,
    pub(super) mode: u16,
    pub(super) size: u64,
    pub(super) fork: Fork,
    is_realtime: bool,
}

/// Its data fork.
#[derive(Clone, Debug)]
pub(super) enum Fork {
    /// The data itself.
    Local(Vec<u8>),
    /// Extents, 16 bytes each.
    Extents(Vec<u8>),
    /// The root of a tree of them.
    Tree(Vec<u8>),
    /// A device number.
    None,
}

impl Inode {
    pub(super) fn decode(number: u64, bytes: &[u8], is_version_5: bool) -> Result<Self, VolumeError> {
        let corrupt = |what: &str| VolumeError::Corrupt(format!("XFS inode {number}: {what}"));
        if !bytes.starts_with(b"IN") {
            return Err(corrupt("no inode is at its place"));
        }
        if is_version_5 && le32(bytes, 100) != Some(crc32c_without(bytes, 100)) {
            return Err(corrupt("its checksum does not fit"));
        }
        Self::decode_fields(number, bytes).ok_or_else(|| corrupt("it ends before its own fields do"))
    }

    fn decode_fields(number: u64, bytes: &[u8]) -> Option<Self> {
        let version = *bytes.get(4)?;
        let start: usize = if version >= 3 { 176 } else { 100 };
        let fork_end = match usize::from(*bytes.get(82)?) {
            0 => bytes.len(),
            eighths => start.checked_add(eighths.checked_mul(8)?)?.min(bytes.len()),
        };
        let area = bytes.get(start..fork_end)?;
        let size = be64(bytes, 56)?;
        let has_many = version >= 3 && be64(bytes, 120)? & FLAG2_MANY_EXTENTS != 0;
        let extents = if has_many { len(be64(bytes, 24)?) } else { len(be32(bytes, 76)?) };
        let fork = match *bytes.get(5)? {
            1 => Fork::Local(area.get(..len(size)).unwrap_or(area).to_vec()),
            2 => Fork::Extents(area.get(..extents.saturating_mul(16)).unwrap_or(area).to_vec()),
            3 => Fork::Tree(area.to_vec()),
            _ => Fork::None,
        };
        let is_realtime = be16(bytes, 90)? & FLAG_REALTIME != 0;
        Some(Self { number, mode: be16(bytes, 2)?, size, fork, is_realtime })
    }
}

/// Finds the runs of an inode.
pub(super) struct Mapper<'a> {
    pub(super) device: &'a dyn BlockDevice,
    pub(super) superblock: &'a Superblock,
}

impl Mapper<'_> {
    pub(super) fn runs(&self, inode: &Inode) -> Result<Vec<Run>, VolumeError> {
        if inode.is_realtime {
            return Err(VolumeError::Unsupported("XFS: its data lies on a realtime device".into()));
        }
        let mut runs = Vec::new();
        match &inode.fork {
            Fork::Extents(bytes) => self.extents(bytes, &mut runs)?,
            Fork::Tree(bytes) => self.tree(bytes, &mut runs)?,
            Fork::Local(_) | Fork::None => {}
        }
        Ok(runs)
    }

    fn extents(&self, bytes: &[u8], found: &mut Vec<Run>) -> Result<(), VolumeError> {
        for record in bytes.as_chunks::<16>().0 {
            if found.len() >= MAX_EXTENTS {
                return Err(VolumeError::Unsupported(format!("XFS: more than {MAX_EXTENTS} extents")));
            }
            let run = self
                .run(record)
                .ok_or_else(|| VolumeError::Corrupt("XFS: an extent lies outside of the volume".into()))?;
            runs::push(found, run);
        }
        Ok(())
    }

    /// A packed extent: flag, offset in the file, first block, count of blocks.
    fn run(&self, record: &[u8]) -> Option<Run> {
        let (high, low) = (be64(record, 0)?, be64(record, 8)?);
        let size = self.superblock.block_size;
        let at = (high >> 9 & ((1 << 54) - 1)).checked_mul(size)?;
        let start = (high & 0x1ff) << 43 | low >> 21;
        let count = low & ((1 << 21) - 1);
        let from = self.superblock.block_offset(start)?;
        let is_written = high >> 63 == 0;
        Some(Run { at, from: is_written.then_some(from), length: count.checked_mul(size)? })
    }

    /// The tree whose root stands in the inode: keys, then links, each as many as there is room for.
    fn tree(&self, root: &[u8], runs: &mut Vec<Run>) -> Result<(), VolumeError> {
        let missing = || short("XFS extent tree");
        let level = be16(root, 0).ok_or_else(missing)?;
        let count = be16(root, 2).ok_or_else(missing)?;
        let links = links(root, 4, count).ok_or_else(missing)?;
        self.descend(&links, level, runs)
    }

    /// Bounded: each level goes down by one, and the number of extents is.
    fn descend(&self, links: &[u64], level: u16, runs: &mut Vec<Run>) -> Result<(), VolumeError> {
        let below = level.checked_sub(1).filter(|_| level <= MAX_LEVEL);
        let below =
            below.ok_or_else(|| VolumeError::Corrupt(format!("XFS: an extent tree of {level} levels")))?;
        for link in links {
            let block = self.block(*link, below)?;
            let header = if block.starts_with(b"BMA3") { 72 } else { 24 };
            let count = be16(&block, 6).ok_or_else(|| short("XFS extent tree"))?;
            let records = block.get(header..).unwrap_or_default();
            if below == 0 {
                let end = usize::from(count).saturating_mul(16);
                self.extents(records.get(..end).unwrap_or(records), runs)?;
            } else {
                let links =
                    super::inode::links(&block, header, count).ok_or_else(|| short("XFS extent tree"))?;
                self.descend(&links, below, runs)?;
            }
        }
        Ok(())
    }

    fn block(&self, number: u64, level: u16) -> Result<Vec<u8>, VolumeError> {
        let corrupt =
            |what: &str| VolumeError::Corrupt(format!("XFS: block {number} of an extent tree {what}"));
        let offset =
            self.superblock.block_offset(number).ok_or_else(|| corrupt("lies outside of the volume"))?;
        let block = read_vec(self.device, offset, len(self.superblock.block_size))?;
        let is_right = block.starts_with(b"BMAP") || block.starts_with(b"BMA3");
        if !is_right || be16(&block, 4) != Some(level) {
            return Err(corrupt("is none"));
        }
        Ok(block)
    }
}

/// The links of a node, which stand behind room for as many keys as fit.
fn links(node: &[u8], header: usize, count: u16) -> Option<Vec<u64>> {
    let room = node.len().checked_sub(header)?.checked_div(16)?;
    let first = header.checked_add(room.checked_mul(8)?)?;
    let links = node.get(first..)?.as_chunks::<8>().0.get(..usize::from(count))?;
    Some(links.iter().map(|link| u64::from_be_bytes(*link)).collect())
}
