//! What the firmware shows of disks and partitions, as the machine at boot is made of it.

use alloc::string::String;
use alloc::sync::Arc;
use alloc::vec::Vec;

use signpost_disk::block::SharedDevice;
use signpost_disk::volumes::Disk;
use signpost_firmware::device_path::DevicePath;
use signpost_firmware::image::pe::MachineType;
use signpost_menu::resolve::Firmware;
use signpost_place::at_boot::{Blocks, BootMachine, ShownPartition};
use uefi::Handle;
use uefi::boot;
use uefi::proto::media::block::BlockIO;

use crate::block::FirmwareBlocks;
use crate::{serial, shared, variables};

/// The machine at boot.
pub type Machine = BootMachine;

#[cfg(target_arch = "x86_64")]
pub const OURS: MachineType = MachineType::X64;
#[cfg(target_arch = "aarch64")]
pub const OURS: MachineType = MachineType::AA64;

/// Looks at every disk that the firmware has found; `home` is the handle that we came from.
pub fn look(home: Option<Handle>) -> Machine {
    let handles = boot::find_handles::<BlockIO>().unwrap_or_default();
    let with_path = handles.into_iter().filter_map(|handle| Some((handle, device_path(handle)?))).collect();
    let disks = FirmwareDisks { with_path, home };
    BootMachine::look(&disks, &variables::FirmwareVariables, (Firmware::Uefi, OURS))
}

/// Handles of block devices, with their device paths.
struct FirmwareDisks {
    with_path: Vec<(Handle, DevicePath)>,
    home: Option<Handle>,
}

impl Blocks for FirmwareDisks {
    fn disks(&self) -> Vec<(DevicePath, Disk)> {
        let whole = self.with_path.iter().filter(|(_, path)| path.hard_drive().is_none());
        let disk = |(handle, path): &(Handle, DevicePath)| {
            let device = FirmwareBlocks::open(*handle).ok().flatten()?;
            let sector_size = device.block_size();
            let device: SharedDevice = Arc::new(device);
            Some((path.clone(), Disk::look(&device, sector_size)))
        };
        whole.filter_map(disk).collect()
    }

    fn serial(&self, disk: &DevicePath) -> Option<String> {
        let (handle, _) = self.with_path.iter().find(|(_, path)| path == disk)?;
        serial::of_disk(*handle)
    }

    fn partitions(&self, disks: &[DevicePath]) -> Vec<ShownPartition> {
        let shown = |(handle, path): &(Handle, DevicePath)| {
            let drive = path.hard_drive()?;
            let parent: Vec<_> =
                path.nodes().iter().take(path.nodes().len().saturating_sub(1)).cloned().collect();
            let parent = DevicePath::new(parent).encode();
            let disk = disks.iter().position(|path| path.encode() == parent)?;
            Some(ShownPartition { path: path.clone(), drive, disk, is_home: Some(*handle) == self.home })
        };
        self.with_path.iter().filter_map(shown).collect()
    }
}

/// A handle's device path.
fn device_path(handle: Handle) -> Option<DevicePath> {
    let path = shared::open::<uefi::proto::device_path::DevicePath>(handle).ok()?;
    DevicePath::decode(path.as_bytes()).ok().map(|(path, _)| path)
}
