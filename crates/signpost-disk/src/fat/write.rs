//! Writing a file into a FAT, as a list of sectors in an order in which a cut at any point leaves a volume that reads: new data,
//! then the FATs, then the free summary, then the one sector by which a folder shows it; what was there before is freed last. A
//! cut leaves at worst clusters that belong to nothing, copies of the FAT that differ, or a wrong free summary.

mod sectors;

use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;

use sectors::{SECTOR, Sectors};

use super::folder::{self, DELETED, FolderEntry, Stamp};
use super::geometry::FatType;
use super::volume::{FatVolume, MAX_FOLDER};
use crate::bytes::len;
use crate::error::VolumeError;
use crate::file_system::parts;

const ENTRY: u64 = 32;
/// Signatures and fields of the free summary (FAT32, `FSInfo`), in bytes from its start.
const INFO_MARKS: [(usize, u32); 2] = [(0, 0x4161_5252), (484, 0x6141_7272)];
const INFO_FREE: u64 = 488;

/// What is done to a file.
#[derive(Clone, Copy, Debug)]
pub enum Change<'a> {
    /// It holds these bytes afterwards; one of the same length is overwritten in place. Folders that are missing are made.
    Put(&'a [u8]),
    /// It is gone afterwards; nothing, where it is not there. A folder goes where nothing is in it, and else stays.
    Remove,
}

impl FatVolume {
    /// The writes that make a change, in their order: offsets in the volume, whole sectors of 512 bytes. `stamp` is the time
    /// that new and changed files carry.
    ///
    /// # Errors
    /// Where the volume cannot be read, the path leads through a file, or there is no room.
    pub fn change(
        &self,
        path: &str,
        change: Change<'_>,
        stamp: Stamp,
    ) -> Result<Vec<(u64, Vec<u8>)>, VolumeError> {
        let mut writer = Writer {
            volume: self,
            stamp,
            sectors: Sectors::of(self.device.as_ref()),
            next_free: 2,
            free_before: None,
            freed: 0,
        };
        match change {
            Change::Put(bytes) => writer.put(path, bytes)?,
            Change::Remove => writer.remove(path)?,
        }
        Ok(writer.sectors.writes)
    }
}

/// A folder: the root of FAT12 and FAT16 has a place of its own.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Folder {
    Root,
    At(u32),
}

struct Writer<'a> {
    volume: &'a FatVolume,
    stamp: Stamp,
    sectors: Sectors<'a>,
    next_free: u32,
    free_before: Option<i64>,
    /// Clusters that were freed, less those that were taken.
    freed: i64,
}

/// Whether an entry is the folder itself, or the one above it.
fn is_dots(entry: &FolderEntry) -> bool {
    matches!(entry.name.as_str(), "." | "..")
}

impl Writer<'_> {
    fn put(&mut self, path: &str, bytes: &[u8]) -> Result<(), VolumeError> {
        let names: Vec<&str> = parts(path).collect();
        let Some((name, folders)) = names.split_last() else {
            return Err(VolumeError::WrongKind { path: path.into(), found: "a folder" });
        };
        let (folder, missing) = self.descend(folders)?;
        let held = match missing.first() {
            Some(part) if self.find(folder, part)?.is_some() => {
                return Err(VolumeError::WrongKind { path: path.into(), found: "no folder" });
            }
            Some(_) => None,
            None => self.find(folder, name)?,
        };
        match held {
            Some(entry) if entry.is_folder => {
                Err(VolumeError::WrongKind { path: path.into(), found: "a folder" })
            }
            Some(entry) if u64::from(entry.size) == bytes.len() as u64 => self.overwrite(&entry, bytes, path),
            Some(entry) => self.exchange(folder, &entry, bytes),
            None => self.add(folder, missing, name, bytes),
        }
    }

    /// The innermost of these folders that is there, and the names from the first that is none on.
    fn descend<'n>(&self, names: &'n [&'n str]) -> Result<(Folder, &'n [&'n str]), VolumeError> {
        let (mut folder, mut rest) = (self.root(), names);
        while let Some((part, behind)) = rest.split_first() {
            match self.find(folder, part)? {
                Some(entry) if entry.is_folder => (folder, rest) = (self.folder_of(&entry), behind),
                _ => break,
            }
        }
        Ok((folder, rest))
    }

    /// The same clusters, with other bytes.
    fn overwrite(&mut self, entry: &FolderEntry, bytes: &[u8], path: &str) -> Result<(), VolumeError> {
        let mut rest = bytes;
        for cluster in self.chain(entry.first_cluster, bytes.len() as u64)? {
            let (now, behind) = rest.split_at(rest.len().min(len(self.cluster_size())));
            self.sectors.write_at(self.volume.geometry.cluster_offset(cluster), now)?;
            rest = behind;
        }
        if !rest.is_empty() {
            return Err(VolumeError::Corrupt(alloc::format!("{path}: its clusters end before its size")));
        }
        self.sectors.step()
    }

    /// Other clusters; the entry is turned to them, and what it had is freed.
    fn exchange(&mut self, folder: Folder, entry: &FolderEntry, bytes: &[u8]) -> Result<(), VolumeError> {
        let before = self.chain(entry.first_cluster, u64::from(entry.size))?;
        let clusters = self.fill(bytes)?;
        self.sectors.step()?;
        self.link(&clusters)?;
        self.account()?;
        let at = self.slots(folder)?.get(entry.slots.end.saturating_sub(1)).copied().ok_or_else(lost)?;
        let mut raw = self.sectors.read(at, len(ENTRY))?;
        folder::point(&mut raw, clusters.first().copied().unwrap_or(0), bytes.len() as u64, self.stamp);
        self.sectors.write_at(at, &raw)?;
        self.sectors.step()?;
        self.free(&before)
    }

    /// A new file, and the folders on the way to it that are missing: all of them are whole before the one entry shows them.
    fn add(&mut self, folder: Folder, missing: &[&str], name: &str, bytes: &[u8]) -> Result<(), VolumeError> {
        let file = self.fill(bytes)?;
        let mut ends = vec![file.clone()];
        let mut shown = (name, file.first().copied().unwrap_or(0), bytes.len() as u64, false);
        // From the innermost outwards; each knows the one above it, so their clusters are taken first.
        let clusters = (0..missing.len()).map(|_| self.take()).collect::<Result<Vec<u32>, _>>()?;
        for (index, (part, cluster)) in missing.iter().zip(&clusters).enumerate().rev() {
            let above = match index.checked_sub(1).and_then(|above| clusters.get(above)) {
                Some(cluster) => *cluster,
                None => self.number(folder),
            };
            let content = folder::first_entries(*cluster, above, self.stamp);
            let entries = folder::encode(shown.0, &[], (shown.1, shown.2, shown.3), self.stamp)?;
            let mut all = [content, entries].concat();
            if all.len() as u64 > self.cluster_size() {
                return Err(no_room());
            }
            all.resize(len(self.cluster_size()), 0);
            self.sectors.write_at(self.volume.geometry.cluster_offset(*cluster), &all)?;
            ends.push(vec![*cluster]);
            shown = (part, *cluster, 0, true);
        }
        self.sectors.step()?;
        for chain in &ends {
            self.link(chain)?;
        }
        self.account()?;
        self.show(folder, shown)
    }

    /// Puts an entry into a folder that is there: the parts of its long name first, then the entry itself.
    fn show(
        &mut self,
        folder: Folder,
        (name, cluster, size, is_folder): (&str, u32, u64, bool),
    ) -> Result<(), VolumeError> {
        let taken: Vec<FolderEntry> = self.entries(folder)?;
        let bytes = folder::encode(name, &taken, (cluster, size, is_folder), self.stamp)?;
        let count = bytes.chunks(len(ENTRY)).count();
        let mut slots = self.slots(folder)?;
        let mut place = self.free_slots(&slots, count)?;
        if place.is_none() {
            let Folder::At(first) = folder else { return Err(no_room()) };
            // The new part is empty before it is linked, so the folder reads as before.
            let more = self.take()?;
            let last = self.chain(first, MAX_FOLDER)?.last().copied().ok_or_else(lost)?;
            self.sectors
                .write_at(self.volume.geometry.cluster_offset(more), &vec![0; len(self.cluster_size())])?;
            self.sectors.step()?;
            self.link(&[more])?;
            self.sectors.step()?;
            self.set_entry(last, more)?;
            self.account()?;
            slots = self.slots(folder)?;
            place = self.free_slots(&slots, count)?;
        }
        let start = place.ok_or_else(no_room)?;
        let places = slots.get(start..start.saturating_add(count)).ok_or_else(no_room)?;
        self.end_behind(slots.get(start..=start.saturating_add(count)).unwrap_or(places))?;
        let mut rows: Vec<(&u64, &[u8])> = places.iter().zip(bytes.chunks(len(ENTRY))).collect();
        let own = rows.pop();
        for (at, row) in rows.into_iter().rev() {
            self.sectors.write_at(*at, row)?;
        }
        let same_sector = |at: u64, other: u64| at / SECTOR == other / SECTOR;
        let first = places.first().copied().unwrap_or_default();
        if own.is_some_and(|(at, _)| !same_sector(*at, first)) {
            // Behind the end mark nothing is read yet: from the last sector to the first.
            self.sectors.step_backwards();
        }
        if let Some((at, row)) = own {
            self.sectors.write_at(*at, row)?;
        }
        self.sectors.step_backwards();
        Ok(())
    }

    /// What stands behind a folder's end mark is anything: where the mark is among these slots, those behind it are marked too,
    /// so that none of them shows once the mark goes.
    fn end_behind(&mut self, slots: &[u64]) -> Result<(), VolumeError> {
        let mut has_ended = false;
        for at in slots {
            let first = self.sectors.read(*at, 1)?.first().copied().unwrap_or_default();
            if has_ended && first != 0 {
                self.sectors.write_at(*at, &[0])?;
            }
            has_ended |= first == 0;
        }
        self.sectors.step()
    }

    fn remove(&mut self, path: &str) -> Result<(), VolumeError> {
        let names: Vec<&str> = parts(path).collect();
        let Some((name, folders)) = names.split_last() else { return Ok(()) };
        let (folder, missing) = self.descend(folders)?;
        if !missing.is_empty() {
            return Ok(());
        }
        let Some(entry) = self.find(folder, name)? else { return Ok(()) };
        let size = if entry.is_folder { MAX_FOLDER } else { u64::from(entry.size) };
        if entry.is_folder && !self.entries(self.folder_of(&entry))?.iter().all(is_dots) {
            return Ok(());
        }
        let clusters = self.chain(entry.first_cluster, size)?;
        let slots = self.slots(folder)?;
        for at in slots.get(entry.slots.clone()).unwrap_or_default().iter().rev() {
            self.sectors.write_at(*at, &[DELETED])?;
        }
        // The entry itself, which comes last in the folder, goes first.
        self.sectors.step_backwards();
        self.free(&clusters)
    }

    /// Writes bytes into clusters that nothing uses; which.
    fn fill(&mut self, bytes: &[u8]) -> Result<Vec<u32>, VolumeError> {
        let mut clusters = Vec::new();
        for piece in bytes.chunks(len(self.cluster_size()).max(1)) {
            let cluster = self.take()?;
            let mut whole = piece.to_vec();
            whole.resize(len((piece.len() as u64).next_multiple_of(SECTOR)), 0);
            self.sectors.write_at(self.volume.geometry.cluster_offset(cluster), &whole)?;
            clusters.push(cluster);
        }
        Ok(clusters)
    }

    /// A cluster that nothing uses, and that is not given out again.
    fn take(&mut self) -> Result<u32, VolumeError> {
        let end = self.volume.geometry.clusters.saturating_add(2);
        while self.next_free < end {
            let cluster = self.next_free;
            self.next_free = cluster.saturating_add(1);
            if self.entry(cluster)? == Some(0) {
                self.freed = self.freed.saturating_sub(1);
                return Ok(cluster);
            }
        }
        Err(no_room())
    }

    /// Makes clusters a chain.
    fn link(&mut self, clusters: &[u32]) -> Result<(), VolumeError> {
        let end = match self.volume.geometry.fat_type {
            FatType::Fat12 => 0xfff,
            FatType::Fat16 => 0xffff,
            FatType::Fat32 => 0x0fff_ffff,
        };
        let next = clusters.iter().skip(1).copied().chain([end]);
        clusters.iter().zip(next).try_for_each(|(cluster, next)| self.set_entry(*cluster, next))
    }

    fn free(&mut self, clusters: &[u32]) -> Result<(), VolumeError> {
        for cluster in clusters {
            self.set_entry(*cluster, 0)?;
            self.freed = self.freed.saturating_add(1);
        }
        self.account()
    }

    /// The clusters of a file of this size, or of a folder; as many as there are.
    fn chain(&self, first: u32, size: u64) -> Result<Vec<u32>, VolumeError> {
        let wanted = size.div_ceil(self.cluster_size()).min(u64::from(self.volume.geometry.clusters));
        let mut clusters = Vec::new();
        let mut next = Some(first);
        while let Some(cluster) = next.filter(|cluster| self.volume.geometry.has_cluster(*cluster)) {
            if clusters.len() as u64 >= wanted {
                break;
            }
            clusters.push(cluster);
            next = self.entry(cluster)?;
        }
        Ok(clusters)
    }

    /// The cluster behind this one, 0 for one that is free; `None` at the end of the chain.
    fn entry(&self, cluster: u32) -> Result<Option<u32>, VolumeError> {
        let (at, width) = self.volume.geometry.entry_at(cluster);
        let mut raw = [0; 4];
        raw.iter_mut().zip(self.sectors.read(at, width)?).for_each(|(slot, byte)| *slot = byte);
        Ok(self.volume.geometry.fat_type.decode_entry(cluster, raw))
    }

    fn set_entry(&mut self, cluster: u32, value: u32) -> Result<(), VolumeError> {
        let (at, width) = self.volume.geometry.entry_at(cluster);
        let raw = self.sectors.read(at, width)?;
        let held = raw.iter().rev().fold(0u32, |value, byte| value << 8 | u32::from(*byte));
        let value = match self.volume.geometry.fat_type {
            FatType::Fat12 if cluster & 1 == 1 => held & 0xf | value << 4,
            FatType::Fat12 => held & 0xf000 | value & 0xfff,
            FatType::Fat16 => value,
            // The upper four bits are others'.
            FatType::Fat32 => held & 0xf000_0000 | value & 0x0fff_ffff,
        };
        let bytes = value.to_le_bytes();
        for copy in 0..self.volume.geometry.fat_copies {
            let shift = u64::from(copy).saturating_mul(self.volume.geometry.fat_length);
            self.sectors.write_at(at.saturating_add(shift), bytes.get(..width).unwrap_or_default())?;
        }
        Ok(())
    }

    /// The FATs as they are now, then the free summary.
    fn account(&mut self) -> Result<(), VolumeError> {
        self.sectors.step()?;
        self.summary()?;
        self.sectors.step()
    }

    /// Brings the free summary up to date, where there is one.
    fn summary(&mut self) -> Result<(), VolumeError> {
        let Some(at) = self.volume.geometry.info_offset else { return Ok(()) };
        let sector = self.sectors.read(at, len(SECTOR))?;
        let word = |offset: usize| {
            sector.get(offset..).and_then(|rest| rest.first_chunk()).copied().map_or(0, u32::from_le_bytes)
        };
        if INFO_MARKS.iter().any(|(offset, mark)| word(*offset) != *mark) {
            return Ok(());
        }
        let free = u32::try_from(self.free_before()?.saturating_add(self.freed)).unwrap_or(0);
        self.sectors.write_at(at.saturating_add(INFO_FREE), &free.to_le_bytes())
    }

    /// Clusters that were free before.
    fn free_before(&mut self) -> Result<i64, VolumeError> {
        if let Some(free) = self.free_before {
            return Ok(free);
        }
        let free = self.volume.free_bytes()?.checked_div(self.cluster_size()).unwrap_or(0);
        let free = i64::try_from(free).unwrap_or(0);
        self.free_before = Some(free);
        Ok(free)
    }

    fn root(&self) -> Folder {
        self.volume.geometry.root_cluster.map_or(Folder::Root, Folder::At)
    }

    fn folder_of(&self, entry: &FolderEntry) -> Folder {
        if entry.first_cluster == 0 { self.root() } else { Folder::At(entry.first_cluster) }
    }

    /// How a folder's `..` names it: the root by 0, whatever it is.
    fn number(&self, folder: Folder) -> u32 {
        match folder {
            Folder::At(cluster) if folder != self.root() => cluster,
            _ => 0,
        }
    }

    /// Where each entry of a folder stands in the volume.
    fn slots(&self, folder: Folder) -> Result<Vec<u64>, VolumeError> {
        let geometry = &self.volume.geometry;
        let pieces: Vec<(u64, u64)> = match folder {
            Folder::Root => vec![(geometry.root_offset, geometry.root_length)],
            Folder::At(first) => {
                let clusters = self.chain(first, MAX_FOLDER)?.into_iter();
                clusters.map(|cluster| (geometry.cluster_offset(cluster), self.cluster_size())).collect()
            }
        };
        let within = |(at, length): (u64, u64)| {
            (0..length / ENTRY).map(move |index| at.saturating_add(index.saturating_mul(ENTRY)))
        };
        Ok(pieces.into_iter().flat_map(within).collect())
    }

    fn entries(&self, folder: Folder) -> Result<Vec<FolderEntry>, VolumeError> {
        let slots = self.slots(folder)?;
        let mut bytes = Vec::with_capacity(slots.len().saturating_mul(len(ENTRY)));
        for at in slots {
            bytes.extend(self.sectors.read(at, len(ENTRY))?);
        }
        Ok(folder::decode(&bytes, self.volume.geometry.fat_type == FatType::Fat32))
    }

    fn find(&self, folder: Folder, name: &str) -> Result<Option<FolderEntry>, VolumeError> {
        Ok(self.entries(folder)?.into_iter().find(|entry| entry.matches(name)))
    }

    /// The first of so many slots in a row that nothing uses.
    fn free_slots(&self, slots: &[u64], count: usize) -> Result<Option<usize>, VolumeError> {
        let (mut run, mut has_ended) = (0usize, false);
        for (index, at) in slots.iter().enumerate() {
            let first = self.sectors.read(*at, 1)?.first().copied().unwrap_or_default();
            has_ended |= first == 0;
            run = if has_ended || first == DELETED { run.saturating_add(1) } else { 0 };
            if run == count {
                return Ok(Some(index.saturating_sub(count.saturating_sub(1))));
            }
        }
        Ok(None)
    }

    fn cluster_size(&self) -> u64 {
        self.volume.cluster_size()
    }
}

fn no_room() -> VolumeError {
    VolumeError::Unsupported(String::from("there is no room on it"))
}

fn lost() -> VolumeError {
    VolumeError::Corrupt(String::from("a folder has changed while it was looked at"))
}

#[cfg(test)]
mod tests;
