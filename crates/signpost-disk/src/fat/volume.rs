//! From a path on a FAT to the bytes behind it.

use alloc::borrow::Cow;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec;
use alloc::vec::Vec;

use super::folder::{self, FolderEntry};
use super::geometry::{FatType, Geometry};
use crate::block::{BlockDevice, SharedDevice, read_vec};
use crate::bytes::len;
use crate::error::VolumeError;
use crate::file_system::{FileSystem, Item, Metadata, parts};
use crate::identity::{Identity, VolumeKind};
use crate::runs::{self, FileDevice, Run};

/// No folder is longer than this (the specification's own limit).
pub(super) const MAX_FOLDER: u64 = 65536 * 32; // bytes

/// The volume's kind, label and serial; `None` where it is not a FAT at all.
pub(crate) fn identify(device: &dyn BlockDevice) -> Result<Option<Identity>, VolumeError> {
    let Some(geometry) = Geometry::read(device)? else { return Ok(None) };
    let kind = match geometry.fat_type {
        FatType::Fat12 => VolumeKind::Fat12,
        FatType::Fat16 => VolumeKind::Fat16,
        FatType::Fat32 => VolumeKind::Fat32,
    };
    let root = Reader { device, geometry: &geometry }.folder_bytes(None);
    // A broken root folder costs the label, not the identity.
    let label = root.ok().and_then(|bytes| folder::label(&bytes));
    let serial = geometry.serial;
    let uuid = Some(format!("{:04X}-{:04X}", serial >> 16, serial & 0xffff));
    let mut identity = Identity::named(kind, label, uuid);
    identity.is_unclean = geometry.is_unclean;
    (identity.firmware_refuses, identity.flaw) = (geometry.firmware_refuses, geometry.flaw);
    Ok(Some(identity))
}

/// A FAT volume, opened; a clone shares what was read.
#[derive(Clone)]
pub struct FatVolume {
    pub(super) device: SharedDevice,
    pub(super) geometry: Geometry,
    /// The root folder, which every path starts in.
    pub(super) root: Result<Arc<[FolderEntry]>, VolumeError>,
}

impl FatVolume {
    /// Opens a volume whose boot sector holds. A root folder that cannot be read shows when it is asked for.
    ///
    /// # Errors
    /// Where it is not a FAT, or its numbers cannot be true.
    pub fn open(device: SharedDevice) -> Result<Self, VolumeError> {
        let geometry = Geometry::read(device.as_ref())?
            .ok_or_else(|| VolumeError::Corrupt("no FAT boot sector at offset 0".into()))?;
        let root = Reader { device: device.as_ref(), geometry: &geometry }.folder_bytes(None);
        let is_fat_32 = geometry.fat_type == FatType::Fat32;
        let root = root.map(|bytes| folder::decode(&bytes, is_fat_32).into());
        Ok(Self { device, geometry, root })
    }

    /// How many files and folders its root folder holds, which are in memory as long as the volume is open.
    pub fn root_count(&self) -> usize {
        self.root.as_ref().map_or(0, |root| root.len())
    }

    /// Bytes in free clusters.
    ///
    /// # Errors
    /// Where the FAT cannot be read.
    pub fn free_bytes(&self) -> Result<u64, VolumeError> {
        let reader = self.reader();
        let mut table = FatWindow::new(&reader);
        let mut free = 0u64;
        for cluster in (2u32..).take(usize::try_from(self.geometry.clusters).unwrap_or(0)) {
            if table.next(cluster)? == Some(0) {
                free = free.saturating_add(self.geometry.cluster_size.into());
            }
        }
        Ok(free)
    }

    /// Bytes in a cluster.
    pub fn cluster_size(&self) -> u64 {
        self.geometry.cluster_size.into()
    }

    /// How many more entries of 32 bytes its root folder takes, where that cannot grow; a file takes one and one more for
    /// each 13 letters of a long name.
    ///
    /// # Errors
    /// Where the folder cannot be read.
    pub fn root_room(&self) -> Result<Option<u64>, VolumeError> {
        const ENTRY: usize = 32;
        const DELETED: u8 = 0xe5;
        if self.geometry.root_cluster.is_some() {
            return Ok(None);
        }
        let bytes = self.reader().fixed_root()?;
        let mut free = self.geometry.root_length.saturating_sub(u64::try_from(bytes.len()).unwrap_or(0)) / 32;
        let mut has_ended = false;
        for entry in bytes.chunks_exact(ENTRY) {
            has_ended |= entry.first() == Some(&0);
            free = free.saturating_add(u64::from(has_ended || entry.first() == Some(&DELETED)));
        }
        Ok(Some(free))
    }

    pub(super) fn reader(&self) -> Reader<'_> {
        Reader { device: self.device.as_ref(), geometry: &self.geometry }
    }

    /// The entry at a path; `None` for the root folder.
    pub(super) fn find(&self, path: &str) -> Result<Option<FolderEntry>, VolumeError> {
        let mut found: Option<FolderEntry> = None;
        for part in parts(path) {
            let entries = match &found {
                None => Cow::Borrowed(self.root()?),
                Some(folder) => self.entries(folder, path)?,
            };
            let next = entries.iter().find(|entry| entry.matches(part)).cloned();
            found = Some(next.ok_or_else(|| VolumeError::NotFound(path.to_string()))?);
        }
        Ok(found)
    }

    pub(super) fn root(&self) -> Result<&[FolderEntry], VolumeError> {
        self.root.as_deref().map_err(Clone::clone)
    }

    pub(super) fn entries(
        &self,
        folder: &FolderEntry,
        path: &str,
    ) -> Result<Cow<'_, [FolderEntry]>, VolumeError> {
        if !folder.is_folder {
            return Err(VolumeError::WrongKind { path: path.to_string(), found: "no folder" });
        }
        // A folder's `..` to the root has cluster 0.
        if folder.first_cluster == 0 {
            return self.root().map(Cow::Borrowed);
        }
        let bytes = self.reader().folder_bytes(Some(folder.first_cluster))?;
        Ok(Cow::Owned(folder::decode(&bytes, self.geometry.fat_type == FatType::Fat32)))
    }
}

impl FileSystem for FatVolume {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        let entries = match self.find(folder)? {
            None => Cow::Borrowed(self.root()?),
            Some(found) => self.entries(&found, folder)?,
        };
        let mut items: Vec<Item> = entries
            .iter()
            .filter(|entry| entry.name != "." && entry.name != "..")
            .map(|entry| Item { name: entry.name.clone(), is_folder: entry.is_folder })
            .collect();
        items.sort_unstable();
        Ok(items)
    }

    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        Ok(match self.find(path)? {
            None => Metadata { size: 0, is_folder: true },
            Some(entry) => Metadata { size: u64::from(entry.size), is_folder: entry.is_folder },
        })
    }

    fn file_device(&self, path: &str) -> Result<Option<SharedDevice>, VolumeError> {
        let Some(entry) = self.find(path)?.filter(|entry| !entry.is_folder) else { return Ok(None) };
        let size = u64::from(entry.size);
        let chain = self.reader().chain(entry.first_cluster, size)?;
        Ok((chain.length() >= size).then(|| FileDevice::shared(&self.device, chain.runs, size)))
    }

    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        let entry = self.find(path)?.filter(|entry| !entry.is_folder);
        let Some(entry) = entry else {
            return Err(VolumeError::WrongKind { path: path.to_string(), found: "a folder" });
        };
        let size = u64::from(entry.size);
        let there = len(size.saturating_sub(offset)).min(buffer.len());
        let Some(wanted) = buffer.get_mut(..there).filter(|wanted| !wanted.is_empty()) else { return Ok(0) };
        let end = offset.saturating_add(u64::try_from(there).unwrap_or(u64::MAX));
        let chain = self.reader().chain(entry.first_cluster, end)?;
        if chain.length() < end {
            return Err(VolumeError::Corrupt(format!(
                "{path}: its clusters end {} bytes before its size of {size} bytes",
                size.saturating_sub(chain.length())
            )));
        }
        runs::read(self.device.as_ref(), &chain.runs, offset, wanted)?;
        Ok(there)
    }
}

/// A file's clusters, as runs; it may end before the size that was asked for.
pub(super) struct Chain {
    runs: Vec<Run>,
}

impl Chain {
    /// Bytes.
    pub(super) fn length(&self) -> u64 {
        self.runs.last().map_or(0, |run| run.at.saturating_add(run.length))
    }
}

pub(super) struct Reader<'a> {
    pub(super) device: &'a dyn BlockDevice,
    pub(super) geometry: &'a Geometry,
}

impl Reader<'_> {
    /// The clusters from `first` on, as many as `size` bytes need. Bounded by that, and by the number of
    /// clusters the volume has. A chain that comes back to where it was is found before it has gone round twice: it is
    /// compared with a cluster that it was at, which moves on in ever longer steps.
    pub(super) fn chain(&self, first: u32, size: u64) -> Result<Chain, VolumeError> {
        let cluster_size = u64::from(self.geometry.cluster_size);
        let wanted = size.div_ceil(cluster_size.max(1)).min(u64::from(self.geometry.clusters));
        let mut found: Vec<Run> = Vec::new();
        let mut table = FatWindow::new(self);
        let mut next = Some(first);
        let mut at = 0u64;
        let mut mark = None;
        for step in 0..wanted {
            let Some(cluster) = next else { break };
            if mark == Some(cluster) {
                return Err(VolumeError::Corrupt(format!(
                    "a chain of clusters comes back to cluster {cluster}"
                )));
            }
            if step.is_power_of_two() {
                mark = Some(cluster);
            }
            if !self.geometry.has_cluster(cluster) {
                return Err(VolumeError::Corrupt(format!(
                    "a chain of clusters leads to cluster {cluster}; there are 2 to {}",
                    self.geometry.clusters.saturating_add(1)
                )));
            }
            let from = Some(self.geometry.cluster_offset(cluster));
            runs::push(&mut found, Run { at, from, length: cluster_size });
            at = at.saturating_add(cluster_size);
            next = table.next(cluster)?;
        }
        Ok(Chain { runs: found })
    }

    /// The root folder of FAT12 and FAT16, which has room for hundreds of entries and most often few: as far as its
    /// end mark.
    pub(super) fn fixed_root(&self) -> Result<Vec<u8>, VolumeError> {
        let mut bytes = Vec::new();
        let mut at = 0;
        while at < self.geometry.root_length && !folder::has_ended(&bytes) {
            let end = at.saturating_add(ROOT_PIECE).min(self.geometry.root_length);
            bytes.resize(len(end), 0);
            let piece = bytes.get_mut(len(at)..).unwrap_or_default();
            self.device.read_at(self.geometry.root_offset.saturating_add(at), piece)?;
            at = end;
        }
        Ok(bytes)
    }

    /// All bytes of a folder; the root where no cluster is given.
    pub(super) fn folder_bytes(&self, first: Option<u32>) -> Result<Vec<u8>, VolumeError> {
        let first = match (first, self.geometry.root_cluster) {
            (Some(cluster), _) | (None, Some(cluster)) => cluster,
            (None, None) => {
                return self.fixed_root();
            }
        };
        let chain = self.chain(first, MAX_FOLDER)?;
        let mut bytes = vec![0; len(chain.length())];
        runs::read(self.device, &chain.runs, 0, &mut bytes)?;
        Ok(bytes)
    }
}

/// Bytes of a root folder that are read at once.
const ROOT_PIECE: u64 = 2048;

/// The stretch of the first FAT that was looked at last.
pub(super) struct FatWindow<'a> {
    reader: &'a Reader<'a>,
    start: u64,
    bytes: Vec<u8>,
    /// Bytes to read next: most chains are short.
    length: u64,
}

impl<'a> FatWindow<'a> {
    const LEAST: u64 = 512;
    const MOST: u64 = 16384;

    pub(super) fn new(reader: &'a Reader<'a>) -> Self {
        Self { reader, start: 0, bytes: Vec::new(), length: Self::LEAST }
    }

    /// The cluster behind this one; `None` at the end of the chain.
    pub(super) fn next(&mut self, cluster: u32) -> Result<Option<u32>, VolumeError> {
        let geometry = self.reader.geometry;
        let offset = geometry.fat_type.entry_offset(cluster);
        let mut entry = [0; 4];
        let width = geometry.fat_type.entry_width();
        for (at, slot) in (offset..).zip(entry.iter_mut().take(width)) {
            *slot = self.byte(at)?;
        }
        Ok(geometry.fat_type.decode_entry(cluster, entry))
    }

    pub(super) fn byte(&mut self, at: u64) -> Result<u8, VolumeError> {
        let held = |window: &Self| {
            let within = usize::try_from(at.checked_sub(window.start)?).ok()?;
            window.bytes.get(within).copied()
        };
        if let Some(byte) = held(self) {
            return Ok(byte);
        }
        let geometry = self.reader.geometry;
        let length = geometry.fat_length.saturating_sub(at).min(self.length);
        self.length = self.length.saturating_mul(2).min(Self::MOST);
        self.start = at;
        self.bytes = read_vec(
            self.reader.device,
            geometry.fat_offset.saturating_add(at),
            usize::try_from(length).unwrap_or(0),
        )?;
        held(self)
            .ok_or_else(|| VolumeError::Corrupt(String::from("the FAT is shorter than the volume needs")))
    }
}
