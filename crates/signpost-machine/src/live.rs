//! The machine that we run on.

mod attach;
mod block;
pub mod described;
mod efivars;
pub mod host;
pub mod made;
pub mod mounted;
pub mod mounts;

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

pub use attach::{forget_device, put, read};
pub use block::{BlockNode, Nature};
use efivars::Efivars;
pub use host::{Host, HostKind};
use made::MadeNode;
use mounts::Mount;
use signpost_disk::block::SharedDevice;
use signpost_firmware::image::pe::MachineType;
use signpost_firmware::store::MemoryStore;
use signpost_firmware::variable::VariableStore;

use crate::image::ImageFile;
use crate::machine::{FirmwareKind, Machine, MachineDisk, Running};

/// The folder that everything of the running system is looked up below: `/`, but in tests.
#[derive(Clone, Debug)]
pub struct Root(PathBuf);

impl Root {
    fn at(&self, path: &str) -> PathBuf {
        self.0.join(path)
    }
}

/// A device's numbers, by which the kernel knows it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Numbers {
    /// The driver's.
    pub major: u32,
    /// The device's among those of its driver.
    pub minor: u32,
}

impl Numbers {
    /// Reads `259:2`.
    fn parse(text: &str) -> Option<Self> {
        let (major, minor) = text.trim().split_once(':')?;
        Some(Self { major: major.parse().ok()?, minor: minor.parse().ok()? })
    }

    fn of_device(number: u64) -> Self {
        Self { major: rustix::fs::major(number), minor: rustix::fs::minor(number) }
    }

    /// Those of a block device's file.
    fn of_file(path: &Path) -> Option<Self> {
        let found = fs::metadata(path).ok()?;
        found.file_type().is_block_device().then(|| Self::of_device(found.rdev()))
    }
}

/// What the running system knows of devices and mounts.
pub struct Devices {
    /// The mounts that can be reached, with the device beneath each.
    mounts: Vec<(Option<Numbers>, Mount)>,
    /// The device files of all block devices and partitions.
    files: BTreeMap<Numbers, PathBuf>,
    /// Numbers of what the device mapper made, by its names.
    mapped: BTreeMap<String, Numbers>,
    /// Numbers of arrays, by the digits of their identity.
    arrays: BTreeMap<String, Numbers>,
    /// The disk of each partition.
    disks: BTreeMap<Numbers, Numbers>,
    /// What was put together of others.
    made: Vec<MadeNode>,
}

impl Devices {
    fn read(root: &Root, nodes: &[BlockNode]) -> Self {
        let table = fs::read_to_string(root.at("proc/self/mountinfo")).unwrap_or_default();
        let table = mounts::parse(&table);
        let mounts = mounts::visible(&table).into_iter().map(|mount| (beneath(mount), mount.clone()));
        let mut files = BTreeMap::new();
        let mut mapped = BTreeMap::new();
        let mut disks = BTreeMap::new();
        let mut arrays = BTreeMap::new();
        for node in nodes {
            match &node.nature {
                Nature::MadeOf(name) | Nature::Opened(name) if node.name.starts_with("dm-") => {
                    files.insert(node.numbers, root.at("dev/mapper").join(name));
                    mapped.insert(name.clone(), node.numbers);
                }
                _ => {
                    files.insert(node.numbers, device_file(root, &node.name));
                }
            }
            if let Some(identity) = node.array_identity(root) {
                arrays.insert(digits(&identity), node.numbers);
            }
            for partition in &node.partitions {
                files.insert(partition.numbers, device_file(root, &partition.name));
                disks.insert(partition.numbers, node.numbers);
            }
        }
        let made = made::all(root, nodes);
        Self { mounts: mounts.collect(), files, mapped, arrays, disks, made }
    }

    /// What was put together of others.
    pub fn made(&self) -> &[MadeNode] {
        &self.made
    }

    /// What is mounted of a device.
    pub fn mounts_of(&self, numbers: Numbers) -> Vec<Mount> {
        let own = self.mounts.iter().filter(|(beneath, _)| *beneath == Some(numbers));
        own.map(|(_, mount)| mount.clone()).collect()
    }

    /// A device's file.
    pub fn file_of(&self, numbers: Numbers) -> Option<&Path> {
        self.files.get(&numbers).map(PathBuf::as_path)
    }

    /// The device of this name of the device mapper's.
    pub fn mapped(&self, name: &str) -> Option<Numbers> {
        self.mapped.get(name).copied()
    }

    /// The array of this identity.
    pub fn array(&self, identity: &str) -> Option<Numbers> {
        self.arrays.get(&digits(identity)).copied()
    }

    /// What is mounted at `/`, and the device on which that lies.
    fn at_root(&self) -> Option<(Option<Numbers>, &Mount)> {
        let root = self.mounts.iter().find(|(_, mount)| mount.point == Path::new("/"));
        root.map(|(numbers, mount)| (*numbers, mount))
    }

    /// The files of a volume's own device and of its disk's.
    fn around(&self, volume: Numbers) -> impl Iterator<Item = &Path> {
        let disk = self.disks.get(&volume).copied();
        std::iter::once(volume).chain(disk).filter_map(|numbers| self.file_of(numbers))
    }
}

/// The device beneath a mount: its own, or that of the file that was mounted, for file systems that make up theirs.
fn beneath(mount: &Mount) -> Option<Numbers> {
    if mount.device.major != 0 { Some(mount.device) } else { Numbers::of_file(Path::new(&mount.source)) }
}

/// An identity without the marks between its digits, which each tool sets in another way.
fn digits(identity: &str) -> String {
    identity.chars().filter(char::is_ascii_hexdigit).collect::<String>().to_lowercase()
}

/// The kernel writes a slash in a name as an exclamation mark.
fn device_file(root: &Root, name: &str) -> PathBuf {
    root.at("dev").join(name.replace('!', "/"))
}

/// Opens the machine that we run on, its `/proc`, `/sys`, `/dev` and `/run` looked up below a folder.
pub fn open(below: &Path) -> Machine {
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
    let name = block::text(&root.at("proc/sys/kernel/hostname")).filter(|name| name != "(none)");
    let name = name.unwrap_or_else(|| "This machine".into());
    Machine {
        name,
        firmware: if is_uefi { FirmwareKind::Uefi } else { FirmwareKind::Bios },
        architecture: architecture(root),
        secure_boot: None,
        running: running(&devices),
        variables,
        disks: disks.into_iter().map(|node| disk(&devices, node)).collect(),
        folder: PathBuf::from("/etc/signpost"),
        host: Some(host),
        devices: Some(devices),
    }
}

/// The volume that the running system has its root on.
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
        _ => error.to_string(),
    });
    MachineDisk {
        name: image.display().to_string(),
        bus: node.bus.clone(),
        is_removable: node.is_removable,
        model: node.model.clone(),
        serial: node.serial.clone(),
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
    let bits = block::text(&root.at("sys/firmware/efi/fw_platform_size"));
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
