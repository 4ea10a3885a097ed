//! From disks to volumes: partitions, bare disks, arrays, logical volumes; found and numbered in the same way at the
//! desk and at boot.

use alloc::string::String;
use alloc::sync::Arc;
use alloc::vec::Vec;

use crate::array::{Level, Member};
use crate::block::{SharedDevice, Window};
use crate::error::VolumeError;
use crate::lvm;
use crate::probe::{Identity, VolumeKind, identify_beneath_raid, identify_in};
use crate::table::{Table, TableKind};

/// Bytes in a sector of an array.
const SECTOR_SIZE: u32 = 512;

/// A disk, looked at.
pub struct Disk {
    /// Bytes in a sector.
    pub sector_size: u32,
    /// Its table.
    pub table: Table,
    /// The array that the disk as a whole is a member of, where the array's metadata stands behind what it holds: then the
    /// disk's table is the array's.
    pub array: Option<Member>,
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
    /// An array of other volumes, or a partition in one.
    Array {
        /// How it spreads its bytes.
        level: Level,
        /// Its name.
        name: Option<String>,
        /// Its identity.
        uuid: String,
        /// Its members, as indices of volumes.
        members: Vec<usize>,
        /// The number of the partition in it; `None` for the whole array.
        partition: Option<u32>,
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

impl Volume {
    /// One that cannot be put together, and why.
    pub(crate) fn unread(origin: Origin, why: String) -> Self {
        Self {
            origin,
            device: None,
            identity: Identity::of_kind(VolumeKind::Unknown),
            fault: Some(VolumeError::Unsupported(why)),
            beneath_raid: None,
        }
    }
}

/// All volumes of a machine.
#[derive(Default)]
pub struct Volumes {
    /// Each, by its number, the first first.
    pub list: Vec<Volume>,
    /// What could not be put together.
    pub faults: Vec<String>,
    /// Of each disk that mirrors another one as a whole, the disk whose volumes stand for those of both.
    pub doubles: Vec<Option<usize>>,
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
        let array = array_of(device, &table);
        if array.as_ref().is_some_and(|array| !array.level.is_mirror()) {
            parts.clear();
            let identity = Identity::of_kind(VolumeKind::MdRaid);
            let found = Contents { device: Some(device.clone()), identity, fault: None };
            parts.push(Part { entry: None, start: 0, found });
        }
        // A disk may be one volume; one written from an image of ISO 9660 has a table besides.
        let is_bare = table.kind == TableKind::None && table.faults.is_empty();
        if is_bare || table.kind != TableKind::None && array.is_none() {
            let whole = Contents::of(device.clone(), &mut room);
            let is_image = matches!(whole.identity.kind, VolumeKind::Iso9660 | VolumeKind::Udf)
                && (table.kind != TableKind::Gpt || !is_overwritten(&parts));
            if table.kind == TableKind::None && whole.identity.kind != VolumeKind::Unknown || is_image {
                // A partition that starts with the disk is the image itself.
                parts.retain(|part| part.start > 0);
                parts.push(Part { entry: None, start: 0, found: whole });
            }
        }
        Self { sector_size, table, array, parts }
    }

    /// A disk that cannot be read, as somebody else describes it: its table, and by the index of their entry what its
    /// partitions are; without an entry, the disk as a whole.
    pub fn described(sector_size: u32, table: Table, identities: Vec<(Option<usize>, Identity)>) -> Self {
        let part = |(entry, identity): (Option<usize>, Identity)| {
            let start = entry.and_then(|entry| table.partitions.get(entry)).map_or(0, |entry| entry.start);
            Part { entry, start, found: Contents { device: None, identity, fault: None } }
        };
        let parts = identities.into_iter().map(part).collect();
        Self { sector_size, table, array: None, parts }
    }
}

/// Whether a disk's partitions hold what no image of ISO 9660 has in it, so that the image's marks are left over from before.
/// An image has firmware's FAT in it, and itself.
fn is_overwritten(parts: &[Part]) -> bool {
    let of_image = |kind: VolumeKind| {
        kind.is_fat()
            || matches!(
                kind,
                VolumeKind::Iso9660 | VolumeKind::Udf | VolumeKind::HfsPlus | VolumeKind::Unknown
            )
    };
    parts.iter().any(|part| !of_image(part.found.identity.kind))
}

/// What the whole of a disk with a table is a member of. A partition at the disk's end may carry such metadata of its own:
/// then the array ends before that partition does.
fn array_of(device: &SharedDevice, table: &Table) -> Option<Member> {
    if table.kind == TableKind::None {
        return None;
    }
    let array = Member::read(device.as_ref())?;
    let end = table.partitions.iter().map(|entry| entry.start.saturating_add(entry.size)).max()?;
    // Stripes and the like have a table that speaks of more bytes than one member has. Where it does not, the metadata may be left
    // over from another life of the disk, and what stands on it is not to be hidden for that.
    let holds_table = if array.level.is_mirror() { end <= array.data_size } else { end > device.size() };
    (array.data_offset == 0 && holds_table).then_some(array)
}

/// Whether two disks have the same table: those of a mirror do, and what is left over of a former one does not make it one.
fn same_table(one: &Table, other: &Table) -> bool {
    let places = |table: &Table| -> Vec<(u32, u64, u64)> {
        table.partitions.iter().map(|entry| (entry.number, entry.start, entry.size)).collect()
    };
    one.guid == other.guid && one.signature == other.signature && places(one) == places(other)
}

/// For each disk that mirrors another one, the one that is read.
fn doubles(disks: &[Disk]) -> Vec<Option<usize>> {
    let mirror = |disk: &Disk| disk.array.clone().filter(|array| array.level.is_mirror());
    let mirrors: Vec<Option<Member>> = disks.iter().map(mirror).collect();
    let rank = |member: &Member| (member.is_in_sync, member.events);
    let read = |(index, own): (usize, &Option<Member>)| {
        let array = &own.as_ref()?.array;
        let members = mirrors.iter().enumerate().filter_map(|(at, other)| Some((at, other.as_ref()?)));
        let has_same_table = |at: usize| {
            disks
                .get(index)
                .zip(disks.get(at))
                .is_some_and(|(one, other)| same_table(&one.table, &other.table))
        };
        let same = members.filter(|(at, other)| other.array == *array && has_same_table(*at));
        // The newest; of equals, the first.
        let (best, _) = same.rev().max_by_key(|(_, other)| rank(other))?;
        (best != index).then_some(best)
    };
    mirrors.iter().enumerate().map(read).collect()
}

impl Volumes {
    /// Finds the volumes of these disks: in the disks' order, those of a disk by where they start, and behind them what is
    /// logical volumes or arrays.
    pub fn find(disks: &[Disk]) -> Self {
        let mut volumes = Self { doubles: doubles(disks), ..Self::default() };
        for (index, disk) in disks.iter().enumerate() {
            if volumes.doubles.get(index).is_some_and(Option::is_some) {
                continue;
            }
            let mut parts: Vec<&Part> = Vec::with_capacity(disk.parts.len());
            for part in &disk.parts {
                parts.insert(parts.partition_point(|known| known.start <= part.start), part);
            }
            for part in parts {
                let origin = part.entry.map_or(Origin::Disk(index), |entry| Origin::Partition(index, entry));
                volumes.push(origin, &part.found);
            }
        }
        volumes.add_arrays();
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

    /// Arrays: any member of a mirror that is in sync holds the whole, the one with most changes the newest. Others are named.
    fn add_arrays(&mut self) {
        struct Set {
            of: Member,
            newest: Option<(Member, SharedDevice)>,
            members: Vec<usize>,
        }
        let mut sets: Vec<Set> = Vec::new();
        for (index, device) in self.of_kind(VolumeKind::MdRaid) {
            let Some(member) = Member::read(device.as_ref()) else { continue };
            // In the order of their identities.
            let at = sets.partition_point(|known| known.of.array < member.array);
            if sets.get(at).is_none_or(|known| known.of.array != member.array) {
                sets.insert(at, Set { of: member.clone(), newest: None, members: Vec::new() });
            }
            let Some(set) = sets.get_mut(at) else { continue };
            set.members.push(index);
            let is_newer = set.newest.as_ref().is_none_or(|(known, _)| member.events > known.events);
            if member.is_in_sync && is_newer {
                set.newest = Some((member, device));
            }
        }
        for Set { of, newest, members } in sets {
            let Member { level, name, array: uuid, .. } = of;
            let origin = |partition| Origin::Array {
                level,
                name: name.clone(),
                uuid: uuid.clone(),
                members: members.clone(),
                partition,
            };
            match newest.filter(|_| level.is_mirror()) {
                Some((member, device)) => {
                    let window = Window::new(device, member.data_offset, member.data_size);
                    self.add_within(Arc::new(window), origin);
                }
                None if level.is_mirror() => self.list.push(Volume::unread(
                    origin(None),
                    "no member that is here holds the whole of it: a spare, or one that is being rebuilt"
                        .into(),
                )),
                None => {
                    let why = alloc::format!("a {level} is not put together here; mirrors are");
                    self.list.push(Volume::unread(origin(None), why));
                }
            }
        }
    }

    /// What a mirror holds: a file system, or a table with several.
    fn add_within(&mut self, device: SharedDevice, origin: impl Fn(Option<u32>) -> Origin) {
        let table = Table::read(device.as_ref(), SECTOR_SIZE);
        let mut room = Vec::new();
        let whole = Contents::of(device.clone(), &mut room);
        if whole.identity.kind != VolumeKind::Unknown || table.partitions.is_empty() {
            self.push(origin(None), &whole);
            return;
        }
        for entry in table.partitions.iter().filter(|entry| !entry.is_container) {
            let window: SharedDevice = Arc::new(Window::new(device.clone(), entry.start, entry.size));
            self.push(origin(Some(entry.number)), &Contents::of(window, &mut room));
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
                Err(why) => self.list.push(Volume::unread(origin, why)),
            }
        }
    }
}
