//! What a survey says: plain facts, which are its JSON too.

use serde::Serialize;
use signpost_menu::place::VolumeIdentity;

use crate::catalogue::Family;
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
    /// Entry files on ESPs, extended boot partitions and in `/boot`.
    pub entry_files: Vec<EntryFile>,
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
    /// Bytes in a sector.
    pub sector_size: u32,
    /// Its partition table.
    pub table: TableFacts,
    /// Its partitions, by number.
    pub partitions: Vec<Partition>,
}

/// A disk's partition table.
#[derive(Clone, Debug, Serialize)]
pub struct TableFacts {
    /// `gpt`, `mbr`, `label` (of BSD), or nothing where there is none.
    pub kind: Option<&'static str>,
    /// The disk's GUID.
    pub guid: Option<String>,
    /// The disk's MBR signature, eight hexadecimal digits.
    pub signature: Option<String>,
    /// Why none or not all of it was read.
    pub fault: Option<String>,
}

/// A partition.
#[derive(Clone, Debug, Serialize)]
pub struct Partition {
    /// Its number.
    pub number: u32,
    /// What it is for: a name, or the type's GUID.
    pub purpose: String,
    /// Its own identity: a GUID, or `signature-NN` in an MBR.
    pub uuid: Option<String>,
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
    /// Number of the volume in it.
    pub volume: Option<usize>,
}

/// A volume: what may hold a file system.
#[derive(Clone, Debug, Serialize)]
pub struct Volume {
    /// Its number: `v1` and on.
    pub number: usize,
    /// Number of its disk; the first, where it lies on several.
    pub disk: usize,
    /// Number of its partition, where it is one.
    pub partition: Option<u32>,
    /// Where it is, for people: `disk 1 partition 2`.
    pub place: String,
    /// Group and name of a logical volume.
    pub lv: Option<(String, String)>,
    /// Numbers of the volumes that it is made of.
    pub members: Vec<usize>,
    /// Kind of its file system.
    pub kind: String,
    /// Whether it is FAT, which firmware reads and we write.
    #[serde(skip)]
    pub is_fat: bool,
    /// Whether UEFI firmware reads it: FAT, also beneath a RAID that it knows nothing of.
    pub firmware_reads: bool,
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
    pub aside: Option<&'static str>,
    /// Names of volumes inside of it, where it is a container.
    pub inside: Vec<String>,
    /// The partition's identity.
    pub part_uuid: Option<String>,
    /// The partition's name.
    pub part_label: Option<String>,
    #[serde(skip)]
    pub(super) disk_serial: Option<String>,
    #[serde(skip)]
    pub(super) disk_guid: Option<String>,
    /// Type of its slice or partition in an MBR.
    #[serde(skip)]
    pub(super) mbr_type: Option<u8>,
}

impl Volume {
    pub(super) fn identity(&self, is_home: bool) -> VolumeIdentity {
        VolumeIdentity {
            number: self.number as u32,
            uuid: self.uuid.clone(),
            label: self.label.clone(),
            part_uuid: self.part_uuid.clone(),
            part_label: self.part_label.clone(),
            lv: self.lv.clone(),
            disk_serial: self.disk_serial.clone(),
            disk_guid: self.disk_guid.clone(),
            partition: self.partition,
            is_home,
        }
    }

    /// Where it is, for people: `disk 1 partition 2`.
    pub fn where_it_is(&self) -> String {
        self.place.clone()
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
    /// `linux`, `desktop`, `dos`, `bsd`, `mac`, or `other` for one that shows by its loader alone.
    pub family: &'static str,
    /// Number of its root volume.
    pub root: Option<usize>,
    /// Folder of its root on that volume: `/`, or a subvolume's path.
    pub root_path: String,
    /// Number of the volume that its `/etc/fstab` mounts at `/boot`.
    pub boot: Option<usize>,
    /// The image file that it lies in.
    pub image: Option<ImageFile>,
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

/// An image file with a system in it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ImageFile {
    /// Number of the volume it lies on.
    pub volume: usize,
    /// Its path there.
    pub path: String,
    /// What it holds: a kind of file system, and `, partitioned` where it has a table of its own.
    pub holds: String,
    /// Label of the volume in it.
    pub label: Option<String>,
    /// Bytes.
    pub size: u64,
}

/// An entry file of the Boot Loader Specification.
#[derive(Clone, Debug, Serialize)]
pub struct EntryFile {
    /// Number of its volume.
    pub volume: usize,
    /// Its path.
    pub path: String,
    /// `title`.
    pub title: Option<String>,
    /// `version`.
    pub version: Option<String>,
    /// `machine-id`.
    pub machine_id: Option<String>,
    /// `linux`, or `efi`.
    pub program: Option<String>,
    /// `initrd`, in order.
    pub initrds: Vec<String>,
    /// `options`, joined.
    pub options: String,
    /// Files it names that are not there.
    pub missing: Vec<String>,
    /// The id of its system.
    pub system: Option<String>,
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
    /// Whether it is for rescue, or a copy kept by hand: never the newest.
    pub is_spare: bool,
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
    pub partition: Option<u32>,
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

impl System {
    pub(super) fn new(id: String, title: String, title_from: String, family: Family) -> Self {
        Self {
            id,
            title,
            title_from,
            family: family.word(),
            root: None,
            root_path: "/".into(),
            boot: None,
            image: None,
            is_running: false,
            kernels: Vec::new(),
            arguments: None,
            loaders: Vec::new(),
            loader_places: Vec::new(),
            entries: Vec::new(),
        }
    }

    /// A path of the system as one on its root volume.
    pub fn below_root(&self, path: &str) -> String {
        format!("{}{path}", self.root_path.trim_end_matches('/'))
    }
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
