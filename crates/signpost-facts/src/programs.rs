//! Systems, their kernels, and the files that start them.

use alloc::string::String;
use alloc::vec::Vec;

use serde::{Deserialize, Serialize};
use signpost_firmware::image::linux::LinuxKernel;
use signpost_menu::version;

use crate::number::{DiskNumber, OptionNumber, VolumeNumber};
use crate::way::Through;

/// An installed system.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct System {
    /// A short name, fit for an id.
    pub id: String,
    /// Its title.
    pub title: String,
    /// Where the title comes from.
    pub title_from: String,
    /// `linux`, `desktop`, `dos`, `bsd`, `mac`, or `other` for one that shows by its loader alone.
    pub family: Family,
    /// Names of systems that it is made from: `ID_LIKE` in `os-release`.
    pub id_like: Vec<String>,
    /// When it was made as a copy of another one, in seconds since 1970; 0 where that is not known. `None` for one that is no
    /// copy.
    pub snapshot: Option<i64>,
    /// Number of its root volume.
    pub root: Option<VolumeNumber>,
    /// Folder of its root on that volume: `/`, or a subvolume's path.
    pub root_path: String,
    /// Number of the volume that its `/etc/fstab` mounts at `/boot`.
    pub boot: Option<VolumeNumber>,
    /// Number of the ESP that its `/etc/fstab` mounts.
    pub esp: Option<VolumeNumber>,
    /// Numbers of all volumes that its `/etc/fstab` mounts.
    pub mounts: Vec<VolumeNumber>,
    /// Numbers of the disks that it lies on: those of its root, of its image, or of its loader.
    pub disks: Vec<DiskNumber>,
    /// Its `ID` in `os-release`, before it is made unlike others of the same name.
    pub os_id: String,
    /// The image file that it lies in.
    pub image: Option<ImageFile>,
    /// Whether it is running.
    pub is_running: bool,
    /// Its kernels: the newest that has all that goes with it first, those for rescue last.
    pub kernels: Vec<Kernel>,
    /// Kernel arguments for it.
    pub arguments: Option<Arguments>,
    /// Its own loaders, the one to start first: indices of `boot_files`.
    #[serde(rename = "loader_files")]
    pub loaders: Vec<usize>,
    /// The same as places.
    #[serde(rename = "loaders")]
    pub loader_places: Vec<String>,
    /// Load options that start it.
    pub entries: Vec<OptionNumber>,
    /// The ways by which it can be reached today: what is active counts, not what is only in the menu file.
    pub ways: Vec<Through>,
}

/// An image file with a system in it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ImageFile {
    /// Number of the volume it lies on.
    pub volume: VolumeNumber,
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
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct EntryFile {
    /// Number of its volume.
    pub volume: VolumeNumber,
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
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Kernel {
    /// Number of its volume.
    pub volume: VolumeNumber,
    /// Its path.
    pub path: String,
    /// Its version.
    pub version: String,
    /// Processor.
    pub architecture: String,
    /// Version of its EFI stub.
    pub efi_stub: Option<String>,
    /// Initrds that belong to it, in the order in which it takes them.
    pub initrds: Vec<String>,
    /// The same with the initrd that has all drivers, for when the other one fails.
    pub fallback: Vec<String>,
    /// Its own arguments, where they are not its system's.
    pub arguments: Option<Arguments>,
    /// Whether it is for rescue, or a copy kept by hand: never the newest.
    pub is_rescue: bool,
}

/// Kernel arguments and where they come from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Arguments {
    /// The arguments.
    pub text: String,
    /// Where they come from, in words.
    pub source: String,
    /// The same, in one word.
    pub from: ArgumentsFrom,
}

/// Where a system's kernel arguments come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ArgumentsFrom {
    /// The system keeps them for its kernels.
    Kept,
    /// The running kernel was started with them.
    Running,
    /// An entry file gives them.
    EntryFile,
    /// They are made from where the root lies.
    Made,
}

/// A boot file on an ESP.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct BootFile {
    /// Number of its volume.
    pub volume: VolumeNumber,
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
    /// Other systems that it starts as well as that one: nothing tells whose it is.
    pub also: Vec<String>,
    /// What it says of itself.
    pub hints: Hints,
}

/// A version resource.
#[derive(Clone, Debug, Serialize, Deserialize)]
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

/// What a boot file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// A system's own loader.
    OwnLoader,
    /// A unified kernel image.
    UnifiedImage,
    /// A Linux kernel with an EFI stub.
    Kernel,
    /// What firmware starts where no entry names a file.
    FallbackPath,
    /// Another boot manager.
    OtherBootManager,
    /// Our boot program.
    BootProgram,
    /// A tool.
    Tool,
    /// No program that could be started.
    Unfit,
}

impl BootFile {
    /// The ids of the systems that it starts.
    pub fn owners(&self) -> impl Iterator<Item = &String> {
        self.system.iter().chain(&self.also)
    }

    /// Whether it is our boot program, wherever it stands.
    pub fn is_ours(&self) -> bool {
        self.role == Role::BootProgram || self.hints.is_boot_program
    }
}

impl System {
    /// Kernels that are newer than the one that is started, and lack the initrd that this one has: an update that is half done, or
    /// that failed. Nothing is to be learned from them.
    pub fn unfinished_kernels(&self) -> impl Iterator<Item = &Kernel> {
        let split = self.kernels.split_first().filter(|(first, _)| !first.initrds.is_empty());
        split.into_iter().flat_map(|(first, others)| {
            let is_newer = |other: &&Kernel| version::compare(&other.version, &first.version).is_gt();
            others.iter().filter(is_newer).filter(|other| other.initrds.is_empty() && !other.is_rescue)
        })
    }

    /// A system of which only names and family are known.
    pub fn new(id: String, title: String, title_from: String, family: Family) -> Self {
        Self {
            os_id: id.clone(),
            id,
            title,
            title_from,
            family,
            id_like: Vec::new(),
            snapshot: None,
            root: None,
            root_path: "/".into(),
            boot: None,
            esp: None,
            mounts: Vec::new(),
            disks: Vec::new(),
            image: None,
            is_running: false,
            kernels: Vec::new(),
            arguments: None,
            loaders: Vec::new(),
            loader_places: Vec::new(),
            entries: Vec::new(),
            ways: Vec::new(),
        }
    }
}

/// What a boot file says of itself, from which its role and system follow.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Hints {
    /// `.osrel` of a unified image.
    pub os_release: Option<String>,
    /// `.uname` of a unified image.
    pub uname: Option<String>,
    /// Whether it has a `.linux` section.
    pub has_kernel_section: bool,
    /// Whether it says of itself that it is our boot program.
    pub is_boot_program: bool,
    /// The kernel's header.
    pub kernel: Option<LinuxKernel>,
    /// Why it is not a program, in words.
    pub fault: Option<String>,
}

/// Families of systems.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Family {
    /// Linux.
    Linux,
    /// A closed desktop system.
    Desktop,
    /// DOS and what is like it.
    Dos,
    /// BSD.
    Bsd,
    /// macOS.
    Mac,
    /// None of these: one that shows by its loader alone.
    #[default]
    Other,
}

impl Family {
    /// The family in a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Linux => "linux",
            Self::Desktop => "desktop",
            Self::Dos => "dos",
            Self::Bsd => "bsd",
            Self::Mac => "mac",
            Self::Other => "other",
        }
    }
}
