//! The fast way to folders and whole files: extents found once, then read in long runs straight into the caller's
//! buffer.
//!
//! It takes plain cases alone: a clean journal, features it knows, folders without links on the way, what is mapped
//! by extents. Everything else is `None`, and left to the reading crate, which also stays the judge
//! of what is right. Sources as in the parent module: "Inode Table", "Directory Entries", "Extent Tree".

use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;

use crate::block::{SharedDevice, read_vec};
use crate::bytes::{le16, le32, len};
use crate::file_system::{Item, Metadata, parts};
use crate::runs::{self, FileDevice, Run};

const ROOT_INODE: u32 = 2;
/// Features under which the layouts read here hold: file types in folders, extents, 64 bits, flexible groups,
/// checksum seed. One that asks for recovery is not among them.
const KNOWN_INCOMPAT: u32 = 0x2 | 0x40 | 0x80 | 0x200 | 0x2000;
const FLAG_EXTENTS: u32 = 0x8_0000;
const FLAGS_ODD: u32 = 0x800 | 0x1000_0000 | 0x4000_0000; // encrypted, data in the inode, names in any case
const FOLDER: u16 = 0x4000; // i_mode
const FILE: u16 = 0x8000;
const ENTRY_OF_FOLDER: u8 = 2; // file_type of a folder's entry
const EXTENT_MAGIC: u16 = 0xf30a;
const MAX_DEPTH: u16 = 5;
/// Runs of one file that are followed.
const MAX_RUNS: usize = 100_000;
/// Bytes of a folder that are looked through.
const MAX_FOLDER: u64 = 16 << 20;

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
    runs: Vec<Run>,
}

impl Layout {
    /// From a superblock that was checked; `None` where it has a feature that is not known here.
    pub(super) fn new(device: SharedDevice, superblock: &[u8], block_size: u32) -> Option<Self> {
        let incompat = le32(superblock, 0x60)?;
        // Extents, and file types in folders.
        if incompat & !KNOWN_INCOMPAT != 0 || incompat & 0x42 != 0x42 {
            return None;
        }
        let is_64_bit = incompat & 0x80 != 0;
        let high = if is_64_bit { u64::from(le32(superblock, 0x150)?) } else { 0 };
        let first_data_block = u64::from(le32(superblock, 0x14)?);
        let block_size = u64::from(block_size);
        Some(Self {
            device,
            block_size,
            blocks: high << 32 | u64::from(le32(superblock, 4)?),
            inode_size: u64::from(le16(superblock, 0x58)?),
            inodes_per_group: le32(superblock, 0x28).filter(|count| *count > 0)?,
            descriptors: first_data_block.checked_add(1)?.checked_mul(block_size)?,
            descriptor_size: if is_64_bit { u64::from(le16(superblock, 0xfe)?) } else { 32 },
        })
    }

    /// Fills `buffer` with a file's bytes from `offset` on; `None` where it is no plain case.
    pub(super) fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Option<usize> {
        let file = self.find(path)?.filter(|file| file.kind() == FILE)?;
        let there = len(file.size.saturating_sub(offset)).min(buffer.len());
        runs::read(self.device.as_ref(), &file.runs, offset, buffer.get_mut(..there)?).ok()?;
        Some(there)
    }

    /// A plain file as a device of its own.
    pub(super) fn file_device(&self, path: &str) -> Option<SharedDevice> {
        let file = self.find(path)?.filter(|file| file.kind() == FILE)?;
        Some(FileDevice::shared(&self.device, file.runs, file.size))
    }

    /// What stands at a path, or that nothing does; `None` where it is no plain case.
    pub(super) fn metadata(&self, path: &str) -> Option<Option<Metadata>> {
        let Some(found) = self.find(path)? else { return Some(None) };
        let kind = found.kind();
        (kind == FILE || kind == FOLDER)
            .then_some(Some(Metadata { size: found.size, is_folder: kind == FOLDER }))
    }

    /// What stands in a folder, at most `most` items, or that there is none; `None` where it is no plain case.
    pub(super) fn list(&self, path: &str, most: usize) -> Option<Option<Vec<Item>>> {
        let Some(folder) = self.find(path)? else { return Some(None) };
        let names = self.names(&folder)?;
        let mut items = Vec::new();
        for entry in Entries(&names) {
            let entry = entry?;
            if items.len() < most && entry.name != b"." && entry.name != b".." {
                let name = String::from_utf8_lossy(entry.name).into_owned();
                items.push(Item { name, is_folder: entry.kind == ENTRY_OF_FOLDER });
            }
        }
        Some(Some(items))
    }

    /// The bytes of a folder.
    fn names(&self, folder: &Inode) -> Option<Vec<u8>> {
        if folder.kind() != FOLDER || folder.size > MAX_FOLDER {
            return None;
        }
        let mut names = vec![0; usize::try_from(folder.size).ok()?];
        runs::read(self.device.as_ref(), &folder.runs, 0, &mut names).ok()?;
        Some(names)
    }

    /// What a path leads to, or that it leads to nothing; `None` where it is no plain case.
    fn find(&self, path: &str) -> Option<Option<Inode>> {
        let mut at = self.inode(ROOT_INODE)?;
        for part in parts(path) {
            let names = self.names(&at)?;
            let mut number = None;
            for entry in Entries(&names) {
                let entry = entry?;
                if entry.name == part.as_bytes() {
                    number = Some(entry.inode);
                    break;
                }
            }
            let Some(number) = number else { return Some(None) };
            at = self.inode(number)?;
        }
        Some(Some(at))
    }

    fn inode(&self, number: u32) -> Option<Inode> {
        let index = number.checked_sub(1)?;
        let group = u64::from(index.checked_div(self.inodes_per_group)?);
        let at = self.descriptors.checked_add(group.checked_mul(self.descriptor_size)?)?;
        let descriptor =
            read_vec(self.device.as_ref(), at, usize::try_from(self.descriptor_size).ok()?).ok()?;
        let high = if self.descriptor_size >= 64 { u64::from(le32(&descriptor, 0x28)?) } else { 0 };
        let table = high << 32 | u64::from(le32(&descriptor, 8)?);
        let within = u64::from(index.checked_rem(self.inodes_per_group)?).checked_mul(self.inode_size)?;
        let at = table.checked_mul(self.block_size)?.checked_add(within)?;
        let raw = read_vec(self.device.as_ref(), at, usize::try_from(self.inode_size).ok()?).ok()?;
        let flags = le32(&raw, 0x20)?;
        if flags & FLAG_EXTENTS == 0 || flags & FLAGS_ODD != 0 {
            return None;
        }
        let mut runs = Vec::new();
        self.gather(raw.get(0x28..0x64)?, MAX_DEPTH, &mut runs)?;
        Some(Inode {
            mode: le16(&raw, 0)?,
            size: u64::from(le32(&raw, 0x6c)?) << 32 | u64::from(le32(&raw, 4)?),
            runs,
        })
    }

    /// The runs under a node of the tree. Bounded: each level goes down, and the number of runs is.
    fn gather(&self, node: &[u8], most_depth: u16, runs: &mut Vec<Run>) -> Option<()> {
        let depth = le16(node, 6)?;
        if le16(node, 0)? != EXTENT_MAGIC || depth > most_depth {
            return None;
        }
        let entries = usize::from(le16(node, 2)?);
        for entry in node.get(12..)?.as_chunks::<12>().0.get(..entries)? {
            if runs.len() >= MAX_RUNS {
                return None;
            }
            if depth == 0 {
                runs::push(runs, self.run(entry)?);
            } else {
                let child = u64::from(le16(entry, 8)?) << 32 | u64::from(le32(entry, 4)?);
                let length = usize::try_from(self.block_size).ok()?;
                let node =
                    read_vec(self.device.as_ref(), child.checked_mul(self.block_size)?, length).ok()?;
                self.gather(&node, depth.checked_sub(1)?, runs)?;
            }
        }
        Some(())
    }

    fn run(&self, entry: &[u8]) -> Option<Run> {
        let count = u64::from(le16(entry, 4)?);
        // More than this says that the blocks were never written.
        let (count, is_written) =
            if count > 0x8000 { (count.checked_sub(0x8000)?, false) } else { (count, true) };
        let start = u64::from(le16(entry, 6)?) << 32 | u64::from(le32(entry, 8)?);
        (start.checked_add(count)? <= self.blocks && start > 0).then_some(())?;
        Some(Run {
            at: u64::from(le32(entry, 0)?).checked_mul(self.block_size)?,
            from: if is_written { Some(start.checked_mul(self.block_size)?) } else { None },
            length: count.checked_mul(self.block_size)?,
        })
    }
}

impl Inode {
    fn kind(&self) -> u16 {
        self.mode & 0xf000
    }
}

/// One name in a folder.
struct Entry<'a> {
    inode: u32,
    kind: u8,
    name: &'a [u8],
}

/// The names in a folder's bytes, `None` for one that cannot be. Folders with an index hold it in what reads as unused
/// entries.
struct Entries<'a>(&'a [u8]);

impl<'a> Entries<'a> {
    fn take(&mut self) -> Option<Entry<'a>> {
        let bytes = self.0;
        let (inode, length) = (le32(bytes, 0)?, usize::from(le16(bytes, 4)?));
        let name_length = usize::from(*bytes.get(6)?);
        // An entry shorter than its own header would never end.
        self.0 = (length >= 8).then(|| bytes.get(length..)).flatten()?;
        Some(Entry { inode, kind: *bytes.get(7)?, name: bytes.get(8..name_length.checked_add(8)?)? })
    }
}

impl<'a> Iterator for Entries<'a> {
    type Item = Option<Entry<'a>>;

    fn next(&mut self) -> Option<Self::Item> {
        while !self.0.is_empty() {
            match self.take() {
                Some(entry) if entry.inode == 0 => {}
                Some(entry) => return Some(Some(entry)),
                None => {
                    self.0 = &[];
                    return Some(None);
                }
            }
        }
        None
    }
}
