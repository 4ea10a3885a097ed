//! From a name on NTFS to its record, the attributes that may be spread over several, and the bytes.

use alloc::format;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;
use core::cell::OnceCell;
use core::cmp::Ordering;

use super::attribute::Attribute;
use super::geometry::Geometry;
use super::index::{self, Entries, NUMBER, Name};
use super::record::{Record, undo_fixups};
use crate::block::{SharedDevice, read_vec};
use crate::bytes::{le16, le32, le64, len};
use crate::error::VolumeError;
use crate::runs::{self, Run};
use crate::tree::{NodeKind, Nodes, Tree};

const TABLE: u64 = 0;
const ROOT: u64 = 5;
const CAPITALS: u64 = 10;
/// Bytes of `$UpCase`: a capital for each unit of UTF-16.
const CAPITALS_SIZE: usize = 2 << 16;
const ATTRIBUTE_LIST: u32 = 0x20;
const DATA: u32 = 0x80;
const INDEX_ROOT: u32 = 0x90;
const INDEX_ALLOCATION: u32 = 0xa0;
const REPARSE_POINT: u32 = 0xc0;
/// The tag of a file whose bytes stand compressed in a stream of another name.
const PACKED_ELSEWHERE: u32 = 0x8000_0017;
/// Name of a folder's index.
const NAMES: &[u8] = b"$\0I\x003\x000\0";
/// Bytes of a list of attributes; NTFS itself allows no more.
const MAX_LIST: u64 = 256 << 10;
/// Nodes of one folder's index that are read.
const MAX_NODES: usize = 100_000;
/// Names of one folder.
const MAX_NAMES: usize = 100_000;
const MAX_DEPTH: usize = 32;
/// Sectors by which nodes are counted where a cluster is larger than a node.
const SECTOR: u64 = 512;

/// An NTFS volume, opened.
pub(crate) struct NtfsVolume {
    device: SharedDevice,
    geometry: Geometry,
    table: Vec<Run>,
    capitals: OnceCell<Vec<u16>>,
}

/// A file or folder.
#[derive(Clone)]
pub(crate) struct File {
    number: u64,
    is_folder: bool,
    data: Value,
}

/// What an attribute holds.
#[derive(Clone)]
enum Value {
    Here(Vec<u8>),
    Runs {
        runs: Vec<Run>,
        size: u64,
    },
    /// Compressed or encrypted.
    Packed {
        size: u64,
    },
}

impl Value {
    fn size(&self) -> u64 {
        match self {
            Self::Here(bytes) => u64::try_from(bytes.len()).unwrap_or(0),
            Self::Runs { size, .. } | Self::Packed { size } => *size,
        }
    }
}

fn broken(number: u64, what: &str) -> VolumeError {
    VolumeError::Corrupt(format!("NTFS, record {number}: {what}"))
}

impl NtfsVolume {
    /// Opens a volume.
    pub(crate) fn open(device: SharedDevice) -> Result<Tree<Self>, VolumeError> {
        let sector = read_vec(device.as_ref(), 0, 512)?;
        let Some(geometry) = Geometry::read(&sector) else {
            return Err(VolumeError::Corrupt("NTFS: its boot sector has impossible sizes".into()));
        };
        let (claimed, there) = (geometry.size, device.size());
        if claimed > there {
            return Err(VolumeError::Corrupt(format!("NTFS: it claims {claimed} bytes, there are {there}")));
        }
        let start = Run { at: 0, from: Some(geometry.table), length: geometry.record_size };
        let mut volume = Self { device, geometry, table: Vec::from([start]), capitals: OnceCell::new() };
        // The table's own record says where all the others are.
        let own = volume.record(TABLE)?;
        let first = own.attributes().find(|attribute| attribute.kind == DATA);
        let mut runs = Vec::new();
        let found = first.and_then(|first| volume.add_runs(&first, &mut runs));
        found.ok_or_else(|| broken(TABLE, "the runs of the master file table are impossible"))?;
        volume.table = runs;
        if own.attributes().any(|attribute| attribute.kind == ATTRIBUTE_LIST)
            && let Some(Value::Runs { runs, .. }) = volume.value(TABLE, DATA, &[])?
        {
            volume.table = runs;
        }
        Ok(Tree(volume))
    }

    fn add_runs(&self, attribute: &Attribute<'_>, runs: &mut Vec<Run>) -> Option<()> {
        attribute.add_runs(self.geometry.cluster_size, self.device.size(), runs)
    }

    fn record(&self, number: u64) -> Result<Record, VolumeError> {
        let size = self.geometry.record_size;
        let end = self.table.last().map_or(0, |run| run.at.saturating_add(run.length));
        let at = number.checked_mul(size).filter(|at| at.checked_add(size).is_some_and(|after| after <= end));
        let at = at.ok_or_else(|| broken(number, "the master file table ends before it"))?;
        let mut bytes = vec![0; len(size)];
        runs::read(self.device.as_ref(), &self.table, at, &mut bytes)?;
        Record::decode(bytes).ok_or_else(|| broken(number, "it is not whole"))
    }

    /// An attribute of a file, put together from all records that it is spread over.
    fn value(&self, number: u64, kind: u32, name: &[u8]) -> Result<Option<Value>, VolumeError> {
        let base = self.record(number)?;
        let is_it = |attribute: &Attribute<'_>| attribute.kind == kind && attribute.is_named(name);
        let list = base.attributes().find(|attribute| attribute.kind == ATTRIBUTE_LIST);
        let Some(list) = list else {
            return base.attributes().find(is_it).map(|found| self.joined(number, &[found])).transpose();
        };
        let mut holders: Vec<u64> = Vec::new();
        for holder in self.listed(number, &list, kind)? {
            if !holders.contains(&holder) {
                holders.push(holder);
            }
        }
        let mut records = Vec::new();
        for holder in holders {
            records.push(self.record(holder)?);
        }
        let mut pieces: Vec<Attribute<'_>> = Vec::new();
        for piece in records.iter().flat_map(Record::attributes).filter(is_it) {
            let first = piece.first_cluster();
            pieces.insert(pieces.partition_point(|known| known.first_cluster() <= first), piece);
        }
        if pieces.is_empty() {
            return Ok(None);
        }
        self.joined(number, &pieces).map(Some)
    }

    /// The records that a list of attributes names for those of a type.
    fn listed(&self, number: u64, list: &Attribute<'_>, kind: u32) -> Result<Vec<u64>, VolumeError> {
        let list = self.joined(number, &[*list])?;
        let size = list.size();
        if size > MAX_LIST {
            return Err(broken(number, "its list of attributes is longer than one may be"));
        }
        let mut bytes = vec![0; len(size)];
        self.read_value(number, &list, 0, &mut bytes)?;
        let mut holders = Vec::new();
        let mut rest = bytes.as_slice();
        while let Some((listed, length)) = le32(rest, 0).zip(le16(rest, 4)) {
            if listed == kind {
                holders.extend(le64(rest, 0x10).map(|reference| reference & NUMBER));
            }
            match rest.get(usize::from(length)..).filter(|_| length >= 24) {
                Some(after) => rest = after,
                None => break,
            }
        }
        Ok(holders)
    }

    fn joined(&self, number: u64, pieces: &[Attribute<'_>]) -> Result<Value, VolumeError> {
        let lie = || broken(number, "an impossible attribute");
        let first = pieces.first().ok_or_else(lie)?;
        let (size, written) = first.sizes().ok_or_else(lie)?;
        if first.is_packed() {
            return Ok(Value::Packed { size });
        }
        if let Some(value) = first.resident() {
            return Ok(Value::Here(value.to_vec()));
        }
        let mut runs = Vec::new();
        for piece in pieces {
            self.add_runs(piece, &mut runs).ok_or_else(lie)?;
        }
        // What was never written reads as zeros, whatever lies there.
        runs::clip(&mut runs, written);
        Ok(Value::Runs { runs, size })
    }

    fn read_value(
        &self,
        number: u64,
        value: &Value,
        offset: u64,
        buffer: &mut [u8],
    ) -> Result<(), VolumeError> {
        match value {
            Value::Runs { runs, .. } => Ok(runs::read(self.device.as_ref(), runs, offset, buffer)?),
            Value::Packed { .. } => {
                Err(VolumeError::Unsupported("NTFS: a compressed or encrypted file".into()))
            }
            Value::Here(bytes) => {
                runs::copy(bytes, offset, buffer).ok_or_else(|| broken(number, "its data ends too soon"))
            }
        }
    }

    fn file(&self, number: u64) -> Result<File, VolumeError> {
        let record = self.record(number)?;
        if !record.is_used() {
            return Err(broken(number, "it is not in use, and a folder names it"));
        }
        let mut data = Value::Here(Vec::new());
        if !record.is_folder() {
            data = self.value(number, DATA, &[])?.unwrap_or(data);
            let reparse = record.attributes().find(|attribute| attribute.kind == REPARSE_POINT);
            if reparse.and_then(|found| le32(found.resident()?, 0)) == Some(PACKED_ELSEWHERE) {
                data = Value::Packed { size: data.size() };
            }
        }
        Ok(File { number, is_folder: record.is_folder(), data })
    }

    /// The capital of a unit of UTF-16, as this volume has it.
    fn capital(&self, unit: u16) -> u16 {
        if let Ok(letter) = u8::try_from(unit)
            && letter.is_ascii()
        {
            return letter.to_ascii_uppercase().into();
        }
        let read = || {
            let mut bytes = vec![0; CAPITALS_SIZE];
            let file = self.file(CAPITALS).ok().filter(|file| file.data.size() >= 2 << 16)?;
            self.read_value(CAPITALS, &file.data, 0, &mut bytes).ok()?;
            Some(bytes.as_chunks::<2>().0.iter().map(|unit| u16::from_le_bytes(*unit)).collect())
        };
        let capitals = self.capitals.get_or_init(|| read().unwrap_or_default());
        capitals.get(usize::from(unit)).copied().unwrap_or(unit)
    }

    /// A folder's index, opened.
    fn names(&self, folder: u64) -> Result<Names<'_>, VolumeError> {
        let lie = || broken(folder, "an impossible index of names");
        let Some(Value::Here(root)) = self.value(folder, INDEX_ROOT, NAMES)? else { return Err(lie()) };
        let node_size = le32(&root, 8).map(u64::from).filter(|size| (512..=65536).contains(size));
        let nodes = self.value(folder, INDEX_ALLOCATION, NAMES)?;
        Ok(Names { volume: self, folder, root, node_size: node_size.ok_or_else(lie)?, nodes })
    }
}

/// The index of a folder's names: a tree whose root stands in the folder's record.
struct Names<'a> {
    volume: &'a NtfsVolume,
    folder: u64,
    root: Vec<u8>,
    node_size: u64,
    nodes: Option<Value>,
}

impl Names<'_> {
    fn lie(&self) -> VolumeError {
        broken(self.folder, "an impossible index of names")
    }

    /// A node, and where its header stands.
    fn node(&self, at: Option<u64>) -> Result<(Vec<u8>, usize), VolumeError> {
        let Some(number) = at else { return Ok((self.root.clone(), 0x10)) };
        // Nodes are counted in clusters, or in sectors where a cluster is the larger of the two.
        let cluster = self.volume.geometry.cluster_size;
        let unit = if cluster > self.node_size { SECTOR } else { cluster };
        let nodes = self.nodes.as_ref().ok_or_else(|| self.lie())?;
        let offset = number.checked_mul(unit);
        let offset = offset.filter(|offset| offset.saturating_add(self.node_size) <= nodes.size());
        let mut node = vec![0; len(self.node_size)];
        self.volume.read_value(self.folder, nodes, offset.ok_or_else(|| self.lie())?, &mut node)?;
        undo_fixups(&mut node, *b"INDX").ok_or_else(|| self.lie())?;
        Ok((node, 0x18))
    }

    /// The record of the file with this name. Each step goes down.
    fn find(&self, name: &str) -> Result<Option<u64>, VolumeError> {
        let mut at = None;
        for _ in 0..MAX_DEPTH {
            let (node, header) = self.node(at)?;
            let mut below = None;
            for entry in Entries::of(&node, header).ok_or_else(|| self.lie())? {
                let entry = entry.ok_or_else(|| self.lie())?;
                let order = entry.name.as_ref().map_or(Ordering::Less, |known| {
                    index::compare(name.encode_utf16(), known, |unit| self.volume.capital(unit))
                });
                match (order, &entry.name) {
                    (Ordering::Equal, Some(known)) => return Ok(Some(known.record)),
                    (Ordering::Less, _) => {
                        below = entry.below;
                        break;
                    }
                    _ => {}
                }
            }
            if below.is_none() {
                return Ok(None);
            }
            at = below;
        }
        Err(self.lie())
    }

    /// All names that people see.
    fn all(&self) -> Result<Vec<(String, NodeKind)>, VolumeError> {
        let mut names = Vec::new();
        let mut left = Vec::from([None]);
        let mut read = 0usize;
        while let Some(at) = left.pop() {
            read = read.saturating_add(1);
            let (node, header) = self.node(at)?;
            for entry in Entries::of(&node, header).ok_or_else(|| self.lie())? {
                let entry = entry.ok_or_else(|| self.lie())?;
                left.extend(entry.below.map(Some));
                let Some(name) = entry.name.filter(Name::is_shown) else { continue };
                let kind = if name.is_folder { NodeKind::Folder } else { NodeKind::File };
                let units: Vec<u16> = name.chars().collect();
                names.push((String::from_utf16_lossy(&units), kind));
            }
            if names.len() >= MAX_NAMES {
                break;
            }
            if read > MAX_NODES || left.len() > MAX_NODES {
                return Err(self.lie());
            }
        }
        Ok(names)
    }
}

impl Nodes for NtfsVolume {
    type Node = File;

    fn root(&self) -> Result<File, VolumeError> {
        self.file(ROOT)
    }

    fn kind(&self, node: &File) -> NodeKind {
        if node.is_folder { NodeKind::Folder } else { NodeKind::File }
    }

    fn size(&self, node: &File) -> u64 {
        node.data.size()
    }

    fn child(&self, folder: &File, name: &str) -> Result<Option<File>, VolumeError> {
        self.names(folder.number)?.find(name)?.map(|number| self.file(number)).transpose()
    }

    fn children(&self, folder: &File) -> Result<Vec<(String, NodeKind)>, VolumeError> {
        self.names(folder.number)?.all()
    }

    fn runs(&self, file: &File) -> Result<Option<(SharedDevice, Vec<Run>)>, VolumeError> {
        Ok(match &file.data {
            Value::Runs { runs, .. } => Some((self.device.clone(), runs.clone())),
            Value::Here(_) | Value::Packed { .. } => None,
        })
    }

    fn read(&self, node: &File, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError> {
        self.read_value(node.number, &node.data, offset, buffer)
    }
}
