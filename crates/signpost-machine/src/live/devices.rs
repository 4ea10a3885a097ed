//! What the running system knows of devices and mounts.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use super::block::{BlockNode, Nature};
use super::made::{self, MadeNode};
use super::mounts::{self, Mount};
use super::numbers::{Numbers, Root, digits};

/// What the running system knows of devices and mounts.
pub struct Devices {
    /// The mounts that can be reached, with the device beneath each.
    pub(super) mounts: Vec<(Option<Numbers>, Mount)>,
    /// The device files of all block devices and partitions.
    files: BTreeMap<Numbers, PathBuf>,
    /// Numbers of what the device mapper made, by its names.
    mapped: BTreeMap<String, Numbers>,
    /// Numbers of arrays, by the digits of their identity.
    arrays: BTreeMap<String, Numbers>,
    /// Numbers of arrays, by those of the devices beneath them.
    over: BTreeMap<Numbers, Numbers>,
    /// Numbers of partitions in what others make up, by the whole's and their own.
    within: BTreeMap<(Numbers, u32), Numbers>,
    /// The disk of each partition.
    disks: BTreeMap<Numbers, Numbers>,
    /// What was put together of others.
    made: Vec<MadeNode>,
    /// What the kernel swaps to.
    swaps: BTreeSet<Numbers>,
    /// The names of the devices that stand on others, by the numbers of these.
    holders: BTreeMap<Numbers, String>,
}

impl Devices {
    pub(super) fn read(root: &Root, nodes: &[BlockNode]) -> Self {
        let table = fs::read_to_string(root.at("proc/self/mountinfo")).unwrap_or_default();
        let table = mounts::parse(&table);
        let mounts = mounts::visible(&table).into_iter().map(|mount| (beneath(mount), mount.clone()));
        let mut files = BTreeMap::new();
        let mut mapped = BTreeMap::new();
        let mut disks = BTreeMap::new();
        let mut arrays = BTreeMap::new();
        let mut over = BTreeMap::new();
        let mut within = BTreeMap::new();
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
            if matches!(node.nature, Nature::MadeOf(_)) {
                over.extend(made::members(root, node).into_iter().map(|member| (member, node.numbers)));
                let parts = node.partitions.iter();
                within.extend(parts.map(|part| ((node.numbers, part.number), part.numbers)));
            }
            for partition in &node.partitions {
                files.insert(partition.numbers, device_file(root, &partition.name));
                disks.insert(partition.numbers, node.numbers);
            }
        }
        let made = made::all(root, nodes);
        let (swaps, holders) = (swaps(root, nodes), holders(root, nodes));
        Self { mounts: mounts.collect(), files, mapped, arrays, over, within, disks, made, swaps, holders }
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

    /// Whether the kernel swaps to a device.
    pub fn is_swap(&self, numbers: Numbers) -> bool {
        self.swaps.contains(&numbers)
    }

    /// The name of the device that stands on this one, the first where there are several.
    pub fn holder(&self, numbers: Numbers) -> Option<&str> {
        self.holders.get(&numbers).map(String::as_str)
    }

    /// A device's file.
    pub fn file_of(&self, numbers: Numbers) -> Option<&Path> {
        self.files.get(&numbers).map(PathBuf::as_path)
    }

    /// The device of this name of the device mapper's.
    pub fn mapped(&self, name: &str) -> Option<Numbers> {
        self.mapped.get(name).copied()
    }

    /// The array of this identity, or a partition in it.
    pub fn array(&self, identity: &str, partition: Option<u32>) -> Option<Numbers> {
        self.part_of(self.arrays.get(&digits(identity)).copied()?, partition)
    }

    /// The array that was made of this disk and others, or a partition in it.
    pub fn array_over(&self, disk: Numbers, partition: Option<u32>) -> Option<Numbers> {
        self.part_of(self.over.get(&disk).copied()?, partition)
    }

    fn part_of(&self, whole: Numbers, partition: Option<u32>) -> Option<Numbers> {
        partition.map_or(Some(whole), |number| self.within.get(&(whole, number)).copied())
    }

    /// What is mounted at `/`, and the device on which that lies.
    pub(super) fn at_root(&self) -> Option<(Option<Numbers>, &Mount)> {
        let root = self.mounts.iter().find(|(_, mount)| mount.point == Path::new("/"));
        root.map(|(numbers, mount)| (*numbers, mount))
    }

    /// The files of a volume's own device and of its disk's.
    pub(super) fn around(&self, volume: Numbers) -> impl Iterator<Item = &Path> {
        let disk = self.disks.get(&volume).copied();
        std::iter::once(volume).chain(disk).filter_map(|numbers| self.file_of(numbers))
    }
}

/// The device beneath a mount: its own, or that of the file that was mounted, for file systems that make up theirs.
fn beneath(mount: &Mount) -> Option<Numbers> {
    if mount.device.major != 0 { Some(mount.device) } else { Numbers::of_file(Path::new(&mount.source)) }
}

/// All devices with their kernel's names; of a partition, its folder in `/sys/block` stands below its disk's.
fn named(nodes: &[BlockNode]) -> impl Iterator<Item = (&str, String, Numbers)> {
    nodes.iter().flat_map(|node| {
        let own = (node.name.as_str(), node.name.clone(), node.numbers);
        let parts = node.partitions.iter();
        let parts =
            parts.map(|part| (part.name.as_str(), format!("{}/{}", node.name, part.name), part.numbers));
        std::iter::once(own).chain(parts)
    })
}

/// What the kernel swaps to (`/proc/swaps`, proc(5)): it names devices by its own names of them.
fn swaps(root: &Root, nodes: &[BlockNode]) -> BTreeSet<Numbers> {
    let table = fs::read_to_string(root.at("proc/swaps")).unwrap_or_default();
    let files: Vec<&str> = table.lines().skip(1).filter_map(|line| line.split_whitespace().next()).collect();
    let is_swap = |name: &str| {
        let file = Path::new("/dev").join(name.replace('!', "/"));
        files.iter().any(|own| Path::new(own) == file)
    };
    named(nodes).filter(|(name, _, _)| is_swap(name)).map(|(_, _, numbers)| numbers).collect()
}

/// What stands on devices, as `/sys/block` lists it.
fn holders(root: &Root, nodes: &[BlockNode]) -> BTreeMap<Numbers, String> {
    let of = |folder: &str| {
        let listed = fs::read_dir(root.at(&format!("sys/block/{folder}/holders"))).ok()?;
        listed.filter_map(|held| Some(held.ok()?.file_name().to_string_lossy().into_owned())).min()
    };
    named(nodes).filter_map(|(_, folder, numbers)| Some((numbers, of(&folder)?))).collect()
}

/// The kernel writes a slash in a name as an exclamation mark.
fn device_file(root: &Root, name: &str) -> PathBuf {
    root.at("dev").join(name.replace('!', "/"))
}
