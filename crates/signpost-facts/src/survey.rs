//! What a survey says: plain facts, which are its JSON too.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use serde::{Deserialize, Serialize};
use signpost_disk::Guid;
use signpost_disk::purpose::Purpose;
use signpost_firmware::bios::code::SectorCode;
use signpost_firmware::device_path::PartitionSignature;

use crate::finding::Finding;
use crate::firmware::FirmwareFacts;
use crate::number::{DiskNumber, MbrSignature, PartitionNumber, VolumeNumber};
use crate::programs::{BootFile, EntryFile, Kernel, System};
use crate::sectors::{BootSectors, PartitionSector};
use crate::volume::Volume;

/// The whole picture.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Survey {
    /// Version of this document.
    pub schema: u32,
    /// The machine.
    pub machine: MachineFacts,
    /// Systems, the running one first.
    pub systems: Vec<System>,
    /// Kernels that belong to no system that was found.
    #[serde(default)]
    pub stray_kernels: Vec<Kernel>,
    /// Disks, in the order of their numbers.
    pub disks: Vec<Disk>,
    /// Volumes, by disk and partition.
    pub volumes: Vec<Volume>,
    /// Boot files on all ESPs.
    pub boot_files: Vec<BootFile>,
    /// Entry files on ESPs, extended boot partitions and in `/boot`.
    pub entry_files: Vec<EntryFile>,
    /// What BIOS firmware starts by.
    #[serde(default, skip_serializing_if = "BootSectors::is_empty")]
    pub boot_sectors: BootSectors,
    /// What the firmware holds.
    pub firmware: FirmwareFacts,
    /// The problems.
    pub findings: Vec<Finding>,
}

/// The machine itself.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct MachineFacts {
    /// Its name.
    pub name: String,
    /// Kind of firmware.
    pub firmware: FirmwareKind,
    /// Processor.
    pub architecture: String,
    /// Whether Secure Boot is on; `None` where nothing says it.
    pub secure_boot: Option<bool>,
    /// What the running system was started with, where we run in it.
    pub command_line: Option<String>,
    /// Whether that is a rescue system, and none of the machine's own.
    pub is_rescue: bool,
    /// What is worth knowing of the system that we run in.
    pub notes: Vec<String>,
}

/// Kinds of firmware.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FirmwareKind {
    /// UEFI: load options in variables.
    Uefi,
    /// BIOS: the boot sector of the first disk.
    Bios,
    /// Nothing says it: loose disk images.
    Unknown,
}

impl FirmwareKind {
    /// The kind in a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Uefi => "uefi",
            Self::Bios => "bios",
            Self::Unknown => "unknown",
        }
    }
}

/// A disk.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Disk {
    /// Its number.
    pub number: DiskNumber,
    /// Device or image.
    pub name: String,
    /// Its bus.
    pub bus: Option<String>,
    /// Whether it can be taken along.
    pub is_removable: bool,
    /// Whether it decides what this machine starts: a removable one does only where the running system lies on it, and the
    /// medium of a rescue system never does.
    pub takes_part: bool,
    /// Its model.
    pub model: Option<String>,
    /// Its serial.
    pub serial: Option<String>,
    /// Where it is plugged in, as firmware's device paths write it, where that is known.
    #[serde(default)]
    pub path: Option<String>,
    /// Bytes.
    pub size: u64,
    /// Bytes in a sector.
    pub sector_size: u32,
    /// Whether it is the medium that the running system was started from, which no menu takes anything from.
    pub is_medium: bool,
    /// Whether all of it could be read, so that what is not seen there is not there.
    pub is_whole: bool,
    /// The array that the disk as a whole is a member of, and whose table is then seen as the disk's.
    #[serde(default)]
    pub array: Option<DiskArray>,
    /// Its partition table.
    pub table: TableFacts,
    /// Its partitions, by number.
    pub partitions: Vec<Partition>,
}

/// An array of whole disks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct DiskArray {
    /// Its identity, the same for all its members.
    pub uuid: String,
    /// The array in words: `mirror kestrel0`.
    pub words: String,
    /// Whether firmware made it.
    pub is_firmwares: bool,
    /// The disk on which what a mirror holds is looked at, where that is another one.
    pub read_on: Option<DiskNumber>,
}

impl Disk {
    /// What tells it from others, whatever its place among them: its serial, else its table's own identity.
    pub fn identity(&self) -> Option<&String> {
        self.serial.as_ref().or(self.table.identity.as_ref())
    }

    /// Whether the boot program can ask the drive for its serial: firmware passes commands on to drives of these kinds (UEFI
    /// 2.10, 13.16, 13.17, 15.4).
    pub fn is_serial_seen_at_boot(&self) -> bool {
        const ASKED: [&str; 3] = ["nvme", "sata", "scsi"];
        self.serial.is_some()
            && !self.is_removable
            && self.bus.as_deref().is_some_and(|bus| ASKED.contains(&bus))
    }

    /// How a device path tells a partition of this disk from others: by its GUID, or by the disk's MBR signature.
    pub fn path_signature(&self, partition: &Partition) -> Option<PartitionSignature> {
        let mbr = || self.table.signature.map(|signature| PartitionSignature::Mbr(signature.0));
        partition.guid.map(PartitionSignature::Guid).or_else(mbr)
    }
}

/// Kinds of partition table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TableKind {
    /// GUID partition table.
    Gpt,
    /// The table in a master boot record.
    Mbr,
    /// A label of BSD over the whole disk.
    Label,
}

impl TableKind {
    /// The kind in a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Gpt => "gpt",
            Self::Mbr => "mbr",
            Self::Label => "label",
        }
    }
}

/// A disk's partition table.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct TableFacts {
    /// `gpt`, `mbr`, `label` (of BSD), or nothing where there is none.
    pub kind: Option<TableKind>,
    /// The disk's GUID.
    pub guid: Option<String>,
    /// The disk's MBR signature.
    pub signature: Option<MbrSignature>,
    /// What tells it from others: its GUID, else its MBR signature where it has one.
    #[serde(default)]
    pub identity: Option<String>,
    /// Why none or not all of it was read.
    pub fault: Option<String>,
    /// Whether it is a GPT without its protective MBR, of which UEFI firmware sees nothing.
    pub is_unprotected: bool,
    /// Whether it is a GPT whose first copy is broken, read from its whole backup.
    #[serde(default)]
    pub is_from_backup: bool,
}

/// A partition.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Partition {
    /// Its number.
    pub number: PartitionNumber,
    /// The number that firmware's device paths find it by.
    pub firmware_number: u32,
    /// What it is for, by its type.
    #[serde(flatten, with = "as_purpose_and_type")]
    pub purpose: Purpose,
    /// Its own identity: a GUID, or `signature-NN` in an MBR.
    pub uuid: Option<String>,
    /// The same, where it is a GUID.
    pub guid: Option<Guid>,
    /// Its name in the table.
    pub name: String,
    /// Offset in bytes.
    pub start: u64,
    /// Length in bytes.
    pub size: u64,
    /// Whether it is an ESP by its type.
    pub is_esp: bool,
    /// Whether the boot sector starts it (MBR).
    pub is_active: bool,
    /// Whether it only holds other partitions.
    pub is_container: bool,
    /// Slice and letter of a partition in a BSD label.
    pub slice: Option<String>,
    /// First and last sector by cylinder, head and sector (MBR).
    pub chs: Option<String>,
    /// Why UEFI firmware leaves it out.
    pub unseen: Option<String>,
    /// Whether it shares sectors with another, or lies where none may.
    pub is_misplaced: bool,
    /// Number of the volume in it.
    pub volume: Option<VolumeNumber>,
}

/// A purpose is written in words, beside the type from which it is read back.
mod as_purpose_and_type {
    use alloc::borrow::Cow;
    use alloc::string::String;

    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};
    use signpost_disk::purpose::Purpose;

    #[derive(Serialize, Deserialize)]
    struct Written {
        purpose: Cow<'static, str>,
        #[serde(rename = "type")]
        kind: String,
    }

    pub fn serialize<S: Serializer>(purpose: &Purpose, serializer: S) -> Result<S::Ok, S::Error> {
        Written { purpose: purpose.name(), kind: purpose.type_text() }.serialize(serializer)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Purpose, D::Error> {
        let written = Written::deserialize(deserializer)?;
        Purpose::of_type_text(&written.kind).ok_or_else(|| D::Error::custom("no type of a partition"))
    }
}

impl Partition {
    /// The partition whose slice this is.
    pub fn slice_of(&self) -> Option<PartitionNumber> {
        self.slice.as_ref()?.trim_end_matches(char::is_alphabetic).parse().ok().map(PartitionNumber)
    }
}

impl Survey {
    /// The disk and the partition that a volume lies in, where it lies in one.
    pub fn partition_of(&self, volume: &Volume) -> Option<(&Disk, &Partition)> {
        let disk = self.disk(volume.disk)?;
        let is_it = |partition: &&Partition| Some(partition.number) == volume.partition;
        Some((disk, disk.partitions.iter().find(is_it)?))
    }

    /// The boot sector that a volume is started by: its own, or, where that starts nothing and the volume is a slice, that of the
    /// partition around it.
    pub fn boot_sector_of(&self, volume: VolumeNumber) -> Option<&PartitionSector> {
        let facts = self.volumes.get(volume.index())?;
        let sectors = || self.boot_sectors.partitions.iter().filter(|sector| sector.disk == facts.disk);
        let own = sectors().find(|sector| sector.name == facts.name);
        let around = || {
            let slice =
                self.disk(facts.disk)?.partitions.iter().find(|inner| inner.volume == Some(volume))?;
            let around = slice.slice_of()?;
            sectors().find(|sector| sector.partition == around)
        };
        own.filter(|sector| sector.code == SectorCode::Starts).or_else(around).or(own)
    }

    /// What people call a volume; nothing, where there is no such one.
    pub fn name(&self, volume: VolumeNumber) -> &str {
        self.volumes.get(volume.index()).map_or("", |volume| &volume.name)
    }

    /// A place on a volume, as people read and type it: `d1p2:/boot/vmlinuz`.
    pub fn at(&self, volume: VolumeNumber, path: &str) -> String {
        format!("{}:{path}", self.name(volume))
    }

    /// Whether a volume lies on the medium that the running system was started from.
    pub fn is_on_medium(&self, volume: &Volume) -> bool {
        self.disk(volume.disk).is_some_and(|disk| disk.is_medium)
    }

    /// The system of this id.
    pub fn system(&self, id: &str) -> Option<&System> {
        self.systems.iter().find(|system| system.id == id)
    }

    /// The index of the boot file at this path of a volume (by index); case does not matter.
    pub fn boot_file(&self, volume: usize, path: &str) -> Option<usize> {
        let path = path.to_lowercase();
        self.boot_files
            .iter()
            .position(|file| file.volume.index() == volume && file.path.to_lowercase() == path)
    }
}
