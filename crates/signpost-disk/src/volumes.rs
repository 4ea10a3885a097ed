//! From disks to volumes: partitions, bare disks, arrays, logical volumes; found and numbered in the same way at the
//! desk and at boot.

use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec::Vec;

use crate::block::{SharedDevice, Window};
use crate::error::VolumeError;
use crate::probe::{Identity, VolumeKind, identify_beneath_raid, identify_in};
use crate::table::{Table, TableKind};
use crate::{lvm, md};

/// A disk, looked at.
pub struct Disk {
    /// Bytes in a sector.
    pub sector_size: u32,
    /// Its table.
    pub table: Table,
    /// What may hold a file system on it: its partitions, or the whole of it.
    pub parts: Vec<Part>,
}

/// A partition, or a bare disk.
pub struct Part {
    /// Index of the table's entry; `None` for the whole disk.
    pub entry: Option<usize>,
    start: u64,
    found: Contents,
}

impl Part {
    /// Its bytes; `None` where they cannot be read.
    pub fn device(&self) -> Option<&SharedDevice> {
        self.found.device.as_ref()
    }

    /// Where it starts, in bytes.
    pub fn start(&self) -> u64 {
        self.start
    }

    /// What it is.
    pub fn identity(&self) -> &Identity {
        &self.found.identity
    }
}

/// Bytes, and what they are.
#[derive(Clone)]
struct Contents {
    /// `None` where somebody else says what is there.
    device: Option<SharedDevice>,
    identity: Identity,
    fault: Option<VolumeError>,
}

impl Contents {
    fn of(device: SharedDevice, room: &mut Vec<u8>) -> Self {
        let (identity, fault) = identify_in(device.as_ref(), room);
        Self { device: Some(device), identity, fault }
    }
}

/// What a volume lies in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Origin {
    /// A whole disk, by index.
    Disk(usize),
    /// A partition: its disk's index, and its entry's in the disk's table.
    Partition(usize, usize),
    /// A mirror of other volumes.
    Mirror {
        /// Its name.
        name: Option<String>,
        /// Its identity.
        uuid: String,
        /// Its members, as indices of volumes.
        members: Vec<usize>,
    },
    /// A logical volume.
    Logical {
        /// Its group.
        group: String,
        /// Its name.
        name: String,
        /// The physical volumes that it lies on, as indices of volumes.
        members: Vec<usize>,
    },
}

/// A volume.
#[derive(Clone)]
pub struct Volume {
    /// What it lies in.
    pub origin: Origin,
    /// Its bytes; `None` where they cannot be read.
    pub device: Option<SharedDevice>,
    /// What it is.
    pub identity: Identity,
    /// What is wrong with it.
    pub fault: Option<VolumeError>,
    /// The FAT that firmware, which knows no RAID, sees in a RAID member.
    pub beneath_raid: Option<VolumeKind>,
}

/// All volumes of a machine.
pub struct Volumes {
    /// Each, `v1` first.
    pub list: Vec<Volume>,
    /// What could not be put together.
    pub faults: Vec<String>,
}

impl Disk {
    /// Looks at a disk: its table, and what each part of it is.
    pub fn look(device: &SharedDevice, sector_size: u32) -> Self {
        let table = Table::read(device.as_ref(), sector_size);
        let mut parts: Vec<Part> = Vec::new();
        let mut room = Vec::new();
        for (index, entry) in table.partitions.iter().enumerate().filter(|(_, entry)| !entry.is_container) {
            let window: SharedDevice = Arc::new(Window::new(device.clone(), entry.start, entry.size));
            parts.push(Part {
                entry: Some(index),
                start: entry.start,
                found: Contents::of(window, &mut room),
            });
        }
        // A disk may be one volume; one written from an image of ISO 9660 has a table besides.
        if table.kind == TableKind::None && table.faults.is_empty() || table.kind == TableKind::Mbr {
            let whole = Contents::of(device.clone(), &mut room);
            let is_image = matches!(whole.identity.kind, VolumeKind::Iso9660 | VolumeKind::Udf);
            if table.kind == TableKind::None && whole.identity.kind != VolumeKind::Unknown || is_image {
                // A partition that starts with the disk is the image itself.
                parts.retain(|part| part.start > 0);
                parts.push(Part { entry: None, start: 0, found: whole });
            }
        }
        Self { sector_size, table, parts }
    }

    /// A disk that cannot be read, as somebody else describes it: its table, and by the index of their entry what its
    /// partitions are; without an entry, the disk as a whole.
    pub fn described(sector_size: u32, table: Table, identities: Vec<(Option<usize>, Identity)>) -> Self {
        let part = |(entry, identity): (Option<usize>, Identity)| {
            let start = entry.and_then(|entry| table.partitions.get(entry)).map_or(0, |entry| entry.start);
            Part { entry, start, found: Contents { device: None, identity, fault: None } }
        };
        let parts = identities.into_iter().map(part).collect();
        Self { sector_size, table, parts }
    }
}

impl Volumes {
    /// Finds the volumes of these disks: in the disks' order, those of a disk by where they start, and behind them what is
    /// made of others.
    pub fn find(disks: &[Disk]) -> Self {
        let mut volumes = Self { list: Vec::new(), faults: Vec::new() };
        for (index, disk) in disks.iter().enumerate() {
            let mut parts: Vec<&Part> = Vec::with_capacity(disk.parts.len());
            for part in &disk.parts {
                parts.insert(parts.partition_point(|known| known.start <= part.start), part);
            }
            for part in parts {
                let origin = part.entry.map_or(Origin::Disk(index), |entry| Origin::Partition(index, entry));
                volumes.push(origin, &part.found);
            }
        }
        volumes.add_mirrors();
        volumes.add_logical();
        volumes
    }

    fn push(&mut self, origin: Origin, found: &Contents) {
        let is_raid = found.identity.kind == VolumeKind::MdRaid;
        let member = found.device.as_ref().filter(|_| is_raid);
        let beneath = member.map(|device| identify_beneath_raid(device.as_ref()));
        self.list.push(Volume {
            origin,
            device: found.device.clone(),
            identity: found.identity.clone(),
            fault: found.fault.clone(),
            beneath_raid: beneath.filter(|kind| kind.is_fat()),
        });
    }

    /// Indices and bytes of the volumes of a kind.
    fn of_kind(&self, kind: VolumeKind) -> Vec<(usize, SharedDevice)> {
        let all = self.list.iter().enumerate().filter(|(_, volume)| volume.identity.kind == kind);
        all.filter_map(|(index, volume)| Some((index, volume.device.clone()?))).collect()
    }

    /// Mirrors: any member that is in sync holds the whole, the one with most changes the newest.
    fn add_mirrors(&mut self) {
        struct Set {
            newest: Option<(md::Superblock, SharedDevice)>,
            name: Option<String>,
            uuid: String,
            members: Vec<usize>,
        }
        let mut sets: Vec<Set> = Vec::new();
        for (index, device) in self.of_kind(VolumeKind::MdRaid) {
            let Some(member) = md::Superblock::read(device.as_ref()).filter(md::Superblock::is_mirror) else {
                continue;
            };
            // In the order of their identities.
            let at = sets.partition_point(|known| known.uuid < member.set_uuid);
            if sets.get(at).is_none_or(|known| known.uuid != member.set_uuid) {
                let (name, uuid) = (member.name.clone(), member.set_uuid.clone());
                sets.insert(at, Set { newest: None, name, uuid, members: Vec::new() });
            }
            let Some(set) = sets.get_mut(at) else { continue };
            set.members.push(index);
            let is_newer = set.newest.as_ref().is_none_or(|(known, _)| member.events > known.events);
            if member.is_in_sync && is_newer {
                set.newest = Some((member, device));
            }
        }
        for Set { newest, name, uuid, members } in sets {
            let origin = Origin::Mirror { name, uuid, members };
            match newest {
                Some((member, device)) => {
                    let window = Window::new(device, member.data_offset, member.data_size);
                    self.push(origin, &Contents::of(Arc::new(window), &mut Vec::new()));
                }
                None => self.list.push(Volume {
                    origin,
                    device: None,
                    identity: Identity::of_kind(VolumeKind::Unknown),
                    fault: Some(VolumeError::Unsupported(
                        "no member that is here holds the whole of it: a spare, or one that is being rebuilt"
                            .into(),
                    )),
                    beneath_raid: None,
                }),
            }
        }
    }

    fn add_logical(&mut self) {
        let physical = self.of_kind(VolumeKind::Lvm2);
        if physical.is_empty() {
            return;
        }
        let devices: Vec<SharedDevice> = physical.iter().map(|(_, device)| device.clone()).collect();
        let (logical, faults) = lvm::assemble(&devices);
        self.faults.extend(faults);
        for volume in logical {
            let members = volume.members.iter().filter_map(|index| Some(physical.get(*index)?.0)).collect();
            let origin = Origin::Logical { group: volume.group, name: volume.name, members };
            match volume.contents {
                Ok(device) => self.push(origin, &Contents::of(device, &mut Vec::new())),
                Err(why) => self.list.push(Volume {
                    origin,
                    device: None,
                    identity: Identity::of_kind(VolumeKind::Unknown),
                    fault: Some(VolumeError::Unsupported(why)),
                    beneath_raid: None,
                }),
            }
        }
    }
}

impl Origin {
    /// Where a volume is, for people: `disk 1 partition 2`; `number` is what a disk of this index is called.
    pub fn words<N: core::fmt::Display>(&self, disks: &[Disk], number: impl Fn(usize) -> N) -> String {
        match self {
            Self::Disk(disk) => alloc::format!("disk {}", number(*disk)),
            Self::Partition(disk, entry) => {
                let entry = disks.get(*disk).and_then(|disk| disk.table.partitions.get(*entry));
                let disk = number(*disk);
                match entry.map(|entry| (entry.number, entry.slice.as_deref())) {
                    Some((_, Some(slice))) => alloc::format!("disk {disk} slice {slice}"),
                    Some((number, None)) => alloc::format!("disk {disk} partition {number}"),
                    None => alloc::format!("disk {disk}"),
                }
            }
            Self::Mirror { name, uuid, .. } => {
                alloc::format!("mirror {}", name.clone().unwrap_or_else(|| uuid.to_string()))
            }
            Self::Logical { group, name, .. } => alloc::format!("volume {group}/{name}"),
        }
    }
}
