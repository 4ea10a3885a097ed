//! What a survey says: plain facts, which are its JSON too.

use serde::Serialize;
use signpost_menu::place::VolumeIdentity;

use crate::code::Code;

/// The whole picture.
#[derive(Clone, Debug, Serialize)]
pub struct Survey {
    /// Version of this document.
    pub schema: u32,
    /// The machine.
    pub machine: MachineFacts,
    /// Systems, the running one first.
    pub systems: Vec<System>,
    /// Disks, in the machine's order.
    pub disks: Vec<Disk>,
    /// Volumes, `v1` first.
    pub volumes: Vec<Volume>,
    /// Start-up files on all ESPs.
    pub startup_files: Vec<StartupFile>,
    /// What the firmware holds.
    pub firmware: FirmwareFacts,
    /// What is odd.
    pub findings: Vec<Finding>,
}

/// The machine itself.
#[derive(Clone, Debug, Serialize)]
pub struct MachineFacts {
    /// Its name.
    pub name: String,
    /// Kind of firmware.
    pub firmware: &'static str,
    /// Processor.
    pub architecture: String,
    /// Whether Secure Boot is on; `None` where nothing says it.
    pub secure_boot: Option<bool>,
}

/// A disk.
#[derive(Clone, Debug, Serialize)]
pub struct Disk {
    /// Its number, from 1.
    pub number: usize,
    /// Device or image.
    pub name: String,
    /// Its bus.
    pub bus: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// Its serial.
    pub serial: Option<String>,
    /// Bytes.
    pub size: u64,
    /// Its partition table.
    pub table: TableFacts,
    /// Its partitions, by number.
    pub partitions: Vec<Partition>,
}

/// A disk's partition table.
#[derive(Clone, Debug, Serialize)]
pub struct TableFacts {
    /// `gpt`, or nothing where none was read.
    pub kind: Option<&'static str>,
    /// The disk's GUID.
    pub guid: Option<String>,
    /// Why no table was read.
    pub fault: Option<String>,
}

/// A partition.
#[derive(Clone, Debug, Serialize)]
pub struct Partition {
    /// Its number.
    pub number: u32,
    /// What it is for: a name, or the type's GUID.
    pub purpose: String,
    /// Its own GUID.
    pub guid: String,
    /// Its name in the table.
    pub name: String,
    /// Offset in bytes.
    pub start: u64,
    /// Length in bytes.
    pub size: u64,
    /// Whether it is an ESP by its type.
    pub is_esp: bool,
    /// Number of the volume in it.
    pub volume: Option<usize>,
}

/// A volume: what may hold a file system.
#[derive(Clone, Debug, Serialize)]
pub struct Volume {
    /// Its number: `v1` and on.
    pub number: usize,
    /// Number of its disk.
    pub disk: usize,
    /// Number of its partition.
    pub partition: u32,
    /// Kind of its file system.
    pub kind: String,
    /// Whether UEFI firmware reads it.
    #[serde(skip)]
    pub is_fat: bool,
    /// Whether it lies in an ESP.
    pub is_esp: bool,
    /// Its label.
    pub label: Option<String>,
    /// Its UUID or serial.
    pub uuid: Option<String>,
    /// Bytes.
    pub size: u64,
    /// What is wrong with it.
    pub fault: Option<String>,
    /// The partition's GUID.
    pub part_uuid: String,
    /// The partition's name.
    pub part_label: Option<String>,
    #[serde(skip)]
    pub(super) disk_serial: Option<String>,
    #[serde(skip)]
    pub(super) disk_guid: Option<String>,
}

impl Volume {
    pub(super) fn identity(&self, is_home: bool) -> VolumeIdentity {
        VolumeIdentity {
            number: self.number as u32,
            uuid: self.uuid.clone(),
            label: self.label.clone(),
            part_uuid: Some(self.part_uuid.clone()),
            part_label: self.part_label.clone(),
            lv: None,
            disk_serial: self.disk_serial.clone(),
            disk_guid: self.disk_guid.clone(),
            partition: Some(self.partition),
            is_home,
        }
    }

    /// Where it is, for people: `disk 1 partition 2`.
    pub fn where_it_is(&self) -> String {
        format!("disk {} partition {}", self.disk, self.partition)
    }
}

/// An installed system.
#[derive(Clone, Debug, Serialize)]
pub struct System {
    /// A short name, fit for an id.
    pub id: String,
    /// Its title.
    pub title: String,
    /// Where the title comes from.
    pub title_from: String,
    /// `linux`, or `other` for one that shows by its loader alone.
    pub family: &'static str,
    /// Number of its root volume.
    pub root: Option<usize>,
    /// Whether it is running.
    pub is_running: bool,
    /// Its kernels, the newest first.
    pub kernels: Vec<Kernel>,
    /// Kernel arguments for it.
    pub arguments: Option<Arguments>,
    /// Its own loaders, the one to start first: indices of `startup_files`.
    #[serde(skip)]
    pub loaders: Vec<usize>,
    /// The same as places.
    #[serde(rename = "loaders")]
    pub loader_places: Vec<String>,
    /// Load options that start it.
    pub entries: Vec<String>,
}

/// A kernel.
#[derive(Clone, Debug, Serialize)]
pub struct Kernel {
    /// Number of its volume.
    pub volume: usize,
    /// Its path.
    pub path: String,
    /// Its version.
    pub version: String,
    /// Processor.
    pub architecture: String,
    /// Version of its EFI stub.
    pub efi_stub: Option<String>,
    /// Initrds that belong to it.
    pub initrds: Vec<String>,
}

/// Kernel arguments and where they come from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Arguments {
    /// The arguments.
    pub text: String,
    /// Their source.
    pub source: String,
}

/// A start-up file on an ESP.
#[derive(Clone, Debug, Serialize)]
pub struct StartupFile {
    /// Number of its volume.
    pub volume: usize,
    /// Its path, with `/`.
    pub path: String,
    /// Bytes.
    pub size: u64,
    /// SHA-256 of its contents, in hexadecimal.
    pub sha256: Option<String>,
    /// What it was built for.
    pub architecture: Option<String>,
    /// Whether it carries a signature.
    pub is_signed: bool,
    /// Its version resource.
    pub version: Option<VersionFacts>,
    /// What it is.
    pub role: Role,
    /// What it is, for people.
    pub description: String,
    /// The id of its system.
    pub system: Option<String>,
    #[serde(skip)]
    pub(super) hints: super::startup::Hints,
}

/// A version resource.
#[derive(Clone, Debug, Serialize)]
pub struct VersionFacts {
    /// `CompanyName`.
    pub company: Option<String>,
    /// `ProductName`.
    pub product: Option<String>,
    /// `ProductVersion`.
    pub product_version: Option<String>,
    /// `FileDescription`.
    pub description: Option<String>,
}

/// What a start-up file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// A system's own loader.
    OwnLoader,
    /// A unified kernel image.
    UnifiedImage,
    /// A Linux kernel with an EFI stub.
    Kernel,
    /// What firmware starts where no entry names a file.
    SparePath,
    /// Another boot manager.
    OtherBootManager,
    /// Our boot program.
    BootProgram,
    /// A tool.
    Tool,
    /// No program that could be started.
    Unfit,
}

/// What the firmware holds.
#[derive(Clone, Debug, Default, Serialize)]
pub struct FirmwareFacts {
    /// The option that the machine was started from.
    pub current: Option<String>,
    /// The option for the next start alone.
    pub next: Option<String>,
    /// The order.
    pub order: Vec<String>,
    /// Seconds.
    pub timeout: Option<u16>,
    /// Every load option: those in the order first, in its order.
    pub entries: Vec<FirmwareEntry>,
    /// What starts next, in words.
    pub starts_next: String,
    /// What our menu tried last, and why it failed.
    pub last_start: Option<String>,
}

/// A load option.
#[derive(Clone, Debug, Serialize)]
pub struct FirmwareEntry {
    /// Its number, four hexadecimal digits.
    pub number: String,
    /// Its label.
    pub label: String,
    /// Whether it is in use.
    pub is_active: bool,
    /// Its place in the order, from 1.
    pub place: Option<usize>,
    /// Whether the firmware made it by itself.
    pub is_made_by_firmware: bool,
    /// Its device path, in words.
    pub path: String,
    /// Length of its optional data in bytes.
    pub data_length: usize,
    /// The file it leads to.
    pub target: Option<Target>,
    /// What it leads to or why not, in words.
    pub finding: String,
    /// The id of the system it starts.
    pub system: Option<String>,
    #[serde(skip)]
    pub(super) number_value: u16,
}

/// A file that a load option leads to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Target {
    /// Number of the volume.
    pub volume: usize,
    /// Number of the disk.
    pub disk: usize,
    /// Number of the partition.
    pub partition: u32,
    /// The path, with `/`.
    pub file: String,
}

/// Something odd.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// Its code.
    pub code: Code,
    /// What was found, with its place.
    pub message: String,
    /// What helps.
    pub help: String,
}

impl FirmwareEntry {
    /// Its number.
    pub fn number(&self) -> u16 {
        self.number_value
    }
}

impl Survey {
    /// The system of this id.
    pub fn system(&self, id: &str) -> Option<&System> {
        self.systems.iter().find(|system| system.id == id)
    }

    /// The index of the start-up file at this path of a volume (by index); case does not matter.
    pub fn startup_file(&self, volume: usize, path: &str) -> Option<usize> {
        let path = path.to_lowercase();
        self.startup_files
            .iter()
            .position(|file| file.volume == volume + 1 && file.path.to_lowercase() == path)
    }
}
