//! What kind of system we run in: one of the PC's own, a rescue medium, a container.

use std::collections::BTreeSet;
use std::path::Path;

use super::block::{BlockNode, Nature};
use super::devices::Devices;
use super::line;
use super::mounts;
use super::numbers::{Numbers, Root};

/// File systems that a rescue medium's root lies on, and no installed system's.
const RESCUE_ROOTS: [&str; 9] =
    ["aufs", "erofs", "iso9660", "overlay", "ramfs", "rootfs", "squashfs", "tmpfs", "udf"];
/// File systems that a medium keeps its root in.
const MEDIUM_KINDS: [&str; 4] = ["erofs", "iso9660", "squashfs", "udf"];

/// The running system as a place to work from.
#[derive(Clone, Debug, Default)]
pub struct Host {
    /// Its kind.
    pub kind: HostKind,
    /// What the kernel was started with.
    pub command_line: Option<String>,
    /// Whether it runs as root.
    pub is_root: bool,
    /// What looks like a disk and is none of the machine's, each with the reason.
    pub left_out: Vec<(Numbers, String)>,
    /// Disks of the medium that it was started from.
    pub medium: BTreeSet<Numbers>,
}

/// Kinds of running system.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum HostKind {
    /// It is installed on the machine.
    #[default]
    Installed,
    /// It was started from a medium of its own, or lies in memory.
    Rescue,
    /// It shares its kernel with another system.
    Container,
    /// It runs within another system that keeps the machine for itself.
    Guest,
}

impl Host {
    /// What the system below a folder is.
    pub(super) fn read(root: &Root, devices: &Devices, nodes: &[BlockNode]) -> Self {
        let kind = kind(root, devices);
        let left_out = nodes.iter().filter_map(|node| {
            // A loop device without a file is only a name.
            let is_empty = node.nature == Nature::Empty;
            let words = node.nature.words().filter(|_| !is_empty)?;
            Some((node.numbers, format!("{} ({words})", node.name)))
        });
        Self {
            kind,
            command_line: line::text(&root.at("proc/cmdline")),
            is_root: rustix::process::geteuid().is_root(),
            left_out: left_out.collect(),
            medium: if kind == HostKind::Rescue { medium(devices, nodes) } else { BTreeSet::new() },
        }
    }
}

fn kind(root: &Root, devices: &Devices) -> HostKind {
    let marks = ["run/systemd/container", ".dockerenv", "run/.containerenv"];
    let is_container = marks.iter().any(|mark| root.at(mark).exists());
    // Subsystems of a closed desktop system name their maker in the kernel's release.
    let release = line::text(&root.at("proc/sys/kernel/osrelease")).unwrap_or_default().to_lowercase();
    let is_guest = ["microsoft", "wsl"].iter().any(|word| release.contains(word));
    match devices.at_root() {
        _ if is_container => HostKind::Container,
        _ if is_guest => HostKind::Guest,
        Some((_, mount)) if RESCUE_ROOTS.contains(&mount.kind.as_str()) => HostKind::Rescue,
        _ => HostKind::Installed,
    }
}

/// The disks that hold the medium: what is mounted of it directly, or by way of a file that is taken for a disk.
fn medium(devices: &Devices, nodes: &[BlockNode]) -> BTreeSet<Numbers> {
    let table: Vec<&mounts::Mount> = devices.mounts.iter().map(|(_, mount)| mount).collect();
    let device_of = |file: &Path| {
        let holding = mounts::holding(&table, file)?;
        devices.mounts.iter().find(|(_, mount)| mount == holding).and_then(|(numbers, _)| *numbers)
    };
    let of_medium = devices.mounts.iter().filter(|(_, mount)| MEDIUM_KINDS.contains(&mount.kind.as_str()));
    let beneath: BTreeSet<Numbers> = of_medium
        .filter_map(|(numbers, _)| {
            let node = nodes.iter().find(|node| Some(node.numbers) == *numbers);
            match node.map(|node| &node.nature) {
                Some(Nature::File(file)) => device_of(file),
                _ => *numbers,
            }
        })
        .collect();
    let holds = |node: &&BlockNode| {
        beneath.contains(&node.numbers) || node.partitions.iter().any(|part| beneath.contains(&part.numbers))
    };
    nodes.iter().filter(holds).map(|node| node.numbers).collect()
}
