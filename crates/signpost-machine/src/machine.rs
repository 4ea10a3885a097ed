//! The machine that is worked on: the one that we run on, or a bench.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use sha2::{Digest, Sha256};
use signpost_disk::block::{SharedDevice, Window, read_vec};
use signpost_disk::fat::{Change, FatVolume};
use signpost_disk::file_system::{FileSystem, VolumeError};
use signpost_disk::table::Table;
use signpost_facts::DiskNumber;
use signpost_facts::error::{Error, Result};
use signpost_facts::location::Location;
pub use signpost_facts::survey::FirmwareKind;
use signpost_firmware::image::pe::MachineType;
use signpost_firmware::variable::VariableStore;
use signpost_menu::place::VolumeRef;

use crate::clock::stamp;
use crate::image;
use crate::live::attach;
use crate::live::block::BlockNode;
use crate::live::devices::Devices;
use crate::live::host::{Host, HostKind};
use crate::live::numbers::Numbers;
use crate::ours::own_folder;

/// A machine, opened.
pub struct Machine {
    /// Its name.
    pub name: String,
    /// Its kind of firmware.
    pub firmware: FirmwareKind,
    /// Its processor, as programs name it.
    pub architecture: MachineType,
    /// Whether Secure Boot is on, as the machine's description says.
    pub secure_boot: Option<bool>,
    /// Its disks, in the order of their numbers.
    pub disks: Vec<MachineDisk>,
    /// The order in which BIOS firmware tries the disks, by the signatures of their tables, as the kernel was told by the
    /// firmware.
    pub edd: Vec<u32>,
    /// What the running system was started from.
    pub running: Running,
    /// Its firmware variables.
    pub variables: Box<dyn VariableStore>,
    /// The system that we run in, where it is the machine's own.
    pub host: Option<Host>,
    /// What that system knows of the disks, where they are devices and not images.
    pub devices: Option<Devices>,
    /// The folder of its menu file and of what people add to it.
    pub folder: PathBuf,
}

/// A disk of the machine.
#[derive(Clone)]
pub struct MachineDisk {
    /// Its number; 0 until the disks of the machine are numbered.
    pub number: DiskNumber,
    /// What it is called where there is no device name: its image.
    pub name: String,
    /// How it is connected.
    pub bus: Option<String>,
    /// Its place in the order in which BIOS firmware tries disks, where the machine's description says it.
    pub boot_place: Option<usize>,
    /// Whether it can be taken along: plugged in while the machine runs, or a medium in a drive.
    pub is_removable: bool,
    /// Its model.
    pub model: Option<String>,
    /// Its serial.
    pub serial: Option<String>,
    /// Where it is plugged in, as firmware's device paths write it, where that is known.
    pub path: Option<String>,
    /// Bytes in a sector.
    pub sector_size: u32,
    /// The file that is written to.
    pub image: PathBuf,
    /// Its contents, or why they cannot be read.
    pub contents: std::result::Result<SharedDevice, String>,
    /// The device that it is, where it is not an image.
    pub node: Option<BlockNode>,
}

impl MachineDisk {
    /// Bytes; of a disk that cannot be read, as the kernel says it.
    pub fn size(&self) -> u64 {
        let said = || self.node.as_ref().map_or(0, |node| node.size);
        self.contents.as_ref().map_or_else(|_| said(), |device| device.size())
    }

    /// The device of a partition, or of the whole disk.
    pub fn device(&self, partition: Option<u32>) -> Option<Numbers> {
        let node = self.node.as_ref()?;
        match partition {
            None => Some(node.numbers),
            Some(number) => {
                node.partitions.iter().find(|part| part.number == number).map(|part| part.numbers)
            }
        }
    }

    /// The device of what starts at an offset, in bytes.
    fn device_at(&self, start: u64) -> Option<Numbers> {
        let node = self.node.as_ref()?;
        let partition = node.partitions.iter().find(|part| part.start == start).map(|part| part.numbers);
        partition.or((start == 0).then_some(node.numbers))
    }
}

/// What the running system was started from, as far as the machine's description says it.
#[derive(Clone, Debug, Default)]
pub struct Running {
    /// The load option.
    pub entry: Option<u16>,
    /// The root volume.
    pub root: Option<VolumeRef>,
    /// The device that it lies on.
    pub device: Option<Numbers>,
    /// The folder or subvolume of it that is the root.
    pub root_path: Option<String>,
    /// The running system's machine-id, where it is the machine's own to say.
    pub machine_id: Option<String>,
    /// What its kernel was started with, where the machine's description says it; a live machine's host knows.
    pub command_line: Option<String>,
}

impl Machine {
    /// Whether the machine has UEFI variables, which most changes are made to.
    ///
    /// # Errors
    /// Where it has none: what it is instead, and what to do.
    pub fn need_uefi(&self) -> Result<()> {
        let is_container = self.host.as_ref().is_some_and(|host| host.kind == HostKind::Container);
        let is_guest = self.host.as_ref().is_some_and(|host| host.kind == HostKind::Guest);
        let why = match self.firmware {
            _ if is_container => {
                "this is a container, whose firmware is its host's; run this on the host, or on a bench with \
                 --machine BENCH"
            }
            _ if is_guest => {
                "this system runs within another one, which keeps the firmware for itself; start the PC into a \
                 system of its own or a rescue medium, and run this there"
            }
            FirmwareKind::Uefi => return Ok(()),
            FirmwareKind::Bios if self.host.is_some() => {
                "this system was started in BIOS mode, where UEFI variables are out of reach; where the PC has \
                 UEFI firmware, start it in UEFI mode and run this again; `signpost survey` works as it is"
            }
            FirmwareKind::Bios => {
                "BIOS firmware has no boot entries: it starts the code in a disk's first sector; `signpost sector list` shows that, \
                 `signpost apply` puts a menu there, `signpost rehearse` follows a start"
            }
            FirmwareKind::Unknown => {
                "loose disk images have no firmware; name the folder of a bench with \
                                      --machine BENCH"
            }
        };
        Err(Error::Unusable { place: self.name.clone(), why: why.into() })
    }

    /// The folder of the machine's own catalogue rows.
    pub fn catalogue_folder(&self) -> Option<PathBuf> {
        let folder = self.folder.join("catalogue");
        (self.firmware != FirmwareKind::Unknown && folder.is_dir()).then_some(folder)
    }

    /// The folder of the machine's own recipes.
    pub fn recipes_folder(&self) -> Option<PathBuf> {
        let folder = self.folder.join("recipes");
        (self.firmware != FirmwareKind::Unknown && folder.is_dir()).then_some(folder)
    }

    /// Where the last survey is kept; `None` for loose disks.
    pub fn survey_record(&self) -> Option<PathBuf> {
        (self.firmware != FirmwareKind::Unknown).then(|| self.state_folder().join("last-survey.json"))
    }

    /// Where it is kept what the disks held when they were last seen; `None` for loose disks.
    pub fn known_record(&self) -> Option<PathBuf> {
        (self.firmware != FirmwareKind::Unknown).then(|| self.state_folder().join("known-disks.json"))
    }

    /// Where what draft wrote last into a menu file is kept.
    pub fn draft_record(&self, menu_file: &Path) -> PathBuf {
        let name = if menu_file == self.menu_file() {
            "last-draft.json".to_string()
        } else {
            let path = std::path::absolute(menu_file).unwrap_or_else(|_| menu_file.to_path_buf());
            let told_apart: String = sha256(path.as_os_str().as_encoded_bytes()).chars().take(8).collect();
            format!("last-draft-{told_apart}.json")
        };
        self.state_folder().join(name)
    }

    /// Where it is kept what `draft` has taken in of what was decided at boot; `None` for loose disks.
    pub fn taken_record(&self) -> Option<PathBuf> {
        (self.firmware != FirmwareKind::Unknown).then(|| self.state_folder().join("taken-at-boot.json"))
    }

    /// Where it is kept what was applied last, for holding it.
    pub fn held_record(&self) -> PathBuf {
        self.state_folder().join("held.json")
    }

    /// Where it is noted what had to be corrected.
    pub fn hold_log(&self) -> PathBuf {
        self.state_folder().join("hold-log.json")
    }

    /// What tells this start of the running system from others; `None` on a bench.
    pub fn boot_id(&self) -> Option<String> {
        self.host.as_ref()?;
        let id = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").ok()?;
        Some(id.trim().to_string())
    }

    /// Where what we note for ourselves is kept.
    fn state_folder(&self) -> &Path {
        if self.host.is_some() { Path::new("/var/lib/signpost") } else { &self.folder }
    }

    /// Whether a disk is the medium that the running system was started from.
    pub fn is_medium(&self, disk: &MachineDisk) -> bool {
        let numbers = disk.node.as_ref().map(|node| node.numbers);
        self.host.as_ref().is_some_and(|host| numbers.is_some_and(|numbers| host.medium.contains(&numbers)))
    }

    /// Whether changes may be made by whoever runs us.
    ///
    /// # Errors
    /// Where that takes root.
    pub fn need_root(&self) -> Result<()> {
        match &self.host {
            Some(host) if !host.is_root => Err(Error::Unusable {
                place: "this machine".into(),
                why: "changing how it starts takes root; run the same command as root".into(),
            }),
            _ => Ok(()),
        }
    }

    /// The machine's own menu file.
    pub fn menu_file(&self) -> PathBuf {
        self.folder.join("menu.toml")
    }

    /// The machine's own policy, which may not be there; `None` for loose disks.
    pub fn policy_file(&self) -> Option<PathBuf> {
        (self.firmware != FirmwareKind::Unknown).then(|| self.folder.join("policy.toml"))
    }

    /// The folder of its history.
    pub fn history_folder(&self) -> PathBuf {
        self.state_folder().join("history")
    }

    /// The disk of this number.
    pub fn disk(&self, number: DiskNumber) -> Option<&MachineDisk> {
        self.disks.iter().find(|disk| disk.number == number)
    }

    /// Takes a disk out, by its number, as if it were not there; whether there was one.
    pub fn take_out(&mut self, number: DiskNumber) -> bool {
        let disk = self.disks.iter_mut().find(|disk| disk.number == number);
        // What the running system knows of it is left out too.
        disk.map(|disk| (disk.contents, disk.node) = (Err("left out for this rehearsal".into()), None))
            .is_some()
    }

    /// Puts or removes a file on a FAT volume, so that a cut leaves a volume that reads.
    ///
    /// # Errors
    /// Where the volume cannot be read or written, or has no room.
    pub fn write_file(&self, location: Location, path: &str, bytes: Option<&[u8]>) -> Result<()> {
        let place = |why: String| Error::Unusable { place: format!("disk {}, {path}", location.disk), why };
        let disk = self.disk(location.disk).ok_or_else(|| place("there is no such disk".into()))?;
        if let Some(devices) = self.devices.as_ref().filter(|_| disk.node.is_some()) {
            let volume = disk.device_at(location.start);
            let volume = volume.ok_or_else(|| place("the kernel knows no such partition".into()))?;
            return attach::put(devices, volume, path, bytes).map_err(place);
        }
        let change = |path: &str, change| {
            let volume = self.fat_volume(location).map_err(place)?;
            let writes = volume.change(path, change, stamp()).map_err(|error| place(error.to_string()))?;
            image::put(&disk.image, location.start, &writes).map_err(|error| place(error.to_string()))
        };
        change(path, bytes.map_or(Change::Remove, Change::Put))?;
        // A folder that we made goes with the last file in it.
        own_folder(path).filter(|_| bytes.is_none()).map_or(Ok(()), |folder| change(folder, Change::Remove))
    }

    /// A file of a FAT volume as it is now, of at most `most` bytes; `None` where it is not there.
    ///
    /// # Errors
    /// Where the volume cannot be read.
    pub fn read_file(&self, location: Location, path: &str, most: usize) -> Result<Option<Vec<u8>>> {
        let place = |why: String| Error::Unusable { place: format!("disk {}, {path}", location.disk), why };
        if let Some((devices, volume)) = self.mounted_device(location)
            && let Some(found) = attach::read(devices, volume, path, most).map_err(place)?
        {
            return Ok(found);
        }
        let volume = self.fat_volume(location).map_err(place)?;
        match volume.read(path, most) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(VolumeError::NotFound(_)) => Ok(None),
            Err(error) => Err(place(error.to_string())),
        }
    }

    /// Writes sectors of a partition table, on the one disk that this tells from others; `offset` is in bytes.
    ///
    /// # Errors
    /// Where the disk is not here, or cannot be written.
    pub fn write_sectors(&self, identity: &str, offset: u64, bytes: &[u8]) -> Result<()> {
        let disk = self.disk_of(identity)?;
        image::put(&disk.image, offset, &[(0, bytes.to_vec())])
            .map_err(|error| Error::unusable(disk.image.display(), error))
    }

    /// The same sectors as they are now.
    ///
    /// # Errors
    /// Where the disk is not here, or cannot be read.
    pub fn read_sectors(&self, identity: &str, offset: u64, length: usize) -> Result<Vec<u8>> {
        let disk = self.disk_of(identity)?;
        // Past what is remembered of it: it is the disk that is read back.
        if disk.node.is_some() {
            attach::forget_device(&disk.image);
        }
        let device = image::ImageFile::open(&disk.image)
            .map_err(|error| Error::unusable(disk.image.display(), error))?;
        read_vec(&device, offset, length).map_err(|error| Error::unusable(disk.image.display(), error))
    }

    /// The disk of this serial, or of this identity of its table.
    fn disk_of(&self, identity: &str) -> Result<&MachineDisk> {
        let is_it = |disk: &&MachineDisk| {
            let by_table = || {
                let device = disk.contents.as_ref().ok()?;
                Table::read(&**device, disk.sector_size).identity()
            };
            match &disk.serial {
                Some(serial) => serial == identity,
                None => by_table().as_deref() == Some(identity),
            }
        };
        let mut fitting = self.disks.iter().filter(is_it);
        let none = || Error::unusable(identity, "there is no such disk");
        let disk = fitting.next().ok_or_else(none)?;
        if fitting.next().is_some() {
            return Err(Error::unusable(identity, "two disks are called so; unplug the copy"));
        }
        Ok(disk)
    }

    /// The device of a volume that may be mounted.
    fn mounted_device(&self, location: Location) -> Option<(&Devices, Numbers)> {
        let device = self.disk(location.disk)?.device_at(location.start)?;
        Some((self.devices.as_ref()?, device))
    }

    /// The FAT volume at a place; the error says what stands against it.
    fn fat_volume(&self, location: Location) -> std::result::Result<FatVolume, String> {
        let disk = self.disk(location.disk).ok_or("there is no such disk")?;
        let device = disk.contents.clone()?;
        let window = Window::new(device, location.start, location.length);
        FatVolume::open(Arc::new(window)).map_err(|error| error.to_string())
    }

    /// The boot variables as they are now, what the machine's description adds included: where the
    /// variables say it, they win.
    ///
    /// # Errors
    /// Where the store cannot be read.
    pub fn contents(&self) -> Result<signpost_firmware::variable::Contents> {
        self.variables.read_all().map_err(Error::from)
    }
}

/// SHA-256 in hexadecimal.
pub fn sha256(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}
