//! What a survey says: plain facts, which are its JSON too.

use alloc::borrow::Cow;
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use serde::{Deserialize, Serialize};
use signpost_disk::Guid;
use signpost_disk::probe::VolumeKind;
use signpost_firmware::bios::code::SectorCode;
use signpost_firmware::device_path::PartitionSignature;
use signpost_menu::place::{Nearness, VolumeIdentity};

use crate::finding::Finding;
use crate::firmware::FirmwareFacts;
use crate::number::{DiskNumber, PartitionNumber, VolumeNumber};
use crate::programs::{BootFile, EntryFile, Kernel, System};
use crate::sectors::{BootSectors, PartitionSector};

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
        self.serial.as_ref().or_else(|| self.table.identity())
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
        let mbr = || u32::from_str_radix(self.table.signature.as_ref()?, 16).ok();
        partition.guid.map(PartitionSignature::Guid).or_else(|| mbr().map(PartitionSignature::Mbr))
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
    /// The disk's MBR signature, eight hexadecimal digits.
    pub signature: Option<String>,
    /// Why none or not all of it was read.
    pub fault: Option<String>,
    /// Whether it is a GPT without its protective MBR, of which UEFI firmware sees nothing.
    pub is_unprotected: bool,
    /// Whether it is a GPT whose first copy is broken, read from its whole backup.
    #[serde(default)]
    pub is_from_backup: bool,
}

impl TableFacts {
    /// What tells it from others: its GUID, else its MBR signature.
    pub fn identity(&self) -> Option<&String> {
        let signature = self.signature.as_ref().filter(|signature| *signature != "00000000");
        self.guid.as_ref().or(signature)
    }
}

/// A partition.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Partition {
    /// Its number.
    pub number: PartitionNumber,
    /// The number that firmware's device paths find it by.
    pub firmware_number: u32,
    /// What it is for: a name, or the type's GUID.
    pub purpose: Cow<'static, str>,
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

/// What a running system does with a volume that it has not mounted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KernelUse {
    /// It swaps to it.
    Swap,
    /// It made another device of it, of this name: an array, a mapped volume.
    PartOf(String),
}

/// A volume: what may hold a file system.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Volume {
    /// Its number, by which other rows of a survey name it; people read its name.
    pub number: VolumeNumber,
    /// Number of its disk; the first, where it lies on several.
    pub disk: DiskNumber,
    /// Number of its partition, where it is one.
    pub partition: Option<PartitionNumber>,
    /// Its name as people read and type it: `d1p2`, `kestrel/tidewater`.
    pub name: String,
    /// Its device in the running system: `/dev/nvme0n1p2`.
    pub device: Option<String>,
    /// Where it is mounted there.
    pub mounted: Vec<String>,
    /// What else the running system does with it.
    #[serde(default)]
    pub kernel_use: Option<KernelUse>,
    /// Whether the running system has its root on it.
    pub is_running_root: bool,
    /// Group and name of a logical volume.
    pub lv: Option<(String, String)>,
    /// Numbers of the volumes that it is made of.
    pub members: Vec<VolumeNumber>,
    /// Kind of its file system.
    pub kind: VolumeKind,
    /// Whether it is FAT, which firmware reads and we write.
    pub is_fat: bool,
    /// Whether UEFI firmware reads it: FAT, also beneath a RAID that it knows nothing of.
    pub firmware_reads: bool,
    /// Why UEFI firmware does not read it, though it is FAT.
    pub firmware_refuses: Option<Cow<'static, str>>,
    /// Why it is not to be written to, though it is FAT and can be read.
    pub flaw: Option<Cow<'static, str>>,
    /// Whether it lies in an ESP.
    pub is_esp: bool,
    /// Whether it lies in an extended boot partition.
    pub is_extended_boot: bool,
    /// Its label.
    pub label: Option<String>,
    /// Its UUID or serial.
    pub uuid: Option<String>,
    /// Bytes.
    pub size: u64,
    /// What is wrong with it.
    pub fault: Option<String>,
    /// Whether it is a part of something that lies on several.
    pub is_member: bool,
    /// Whether what is inside takes a key to read.
    pub is_encrypted: bool,
    /// Whether it was in use when the machine went down.
    pub is_unclean: bool,
    /// Whether a sleeping system's memory lies on it.
    pub is_hibernated: bool,
    /// Why it only confuses: `recovery`, `reserved` and the like.
    pub aside: Option<Aside>,
    /// Names of volumes inside of it, where it is a container.
    pub inside: Vec<String>,
    /// The partition's identity.
    pub part_uuid: Option<String>,
    /// The partition's name.
    pub part_label: Option<String>,
    /// Serial of its disk.
    pub disk_serial: Option<String>,
    /// Whether the boot program can ask the disk for that.
    #[serde(default)]
    pub is_serial_seen_at_boot: bool,
    /// Where its disk is plugged in, as firmware's device paths write it.
    #[serde(default)]
    pub disk_path: Option<String>,
    /// GUID of its disk.
    pub disk_guid: Option<String>,
    /// Type of its slice or partition in an MBR.
    pub mbr_type: Option<u8>,
}

/// Why a volume only confuses who looks for systems.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Aside {
    /// It holds what restores a system.
    #[serde(rename = "recovery")]
    Recovery,
    /// A system keeps it for itself.
    #[serde(rename = "reserved")]
    Reserved,
    /// The PC's vendor put it there.
    #[serde(rename = "vendor")]
    Vendor,
    /// It describes other volumes.
    #[serde(rename = "metadata")]
    Metadata,
    /// It holds code that BIOS firmware starts.
    #[serde(rename = "boot code")]
    BootCode,
}

impl Aside {
    /// The reason in words.
    pub fn word(self) -> &'static str {
        match self {
            Self::Recovery => "recovery",
            Self::Reserved => "reserved",
            Self::Vendor => "vendor",
            Self::Metadata => "metadata",
            Self::BootCode => "boot code",
        }
    }
}

impl Volume {
    /// Whether it holds a FAT, be it one that can be read or not.
    pub fn holds_fat(&self) -> bool {
        self.kind.is_fat()
    }

    /// Notes that nothing of it can be read, and why.
    pub fn cannot_be_read(&mut self, why: String) {
        self.fault = Some(why);
        (self.is_fat, self.firmware_reads) = (false, false);
    }

    /// A name that was written out names nothing for who reads the disk itself.
    pub fn identity(&self, is_home: bool) -> VolumeIdentity {
        let plain = |name: &Option<String>| name.clone().filter(|name| !name.contains("\\u{"));
        VolumeIdentity {
            name: self.name.clone(),
            device: self.device.clone(),
            uuid: self.uuid.clone(),
            label: plain(&self.label),
            part_uuid: self.part_uuid.clone(),
            part_label: plain(&self.part_label),
            lv: self.lv.clone(),
            disk_serial: plain(&self.disk_serial),
            is_serial_seen_at_boot: self.is_serial_seen_at_boot,
            disk_path: self.disk_path.clone(),
            disk_guid: self.disk_guid.clone(),
            partition: self.partition.map(|number| number.0),
            is_home,
            nearness: Nearness::default(),
        }
    }

    /// Its name, with its device in the running system: `d1p2 (/dev/nvme0n1p2)`.
    pub fn where_it_is(&self) -> String {
        match &self.device {
            Some(device) => format!("{} ({device})", self.name),
            None => self.name.clone(),
        }
    }

    /// How the running system uses it, behind its name: "is mounted".
    pub fn use_in_words(&self) -> Option<String> {
        match &self.kernel_use {
            _ if !self.mounted.is_empty() => Some("is mounted".into()),
            Some(KernelUse::Swap) => Some("is being swapped to".into()),
            Some(KernelUse::PartOf(name)) => Some(format!("is part of {name}")),
            None => None,
        }
    }

    /// A place on it, as people read and type it: `d1p2:/boot/vmlinuz`.
    pub fn at(&self, path: &str) -> String {
        format!("{}:{path}", self.name)
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
