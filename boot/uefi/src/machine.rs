//! The machine at boot: its volumes, numbered and named as at the desk.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec::Vec;

use signpost_disk::block::SharedDevice;
use signpost_disk::file_system::{self, FileSystem, VolumeError};
use signpost_disk::gpt::Gpt;
use signpost_disk::numbering::{DiskIdentity, Numbered, order};
use signpost_disk::probe::{Identity, identify};
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::device_path::{DevicePath, HardDrive, PartitionSignature};
use signpost_menu::place::VolumeIdentity;
use signpost_menu::resolve::{LoadOptionSeen, Surroundings};
use uefi::Handle;
use uefi::boot::{self, OpenProtocolAttributes, OpenProtocolParams};
use uefi::proto::media::block::BlockIO;

use crate::block::FirmwareBlocks;
use crate::variables;

/// A volume at boot.
pub struct BootVolume {
    /// Its device path.
    pub path: DevicePath,
    /// Where it is, in words.
    whereabouts: String,
    fs: Option<Result<Box<dyn FileSystem>, VolumeError>>,
    kind: String,
    /// Whether the firmware reads it.
    pub is_fat: bool,
    drive: HardDrive,
}

/// The machine at boot.
pub struct Machine {
    /// Its volumes.
    pub volumes: Vec<BootVolume>,
    identities: Vec<VolumeIdentity>,
    /// The home volume's index.
    pub home: Option<usize>,
    /// The boot variables.
    pub boot: BootVariables,
}

struct Found {
    handle: Handle,
    path: DevicePath,
    device: SharedDevice,
    drive: HardDrive,
    disk: usize,
}

struct Disk {
    /// The device path of the disk, encoded.
    path: Vec<u8>,
    gpt: Option<Gpt>,
}

impl Machine {
    /// Looks at every partition that the firmware has found; `home` is the handle that we came from.
    pub fn look(home: Option<Handle>) -> Self {
        let (disks, found) = find();
        let home_disk = found.iter().find(|volume| Some(volume.handle) == home).map(|volume| volume.disk);
        let numbered: Vec<Numbered> = found
            .iter()
            .map(|volume| Numbered {
                disk: volume.disk,
                identity: match &disks[volume.disk].gpt {
                    Some(gpt) => DiskIdentity::gpt(gpt.disk_guid),
                    None => DiskIdentity::Place(volume.disk),
                },
                start: volume.drive.start,
            })
            .collect();
        let mut machine = Self {
            volumes: Vec::new(),
            identities: Vec::new(),
            home: None,
            boot: variables::boot_variables(),
        };
        for (number, index) in (1..).zip(order(&numbered, home_disk)) {
            let Some(volume) = found.get(index) else { continue };
            let (identity, _) = identify(volume.device.as_ref());
            let is_home = Some(volume.handle) == home;
            if is_home {
                machine.home = Some(machine.volumes.len());
            }
            machine.identities.push(names(number, volume, &disks[volume.disk], &identity, is_home));
            machine.volumes.push(BootVolume {
                path: volume.path.clone(),
                whereabouts: format!("disk {} partition {}", volume.disk + 1, volume.drive.number),
                fs: file_system::open(&volume.device, &identity),
                kind: identity.kind.to_string(),
                is_fat: identity.kind.is_fat(),
                drive: volume.drive.clone(),
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
        match &volume.fs {
            Some(Ok(fs)) => Ok(fs.as_ref()),
            Some(Err(error)) => Err(format!("{} cannot be read: {error}", volume.whereabouts)),
            None => Err(format!("{} cannot be read: {} is not looked into", volume.whereabouts, volume.kind)),
        }
    }
}

/// Every disk and partition with a medium.
fn find() -> (Vec<Disk>, Vec<Found>) {
    let mut disks: Vec<Disk> = Vec::new();
    let mut found = Vec::new();
    let handles = boot::find_handles::<BlockIO>().unwrap_or_default();
    let opened: Vec<(Handle, DevicePath, SharedDevice)> = handles
        .into_iter()
        .filter_map(|handle| {
            let device = FirmwareBlocks::open(handle).ok().flatten()?;
            Some((handle, device_path(handle)?, Arc::new(device) as SharedDevice))
        })
        .collect();
    for (_, path, device) in opened.iter().filter(|(_, path, _)| path.hard_drive().is_none()) {
        disks.push(Disk { path: path.encode(), gpt: Gpt::read(device.as_ref(), 512).ok() });
    }
    for (handle, path, device) in opened {
        let Some(drive) = path.hard_drive() else { continue };
        let parent = DevicePath::new(
            path.nodes().iter().take(path.nodes().len().saturating_sub(1)).cloned().collect(),
        );
        let Some(disk) = disks.iter().position(|disk| disk.path == parent.encode()) else { continue };
        found.push(Found { handle, path, device, drive, disk });
    }
    (disks, found)
}

/// A handle's device path.
pub fn device_path(handle: Handle) -> Option<DevicePath> {
    let params = OpenProtocolParams { handle, agent: boot::image_handle(), controller: None };
    // SAFETY: the path is only read, and copied before anything else runs.
    let path = unsafe {
        boot::open_protocol::<uefi::proto::device_path::DevicePath>(
            params,
            OpenProtocolAttributes::GetProtocol,
        )
        .ok()?
    };
    DevicePath::decode(path.as_bytes()).ok().map(|(path, _)| path)
}

fn names(number: u32, volume: &Found, disk: &Disk, identity: &Identity, is_home: bool) -> VolumeIdentity {
    let entry =
        disk.gpt.as_ref().and_then(|gpt| gpt.partitions.iter().find(|p| p.number == volume.drive.number));
    VolumeIdentity {
        number,
        uuid: identity.uuid.clone(),
        label: identity.label.clone(),
        part_uuid: match volume.drive.signature {
            PartitionSignature::Guid(guid) => Some(guid.to_string()),
            _ => None,
        },
        part_label: entry.map(|entry| entry.name.clone()).filter(|name| !name.is_empty()),
        lv: None,
        // Firmware shows no serial of a disk; a menu names such disks by other names where it can.
        disk_serial: None,
        disk_guid: disk.gpt.as_ref().map(|gpt| gpt.disk_guid.to_string()),
        partition: Some(volume.drive.number),
        is_home,
    }
}

impl Surroundings for Machine {
    fn volumes(&self) -> &[VolumeIdentity] {
        &self.identities
    }

    fn whereabouts(&self, volume: usize) -> String {
        self.volumes.get(volume).map(|volume| volume.whereabouts.clone()).unwrap_or_default()
    }

    fn files(&self, volume: usize, folder: &str) -> Result<Option<Vec<String>>, String> {
        let items = self.file_system(volume)?.list(folder);
        Ok(items
            .ok()
            .map(|items| items.into_iter().filter(|item| !item.is_folder).map(|item| item.name).collect()))
    }

    fn has_file(&self, volume: usize, path: &str) -> Result<bool, String> {
        Ok(self.file_system(volume)?.metadata(path).is_ok_and(|found| !found.is_folder))
    }

    fn load_options(&self) -> Vec<LoadOptionSeen> {
        let mut numbers = self.boot.order.clone();
        numbers.extend(self.boot.options.keys().filter(|number| !self.boot.order.contains(number)));
        let seen = |number: u16| {
            let option = self.boot.options.get(&number)?.decoded.as_ref().ok()?;
            let target = option.path.hard_drive().zip(option.path.file()).and_then(|(drive, file)| {
                let same =
                    |v: &BootVolume| (v.drive.number, v.drive.signature) == (drive.number, drive.signature);
                let volume = self.volumes.iter().position(same)?;
                Some((volume, format!("/{}", file.trim_start_matches('\\').replace('\\', "/"))))
            });
            Some(LoadOptionSeen { number, label: option.description.to_string(), target })
        };
        numbers.into_iter().filter_map(seen).collect()
    }
}
