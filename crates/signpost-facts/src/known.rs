//! What the disks of a machine held when they were last seen: what is not here now and was then, is out of reach, and not
//! gone.

use alloc::collections::{BTreeMap, BTreeSet};
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use serde::{Deserialize, Serialize};
use signpost_firmware::bios::code::FirstCode;
use signpost_menu::disk_number::{DiskNumber, DiskNumbers};
use signpost_menu::place::{VolumeIdentity, VolumeRef};

use crate::programs::Role;
use crate::survey::{Disk, Survey};

const FORMAT: u32 = 2;

/// Every disk that was seen, by its identity, with the names of its partitions and volumes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Known {
    format: u32,
    disks: BTreeMap<String, KnownDisk>,
    /// Boot files, by a name of their volume and their path, in lower case.
    #[serde(default)]
    files: BTreeMap<String, KnownFile>,
    /// First sectors, by the identity of their disk.
    #[serde(default)]
    sectors: BTreeMap<String, KnownSector>,
}

/// A disk's first sector as it was seen last.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KnownSector {
    /// What its code was.
    pub code: FirstCode,
    /// SHA-256 of that, in hexadecimal.
    pub sha256: String,
    /// The day on which it was so, in UTC.
    pub seen: String,
}

/// A boot file as it was seen last.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KnownFile {
    /// SHA-256 of its contents, in hexadecimal.
    pub sha256: String,
    /// The ids of the systems that it started.
    pub systems: Vec<String>,
    /// The day on which it was there, in UTC: `2026-11-26`.
    pub seen: String,
}

/// Boot files that are remembered; those that were seen last stay.
const MAX_FILES: usize = 256;

/// A disk as it was seen last.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
struct KnownDisk {
    /// The number that it was first seen under.
    number: Option<DiskNumber>,
    /// What its table tells it from others by, which is all that is seen of a disk at boot.
    table: Option<String>,
    /// Identities of its partitions.
    partitions: BTreeSet<String>,
    /// Names of its volumes, as a menu file writes them, in lower case.
    volumes: BTreeSet<String>,
    /// Whether it decides what the machine starts.
    #[serde(default)]
    takes_part: bool,
}

impl Default for Known {
    fn default() -> Self {
        Self { format: FORMAT, disks: BTreeMap::new(), files: BTreeMap::new(), sectors: BTreeMap::new() }
    }
}

impl Known {
    /// Whether it is of this version; one of another says nothing.
    pub fn is_current(&self) -> bool {
        self.format == FORMAT
    }

    /// The same with the disks of a survey as they are now. One that could not be read whole keeps what it had.
    pub fn with(&self, survey: &Survey, identities: &[VolumeIdentity]) -> Self {
        let mut known = self.clone();
        for disk in &survey.disks {
            let Some(identity) = disk.identity() else { continue };
            let seen = seen(survey, identities, disk);
            let held = known.disks.entry(identity.clone()).or_default();
            // Of disks with one identity the first has the number.
            let number = held.number.or(seen.number);
            if disk.is_whole {
                *held = seen;
            } else {
                held.partitions.extend(seen.partitions);
                held.volumes.extend(seen.volumes);
                held.table = held.table.take().or(seen.table);
            }
            held.number = number;
        }
        known
    }

    /// The same with the boot files of a survey, as they were there on a day, in UTC. What is not there any more stays known.
    pub fn with_files(mut self, survey: &Survey, identities: &[VolumeIdentity], day: &str) -> Self {
        // What is damaged is not what was there.
        for file in survey.boot_files.iter().filter(|file| file.role != Role::Unfit) {
            let identity = identities.get(file.volume.index());
            let (Some(identity), Some(sha256)) = (identity, file.sha256.clone()) else { continue };
            let Some(name) = identity.names().into_iter().next() else { continue };
            let known = KnownFile { sha256, systems: file.owners().cloned().collect(), seen: day.into() };
            self.files.insert(key(&name.to_string(), &file.path), known);
        }
        while self.files.len() > MAX_FILES {
            let oldest = self.files.iter().min_by_key(|(_, file)| &file.seen).map(|(key, _)| key.clone());
            oldest.and_then(|key| self.files.remove(&key));
        }
        self
    }

    /// The same with the first sectors of a survey, as they were on a day, in UTC.
    pub fn with_sectors(mut self, survey: &Survey, day: &str) -> Self {
        for first in &survey.boot_sectors.first {
            let Some(identity) = survey.disk(first.disk).and_then(Disk::identity) else { continue };
            let known = KnownSector { code: first.code, sha256: first.sha256.clone(), seen: day.into() };
            self.sectors.insert(identity.clone(), known);
        }
        self
    }

    /// What the first sector of a disk was.
    pub fn first_sector(&self, disk: &Disk) -> Option<&KnownSector> {
        self.sectors.get(disk.identity()?)
    }

    /// What was at a path of a volume.
    pub fn file(&self, volume: &VolumeIdentity, path: &str) -> Option<&KnownFile> {
        volume.names().first().and_then(|name| self.files.get(&key(&name.to_string(), path)))
    }

    /// What was at a path of volumes that are not here any more.
    pub fn files_elsewhere<'k>(
        &'k self,
        identities: &'k [VolumeIdentity],
        path: &str,
    ) -> impl Iterator<Item = &'k KnownFile> {
        let path = path.to_lowercase();
        let is_here = |volume: &str| {
            let named = |identity: &VolumeIdentity| {
                identity.names().first().is_some_and(|name| name.to_string().eq_ignore_ascii_case(volume))
            };
            identities.iter().any(named)
        };
        self.files.iter().filter_map(move |(key, file)| {
            let volume = key.strip_suffix(&path)?;
            (!is_here(volume)).then_some(file)
        })
    }

    /// The numbers of disks, by what tells them from others.
    pub fn numbers(&self) -> DiskNumbers {
        self.disks.iter().filter_map(|(identity, disk)| Some((identity.clone(), disk.number?))).collect()
    }

    /// The same by the identities of their tables.
    pub fn numbers_by_table(&self) -> DiskNumbers {
        self.disks.values().filter_map(|disk| Some((disk.table.clone()?, disk.number?))).collect()
    }

    /// Whether a disk that is not here now had a partition of this identity.
    pub fn has_partition_elsewhere(&self, survey: &Survey, identity: &str) -> bool {
        self.elsewhere(survey).any(|disk| disk.partitions.contains(&identity.to_lowercase()))
    }

    /// Whether a disk that is here had a partition of this identity.
    pub fn had_partition(&self, disk: &Disk, identity: &str) -> bool {
        let known = disk.identity().and_then(|disk| self.disks.get(disk));
        known.is_some_and(|known| known.partitions.contains(&identity.to_lowercase()))
    }

    /// The same of a disk that decides what the machine starts: no medium that was taken along.
    pub fn had_partition_of_its_own(&self, survey: &Survey, identity: &str) -> bool {
        let identity = identity.to_lowercase();
        self.elsewhere(survey).any(|disk| disk.takes_part && disk.partitions.contains(&identity))
    }

    /// Whether a disk that is not here now had a volume of this name.
    pub fn has_volume_elsewhere(&self, survey: &Survey, name: &VolumeRef) -> bool {
        self.elsewhere(survey).any(|disk| disk.volumes.contains(&name.to_string().to_lowercase()))
    }

    /// Whether there is a disk that was seen and is not here now.
    pub fn misses_a_disk(&self, survey: &Survey) -> bool {
        self.elsewhere(survey).next().is_some()
    }

    fn elsewhere<'k>(&'k self, survey: &'k Survey) -> impl Iterator<Item = &'k KnownDisk> {
        let is_here = |identity: &String| survey.disks.iter().any(|disk| disk.identity() == Some(identity));
        self.disks.iter().filter(move |(identity, _)| !is_here(identity)).map(|(_, disk)| disk)
    }
}

fn key(volume: &str, path: &str) -> String {
    [volume, path].concat().to_lowercase()
}

fn seen(survey: &Survey, identities: &[VolumeIdentity], disk: &Disk) -> KnownDisk {
    let partitions = disk.partitions.iter().filter_map(|partition| partition.uuid.as_ref());
    let on_it = survey.volumes.iter().zip(identities).filter(|(volume, _)| volume.disk == disk.number);
    let names = on_it.flat_map(|(_, identity)| identity.names());
    KnownDisk {
        number: Some(disk.number),
        table: disk.table.identity.clone(),
        partitions: partitions.map(|uuid| uuid.to_lowercase()).collect(),
        volumes: names.map(|name| name.to_string().to_lowercase()).collect(),
        takes_part: disk.takes_part,
    }
}
