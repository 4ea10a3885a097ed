//! The machine at boot: its volumes, numbered and named as at the desk.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec::Vec;
use core::cell::OnceCell;

use signpost_disk::block::SharedDevice;
use signpost_disk::file_system::{FileSystem, VolumeError};
use signpost_disk::inside;
use signpost_disk::open;
use signpost_disk::probe::Identity;
use signpost_disk::volumes::{Disk, Origin, Volume, Volumes};
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::device_path::{DevicePath, HardDrive};
use signpost_firmware::image::pe::{self, Pe};
use signpost_firmware::image::{self, linux};
use signpost_firmware::start::{locate, volume_path};
use signpost_menu::include::MAX_TEXT;
use signpost_menu::kernels::KernelHeader;
use signpost_menu::place::VolumeIdentity;
use signpost_menu::prompt::{Hands, Item, Names, Subvolume, VolumeFacts};
use signpost_menu::resolve::{LoadOptionSeen, Surroundings, UnifiedImage, Within};
use signpost_menu::text::shown;
use uefi::Handle;
use uefi::boot;
use uefi::proto::media::block::BlockIO;

use crate::as_firmware::AsFirmware;
use crate::block::FirmwareBlocks;
use crate::{shared, variables};

/// Bytes at the start of a program that hold its headers.
const PE_HEAD: usize = 64 * 1024;

type OpenedFileSystem = Option<Result<Box<dyn FileSystem>, VolumeError>>;

/// A volume at boot.
pub struct BootVolume {
    /// Its device path; that of what it lies on, where the firmware knows nothing of it.
    pub path: DevicePath,
    /// Where it is, in words.
    pub whereabouts: String,
    pub volume: Volume,
    fs: OnceCell<OpenedFileSystem>,
    /// Whether the firmware reads it.
    pub is_fat: bool,
    pub drive: Option<HardDrive>,
    /// Index of the disk that its partition is on.
    pub disk: Option<usize>,
    is_extended_boot: bool,
}

/// The machine at boot.
pub struct Machine {
    /// Its volumes.
    pub volumes: Vec<BootVolume>,
    identities: Vec<VolumeIdentity>,
    /// The home volume's index.
    pub home: Option<usize>,
    /// Each disk's device path.
    pub disks: Vec<DevicePath>,
    /// The boot variables.
    pub boot: BootVariables,
}

/// A partition as the firmware shows it.
struct Seen {
    handle: Handle,
    path: DevicePath,
    drive: HardDrive,
    /// The disk's index.
    disk: usize,
}

impl Machine {
    /// Looks at every disk that the firmware has found; `home` is the handle that we came from.
    pub fn look(home: Option<Handle>) -> Self {
        let (paths, disks, seen) = find();
        let partition = |disk: usize, entry: usize| {
            let start = disks.get(disk)?.table.partitions.get(entry)?.start;
            let size = sector_sizes(&disks, disk);
            seen.iter().find(|seen| seen.disk == disk && seen.drive.start.saturating_mul(size) == start)
        };
        let found = Volumes::find(&disks);
        let is_home = |volume: &Volume| match &volume.origin {
            Origin::Partition(disk, entry) => {
                partition(*disk, *entry).is_some_and(|seen| Some(seen.handle) == home)
            }
            _ => false,
        };
        let home = found.list.iter().position(is_home);
        let mut machine = Self {
            volumes: Vec::new(),
            identities: Vec::new(),
            home,
            disks: paths.clone(),
            boot: variables::boot_variables(),
        };
        for (index, volume) in found.list.into_iter().enumerate() {
            let seen = match &volume.origin {
                Origin::Partition(disk, entry) => partition(*disk, *entry),
                _ => None,
            };
            let beneath = match &volume.origin {
                Origin::Disk(disk) | Origin::Partition(disk, _) => paths.get(*disk).cloned(),
                Origin::Mirror { members, .. } | Origin::Logical { members, .. } => members
                    .first()
                    .and_then(|member| machine.volumes.get(*member))
                    .map(|member| member.path.clone()),
            };
            let path =
                seen.map(|seen| seen.path.clone()).or(beneath).unwrap_or_else(|| DevicePath::new(Vec::new()));
            let (disk, is_extended_boot) = match &volume.origin {
                Origin::Partition(disk, entry) => {
                    let entry = disks.get(*disk).and_then(|disk| disk.table.partitions.get(*entry));
                    (Some(*disk), entry.is_some_and(|entry| entry.purpose.is_extended_boot()))
                }
                _ => (None, false),
            };
            machine.identities.push(names(index, &volume, &disks, home));
            machine.volumes.push(BootVolume {
                path,
                whereabouts: volume.origin.words(&disks, |disk| disk.saturating_add(1)),
                is_fat: seen.is_some()
                    && volume.identity.firmware_refuses.is_none()
                    && (volume.identity.kind.is_fat() || volume.beneath_raid.is_some()),
                drive: seen.map(|seen| seen.drive.clone()),
                disk,
                is_extended_boot,
                volume,
                fs: OnceCell::new(),
            });
        }
        machine
    }

    /// A volume's file system.
    ///
    /// # Errors
    /// Why it cannot be read, in words.
    pub fn file_system(&self, volume: usize) -> Result<&dyn FileSystem, String> {
        let volume = self.volumes.get(volume).ok_or("there is no such volume")?;
        match (volume.opened(), &volume.volume.fault) {
            (Some(Ok(fs)), _) => Ok(fs.as_ref()),
            (Some(Err(error)), _) | (None, Some(error)) => Err(format!("{}: {error}", volume.whereabouts)),
            (None, None) => {
                Err(format!("{}: {} is not looked into", volume.whereabouts, volume.volume.identity.kind))
            }
        }
    }
}

impl BootVolume {
    fn opened(&self) -> &OpenedFileSystem {
        self.fs.get_or_init(|| {
            let kind = self.volume.beneath_raid.map(Identity::of_kind);
            let device = self.volume.device.as_ref()?;
            open::file_system(device, kind.as_ref().unwrap_or(&self.volume.identity))
        })
    }

    /// Why nothing of it can be read, as the survey at the desk finds it.
    fn fault(&self) -> Option<VolumeError> {
        let opened = || match self.opened() {
            Some(Ok(fs)) => fs.list("/").err(),
            Some(Err(error)) => Some(error.clone()),
            None => None,
        };
        self.volume.fault.clone().or_else(opened)
    }
}

impl Machine {
    /// The first answer of a volume, or of those inside an image file on it.
    fn first_in<T>(
        &self,
        within: Within<'_>,
        ask: impl Fn(&dyn FileSystem) -> Option<T>,
    ) -> Result<Option<T>, String> {
        let fs = self.file_system(within.volume)?;
        Ok(match within.image {
            None => ask(fs),
            Some(image) => inside(fs, image)?.iter().find_map(|fs| ask(fs.as_ref())),
        })
    }
}

/// The file systems inside an image file.
fn inside(fs: &dyn FileSystem, image: &str) -> Result<Vec<Box<dyn FileSystem>>, String> {
    let volumes = inside::volumes(fs, image).map_err(|error| format!("{image}: {error}"))?;
    Ok(volumes.into_iter().filter_map(|volume| volume.files).collect())
}

/// Every disk with a medium, its device path beside it, and every partition that the firmware shows.
fn find() -> (Vec<DevicePath>, Vec<Disk>, Vec<Seen>) {
    let (mut paths, mut disks, mut seen) = (Vec::new(), Vec::new(), Vec::new());
    let handles = boot::find_handles::<BlockIO>().unwrap_or_default();
    let with_path: Vec<(Handle, DevicePath)> =
        handles.into_iter().filter_map(|handle| Some((handle, device_path(handle)?))).collect();
    for (handle, path) in with_path.iter().filter(|(_, path)| path.hard_drive().is_none()) {
        let Ok(Some(device)) = FirmwareBlocks::open(*handle) else { continue };
        let sector_size = device.block_size();
        let device: SharedDevice = Arc::new(device);
        paths.push(path.clone());
        disks.push(Disk::look(&device, sector_size));
    }
    for (handle, path) in with_path {
        let Some(drive) = path.hard_drive() else { continue };
        let parent: Vec<_> =
            path.nodes().iter().take(path.nodes().len().saturating_sub(1)).cloned().collect();
        let parent = DevicePath::new(parent).encode();
        if let Some(disk) = paths.iter().position(|path| path.encode() == parent) {
            seen.push(Seen { handle, path, drive, disk });
        }
    }
    (paths, disks, seen)
}

/// Bytes in a sector of a disk.
fn sector_sizes(disks: &[Disk], disk: usize) -> u64 {
    disks.get(disk).map_or(512, |disk| u64::from(disk.sector_size))
}

/// A handle's device path.
pub fn device_path(handle: Handle) -> Option<DevicePath> {
    let path = shared::open::<uefi::proto::device_path::DevicePath>(handle).ok()?;
    DevicePath::decode(path.as_bytes()).ok().map(|(path, _)| path)
}

fn names(index: usize, volume: &Volume, disks: &[Disk], home: Option<usize>) -> VolumeIdentity {
    let (disk, entry) = match &volume.origin {
        Origin::Partition(disk, entry) => {
            let disk = disks.get(*disk);
            (disk, disk.and_then(|disk| disk.table.partitions.get(*entry)))
        }
        Origin::Disk(disk) => (disks.get(*disk), None),
        _ => (None, None),
    };
    let lv = match &volume.origin {
        Origin::Logical { group, name, .. } => Some((group.clone(), name.clone())),
        _ => None,
    };
    VolumeIdentity {
        number: index as u32 + 1,
        uuid: volume.identity.uuid.clone(),
        label: volume.identity.label.clone(),
        part_uuid: entry.and_then(|entry| entry.uuid.clone()),
        part_label: entry.map(|entry| entry.name.clone()).filter(|name| !name.is_empty()),
        lv,
        // Firmware shows no serial of a disk; a menu names such disks by other names where it can.
        disk_serial: None,
        disk_guid: disk.and_then(|disk| disk.table.guid).map(|guid| guid.to_string()),
        partition: entry.map(|entry| entry.number),
        is_home: home == Some(index),
    }
}

impl Hands for Machine {
    fn facts(&self, volume: usize) -> VolumeFacts {
        let Some(held) = self.volumes.get(volume) else { return VolumeFacts::default() };
        let identity = &held.volume.identity;
        VolumeFacts {
            kind: identity.kind.to_string(),
            label: identity.label.clone(),
            size: held.volume.device.as_ref().map_or(0, |device| device.size()),
            is_encrypted: identity.kind.is_encrypted(),
            fault: held.fault().as_ref().map(ToString::to_string),
        }
    }

    fn items(&self, volume: usize, folder: &str) -> Result<Option<Vec<Item>>, String> {
        let items = self.file_system(volume)?.list(folder).ok();
        let item =
            |item: signpost_disk::file_system::Item| Item { name: item.name, is_folder: item.is_folder };
        Ok(items.map(|items| items.into_iter().map(item).collect()))
    }

    fn inside(&self, volume: usize, image: &str) -> Result<Option<Names>, String> {
        let inside = inside::volumes(self.file_system(volume)?, image).map_err(|error| error.to_string())?;
        let first = inside.into_iter().find(|volume| volume.files.is_some());
        Ok(first.map(|volume| (volume.identity.label, volume.identity.uuid)))
    }

    fn subvolumes(&self, volume: usize) -> Vec<Subvolume> {
        let found = self.file_system(volume).ok().and_then(|fs| fs.subvolumes().ok()).unwrap_or_default();
        let found = found.into_iter();
        found.map(|found| Subvolume { path: found.path, is_default: found.is_default }).collect()
    }

    fn size(&self, within: Within<'_>, path: &str) -> Option<u64> {
        let size = |fs: &dyn FileSystem| {
            fs.metadata(path).ok().filter(|found| !found.is_folder).map(|found| found.size)
        };
        self.first_in(within, size).ok()?
    }

    fn head(&self, volume: usize, path: &str, most: usize) -> Result<Vec<u8>, String> {
        self.file_system(volume)?.read_head(path, most).map_err(|error| error.to_string())
    }

    fn kind_of_file(&self, head: &[u8]) -> Option<String> {
        image::in_words(head)
    }
}

impl Surroundings for Machine {
    fn volumes(&self) -> &[VolumeIdentity] {
        &self.identities
    }

    fn whereabouts(&self, volume: usize) -> String {
        self.volumes.get(volume).map(|volume| volume.whereabouts.clone()).unwrap_or_default()
    }

    fn files(&self, within: Within<'_>, folder: &str) -> Result<Option<Vec<String>>, String> {
        let list = |fs: &dyn FileSystem| {
            let items = fs.list(folder).ok()?;
            Some(items.into_iter().filter(|item| !item.is_folder).map(|item| item.name).collect())
        };
        self.first_in(within, list)
    }

    fn has_file(&self, within: Within<'_>, path: &str) -> Result<bool, String> {
        let has = |fs: &dyn FileSystem| fs.metadata(path).ok().filter(|found| !found.is_folder);
        Ok(self.first_in(within, has)?.is_some())
    }

    fn kernel_header(&self, within: Within<'_>, path: &str) -> Option<KernelHeader> {
        let header = |fs: &dyn FileSystem| {
            let head = fs.read_head(path, linux::HEAD_LEN).ok()?;
            linux::decode(&head).map(|kernel| KernelHeader { version: kernel.version })
        };
        self.first_in(within, header).ok()?
    }

    fn has_closed_volumes(&self) -> bool {
        self.volumes.iter().any(|volume| volume.volume.identity.kind.is_encrypted())
    }

    fn text(&self, volume: usize, path: &str) -> Option<String> {
        String::from_utf8(self.file_system(volume).ok()?.read(path, MAX_TEXT).ok()?).ok()
    }

    fn unified_image(&self, volume: usize, path: &str) -> Option<UnifiedImage> {
        let fs = self.file_system(volume).ok()?;
        let pe = Pe::decode(&fs.read_head(path, PE_HEAD).ok()?).ok()?;
        pe.section(".linux")?;
        let text = |name: &str| {
            let section = pe.section(name)?;
            let mut bytes = alloc::vec![0; (section.size as usize).min(MAX_TEXT)];
            let length = fs.read_at(path, u64::from(section.offset), &mut bytes).ok()?;
            bytes.truncate(length);
            Some(pe::text(&bytes))
        };
        Some(UnifiedImage { os_release: text(".osrel").unwrap_or_default(), version: text(".uname") })
    }

    fn include_from(&self, home: usize) -> Vec<usize> {
        let disk = self.volumes.get(home).and_then(|volume| volume.disk);
        let beside = |(index, volume): &(usize, &BootVolume)| {
            *index != home && volume.is_extended_boot && volume.disk == disk
        };
        let others = self.volumes.iter().enumerate().filter(beside).map(|(index, _)| index);
        core::iter::once(home).chain(others).collect()
    }

    fn architecture(&self) -> &str {
        if cfg!(target_arch = "aarch64") { "aa64" } else { "x64" }
    }

    fn load_options(&self) -> Vec<LoadOptionSeen> {
        let mut numbers = self.boot.order.clone();
        numbers.extend(self.boot.options.keys().filter(|number| !self.boot.order.contains(number)));
        let hardware = AsFirmware::new(self);
        let seen = |number: u16| {
            let option = self.boot.options.get(&number)?.decoded.as_ref().ok()?;
            let verdict = locate(option, &hardware);
            let target = verdict.target().map(|target| (target.partition, volume_path(&target.path)));
            let fault = verdict.starts_nothing().then(|| verdict.words(self));
            Some(LoadOptionSeen {
                number,
                label: shown(&option.description.to_string()).into_owned(),
                target,
                fault,
            })
        };
        numbers.into_iter().filter_map(seen).collect()
    }
}
