//! Disks, from what the kernel (`/sys/block`) and the device manager (`/run/udev/data`) say of them.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use super::bus_path;
use super::line::{number, text};
use super::numbers::{Numbers, Root};

/// Bytes in the sectors that `/sys` counts in, whatever the disk's own are.
const SYS_SECTOR: u64 = 512;

/// A disk, or what looks like one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BlockNode {
    /// The kernel's name: `nvme0n1`.
    pub name: String,
    /// By which the kernel knows it.
    pub numbers: Numbers,
    /// What it is.
    pub nature: Nature,
    /// Bytes.
    pub size: u64,
    /// Bytes in a sector.
    pub sector_size: u32,
    /// How it is connected.
    pub bus: Option<String>,
    /// Whether it can be taken along.
    pub is_removable: bool,
    /// Its model.
    pub model: Option<String>,
    /// Its serial.
    pub serial: Option<String>,
    /// Where it is plugged in, as firmware's device paths write it, where that is known.
    pub path: Option<String>,
    /// Its partitions.
    pub partitions: Vec<PartitionNode>,
    /// What the device manager noted.
    pub properties: Properties,
}

/// A partition's device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartitionNode {
    pub name: String,
    pub numbers: Numbers,
    pub number: u32,
    /// Bytes from the disk's start.
    pub start: u64,
    /// Bytes.
    pub size: u64,
    /// What the device manager noted.
    pub properties: Properties,
}

/// Notes of the device manager: names and values.
pub type Properties = BTreeMap<String, String>;

/// What a block device is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Nature {
    /// A disk of the machine.
    Disk,
    /// A drive without a medium.
    Empty,
    /// A file that is taken for a disk.
    File(PathBuf),
    /// Memory that is taken for a disk.
    Memory,
    /// What an encrypted volume holds, opened under this name.
    Opened(String),
    /// Made of other devices, by its name: a logical volume, an array.
    MadeOf(String),
    /// A part of a memory card that its own firmware uses.
    CardArea,
    /// A disk of another machine, over the network.
    Network,
}

impl Nature {
    /// Why it is none of the machine's disks, in words.
    pub fn words(&self) -> Option<String> {
        match self {
            Self::Disk | Self::Opened(_) => None,
            Self::Empty => Some("a drive without a medium".into()),
            Self::File(file) => Some(format!("the file {}", file.display())),
            Self::Memory => Some("memory".into()),
            Self::MadeOf(name) => Some(format!("made of other devices: {name}")),
            Self::CardArea => Some("an area of a memory card for its own start".into()),
            Self::Network => Some("another machine's, over the network".into()),
        }
    }
}

impl BlockNode {
    /// What tells an array from others, as its members carry it.
    pub(super) fn array_identity(&self, root: &Root) -> Option<String> {
        let noted = self.properties.get("MD_UUID").cloned();
        noted.or_else(|| text(&root.at(&format!("sys/block/{}/md/uuid", self.name))))
    }
}

/// All block devices, by name, numbers in it as numbers: `sda`, `sdb`, …, `sdaa`; `nvme2n1` before `nvme10n1`.
pub(super) fn read(root: &Root) -> Vec<BlockNode> {
    let folder = root.at("sys/block");
    let Ok(entries) = fs::read_dir(&folder) else { return Vec::new() };
    let mut names: Vec<String> =
        entries.filter_map(|entry| entry.ok()?.file_name().into_string().ok()).collect();
    names.sort_by_key(|name| order(name));
    names.into_iter().filter_map(|name| node(root, &folder.join(&name), name)).collect()
}

/// Letters by length first, then numbers as numbers.
fn order(name: &str) -> (String, usize, Vec<u64>, String) {
    let letters: String = name.chars().take_while(|c| !c.is_ascii_digit()).collect();
    let numbers =
        name.split(|c: char| !c.is_ascii_digit()).filter_map(|digits| digits.parse().ok()).collect();
    let family = letters.chars().take(2).collect();
    (family, letters.len(), numbers, name.to_string())
}

fn node(root: &Root, folder: &Path, name: String) -> Option<BlockNode> {
    let numbers = Numbers::parse(&text(&folder.join("dev"))?)?;
    let properties = properties(root, numbers);
    let size = number(&folder.join("size"))?.saturating_mul(SYS_SECTOR);
    let nature = nature(folder, &name, size);
    let property = |key: &str| properties.get(key).filter(|value| !value.is_empty()).cloned();
    let model = text(&folder.join("device/model")).or_else(|| property("ID_MODEL"));
    let serials = ["serial", "device/serial"].map(|file| text(&folder.join(file)));
    // A drive's own serial is what is printed on it; the device manager's short one may be its world-wide name.
    let noted = property("ID_SCSI_SERIAL").or_else(|| property("ID_SERIAL_SHORT"));
    let serial = noted.or_else(|| serials.into_iter().flatten().next());
    let path = bus_path::of(folder);
    Some(BlockNode {
        bus: if matches!(nature, Nature::Opened(_)) { Some("opened".into()) } else { bus(folder) },
        sector_size: number(&folder.join("queue/logical_block_size"))
            .and_then(|size| u32::try_from(size).ok())
            .filter(|size| size.is_power_of_two() && (512..=4096).contains(size))
            .unwrap_or(512),
        partitions: if nature == Nature::Disk || is_array(&name) {
            partitions(root, folder)
        } else {
            Vec::new()
        },
        is_removable: is_removable(folder),
        name,
        numbers,
        nature,
        size,
        model,
        serial,
        path,
        properties,
    })
}

fn is_array(name: &str) -> bool {
    name.starts_with("md")
}

/// By the kernel's names for its drivers (`Documentation/admin-guide/devices.txt`), and by what their folders hold.
fn nature(folder: &Path, name: &str, size: u64) -> Nature {
    let starts = |words: &[&str]| words.iter().any(|word| name.starts_with(word));
    if starts(&["loop"]) {
        let file = text(&folder.join("loop/backing_file"));
        return file.map_or(Nature::Empty, |file| Nature::File(PathBuf::from(file)));
    }
    if starts(&["dm-"]) {
        let own = text(&folder.join("dm/name")).unwrap_or_else(|| name.to_string());
        let is_opened = text(&folder.join("dm/uuid")).is_some_and(|uuid| uuid.starts_with("CRYPT-"));
        return if is_opened { Nature::Opened(own) } else { Nature::MadeOf(own) };
    }
    if is_array(name) {
        return Nature::MadeOf(format!("array {name}"));
    }
    if starts(&["zram", "ram", "pmem"]) {
        Nature::Memory
    } else if starts(&["mmcblk"]) && (name.contains("boot") || name.ends_with("rpmb")) {
        Nature::CardArea
    } else if size == 0 {
        Nature::Empty
    } else if starts(&["nbd", "rbd", "drbd", "etherd"]) {
        Nature::Network
    } else {
        Nature::Disk
    }
}

/// How a disk is connected, from the way to it in the tree of devices.
fn bus(folder: &Path) -> Option<String> {
    let way = fs::canonicalize(folder).ok()?.to_string_lossy().into_owned();
    let known = [
        ("/usb", "usb"),
        ("/nvme", "nvme"),
        ("/mmc", "mmc"),
        ("/ata", "sata"),
        ("/vbd", "xen"),
        ("/host", "scsi"),
        ("/virtio", "virtio"),
    ];
    known.iter().find(|(part, _)| way.contains(part)).map(|(_, bus)| (*bus).to_string())
}

/// Whether a disk is made to be taken along: its drive says so (`removable` of a block device), a device on the way to it
/// was plugged in from outside (`removable` of a USB or PCI device, `Documentation/ABI/testing/sysfs-devices-removable`),
/// it hangs on USB, or it is a card in a slot.
fn is_removable(folder: &Path) -> bool {
    let of_drive = text(&folder.join("removable")).is_some_and(|text| text == "1");
    let is_card = text(&folder.join("device/type")).is_some_and(|kind| kind == "SD");
    let way = fs::canonicalize(folder.join("device")).unwrap_or_default();
    let plugged = |device: &Path| text(&device.join("removable")).is_some_and(|text| text == "removable");
    of_drive || is_card || bus(folder).as_deref() == Some("usb") || way.ancestors().any(plugged)
}

fn partitions(root: &Root, folder: &Path) -> Vec<PartitionNode> {
    let Ok(entries) = fs::read_dir(folder) else { return Vec::new() };
    let mut found: Vec<PartitionNode> = entries
        .filter_map(|entry| {
            let entry = entry.ok()?;
            let folder = entry.path();
            let numbers = Numbers::parse(&text(&folder.join("dev"))?)?;
            Some(PartitionNode {
                properties: properties(root, numbers),
                size: number(&folder.join("size")).unwrap_or(0).saturating_mul(SYS_SECTOR),
                number: u32::try_from(number(&folder.join("partition"))?).ok()?,
                name: entry.file_name().into_string().ok()?,
                numbers,
                start: number(&folder.join("start"))?.saturating_mul(SYS_SECTOR),
            })
        })
        .collect();
    found.sort_by_key(|partition| partition.number);
    found
}

/// What the device manager noted of a device; nothing where there is none.
fn properties(root: &Root, numbers: Numbers) -> Properties {
    let file = root.at(&format!("run/udev/data/b{}:{}", numbers.major, numbers.minor));
    let text = fs::read_to_string(file).unwrap_or_default();
    let assignments = text.lines().filter_map(|line| line.strip_prefix("E:")?.split_once('='));
    assignments.map(|(key, value)| (key.to_string(), value.to_string())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A made-up `/sys` and `/run`, as the kernel lays them out.
    fn machine(files: &[(&str, &str)]) -> (tempfile::TempDir, Root) {
        let work = tempfile::tempdir().unwrap();
        for (path, contents) in files {
            let path = work.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, contents).unwrap();
        }
        let root = Root(work.path().to_path_buf());
        (work, root)
    }

    #[test]
    fn disks_are_told_from_what_looks_like_one() {
        let (_work, root) = machine(&[
            ("sys/block/nvme0n1/dev", "259:0\n"),
            ("sys/block/nvme0n1/size", "2097152\n"),
            ("sys/block/nvme0n1/device/model", "Petrel 40                \n"),
            ("sys/block/nvme0n1/queue/logical_block_size", "4096\n"),
            ("sys/block/nvme0n1/nvme0n1p2/dev", "259:2\n"),
            ("sys/block/nvme0n1/nvme0n1p2/partition", "2\n"),
            ("sys/block/nvme0n1/nvme0n1p2/start", "2048\n"),
            ("run/udev/data/b259:0", "S:disk/by-id/x\nE:ID_SERIAL_SHORT=KP-1\nE:ID_MODEL=Petrel_40\n"),
            ("sys/block/loop0/dev", "7:0\n"),
            ("sys/block/loop0/size", "8\n"),
            ("sys/block/loop0/loop/backing_file", "/srv/lantern.img\n"),
            ("sys/block/loop1/dev", "7:1\n"),
            ("sys/block/loop1/size", "0\n"),
            ("sys/block/dm-0/dev", "253:0\n"),
            ("sys/block/dm-0/size", "8\n"),
            ("sys/block/dm-0/dm/name", "tide-root\n"),
            ("sys/block/dm-1/dev", "253:1\n"),
            ("sys/block/dm-1/size", "8\n"),
            ("sys/block/dm-1/dm/name", "vault\n"),
            ("sys/block/dm-1/dm/uuid", "CRYPT-LUKS2-0f0b\n"),
            ("sys/block/zram0/dev", "252:0\n"),
            ("sys/block/zram0/size", "8\n"),
            ("sys/block/nbd3/dev", "43:96\n"),
            ("sys/block/nbd3/size", "8\n"),
            ("sys/block/mmcblk0boot0/dev", "179:8\n"),
            ("sys/block/mmcblk0boot0/size", "8192\n"),
            ("sys/block/sr0/dev", "11:0\n"),
            ("sys/block/sr0/size", "0\n"),
            ("sys/block/broken/size", "not a number\n"),
        ]);
        let found = read(&root);
        let nature = |name: &str| found.iter().find(|node| node.name == name).map(|node| node.nature.clone());
        assert_eq!(nature("loop0"), Some(Nature::File("/srv/lantern.img".into())));
        assert_eq!(nature("dm-0"), Some(Nature::MadeOf("tide-root".into())));
        for (name, expected) in [
            ("loop1", Nature::Empty),
            ("sr0", Nature::Empty),
            ("zram0", Nature::Memory),
            ("nbd3", Nature::Network),
            ("mmcblk0boot0", Nature::CardArea),
        ] {
            assert_eq!(nature(name), Some(expected), "{name}");
        }
        assert_eq!(nature("dm-1"), Some(Nature::Opened("vault".into())));
        assert_eq!(nature("broken"), None);
        let disk = found.iter().find(|node| node.nature == Nature::Disk).unwrap();
        assert_eq!((disk.size, disk.sector_size), (1 << 30, 4096));
        assert_eq!((disk.model.as_deref(), disk.serial.as_deref()), (Some("Petrel 40"), Some("KP-1")));
        let part = &disk.partitions[0];
        assert_eq!((part.number, part.start, part.name.as_str()), (2, 1 << 20, "nvme0n1p2"));
    }

    #[test]
    fn names_are_ordered_as_people_count() {
        let mut names = ["sdb", "nvme10n1", "sdaa", "sda", "nvme2n1", "vda"];
        names.sort_by_key(|name| order(name));
        assert_eq!(names, ["nvme2n1", "nvme10n1", "sda", "sdb", "sdaa", "vda"]);
    }
}
