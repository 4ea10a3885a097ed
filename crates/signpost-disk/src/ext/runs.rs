//! The fast way to a whole file: its extents found once, then read in long runs straight into the caller's buffer.
//!
//! It takes plain cases alone: a clean journal, features it knows, folders without links on the way, a file mapped
//! by extents without holes. Everything else is `None`, and left to the reading crate, which also stays the judge
//! of what is right. Sources as in the parent module: "Inode Table", "Directory Entries", "Extent Tree".

use alloc::vec;
use alloc::vec::Vec;

use crate::block::{SharedDevice, read_vec};
use crate::file_system::parts;

const ROOT_INODE: u32 = 2;
/// Features under which the layouts read here hold: file types in folders, extents, 64 bits, flexible groups,
/// checksum seed. One that asks for recovery is not among them.
const KNOWN_INCOMPAT: u32 = 0x2 | 0x40 | 0x80 | 0x200 | 0x2000;
const FLAG_EXTENTS: u32 = 0x8_0000;
const FLAGS_ODD: u32 = 0x800 | 0x1000_0000; // encrypted, data in the inode
const EXTENT_MAGIC: u16 = 0xf30a;
const MAX_DEPTH: u16 = 5;
/// Extents of one file that are followed.
const MAX_EXTENTS: usize = 100_000;
/// Bytes of a folder that are looked through.
const MAX_FOLDER: u64 = 16 << 20;
/// Bytes read at once.
const RUN: usize = 4 << 20;

/// Where inodes are.
pub(super) struct Layout {
    device: SharedDevice,
    block_size: u64,
    blocks: u64,
    inode_size: u64,
    inodes_per_group: u32,
    /// Offset of the group descriptors in bytes, and length of one.
    descriptors: u64,
    descriptor_size: u64,
}

struct Inode {
    mode: u16,
    size: u64,
    /// First block in the file, first block on the volume, count.
    extents: Vec<(u64, u64, u64)>,
}

impl Layout {
    /// From a superblock that was checked; `None` where it has a feature that is not known here.
    pub(super) fn new(device: SharedDevice, superblock: &[u8], block_size: u32) -> Option<Self> {
        let incompat = u32_at(superblock, 0x60)?;
        if incompat & !KNOWN_INCOMPAT != 0 || incompat & 0x40 == 0 {
            return None;
        }
        let is_64_bit = incompat & 0x80 != 0;
        let high = if is_64_bit { u64::from(u32_at(superblock, 0x150)?) } else { 0 };
        let first_data_block = u64::from(u32_at(superblock, 0x14)?);
        let block_size = u64::from(block_size);
        Some(Self {
            device,
            block_size,
            blocks: high << 32 | u64::from(u32_at(superblock, 4)?),
            inode_size: u64::from(u16_at(superblock, 0x58)?),
            inodes_per_group: u32_at(superblock, 0x28).filter(|count| *count > 0)?,
            descriptors: first_data_block.checked_add(1)?.checked_mul(block_size)?,
            descriptor_size: if is_64_bit { u64::from(u16_at(superblock, 0xfe)?) } else { 32 },
        })
    }

    /// The first `most` bytes of a file; `None` where it is no plain case.
    pub(super) fn read(&self, path: &str, most: usize) -> Option<Vec<u8>> {
        let mut number = ROOT_INODE;
        for part in parts(path) {
            let folder = self.inode(number)?;
            if folder.mode & 0xf000 != 0x4000 || folder.size > MAX_FOLDER {
                return None;
            }
            number = find(&self.contents(&folder, folder.size)?, part.as_bytes())?;
        }
        let file = self.inode(number)?;
        let wanted = file.size.min(u64::try_from(most).ok()?);
        (file.mode & 0xf000 == 0x8000).then(|| self.contents(&file, wanted)).flatten()
    }

    fn inode(&self, number: u32) -> Option<Inode> {
        let index = number.checked_sub(1)?;
        let group = u64::from(index.checked_div(self.inodes_per_group)?);
        let at = self.descriptors.checked_add(group.checked_mul(self.descriptor_size)?)?;
        let descriptor =
            read_vec(self.device.as_ref(), at, usize::try_from(self.descriptor_size).ok()?).ok()?;
        let high = if self.descriptor_size >= 64 { u64::from(u32_at(&descriptor, 0x28)?) } else { 0 };
        let table = high << 32 | u64::from(u32_at(&descriptor, 8)?);
        let within = u64::from(index.checked_rem(self.inodes_per_group)?).checked_mul(self.inode_size)?;
        let at = table.checked_mul(self.block_size)?.checked_add(within)?;
        let raw = read_vec(self.device.as_ref(), at, usize::try_from(self.inode_size).ok()?).ok()?;
        let flags = u32_at(&raw, 0x20)?;
        if flags & FLAG_EXTENTS == 0 || flags & FLAGS_ODD != 0 {
            return None;
        }
        let mut extents = Vec::new();
        self.gather(raw.get(0x28..0x64)?, MAX_DEPTH, &mut extents)?;
        Some(Inode {
            mode: u16_at(&raw, 0)?,
            size: u64::from(u32_at(&raw, 0x6c)?) << 32 | u64::from(u32_at(&raw, 4)?),
            extents,
        })
    }

    /// The extents under a node of the tree. Bounded: each level goes down, and the number of extents is.
    fn gather(&self, node: &[u8], most_depth: u16, extents: &mut Vec<(u64, u64, u64)>) -> Option<()> {
        let depth = u16_at(node, 6)?;
        if u16_at(node, 0)? != EXTENT_MAGIC || depth > most_depth {
            return None;
        }
        let entries = usize::from(u16_at(node, 2)?);
        for entry in node.get(12..)?.as_chunks::<12>().0.get(..entries)? {
            if extents.len() >= MAX_EXTENTS {
                return None;
            }
            if depth == 0 {
                let count = u16_at(entry, 4)?;
                // More than this says that the blocks were never written.
                if count > 0x8000 {
                    return None;
                }
                let start = u64::from(u16_at(entry, 6)?) << 32 | u64::from(u32_at(entry, 8)?);
                let end = start.checked_add(u64::from(count))?;
                (end <= self.blocks && start > 0).then_some(())?;
                extents.push((u64::from(u32_at(entry, 0)?), start, u64::from(count)));
            } else {
                let child = u64::from(u16_at(entry, 8)?) << 32 | u64::from(u32_at(entry, 4)?);
                let length = usize::try_from(self.block_size).ok()?;
                let node =
                    read_vec(self.device.as_ref(), child.checked_mul(self.block_size)?, length).ok()?;
                self.gather(&node, depth.checked_sub(1)?, extents)?;
            }
        }
        Some(())
    }

    /// The first bytes of an inode's contents, run by run; `None` where a hole is among them.
    fn contents(&self, inode: &Inode, wanted: u64) -> Option<Vec<u8>> {
        // A size that lies cannot be mapped: what is asked for is no more than the volume holds.
        let mapped: u64 = inode.extents.iter().map(|(_, _, count)| count).sum();
        if wanted > mapped.min(self.blocks).checked_mul(self.block_size)? {
            return None;
        }
        let length = usize::try_from(wanted).ok()?;
        // Asked first whether the memory is there; then made cleared, which growing would do byte by byte.
        Vec::<u8>::new().try_reserve_exact(length).ok()?;
        let mut bytes = vec![0; length];
        let (mut next_block, mut done) = (0u64, 0usize);
        for (logical, start, count) in &inode.extents {
            if done >= length {
                break;
            }
            if *logical != next_block {
                return None;
            }
            next_block = next_block.checked_add(*count)?;
            let offset = start.checked_mul(self.block_size)?;
            let size = usize::try_from(count.checked_mul(self.block_size)?).ok()?;
            let end = done.checked_add(size)?.min(length);
            self.fill(bytes.get_mut(done..end)?, offset)?;
            done = end;
        }
        (done == length).then_some(bytes)
    }

    /// Reads one stretch of the volume, in runs.
    fn fill(&self, buffer: &mut [u8], offset: u64) -> Option<()> {
        let mut offset = offset;
        for run in buffer.chunks_mut(RUN) {
            self.device.read_at(offset, run).ok()?;
            offset = offset.checked_add(u64::try_from(run.len()).ok()?)?;
        }
        Some(())
    }
}

/// The inode of a name in a folder's bytes. Folders with an index hold it in what reads as unused entries.
fn find(folder: &[u8], name: &[u8]) -> Option<u32> {
    let mut rest = folder;
    while rest.len() >= 8 {
        let (inode, length, name_length) =
            (u32_at(rest, 0)?, usize::from(u16_at(rest, 4)?), usize::from(*rest.get(6)?));
        if inode != 0 && rest.get(8..name_length.checked_add(8)?) == Some(name) {
            return Some(inode);
        }
        // An entry shorter than its own header would never end.
        rest = (length >= 8).then(|| rest.get(length..)).flatten()?;
    }
    None
}

fn u16_at(bytes: &[u8], offset: usize) -> Option<u16> {
    bytes.get(offset..)?.first_chunk().copied().map(u16::from_le_bytes)
}

fn u32_at(bytes: &[u8], offset: usize) -> Option<u32> {
    bytes.get(offset..)?.first_chunk().copied().map(u32::from_le_bytes)
}
