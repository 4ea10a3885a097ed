//! An inode ("Inode Table"), and where its bytes are: by a tree of extents, by a map of blocks, or in the inode itself.

use alloc::format;
use alloc::vec::Vec;

use super::layout::Layout;
use crate::block::read_vec;
use crate::bytes::{le16, le32, len};
use crate::error::VolumeError;
use crate::runs::{self, Run};
use crate::tree::NodeKind;

const FLAG_ENCRYPTED: u32 = 0x800;
const FLAG_EXTENTS: u32 = 0x8_0000;
const FLAG_DATA_HERE: u32 = 0x1000_0000;
const FLAG_ANY_CASE: u32 = 0x4000_0000;
const EXTENT_MAGIC: u16 = 0xf30a;
const MAX_DEPTH: u16 = 5;
/// Where the first 60 bytes, the extents or the map stand (`i_block`).
const BLOCK: core::ops::Range<usize> = 0x28..0x64;
const ATTRIBUTES_MAGIC: u32 = 0xea02_0000;
/// Attributes of an inode that are looked at.
const MAX_ATTRIBUTES: usize = 64;
/// Runs of one file that are followed.
const MAX_RUNS: usize = 100_000;
/// Blocks of a file's tree or map that are read: 2 TiB in blocks of 4 KiB by a map take half a million.
const MAX_NODES: u32 = 600_000;

/// An inode.
#[derive(Clone)]
pub(super) struct Inode {
    pub(super) mode: u16,
    /// Bytes.
    pub(super) size: u64,
    pub(super) is_encrypted: bool,
    /// Of a folder: names in it are the same in any case.
    pub(super) ignores_case: bool,
    pub(super) body: Body,
}

/// Where its bytes are.
#[derive(Clone)]
pub(super) enum Body {
    Runs(Vec<Run>),
    Here(Vec<u8>),
}

impl Inode {
    pub(super) fn read(layout: &Layout, number: u32, raw: &[u8]) -> Result<Self, VolumeError> {
        let lie =
            |what: &str| VolumeError::Corrupt(format!("ext, inode {number}: its {what} cannot be followed"));
        let read = || {
            let (mode, flags) = (le16(raw, 0)?, le32(raw, 0x20)?);
            Some((mode, flags, u64::from(le32(raw, 4)?), u64::from(le32(raw, 0x6c)?), raw.get(BLOCK)?))
        };
        let (mode, flags, size, high, block) = read().ok_or_else(|| lie("fields"))?;
        let kind = NodeKind::of_mode(mode);
        // Of old folders, the high half is something else.
        let size = if kind == NodeKind::File { high << 32 | size } else { size };
        let has_extents = flags & FLAG_EXTENTS != 0;
        let body = if flags & FLAG_DATA_HERE != 0 {
            let mut bytes = block.to_vec();
            bytes.extend(attribute_data(raw).unwrap_or_default());
            bytes.truncate(len(size));
            Body::Here(bytes)
        } else if kind == NodeKind::Other || kind == NodeKind::Link && size < 60 && !has_extents {
            Body::Here(block.get(..len(size)).unwrap_or_default().to_vec())
        } else {
            let mut gather = Gather { layout, runs: Vec::new(), left: MAX_NODES };
            let found = if has_extents { gather.tree(block, MAX_DEPTH) } else { gather.map(block, size) };
            match found {
                Ok(true) => Body::Runs(gather.runs),
                Ok(false) => return Err(lie(if has_extents { "tree of extents" } else { "map of blocks" })),
                Err(error) => return Err(error),
            }
        };
        Ok(Self {
            mode,
            size,
            is_encrypted: flags & FLAG_ENCRYPTED != 0,
            ignores_case: flags & FLAG_ANY_CASE != 0,
            body,
        })
    }
}

/// What of a file in its inode did not fit into the first 60 bytes: the value of the attribute `system.data` ("Extended
/// Attributes").
fn attribute_data(raw: &[u8]) -> Option<Vec<u8>> {
    const SYSTEM: u8 = 7; // e_name_index
    let start = usize::from(le16(raw, 0x80)?).checked_add(128)?;
    if le32(raw, start)? != ATTRIBUTES_MAGIC {
        return None;
    }
    let entries = raw.get(start.checked_add(4)?..)?;
    let mut at = 0usize;
    for _ in 0..MAX_ATTRIBUTES {
        let entry = entries.get(at..).filter(|_| le32(entries, at) != Some(0))?;
        let length = usize::from(*entry.first()?);
        let name = entry.get(16..length.checked_add(16)?)?;
        if entry.get(1) == Some(&SYSTEM) && name == b"data" {
            let (offset, size) = (usize::from(le16(entry, 2)?), len(le32(entry, 8)?));
            return entries.get(offset..offset.checked_add(size)?).map(<[u8]>::to_vec);
        }
        at = at.checked_add(length.checked_add(16)?.next_multiple_of(4))?;
    }
    None
}

/// A file's runs, as they are found. Each step says whether what it met can be.
struct Gather<'a> {
    layout: &'a Layout,
    runs: Vec<Run>,
    /// Blocks that may still be read.
    left: u32,
}

impl Gather<'_> {
    fn block(&mut self, number: u64) -> Result<Option<Vec<u8>>, VolumeError> {
        let (size, left) = (self.layout.block_size, self.left.checked_sub(1));
        let Some((at, left)) = number.checked_mul(size).zip(left) else { return Ok(None) };
        self.left = left;
        if number >= self.layout.blocks || self.runs.len() >= MAX_RUNS {
            return Ok(None);
        }
        Ok(Some(read_vec(self.layout.device.as_ref(), at, len(size))?))
    }

    /// A node of a tree of extents ("Extent Tree"). Each level goes down.
    fn tree(&mut self, node: &[u8], most_depth: u16) -> Result<bool, VolumeError> {
        let header = || Some((le16(node, 0)?, le16(node, 2)?, le16(node, 6)?));
        let Some((EXTENT_MAGIC, entries, depth)) = header() else { return Ok(false) };
        let entries = node.get(12..).and_then(|rest| rest.as_chunks::<12>().0.get(..usize::from(entries)));
        let Some(entries) = entries.filter(|_| depth <= most_depth) else { return Ok(false) };
        for entry in entries {
            let half = |at: usize| le16(entry, at).map_or(0, u64::from);
            let word = |at: usize| le32(entry, at).map_or(0, u64::from);
            let is_good = match depth.checked_sub(1) {
                None => self.extent(word(0), half(4), half(6) << 32 | word(8)),
                Some(below) => match self.block(half(8) << 32 | word(4))? {
                    Some(node) => self.tree(&node, below)?,
                    None => false,
                },
            };
            if !is_good {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn extent(&mut self, first: u64, count: u64, start: u64) -> bool {
        // More than this says that the blocks were never written.
        let (count, is_written) =
            if count > 0x8000 { (count.saturating_sub(0x8000), false) } else { (count, true) };
        self.add(first, count, is_written.then_some(start))
            && start > 0
            && start.saturating_add(count) <= self.layout.blocks
    }

    fn add(&mut self, first: u64, count: u64, start: Option<u64>) -> bool {
        let size = self.layout.block_size;
        let run = || {
            let from = match start {
                Some(start) => Some(start.checked_mul(size)?),
                None => None,
            };
            Some(Run { at: first.checked_mul(size)?, from, length: count.checked_mul(size)? })
        };
        let Some(run) = run().filter(|_| self.runs.len() < MAX_RUNS) else { return false };
        runs::push(&mut self.runs, run);
        true
    }

    /// A map of blocks: twelve of them, then one behind one, two and three levels of further maps ("Direct/Indirect
    /// Block Addressing").
    fn map(&mut self, block: &[u8], size: u64) -> Result<bool, VolumeError> {
        let wanted = size.div_ceil(self.layout.block_size);
        let mut at = 0u64;
        for (index, number) in block.as_chunks::<4>().0.iter().enumerate() {
            let levels = u32::try_from(index.saturating_sub(11)).unwrap_or(0);
            if !self.mapped(u64::from(u32::from_le_bytes(*number)), levels, &mut at, wanted)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// What a number in a map leads to; 0 to nothing, which reads as zeros.
    fn mapped(&mut self, number: u64, levels: u32, at: &mut u64, wanted: u64) -> Result<bool, VolumeError> {
        if *at >= wanted {
            return Ok(true);
        }
        let in_block = self.layout.block_size.checked_div(4).unwrap_or(1);
        let Some(below) = levels.checked_sub(1).filter(|_| number > 0) else {
            let first = *at;
            *at = first.saturating_add(in_block.saturating_pow(levels));
            return Ok(number == 0 || number < self.layout.blocks && self.add(first, 1, Some(number)));
        };
        let Some(map) = self.block(number)? else { return Ok(false) };
        for number in map.as_chunks::<4>().0 {
            if !self.mapped(u64::from(u32::from_le_bytes(*number)), below, at, wanted)? {
                return Ok(false);
            }
        }
        Ok(true)
    }
}
