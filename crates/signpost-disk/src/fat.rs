//! FAT12, FAT16 and FAT32 (Microsoft's "FAT: General Overview of On-Disk Format", 1.03; file names as in its
//! long-name specification).

mod folder;
mod geometry;

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

pub use geometry::{Area, FatType, Geometry};

use crate::block::{BlockDevice, SharedDevice, read_vec};
use crate::file_system::{FileSystem, Item, Metadata, VolumeError, parts};
use crate::probe::{Identity, VolumeKind};
use folder::FolderEntry;

/// Bytes read at once at most: a run of clusters that lie one behind the other.
const MAX_RUN: u64 = 1 << 20;
/// No folder is longer than this (the specification's own limit).
const MAX_FOLDER: u64 = 65536 * 32; // bytes

/// The volume's kind, label and serial; `None` where it is no FAT at all.
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
    Ok(Some(Identity { kind, label, uuid }))
}

/// A FAT volume, opened.
pub struct FatVolume {
    device: SharedDevice,
    geometry: Geometry,
}

impl FatVolume {
    /// Opens a volume whose boot sector holds.
    ///
    /// # Errors
    /// Where it is no FAT, or its numbers cannot be true.
    pub fn open(device: SharedDevice) -> Result<Self, VolumeError> {
        let geometry = Geometry::read(device.as_ref())?
            .ok_or_else(|| VolumeError::Corrupt("no FAT boot sector at offset 0".into()))?;
        Ok(Self { device, geometry })
    }

    /// Bytes in free clusters.
    ///
    /// # Errors
    /// Where the FAT cannot be read.
    pub fn free_bytes(&self) -> Result<u64, VolumeError> {
        let reader = self.reader();
        let mut table = FatWindow { reader: &reader, start: 0, bytes: Vec::new() };
        let mut free = 0u64;
        for cluster in (2u32..).take(usize::try_from(self.geometry.clusters).unwrap_or(0)) {
            if table.next(cluster)? == Some(0) {
                free = free.saturating_add(self.geometry.cluster_size.into());
            }
        }
        Ok(free)
    }

    fn reader(&self) -> Reader<'_> {
        Reader { device: self.device.as_ref(), geometry: &self.geometry }
    }

    /// The entry at a path; `None` for the root folder.
    fn find(&self, path: &str) -> Result<Option<FolderEntry>, VolumeError> {
        let mut found: Option<FolderEntry> = None;
        for part in parts(path) {
            let entries = self.entries(found.as_ref(), path)?;
            let wanted = part.to_lowercase();
            let next = entries.into_iter().find(|entry| entry.matches(&wanted));
            found = Some(next.ok_or_else(|| VolumeError::NotFound(path.to_string()))?);
        }
        Ok(found)
    }

    fn entries(&self, folder: Option<&FolderEntry>, path: &str) -> Result<Vec<FolderEntry>, VolumeError> {
        if folder.is_some_and(|folder| !folder.is_folder) {
            return Err(VolumeError::WrongKind { path: path.to_string(), found: "no folder" });
        }
        // A folder's `..` to the root has cluster 0.
        let first = folder.map(|folder| folder.first_cluster).filter(|cluster| *cluster != 0);
        Ok(folder::decode(&self.reader().folder_bytes(first)?))
    }
}

impl FileSystem for FatVolume {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        let found = self.find(folder)?;
        let mut items: Vec<Item> = self
            .entries(found.as_ref(), folder)?
            .into_iter()
            .filter(|entry| entry.name != "." && entry.name != "..")
            .map(|entry| Item { name: entry.name, is_folder: entry.is_folder })
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

    fn read_with(&self, path: &str, sink: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), VolumeError> {
        let entry = self.find(path)?.filter(|entry| !entry.is_folder);
        let Some(entry) = entry else {
            return Err(VolumeError::WrongKind { path: path.to_string(), found: "a folder" });
        };
        let mut left = u64::from(entry.size);
        if left == 0 {
            return Ok(());
        }
        let chain = self.reader().chain(entry.first_cluster, left)?;
        self.reader().read_chain(&chain, &mut |piece| {
            let take = usize::try_from(left).unwrap_or(usize::MAX).min(piece.len());
            left = left.saturating_sub(u64::try_from(take).unwrap_or(u64::MAX));
            sink(piece.get(..take).unwrap_or_default()) && left > 0
        })?;
        if left > 0 && chain.is_short {
            return Err(VolumeError::Corrupt(format!(
                "{path}: its clusters end {left} bytes before its size of {} bytes",
                entry.size
            )));
        }
        Ok(())
    }
}

/// A file's clusters, as runs.
struct Chain {
    /// First cluster and count of each run.
    runs: Vec<(u32, u32)>,
    /// Whether it ended before the size that was asked for.
    is_short: bool,
}

struct Reader<'a> {
    device: &'a dyn BlockDevice,
    geometry: &'a Geometry,
}

impl Reader<'_> {
    /// The clusters from `first` on, as many as `size` bytes need. Bounded by that, and by the number of
    /// clusters the volume has.
    fn chain(&self, first: u32, size: u64) -> Result<Chain, VolumeError> {
        let cluster_size = u64::from(self.geometry.cluster_size);
        let wanted = size.div_ceil(cluster_size.max(1)).min(u64::from(self.geometry.clusters));
        let mut runs: Vec<(u32, u32)> = Vec::new();
        let mut table = FatWindow { reader: self, start: 0, bytes: Vec::new() };
        let mut next = Some(first);
        for _ in 0..wanted {
            let Some(cluster) = next else { return Ok(Chain { runs, is_short: true }) };
            if !self.geometry.has_cluster(cluster) {
                return Err(VolumeError::Corrupt(format!(
                    "a chain of clusters leads to cluster {cluster}; there are 2 to {}",
                    self.geometry.clusters.saturating_add(1)
                )));
            }
            match runs.last_mut() {
                Some((start, count)) if start.checked_add(*count) == Some(cluster) => {
                    *count = count.saturating_add(1);
                }
                _ => runs.push((cluster, 1)),
            }
            next = table.next(cluster)?;
        }
        Ok(Chain { runs, is_short: size > wanted.saturating_mul(cluster_size) })
    }

    fn read_chain(&self, chain: &Chain, sink: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), VolumeError> {
        let cluster_size = u64::from(self.geometry.cluster_size);
        let mut buffer = Vec::new();
        for (first, count) in &chain.runs {
            let mut offset = self.geometry.cluster_offset(*first);
            let mut left = u64::from(*count).saturating_mul(cluster_size);
            while left > 0 {
                let length = left.min(MAX_RUN);
                buffer.resize(usize::try_from(length).unwrap_or(0), 0);
                self.device.read_at(offset, &mut buffer)?;
                if !sink(&buffer) {
                    return Ok(());
                }
                offset = offset.saturating_add(length);
                left = left.saturating_sub(length);
            }
        }
        Ok(())
    }

    /// All bytes of a folder; the root where no cluster is given.
    fn folder_bytes(&self, first: Option<u32>) -> Result<Vec<u8>, VolumeError> {
        let first = match (first, self.geometry.root_cluster) {
            (Some(cluster), _) | (None, Some(cluster)) => cluster,
            (None, None) => {
                let length = usize::try_from(self.geometry.root_length).unwrap_or(0);
                return Ok(read_vec(self.device, self.geometry.root_offset, length)?);
            }
        };
        let chain = self.chain(first, MAX_FOLDER)?;
        let mut bytes = vec![];
        self.read_chain(&chain, &mut |piece| {
            bytes.extend_from_slice(piece);
            true
        })?;
        Ok(bytes)
    }
}

/// The stretch of the first FAT that was looked at last.
struct FatWindow<'a> {
    reader: &'a Reader<'a>,
    start: u64,
    bytes: Vec<u8>,
}

impl FatWindow<'_> {
    const LENGTH: u64 = 4096;

    /// The cluster behind this one; `None` at the end of the chain.
    fn next(&mut self, cluster: u32) -> Result<Option<u32>, VolumeError> {
        let geometry = self.reader.geometry;
        let offset = geometry.fat_type.entry_offset(cluster);
        let mut entry = [0; 4];
        let width = geometry.fat_type.entry_width();
        for (at, slot) in (offset..).zip(entry.iter_mut().take(width)) {
            *slot = self.byte(at)?;
        }
        Ok(geometry.fat_type.decode_entry(cluster, entry))
    }

    fn byte(&mut self, at: u64) -> Result<u8, VolumeError> {
        let held = |window: &Self| {
            let within = usize::try_from(at.checked_sub(window.start)?).ok()?;
            window.bytes.get(within).copied()
        };
        if let Some(byte) = held(self) {
            return Ok(byte);
        }
        let geometry = self.reader.geometry;
        let length = geometry.fat_length.saturating_sub(at).min(Self::LENGTH);
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

#[cfg(test)]
mod tests;
