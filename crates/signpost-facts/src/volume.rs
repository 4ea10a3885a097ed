//! A volume, and what the running system does with it.

use alloc::borrow::Cow;
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use serde::{Deserialize, Serialize};
use signpost_disk::probe::VolumeKind;
use signpost_menu::place::{Nearness, VolumeIdentity};

use crate::number::{DiskNumber, PartitionNumber, VolumeNumber};

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

    /// Whether files of ours can be written to it now: to a FAT wherever it is, to others by their mount alone. Of subvolumes it is not
    /// known in which of them a path would begin.
    pub fn takes_files(&self) -> bool {
        self.is_fat || (!self.mounted.is_empty() && self.kind != VolumeKind::Btrfs)
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
