//! The machine at boot: its volumes, numbered and named as at the desk.

mod as_firmware;
mod home;
mod sectors;

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::cell::OnceCell;

use signpost_disk::file_system::{FileSystem, VolumeError};
use signpost_disk::names;
use signpost_disk::open;
use signpost_disk::probe::Identity;
use signpost_disk::volumes::{Disk, Origin, Volume};
use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::code::{self, FirstCode, SectorCode};
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::device_path::{DevicePath, HardDrive};
use signpost_firmware::image::pe::MachineType;
use signpost_menu::disk_number::DiskNumber;
use signpost_menu::ids;
use signpost_menu::place::{Nearness, VolumeIdentity};
use signpost_menu::resolve::{Firmware, LoadOptionSeen};
use signpost_menu::slot::{Slot, SlotFault};

use as_firmware::AsFirmware;
pub use sectors::BootSector;
use sectors::boot_sectors;

use crate::disk_order;
pub use crate::disk_order::ShownPartition;
use crate::finder::{Systems, WithSystems};
use crate::load_options;
use crate::reader::{VolumeReader, unguarded};
use crate::surroundings::{self, stands_around_a_menu};
use crate::volumes::{Seen, Volumes, nearness};

/// Bytes of a program in which its headers lie.
pub const PROGRAM_HEAD: usize = 64 * 1024;

/// Members of members of a volume that are looked through.
const MAX_DEPTH: usize = 8;

/// A source of blocks: what the firmware shows of disks and partitions.
pub trait Blocks {
    /// Every disk with a medium, its device path beside it.
    fn disks(&self) -> Vec<(DevicePath, Disk)>;

    /// The serial that a disk's drive says, where it can be asked.
    fn serial(&self, disk: &DevicePath) -> Option<String>;

    /// Every partition that the firmware shows; disks are known by their place in what `disks` gave.
    fn partitions(&self, disks: &[DevicePath]) -> Vec<ShownPartition>;

    /// A sector of 512 bytes of a disk, at so many bytes from its start, where the firmware starts boot sectors.
    fn boot_sector(&self, _disk: &DevicePath, _start: u64) -> Option<[u8; SECTOR]> {
        None
    }

    /// The disk whose sectors are home, and the slots there; nothing where a volume is home.
    fn home_sectors(&self) -> Option<HomeSectors> {
        None
    }
}

/// Sectors of a disk that are home.
pub struct HomeSectors {
    /// The disk.
    pub disk: DevicePath,
    /// The slots there.
    pub slots: [Result<Slot, SlotFault>; 2],
}

/// A source of variables.
pub trait Variables {
    /// The boot variables as the firmware has them now.
    fn boot_variables(&self) -> BootVariables;
}

/// A volume at boot.
pub struct BootVolume {
    /// Its device path; that of what it lies on, where the firmware knows nothing of it.
    pub path: DevicePath,
    /// Whether the firmware reads it.
    pub is_fat: bool,
    volume: Volume,
    /// Its boot sector, and that of the partition whose slice it is; where the firmware starts such.
    sectors: Vec<BootSector>,
    reader: OnceCell<Option<Result<VolumeReader, VolumeError>>>,
    drive: Option<HardDrive>,
    disk: Option<usize>,
    is_extended_boot: bool,
}

/// The machine at boot.
pub struct BootMachine {
    /// Its volumes.
    pub volumes: Vec<BootVolume>,
    /// The home volume's index.
    pub home: Option<usize>,
    /// The boot variables.
    pub boot: BootVariables,
    /// The home disk's index, where a volume is not home but sectors of it are.
    home_disk: Option<usize>,
    /// The code of each disk's first sector, where the firmware starts such.
    firsts: Vec<Option<FirstCode>>,
    /// The firmware.
    firmware: Firmware,
    /// What the firmware runs.
    architecture: MachineType,
    identities: Vec<VolumeIdentity>,
    disks: Vec<DevicePath>,
    /// The numbers of the disks.
    numbers: Vec<DiskNumber>,
    /// The identities of their tables.
    tables: Vec<Option<String>>,
    systems: OnceCell<Systems>,
}

impl BootMachine {
    /// Looks at every disk that the firmware has found.
    pub fn look(
        blocks: &impl Blocks,
        variables: &impl Variables,
        (firmware, architecture): (Firmware, MachineType),
    ) -> Self {
        let home_sectors = blocks.home_sectors();
        let (numbers, disks, paths) = in_order(blocks, home_sectors.as_ref());
        let shown = blocks.partitions(&paths);
        let partition = |origin: &Origin| {
            let Origin::Partition(disk, entry) = origin else { return None };
            let sector = u64::from(disks.get(*disk)?.sector_size);
            let start = disks.get(*disk)?.table.partitions.get(*entry)?.start;
            shown
                .iter()
                .find(|shown| shown.disk == *disk && shown.drive.start.saturating_mul(sector) == start)
        };
        let plugged: Vec<Plugged> = paths.iter().map(|path| Plugged::of(blocks, path)).collect();
        let found = signpost_disk::volumes::Volumes::find(&disks).list;
        let is_home = |volume: &Volume| partition(&volume.origin).is_some_and(|shown| shown.is_home);
        let home = found.iter().position(is_home);
        let mut machine = Self {
            volumes: Vec::with_capacity(found.len()),
            home,
            boot: variables.boot_variables(),
            home_disk: home_sectors.and_then(|home| paths.iter().position(|path| *path == home.disk)),
            firsts: paths
                .iter()
                .map(|path| blocks.boot_sector(path, 0).map(|bytes| code::of_first(&bytes)))
                .collect(),
            firmware,
            architecture,
            identities: Vec::with_capacity(found.len()),
            disks: paths,
            numbers,
            tables: disks.iter().map(|disk| disk.table.identity()).collect(),
            systems: OnceCell::new(),
        };
        let names =
            names::names(&found, &disks, |disk| machine.numbers.get(disk).map_or(0, |number| number.0));
        for ((index, volume), name) in found.into_iter().enumerate().zip(names) {
            let shown = partition(&volume.origin);
            let path = shown.map(|shown| shown.path.clone()).or_else(|| machine.beneath(&volume.origin));
            let (disk, entry) = match &volume.origin {
                Origin::Partition(disk, entry) => {
                    (Some(*disk), disks.get(*disk).and_then(|disk| disk.table.partitions.get(*entry)))
                }
                _ => (None, None),
            };
            let is_extended_boot = entry.is_some_and(|entry| entry.purpose.is_extended_boot());
            let sectors = boot_sectors(blocks, (&machine.disks, &disks), &volume.origin, &name);
            let is_home = home == Some(index);
            machine.identities.push(identity(name, &volume, (&disks, &plugged), is_home));
            machine.volumes.push(BootVolume {
                path: path.unwrap_or_else(|| DevicePath::new(Vec::new())),
                is_fat: shown.is_some()
                    && volume.identity.firmware_refuses.is_none()
                    && (volume.identity.kind.is_fat() || volume.beneath_raid.is_some()),
                drive: shown.map(|shown| shown.drive.clone()),
                disk,
                is_extended_boot,
                volume,
                sectors,
                reader: OnceCell::new(),
            });
        }
        let nearness = nearness(&machine, &machine.home_disks());
        for (identity, nearness) in machine.identities.iter_mut().zip(nearness) {
            identity.nearness = nearness;
        }
        machine
    }

    /// The device path of what a volume lies on.
    fn beneath(&self, origin: &Origin) -> Option<DevicePath> {
        match origin {
            Origin::Disk(disk) | Origin::Partition(disk, _) => self.disks.get(*disk).cloned(),
            Origin::Array { members, .. } | Origin::Logical { members, .. } => {
                self.volumes.get(*members.first()?).map(|member| member.path.clone())
            }
        }
    }

    /// Numbers of the disks beneath a volume, and beneath what it is made of.
    fn add_disks_of(&self, volume: usize, depth: usize, disks: &mut Vec<DiskNumber>) {
        let Some(held) = self.volumes.get(volume).filter(|_| depth > 0) else { return };
        match &held.volume.origin {
            Origin::Disk(disk) | Origin::Partition(disk, _) => {
                disks.extend(self.numbers.get(*disk).filter(|number| !disks.contains(number)).copied());
            }
            Origin::Array { members, .. } | Origin::Logical { members, .. } => {
                for member in members {
                    self.add_disks_of(*member, depth.saturating_sub(1), disks);
                }
            }
        }
    }

    /// The boot sector that a volume is started by: its own, or, where that starts nothing and the volume is a slice, that of the
    /// partition around it.
    pub fn boot_sector_of(&self, volume: usize) -> Option<&BootSector> {
        let sectors = &self.volumes.get(volume)?.sectors;
        sectors.iter().find(|sector| sector.code == SectorCode::Starts).or_else(|| sectors.first())
    }

    /// The device path of a disk, by its index.
    pub fn disk(&self, index: usize) -> Option<&DevicePath> {
        self.disks.get(index)
    }

    /// A volume's files.
    ///
    /// # Errors
    /// Why it cannot be read, in words.
    pub fn file_system(&self, volume: usize) -> Result<&dyn FileSystem, String> {
        surroundings::reader(self, volume).map(VolumeReader::files)
    }
}

impl BootVolume {
    fn opened(&self) -> Option<&Result<VolumeReader, VolumeError>> {
        let open = || {
            let kind = self.volume.beneath_raid.map(Identity::of_kind);
            let device = self.volume.device.as_ref()?;
            let opened = open::file_system(device, kind.as_ref().unwrap_or(&self.volume.identity))?;
            Some(opened.map(|files| VolumeReader::new(files, OnceCell::new(), unguarded)))
        };
        self.reader.get_or_init(open).as_ref()
    }
}

/// What tells a disk from others beside what is on it.
struct Plugged {
    /// Its drive's serial.
    serial: Option<String>,
    /// Its device path's text.
    path: Option<String>,
}

impl Plugged {
    fn of(blocks: &impl Blocks, path: &DevicePath) -> Self {
        // A serial of USB's is another than the one that the drive behind it would say.
        let serial = if path.is_pluggable() { None } else { blocks.serial(path) };
        Self { serial, path: path.disk_text() }
    }
}

/// By what a volume can be named.
fn identity(
    name: String,
    volume: &Volume,
    (disks, plugged): (&[Disk], &[Plugged]),
    is_home: bool,
) -> VolumeIdentity {
    let (at, entry) = match &volume.origin {
        Origin::Partition(disk, entry) => (Some(*disk), Some(*entry)),
        Origin::Disk(disk) => (Some(*disk), None),
        _ => (None, None),
    };
    let disk = at.and_then(|disk| disks.get(disk));
    let plugged = at.and_then(|disk| plugged.get(disk));
    let entry = entry.and_then(|entry| disk?.table.partitions.get(entry));
    let lv = match &volume.origin {
        Origin::Logical { group, name, .. } => Some((group.clone(), name.clone())),
        _ => None,
    };
    VolumeIdentity {
        name,
        device: None,
        uuid: volume.identity.uuid.clone(),
        label: volume.identity.label.clone(),
        part_uuid: entry.and_then(|entry| entry.uuid.clone()),
        part_label: entry.map(|entry| entry.name.clone()).filter(|name| !name.is_empty()),
        lv,
        disk_serial: plugged.and_then(|disk| disk.serial.clone()),
        is_serial_seen_at_boot: true,
        disk_path: plugged.and_then(|disk| disk.path.clone()),
        disk_guid: disk.and_then(|disk| disk.table.guid).map(|guid| guid.to_string()),
        partition: entry.map(|entry| entry.number),
        is_home,
        nearness: Nearness::default(),
    }
}

/// The disks by their numbers, each with its device path.
fn in_order(
    blocks: &impl Blocks,
    home: Option<&HomeSectors>,
) -> (Vec<DiskNumber>, Vec<Disk>, Vec<DevicePath>) {
    let (paths, disks): (Vec<DevicePath>, Vec<Disk>) = blocks.disks().into_iter().unzip();
    let order = disk_order::of(&disks, &blocks.partitions(&paths), home.map(|home| &home.slots));
    let mut shown: Vec<_> = disks.into_iter().zip(paths).map(Some).collect();
    let take = |(number, index): (DiskNumber, usize)| {
        let (disk, path) = shown.get_mut(index)?.take()?;
        Some((number, disk, path))
    };
    let (mut numbers, mut disks, mut paths) = (Vec::new(), Vec::new(), Vec::new());
    for (number, disk, path) in order.into_iter().filter_map(take) {
        numbers.push(number);
        disks.push(disk);
        paths.push(path);
    }
    (numbers, disks, paths)
}

impl Volumes for BootMachine {
    fn identities(&self) -> &[VolumeIdentity] {
        &self.identities
    }

    fn seen(&self, volume: usize) -> Option<Seen<'_>> {
        let held = self.volumes.get(volume)?;
        Some(Seen {
            kind: held.volume.identity.kind,
            label: held.volume.identity.label.as_deref(),
            size: held.volume.device.as_ref().map_or(0, |device| device.size()),
            disk: held.disk.and_then(|disk| self.numbers.get(disk).copied()),
            is_extended_boot: held.is_extended_boot,
        })
    }

    fn disks_of(&self, volume: usize) -> Vec<DiskNumber> {
        let mut disks = Vec::new();
        self.add_disks_of(volume, MAX_DEPTH, &mut disks);
        disks
    }

    fn takes_part(&self, disk: DiskNumber) -> bool {
        let index = self.numbers.iter().position(|number| *number == disk);
        let home = self.home.and_then(|home| self.volumes.get(home)?.disk).or(self.home_disk);
        index == home || index.and_then(|index| self.disks.get(index)).is_none_or(|path| !path.is_pluggable())
    }

    fn system_ids(&self) -> Vec<(String, usize)> {
        let started = &self.systems().started;
        let mut ids: Vec<(String, usize)> = Vec::with_capacity(started.len());
        for system in started {
            let Some(root) = system.root else { continue };
            let base = ids::slug(&system.title, "system");
            let short = base.split('-').next().unwrap_or(&base);
            ids.push((ids::first_free(short, short, |id| ids.iter().any(|(own, _)| own == id)), root));
        }
        ids
    }

    fn fault(&self, volume: usize) -> Option<String> {
        let held = self.volumes.get(volume)?;
        let opened = || match held.opened()? {
            Ok(reader) => reader.list("/").err(),
            Err(error) => Some(error.clone()),
        };
        held.volume.fault.clone().or_else(opened).map(|error| error.to_string())
    }

    fn opened(&self, volume: usize) -> Option<&VolumeReader> {
        self.volumes.get(volume)?.opened()?.as_ref().ok()
    }

    fn machine_type(&self) -> MachineType {
        self.architecture
    }

    fn firmware(&self) -> Firmware {
        if cfg!(feature = "sectors") { self.firmware } else { Firmware::Uefi }
    }

    fn sector(&self, volume: usize) -> Option<(String, SectorCode)> {
        self.boot_sector_of(volume).map(|sector| (sector.name.clone(), sector.code))
    }

    fn first_sector(&self, volume: usize) -> Option<(String, FirstCode, bool)> {
        let disk = self.boot_sector_of(volume)?.disk;
        let code = (*self.firsts.get(disk)?)?;
        let number = self.numbers.get(disk)?;
        Some((format!("d{number}"), code, self.home_disk == Some(disk)))
    }

    fn options(&self) -> Vec<LoadOptionSeen> {
        load_options::seen(&self.boot, &AsFirmware::new(self), self)
    }
}

impl WithSystems for BootMachine {
    fn systems(&self) -> &Systems {
        self.systems.get_or_init(|| Systems::find(self))
    }
}

stands_around_a_menu!(BootMachine);
