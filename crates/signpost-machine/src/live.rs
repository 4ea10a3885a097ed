//! The machine that we run on.

pub(crate) mod attach;
pub(crate) mod block;
mod bus_path;
pub mod described;
pub(crate) mod devices;
mod efivars;
pub mod host;
mod line;
pub mod made;
pub mod mounted;
pub mod mounts;
pub(crate) mod numbers;
pub mod packages;

use std::path::{Path, PathBuf};
use std::sync::Arc;

pub use attach::{forget_device, put, read};
pub use block::{BlockNode, Nature};
pub use devices::Devices;
use efivars::Efivars;
pub use host::{Host, HostKind};
pub use numbers::Numbers;
use numbers::Root;
use signpost_disk::block::SharedDevice;
use signpost_facts::DiskNumber;
use signpost_firmware::image::pe::MachineType;
use signpost_firmware::store::MemoryStore;
use signpost_firmware::variable::VariableStore;

use crate::image::ImageFile;
use crate::machine::{FirmwareKind, Machine, MachineDisk, Running};
use crate::os_words::words;

/// Opens the machine that we run on, its `/proc`, `/sys`, `/dev` and `/run` looked up below a folder.
pub(crate) fn open(below: &Path) -> Machine {
    let root = &Root(below.to_path_buf());
    let nodes = block::read(root);
    let devices = Devices::read(root, &nodes);
    let host = Host::read(root, &devices, &nodes);
    let is_uefi = Efivars::is_uefi(root);
    let variables: Box<dyn VariableStore> =
        if is_uefi { Box::new(Efivars::new(root)) } else { Box::new(MemoryStore::default()) };
    let is_disk = |node: &&BlockNode| matches!(node.nature, Nature::Disk | Nature::Opened(_));
    // What an encrypted volume holds comes behind the disks that hold it.
    let mut disks: Vec<BlockNode> = nodes.iter().filter(is_disk).cloned().collect();
    disks.sort_by_key(|node| node.nature != Nature::Disk);
    // What the kernel calls a machine that nobody has named.
    let name = line::text(&root.at("proc/sys/kernel/hostname")).filter(|name| name != "(none)");
    let name = name.unwrap_or_else(|| "This machine".into());
    Machine {
        name,
        firmware: if is_uefi { FirmwareKind::Uefi } else { FirmwareKind::Bios },
        architecture: architecture(root),
        secure_boot: None,
        edd: if is_uefi { Vec::new() } else { edd(root) },
        running: Running { machine_id: machine_id(root), ..running(&devices) },
        variables,
        disks: disks.into_iter().map(|node| disk(&devices, node)).collect(),
        folder: PathBuf::from("/etc/signpost"),
        host: Some(host),
        devices: Some(devices),
    }
}

/// What the running system is called by (machine-id(5)), wherever its root lies.
fn machine_id(root: &Root) -> Option<String> {
    let files = ["etc/machine-id", "var/lib/dbus/machine-id"];
    files.into_iter().find_map(|file| line::text(&root.at(file)))
}

/// The volume that the running system has its root on.
/// The signatures of the disks in the order in which the firmware numbers them, from 80h on, as the kernel was told
/// (`/sys/firmware/edd`, where its module is there).
fn edd(root: &Root) -> Vec<u32> {
    const DRIVES: std::ops::Range<u32> = 0x80..0x90;
    let signature = |drive: u32| {
        let text = line::text(&root.at(&format!("sys/firmware/edd/int13_dev{drive:x}/mbr_signature")))?;
        u32::from_str_radix(text.trim().strip_prefix("0x")?, 16).ok()
    };
    DRIVES.map_while(signature).collect()
}

fn running(devices: &Devices) -> Running {
    let Some((device, mount)) = devices.at_root() else { return Running::default() };
    Running { device, root_path: Some(mount.root.clone()), ..Running::default() }
}

fn disk(devices: &Devices, node: BlockNode) -> MachineDisk {
    let image = devices.file_of(node.numbers).map(Path::to_path_buf).unwrap_or_default();
    // A volume that was mounted in the meantime was written to past what is remembered of its disk.
    forget_device(&image);
    let contents = ImageFile::open(&image).map_err(|error| match error.kind() {
        std::io::ErrorKind::PermissionDenied if rustix::process::geteuid().is_root() => {
            "the kernel does not let us read it".to_string()
        }
        std::io::ErrorKind::PermissionDenied => "only root may read it".to_string(),
        _ => words(&error),
    });
    MachineDisk {
        number: DiskNumber(0),
        name: image.display().to_string(),
        bus: node.bus.clone(),
        boot_place: None,
        is_removable: node.is_removable,
        model: node.model.clone(),
        serial: node.serial.clone(),
        path: node.path.clone(),
        sector_size: node.sector_size,
        image,
        contents: contents.map(|file| Arc::new(file) as SharedDevice),
        node: Some(node),
    }
}

/// Devices and mounts for loose disks that are block devices.
pub fn for_loose(disks: &mut [MachineDisk]) -> Option<Devices> {
    let root = Root(PathBuf::from("/"));
    let mut nodes = None;
    for disk in disks {
        let Some(numbers) = Numbers::of_file(&disk.image) else { continue };
        let nodes = nodes.get_or_insert_with(|| block::read(&root));
        disk.node = nodes.iter().find(|node| node.numbers == numbers).cloned();
        forget_device(&disk.image);
    }
    nodes.map(|nodes| Devices::read(&root, &nodes))
}

/// What the firmware runs: a kernel of 64 bits may run on firmware of 32.
fn architecture(root: &Root) -> MachineType {
    let bits = line::text(&root.at("sys/firmware/efi/fw_platform_size"));
    match std::env::consts::ARCH {
        "aarch64" => MachineType::AA64,
        "riscv64" => MachineType::RISCV64,
        "x86_64" | "x86" if bits.as_deref() == Some("32") => MachineType::IA32,
        "x86" if bits.is_none() => MachineType::IA32,
        _ => MachineType::X64,
    }
}

#[cfg(test)]
mod tests;
