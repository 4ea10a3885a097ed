//! What the firmware shows of disks, as the machine at boot is made of it.

use alloc::string::String;
use alloc::sync::Arc;
use alloc::vec::Vec;

use signpost_disk::block::SharedDevice;
use signpost_disk::volumes::Disk;
use signpost_firmware::bios::SECTOR;
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::device_path::{DevicePath, Node};
use signpost_firmware::image::pe::MachineType;
use signpost_menu::resolve::Firmware;
use signpost_place::at_boot::{Blocks, BootMachine, HomeSectors, ShownPartition, Variables};

use crate::disk::{self, Drive};
use crate::home::Home;

/// The machine at boot.
pub type Machine = BootMachine;

/// BIOS Boot Specification Device Path (UEFI 2.10, 10.3.6), where BIOS firmware's own numbers stand in for what UEFI's would say.
const BOOT_SPECIFICATION: u8 = 5;

/// Looks at every disk that the firmware has found; `home` is what we came from.
pub fn look(home: Option<&Home>) -> Machine {
    let disks = FirmwareDisks { drives: disk::all(), home };
    BootMachine::look(&disks, &NoVariables, (Firmware::Bios, MachineType::X64))
}

/// The drive that a device path of ours stands for.
pub fn drive_of(path: &DevicePath) -> Option<Drive> {
    Drive::open(*path.nodes().first()?.data.first()?)
}

fn path_of(drive: u8) -> DevicePath {
    DevicePath::new(Vec::from([Node { kind: BOOT_SPECIFICATION, sub_kind: 1, data: Vec::from([drive]) }]))
}

struct FirmwareDisks<'a> {
    drives: Vec<Drive>,
    home: Option<&'a Home>,
}

impl Blocks for FirmwareDisks<'_> {
    fn disks(&self) -> Vec<(DevicePath, Disk)> {
        let disk = |drive: &Drive| {
            let device: SharedDevice = Arc::new(*drive);
            (path_of(drive.number), Disk::look(&device, SECTOR as u32))
        };
        self.drives.iter().map(disk).collect()
    }

    /// BIOS firmware passes no commands on to drives.
    fn serial(&self, _: &DevicePath) -> Option<String> {
        None
    }

    fn partitions(&self, _: &[DevicePath]) -> Vec<ShownPartition> {
        Vec::new()
    }

    fn boot_sector(&self, disk: &DevicePath, start: u64) -> Option<[u8; SECTOR]> {
        let number = disk.nodes().first()?.data.first()?;
        self.drives.iter().find(|drive| drive.number == *number)?.sector(start / SECTOR as u64)
    }

    fn home_sectors(&self) -> Option<HomeSectors> {
        let home = self.home?;
        Some(HomeSectors { disk: path_of(home.drive.number), slots: home.slots() })
    }
}

/// BIOS firmware keeps none.
struct NoVariables;

impl Variables for NoVariables {
    fn boot_variables(&self) -> BootVariables {
        BootVariables::default()
    }
}
