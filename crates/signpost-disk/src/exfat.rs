//! exFAT ("exFAT file system specification": main boot sector, 3.1; FAT, 4.1; directory entries, 6 and 7).

use alloc::format;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;

use crate::block::{SharedDevice, read_vec};
use crate::bytes::{le16, le32, le64, len};
use crate::error::VolumeError;
use crate::runs::{self, Run};
use crate::tree::{NodeKind, Nodes, Tree};

const FILE: u8 = 0x85;
const STREAM: u8 = 0xc0;
const NAME: u8 = 0xc1;
const IS_FOLDER: u16 = 0x10;
/// `NoFatChain`: the clusters lie one behind the other, and the FAT says nothing of them.
const NO_CHAIN: u8 = 2;
const ENTRY: usize = 32;
/// `ClusterCount` and the like end before these numbers, which the FAT uses as marks.
const LAST_CLUSTER: u32 = 0xffff_fff6;
/// Bytes of the FAT that are read at once.
const PIECE: u64 = 4096;
/// Bytes of a folder; the specification allows no more.
const MAX_FOLDER: u64 = 256 << 20;
/// Bytes of a folder that are looked through.
const MAX_LOOKED: u64 = 16 << 20;

/// An exFAT volume, opened.
pub(crate) struct ExFatVolume {
    device: SharedDevice,
    /// First byte of the FAT, and of the clusters.
    fat: u64,
    heap: u64,
    /// Bytes.
    cluster_size: u64,
    clusters: u32,
    root: u32,
}

/// A file or folder.
#[derive(Clone)]
pub(crate) struct Node {
    is_folder: bool,
    runs: Vec<Run>,
    size: u64,
}

/// What an entry set says.
struct Entry {
    name: String,
    is_folder: bool,
    is_in_one_piece: bool,
    first: u32,
    size: u64,
    /// Bytes that were ever written.
    valid: u64,
}

fn lie(what: &str) -> VolumeError {
    VolumeError::Corrupt(format!("exFAT: {what}"))
}

impl ExFatVolume {
    /// Opens a volume.
    pub(crate) fn open(device: SharedDevice) -> Result<Tree<Self>, VolumeError> {
        let sector = read_vec(device.as_ref(), 0, 512)?;
        Self::decode(&sector, &device)
            .map(Tree)
            .ok_or_else(|| lie("its main boot sector has impossible numbers"))
    }

    fn decode(sector: &[u8], device: &SharedDevice) -> Option<Self> {
        let sector_shift = u32::from(*sector.get(108)?);
        let cluster_shift = sector_shift.checked_add(u32::from(*sector.get(109)?))?;
        ((9..=12).contains(&sector_shift) && cluster_shift <= 25).then_some(())?;
        let bytes = |at| u64::from(le32(sector, at)?).checked_shl(sector_shift);
        let volume = Self {
            device: device.clone(),
            fat: bytes(80)?,
            heap: bytes(88)?,
            cluster_size: 1u64.checked_shl(cluster_shift)?,
            clusters: le32(sector, 92)?.min(LAST_CLUSTER),
            root: le32(sector, 96)?,
        };
        let end = u64::from(volume.clusters).checked_mul(volume.cluster_size)?.checked_add(volume.heap)?;
        (volume.fat < volume.heap && end <= device.size()).then_some(volume)
    }

    /// Where a cluster starts, in bytes.
    fn at(&self, cluster: u32) -> Option<u64> {
        let index = cluster.checked_sub(2).filter(|index| *index < self.clusters)?;
        u64::from(index).checked_mul(self.cluster_size)?.checked_add(self.heap)
    }

    /// The runs of a chain, of at most `most` bytes. Bounded: a chain cannot be longer than there are clusters.
    fn chain(&self, first: u32, most: u64) -> Result<Vec<Run>, VolumeError> {
        let mut runs = Vec::new();
        let (mut piece, mut piece_at) = (Vec::new(), u64::MAX);
        let mut cluster = first;
        let mut at = 0u64;
        for _ in 0..self.clusters {
            if at >= most {
                break;
            }
            let from = self.at(cluster).ok_or_else(|| lie("a chain leaves the clusters that there are"))?;
            runs::push(&mut runs, Run { at, from: Some(from), length: self.cluster_size });
            at = at.saturating_add(self.cluster_size);
            let link = u64::from(cluster).saturating_mul(4);
            let wanted = link & !(PIECE.saturating_sub(1));
            if wanted != piece_at {
                piece = read_vec(self.device.as_ref(), self.fat.saturating_add(wanted), len(PIECE))?;
                piece_at = wanted;
            }
            cluster = le32(&piece, len(link.saturating_sub(wanted))).unwrap_or(u32::MAX);
            if cluster == u32::MAX {
                break;
            }
        }
        Ok(runs)
    }

    fn node(&self, entry: &Entry) -> Result<Node, VolumeError> {
        if entry.is_folder && entry.size > MAX_FOLDER {
            return Err(lie("a folder is longer than one may be"));
        }
        let mut runs = if entry.size == 0 {
            Vec::new()
        } else if entry.is_in_one_piece {
            let from = self
                .at(entry.first)
                .filter(|from| from.checked_add(entry.size).is_some_and(|end| end <= self.device.size()));
            let from = from.ok_or_else(|| lie("a file lies outside of the volume"))?;
            Vec::from([Run { at: 0, from: Some(from), length: entry.size }])
        } else {
            self.chain(entry.first, entry.size)?
        };
        let valid = if entry.is_folder { entry.size } else { entry.valid };
        runs::clip(&mut runs, valid);
        Ok(Node { is_folder: entry.is_folder, runs, size: entry.size })
    }

    fn entries(&self, folder: &Node) -> Result<Vec<Entry>, VolumeError> {
        if folder.size > MAX_LOOKED {
            return Err(VolumeError::Unsupported(format!("exFAT: a folder of {} bytes", folder.size)));
        }
        let mut bytes = vec![0; len(folder.size)];
        runs::read(self.device.as_ref(), &folder.runs, 0, &mut bytes)?;
        let mut found = Vec::new();
        let mut rest = bytes.as_chunks::<ENTRY>().0;
        while let Some((first, after)) = rest.split_first() {
            rest = after;
            match first.first() {
                Some(0) => break,
                Some(&FILE) => {
                    let count = usize::from(first.get(1).copied().unwrap_or(0));
                    let Some((set, after)) = rest.split_at_checked(count) else { break };
                    if let Some(entry) = Entry::decode(first, set) {
                        found.push(entry);
                        rest = after;
                    }
                }
                _ => {}
            }
        }
        Ok(found)
    }
}

impl Entry {
    fn decode(file: &[u8], set: &[[u8; ENTRY]]) -> Option<Self> {
        let (stream, names) = set.split_first()?;
        (*stream.first()? == STREAM).then_some(())?;
        let length = usize::from(*stream.get(3)?);
        let units = names.iter().take_while(|entry| entry.first() == Some(&NAME));
        let units = units.flat_map(|entry| entry.as_chunks::<2>().0.iter().skip(1));
        let units: Vec<u16> = units.take(length).map(|unit| u16::from_le_bytes(*unit)).collect();
        Some(Self {
            name: String::from_utf16_lossy(&units),
            is_folder: le16(file, 4)? & IS_FOLDER != 0,
            is_in_one_piece: *stream.get(1)? & NO_CHAIN != 0,
            first: le32(stream, 20)?,
            size: le64(stream, 24)?,
            valid: le64(stream, 8)?,
        })
    }
}

impl Nodes for ExFatVolume {
    type Node = Node;

    fn root(&self) -> Result<Node, VolumeError> {
        let runs = self.chain(self.root, MAX_LOOKED)?;
        let size = runs.last().map_or(0, |run| run.at.saturating_add(run.length));
        Ok(Node { is_folder: true, runs, size })
    }

    fn kind(&self, node: &Node) -> NodeKind {
        if node.is_folder { NodeKind::Folder } else { NodeKind::File }
    }

    fn size(&self, node: &Node) -> u64 {
        node.size
    }

    fn child(&self, folder: &Node, name: &str) -> Result<Option<Node>, VolumeError> {
        let entries = self.entries(folder)?;
        let found = entries.iter().find(|entry| entry.name.eq_ignore_ascii_case(name));
        found.map(|entry| self.node(entry)).transpose()
    }

    fn children(&self, folder: &Node) -> Result<Vec<(String, NodeKind)>, VolumeError> {
        let named = |entry: Entry| {
            let kind = if entry.is_folder { NodeKind::Folder } else { NodeKind::File };
            (entry.name, kind)
        };
        Ok(self.entries(folder)?.into_iter().map(named).collect())
    }

    fn runs(&self, file: &Node) -> Result<Option<(SharedDevice, Vec<Run>)>, VolumeError> {
        Ok(Some((self.device.clone(), file.runs.clone())))
    }

    fn read(&self, node: &Node, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError> {
        Ok(runs::read(self.device.as_ref(), &node.runs, offset, buffer)?)
    }
}
