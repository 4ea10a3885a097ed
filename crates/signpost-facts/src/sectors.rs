//! What BIOS firmware starts by: first sectors of disks, boot sectors of partitions.

use alloc::string::String;
use alloc::vec::Vec;

use serde::{Deserialize, Serialize};
use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::area::Area;
use signpost_firmware::bios::code::{FirstCode, SectorCode};

use signpost_menu::slot::{Slot, SlotFault};
use signpost_menu::state::{self, State};

use crate::number::{DiskNumber, PartitionNumber};

/// All of a machine; nothing on one that starts by UEFI.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct BootSectors {
    /// The disks in the order in which the firmware tries them.
    pub order: Vec<DiskNumber>,
    /// Whether something says that order; else it is that of their numbers.
    pub is_order_known: bool,
    /// First sectors, by disk.
    pub first: Vec<FirstSector>,
    /// Boot sectors of partitions, by disk and partition.
    pub partitions: Vec<PartitionSector>,
}

/// A disk's first sector, and what stands between it and the first partition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FirstSector {
    /// The disk.
    pub disk: DiskNumber,
    /// Its code.
    pub code: FirstCode,
    /// Whose it is, where a row of the catalogue knows it.
    #[serde(default)]
    pub known: Option<String>,
    /// SHA-256 of the code, the first 440 bytes.
    pub sha256: String,
    /// The sector.
    #[serde(with = "hex")]
    pub bytes: Vec<u8>,
    /// Sectors between it and the first partition, at most 2047.
    pub gap: u64,
    /// How many of these hold something.
    pub gap_used: u64,
    /// The BIOS boot partition of a GPT.
    #[serde(default)]
    pub boot_partition: Option<BootPartition>,
    /// What the sector goes to, where it is our own for a menu.
    #[serde(default)]
    pub ours: Option<OurSectors>,
    /// What of ours lies there still, where the sector does not go to it any more.
    #[serde(default)]
    pub left: Option<OurSectors>,
}

impl FirstSector {
    /// What of ours lies there, whether the sector goes to it or not.
    pub fn any_of_ours(&self) -> Option<&OurSectors> {
        self.ours.as_ref().or(self.left.as_ref())
    }
}

/// A BIOS boot partition, which holds no file system and belongs to whoever starts the disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BootPartition {
    /// The partition.
    pub partition: PartitionNumber,
    /// Its first sector.
    pub start: u64,
    /// Sectors in it.
    pub sectors: u64,
    /// How many of these hold something, of those that are looked at.
    pub used: u64,
}

/// What our first sector goes to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OurSectors {
    /// Where everything lies.
    pub area: Area,
    /// The two copies of the boot program.
    pub copies: [Copy; 2],
    /// The two slots of the menu, up to the end of what is in them.
    pub slots: [String; 2],
    /// The two sectors of what is remembered from start to start.
    #[serde(with = "hex_pair")]
    pub state: [Vec<u8>; 2],
}

/// A copy of the boot program.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Copy {
    /// It counts: its SHA-256.
    Whole(String),
    /// It does not: why.
    Hurt(String),
}

impl Copy {
    /// Whether it counts.
    pub fn is_whole(&self) -> bool {
        matches!(self, Self::Whole(_))
    }
}

impl OurSectors {
    /// The slots, read.
    pub fn slots(&self) -> [Result<Slot, SlotFault>; 2] {
        [0, 1].map(|index| Slot::decode(self.slots.get(index).map_or(&[], |slot| slot.as_bytes())))
    }

    /// What is remembered, and the index of the sector that holds it.
    pub fn state(&self) -> (usize, State) {
        let [first, second] = &self.state;
        state::newest([first, second])
    }
}

/// A partition's boot sector.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PartitionSector {
    /// The disk.
    pub disk: DiskNumber,
    /// The partition.
    pub partition: PartitionNumber,
    /// The partition's name, as people type it.
    pub name: String,
    /// Bytes from the disk's start.
    pub start: u64,
    /// The index of its entry in the table of the disk's first sector; nothing for a logical partition, a slice, and what stands in a
    /// GPT alone: these cannot be active.
    #[serde(default)]
    pub entry: Option<usize>,
    /// Its code.
    pub code: SectorCode,
    /// Whose it is, where a row of the catalogue knows it.
    #[serde(default)]
    pub known: Option<String>,
    /// SHA-256 of the sector.
    pub sha256: String,
    /// The sector.
    #[serde(with = "hex")]
    pub bytes: Vec<u8>,
    /// Whether it holds the table of logical partitions, and is no volume's.
    #[serde(default)]
    pub holds_table: bool,
    /// The copy of it that its file system keeps, where that has one that is a boot sector.
    pub backup: Option<Backup>,
    /// The number of sectors before the partition that it says itself, where that is another than is so: code that goes by it finds
    /// nothing.
    pub says_before: Option<u32>,
    /// The heads and sectors of a track that it says itself, where the table contradicts them: code that counts so finds another place.
    #[serde(default)]
    pub says_geometry: Option<[u16; 2]>,
}

/// A file system's own copy of its boot sector.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Backup {
    /// Sectors from the partition's start.
    pub sector: u64,
    /// Whether it is the same as the boot sector.
    pub is_same: bool,
    /// Its bytes.
    #[serde(with = "hex")]
    pub bytes: Vec<u8>,
}

impl BootSectors {
    /// Whether there is none of it.
    pub fn is_empty(&self) -> bool {
        self.first.is_empty()
    }

    /// A disk's first sector.
    pub fn first_of(&self, disk: DiskNumber) -> Option<&FirstSector> {
        self.first.iter().find(|first| first.disk == disk)
    }

    /// The first sector of ours that the firmware comes to: that of the first disk of its order which has one.
    pub fn home(&self) -> Option<&FirstSector> {
        self.order.iter().filter_map(|disk| self.first_of(*disk)).find(|first| first.ours.is_some())
    }

    /// A partition's boot sector.
    pub fn of_partition(&self, disk: DiskNumber, partition: PartitionNumber) -> Option<&PartitionSector> {
        self.partitions.iter().find(|sector| sector.disk == disk && sector.partition == partition)
    }

    /// The boot sector of the partition whose entry in the table of a disk's first sector has this index.
    pub fn of_entry(&self, disk: DiskNumber, index: usize) -> Option<&PartitionSector> {
        self.partitions.iter().find(|sector| sector.disk == disk && sector.entry == Some(index))
    }

    /// The sector at a place of a disk, in bytes from its start: its first one, or a partition's.
    pub fn bytes_at(&self, disk: DiskNumber, offset: u64) -> Option<&[u8]> {
        if offset == 0 {
            return self.first_of(disk).map(|first| first.bytes.as_slice());
        }
        let found = self.partitions.iter().find(|found| found.disk == disk && found.start == offset)?;
        Some(&found.bytes)
    }
}

/// A sector as an array; nothing where it has not the length of one.
pub fn sector(bytes: &[u8]) -> Option<[u8; SECTOR]> {
    bytes.try_into().ok()
}

/// Bytes as hexadecimal text.
mod hex {
    use alloc::vec::Vec;

    use serde::{Deserializer, Serializer};

    use crate::change::hex_option;

    pub(super) fn serialize<S: Serializer>(bytes: &[u8], serializer: S) -> Result<S::Ok, S::Error> {
        hex_option::serialize(&Some(bytes.to_vec()), serializer)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<u8>, D::Error> {
        hex_option::deserialize(deserializer).map(Option::unwrap_or_default)
    }
}

/// Two of these.
mod hex_pair {
    use alloc::vec::Vec;

    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    #[derive(Serialize, Deserialize)]
    struct Pair(#[serde(with = "super::hex")] Vec<u8>, #[serde(with = "super::hex")] Vec<u8>);

    pub(super) fn serialize<S: Serializer>(pair: &[Vec<u8>; 2], serializer: S) -> Result<S::Ok, S::Error> {
        let [first, second] = pair;
        Pair(first.clone(), second.clone()).serialize(serializer)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<[Vec<u8>; 2], D::Error> {
        Pair::deserialize(deserializer).map(|Pair(first, second)| [first, second])
    }
}
