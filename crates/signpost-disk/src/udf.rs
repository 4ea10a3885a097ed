//! UDF (ECMA-167, parts 3 and 4, as "OSTA Universal Disk Format" uses it): media of one partition that is written plainly.

use alloc::format;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;

use crate::block::{SharedDevice, read_vec};
use crate::bytes::{le16, le32, le64, len};
use crate::error::VolumeError;
use crate::runs::{self, Run};
use crate::tree::{NodeKind, Nodes, Tree};

// Descriptors, by the number in their tag (3/7.2.1, 4/7.2.1).
const ANCHOR: u16 = 2;
const PARTITION: u16 = 5;
const LOGICAL_VOLUME: u16 = 6;
const TERMINATING: u16 = 8;
const FILE_SET: u16 = 256;
const FILE_IDENTIFIER: u16 = 257;
const FILE_ENTRY: u16 = 261;
const EXTENDED_FILE_ENTRY: u16 = 266;
/// Descriptors of the volume that are looked at.
const MAX_DESCRIPTORS: u64 = 64;
/// Bytes of a folder that are looked through.
const MAX_FOLDER: u64 = 16 << 20;
/// Runs of one file that are followed.
const MAX_RUNS: usize = 100_000;
/// Blocks of one file with further extents: a way that goes in a circle ends here.
const MAX_LISTS: u32 = 1000;
/// Bytes that a descriptor of a file takes at most.
const MAX_BLOCK: usize = 4096;

/// A UDF volume, opened.
pub(crate) struct UdfVolume {
    device: SharedDevice,
    /// Bytes of a block.
    block_size: u64,
    /// First byte of the partition, and its length.
    start: u64,
    length: u64,
    root: u32,
}

/// A file or folder.
#[derive(Clone)]
pub(crate) struct Node {
    kind: NodeKind,
    body: Body,
    size: u64,
}

#[derive(Clone)]
enum Body {
    Runs(Vec<Run>),
    Here(Vec<u8>),
}

fn lie(what: &str) -> VolumeError {
    VolumeError::Corrupt(format!("UDF: {what}"))
}

fn tag(bytes: &[u8]) -> Option<u16> {
    let sum = bytes.get(..16)?.iter().enumerate().filter(|(at, _)| *at != 4);
    let sum = sum.fold(0u8, |sum, (_, byte)| sum.wrapping_add(*byte));
    le16(bytes, 0).filter(|_| bytes.get(4) == Some(&sum))
}

impl UdfVolume {
    /// Opens a volume.
    pub(crate) fn open(device: SharedDevice) -> Result<Tree<Self>, VolumeError> {
        // At block 256, of a size that nothing says.
        let anchor = [2048u64, 512, 4096, 1024].into_iter().find_map(|size| {
            let anchor = read_vec(device.as_ref(), size.saturating_mul(256), 512).ok()?;
            (tag(&anchor) == Some(ANCHOR) && le32(&anchor, 12) == Some(256)).then_some((size, anchor))
        });
        let (block_size, anchor) = anchor.ok_or_else(|| lie("no anchor at block 256"))?;
        let first = u64::from(le32(&anchor, 20).unwrap_or(0));
        let (mut partitions, mut logical) = (Vec::new(), None);
        for index in 0..MAX_DESCRIPTORS {
            let at = first.saturating_add(index).saturating_mul(block_size);
            let descriptor = read_vec(device.as_ref(), at, len(block_size))?;
            match tag(&descriptor) {
                Some(PARTITION) => partitions.push(descriptor),
                Some(LOGICAL_VOLUME) => logical = Some(descriptor),
                Some(TERMINATING) | None => break,
                _ => {}
            }
        }
        let logical = logical.ok_or_else(|| lie("no logical volume is described"))?;
        // A map of the first kind is six bytes long (3/10.7.2); others are for media that are written in other ways.
        let maps = (le32(&logical, 268), logical.get(440), logical.get(441));
        if maps != (Some(1), Some(&1), Some(&6)) {
            return Err(VolumeError::Unsupported("UDF: a medium that is not written plainly".into()));
        }
        let number = le16(&logical, 444);
        let partition = partitions.iter().find(|partition| le16(partition, 22) == number);
        let partition = partition.ok_or_else(|| lie("its partition is not described"))?;
        let bytes = |at| u64::from(le32(partition, at).unwrap_or(0)).saturating_mul(block_size);
        let (start, length) = (bytes(188), bytes(192));
        if start.checked_add(length).is_none_or(|end| end > device.size()) {
            return Err(lie("its partition ends behind the medium"));
        }
        let mut volume = Self { device, block_size, start, length, root: 0 };
        let set = volume.block(le32(&logical, 252).unwrap_or(u32::MAX))?;
        if tag(&set) != Some(FILE_SET) {
            return Err(lie("no set of files is described"));
        }
        volume.root = le32(&set, 404).unwrap_or(u32::MAX);
        Ok(Tree(volume))
    }

    /// Where a stretch of the partition lies, in bytes; `None` for one that leaves it.
    fn at(&self, block: u32, length: u64) -> Option<u64> {
        let within = u64::from(block).checked_mul(self.block_size)?;
        (within.checked_add(length)? <= self.length).then(|| self.start.checked_add(within))?
    }

    fn block(&self, number: u32) -> Result<Vec<u8>, VolumeError> {
        let at = self
            .at(number, self.block_size)
            .ok_or_else(|| lie("a descriptor lies outside of its partition"))?;
        Ok(read_vec(self.device.as_ref(), at, len(self.block_size).min(MAX_BLOCK))?)
    }

    fn node(&self, block: u32) -> Result<Node, VolumeError> {
        let entry = self.block(block)?;
        let (attributes, area) = match tag(&entry) {
            Some(FILE_ENTRY) => (168, 176),
            Some(EXTENDED_FILE_ENTRY) => (208, 216),
            _ => return Err(lie("no file is described where a folder names one")),
        };
        let kind = match entry.get(27) {
            Some(4) => NodeKind::Folder,
            Some(5) => NodeKind::File,
            _ => NodeKind::Other,
        };
        let read = || {
            let from = len(le32(&entry, attributes)?).checked_add(area)?;
            let length = len(le32(&entry, attributes.checked_add(4)?)?);
            let list = entry.get(from..from.checked_add(length)?)?;
            let size = le64(&entry, 56)?;
            let body = match le16(&entry, 34)? & 7 {
                0 => Body::Runs(self.runs_of::<8>(list, size)?),
                1 => Body::Runs(self.runs_of::<16>(list, size)?),
                3 => Body::Here(list.get(..len(size))?.to_vec()),
                _ => return None,
            };
            Some(Node { kind, body, size })
        };
        read().ok_or_else(|| lie("a file's list of extents cannot be followed"))
    }

    /// Runs from short or long allocation descriptors (4/14.14), `N` bytes each.
    fn runs_of<const N: usize>(&self, list: &[u8], size: u64) -> Option<Vec<Run>> {
        let mut runs = Vec::new();
        let mut list = list.to_vec();
        let mut at = 0u64;
        let mut index = 0usize;
        let mut lists = MAX_LISTS;
        while at < size && runs.len() < MAX_RUNS {
            let Some(descriptor) = list.as_chunks::<N>().0.get(index) else { break };
            let (word, block) = (le32(descriptor, 0)?, le32(descriptor, 4)?);
            let length = u64::from(word & 0x3fff_ffff);
            index = index.checked_add(1)?;
            match word >> 30 {
                // The list goes on in a block of its own, behind a header of 24 bytes.
                3 => {
                    let more = self.block(block).ok()?;
                    let count = len(le32(&more, 20)?);
                    list = more.get(24..count.checked_add(24)?)?.to_vec();
                    index = 0;
                    lists = lists.checked_sub(1)?;
                }
                _ if length == 0 => break,
                kind => {
                    let from = if kind == 0 { Some(self.at(block, length)?) } else { None };
                    runs::push(&mut runs, Run { at, from, length });
                    at = at.checked_add(length)?;
                }
            }
        }
        Some(runs)
    }

    fn bytes(&self, folder: &Node) -> Result<Vec<u8>, VolumeError> {
        if folder.size > MAX_FOLDER {
            return Err(VolumeError::Unsupported(format!("UDF: a folder of {} bytes", folder.size)));
        }
        let mut bytes = vec![0; len(folder.size)];
        self.read(folder, 0, &mut bytes)?;
        Ok(bytes)
    }

    /// Names in a folder, whether each is a folder, and the block that describes it (4/14.4).
    fn names(&self, folder: &Node) -> Result<Vec<(String, bool, u32)>, VolumeError> {
        let bytes = self.bytes(folder)?;
        let mut rest = bytes.as_slice();
        let mut found = Vec::new();
        while rest.len() >= 38 {
            let take = || {
                (tag(rest)? == FILE_IDENTIFIER).then_some(())?;
                let (flags, length) = (*rest.get(18)?, usize::from(*rest.get(19)?));
                let from = usize::from(le16(rest, 36)?).checked_add(38)?;
                let end = from.checked_add(length)?;
                Some((flags, le32(rest, 24)?, rest.get(from..end)?, rest.get(end.next_multiple_of(4)..)?))
            };
            let Some((flags, block, name, after)) = take() else {
                return Err(lie("an impossible folder entry"));
            };
            rest = after;
            // Deleted ones, and the folder above.
            if flags & 0b1100 == 0
                && let Some(name) = text(name)
            {
                found.push((name, flags & 2 != 0, block));
            }
        }
        Ok(found)
    }
}

/// A name: a byte that says how wide its units are, and the units (OSTA, 2.1.1).
fn text(field: &[u8]) -> Option<String> {
    let (width, units) = field.split_first()?;
    match width {
        8 => Some(units.iter().map(|byte| char::from(*byte)).collect()),
        16 => {
            let units: Vec<u16> =
                units.as_chunks::<2>().0.iter().map(|unit| u16::from_be_bytes(*unit)).collect();
            Some(String::from_utf16_lossy(&units))
        }
        _ => None,
    }
}

impl Nodes for UdfVolume {
    type Node = Node;

    fn root(&self) -> Result<Node, VolumeError> {
        self.node(self.root)
    }

    fn kind(&self, node: &Node) -> NodeKind {
        node.kind
    }

    fn size(&self, node: &Node) -> u64 {
        node.size
    }

    fn child(&self, folder: &Node, name: &str) -> Result<Option<Node>, VolumeError> {
        let names = self.names(folder)?;
        let exact = names.iter().find(|(known, ..)| known == name);
        // Install media are made for a system that knows no case.
        let found = exact.or_else(|| names.iter().find(|(known, ..)| known.eq_ignore_ascii_case(name)));
        found.map(|(_, _, block)| self.node(*block)).transpose()
    }

    fn children(&self, folder: &Node) -> Result<Vec<(String, NodeKind)>, VolumeError> {
        let kind = |is_folder| if is_folder { NodeKind::Folder } else { NodeKind::File };
        Ok(self.names(folder)?.into_iter().map(|(name, is_folder, _)| (name, kind(is_folder))).collect())
    }

    fn runs(&self, file: &Node) -> Result<Option<(SharedDevice, Vec<Run>)>, VolumeError> {
        Ok(match &file.body {
            Body::Runs(runs) => Some((self.device.clone(), runs.clone())),
            Body::Here(_) => None,
        })
    }

    fn read(&self, node: &Node, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError> {
        match &node.body {
            Body::Runs(runs) => Ok(runs::read(self.device.as_ref(), runs, offset, buffer)?),
            Body::Here(bytes) => runs::copy(bytes, offset, buffer).ok_or_else(|| lie("a file ends too soon")),
        }
    }
}
