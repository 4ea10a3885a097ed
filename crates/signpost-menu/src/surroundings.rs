//! The machine around a menu, as whoever settles one has to tell of it.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use crate::document::Starts;
pub use crate::firmware::Firmware;
use crate::kernels::KernelHeader;
use crate::place::VolumeIdentity;

impl Firmware {
    /// Why nothing of this kind can be started there, whatever is on the disks.
    pub fn cannot(self, starts: &Starts) -> Option<&'static str> {
        match (self, starts) {
            (Self::Uefi, Starts::Sector { .. }) => Some("a boot sector: UEFI firmware starts none"),
            (Self::Bios, Starts::Efi { .. }) => Some("an EFI program: BIOS firmware starts none"),
            (Self::Bios, Starts::FirmwareEntry { .. }) => Some("a firmware entry: BIOS firmware has none"),
            (Self::Bios, Starts::SetupScreen) => {
                Some("firmware setup: BIOS firmware opens it by a key alone")
            }
            _ => None,
        }
    }
}

/// The machine around a menu.
pub trait Surroundings {
    /// Its firmware.
    fn firmware(&self) -> Firmware {
        Firmware::Uefi
    }

    /// A volume's boot sector, or the one in a file on it, where it has code that starts something: the partition whose it is, or
    /// the file's place, as people type them.
    ///
    /// # Errors
    /// What it is instead, in words.
    fn boot_sector(&self, volume: usize, file: Option<&str>) -> Result<String, String>;

    /// The first sector of the disk that a volume lies on, where it has code that starts something: the disk, as people type it.
    ///
    /// # Errors
    /// What it is instead, in words.
    fn first_sector(&self, volume: usize) -> Result<String, String>;

    /// Its volumes; other calls name them by their index.
    fn volumes(&self) -> &[VolumeIdentity];

    /// The name of a volume, with its device in the running system where there is one: `d1p2 (/dev/nvme0n1p2)`.
    fn whereabouts(&self, volume: usize) -> String {
        match self.volumes().get(volume) {
            Some(VolumeIdentity { name, device: Some(device), .. }) => format!("{name} ({device})"),
            Some(VolumeIdentity { name, .. }) => name.clone(),
            None => String::new(),
        }
    }

    /// The name of a volume as people read and type it: `d1p2`.
    fn name(&self, volume: usize) -> &str {
        self.volumes().get(volume).map_or("", |identity| &identity.name)
    }

    /// A place on a volume, as people read and type it: `d1p2:/boot/vmlinuz`.
    fn at(&self, volume: usize, path: &str) -> String {
        format!("{}:{path}", self.name(volume))
    }

    /// The names of the files in a folder, without its folders.
    ///
    /// # Errors
    /// Why it cannot be read, in words; a folder that is not there is no error, but `None`.
    fn files(&self, within: Within<'_>, folder: &str) -> Result<Option<Vec<String>>, String>;

    /// Whether a file stands at a path.
    ///
    /// # Errors
    /// Why the volume cannot be read, in words.
    fn has_file(&self, within: Within<'_>, path: &str) -> Result<bool, String>;

    /// Bytes of a file; `None` where there is none.
    fn size(&self, within: Within<'_>, path: &str) -> Option<u64>;

    /// What the header of a Linux kernel says; `None` where the file is none, or cannot be read.
    fn kernel_header(&self, within: Within<'_>, path: &str) -> Option<KernelHeader>;

    /// Whether a volume may hold others that only a running system can open: an encrypted one.
    fn has_closed_volumes(&self) -> bool;

    /// A text file of a volume; `None` where it is not there, or is none.
    fn text(&self, volume: usize, path: &str) -> Option<String>;

    /// What a unified kernel image says of itself; `None` where the file is none.
    fn unified_image(&self, volume: usize, path: &str) -> Option<UnifiedImage>;

    /// The volumes whose entry files and unified images go into the menu of a home volume: itself, and the extended boot
    /// partition of its disk.
    fn include_from(&self, home: usize) -> Vec<usize>;

    /// Processor that entry files may be written for, as the Boot Loader Specification calls it: `x64`.
    fn architecture(&self) -> &str;

    /// The firmware's load options, in the boot order first.
    fn load_options(&self) -> Vec<LoadOptionSeen>;
}

/// Where files are looked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Within<'a> {
    /// The volume.
    pub volume: usize,
    /// The image file on it that is looked into.
    pub image: Option<&'a str>,
}

impl Within<'_> {
    /// A volume itself.
    pub fn volume(volume: usize) -> Self {
        Self { volume, image: None }
    }
}

/// What a unified kernel image says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct UnifiedImage {
    /// Its system's `os-release`: the section `.osrel`.
    pub os_release: String,
    /// Version of its kernel: the section `.uname`.
    pub version: Option<String>,
}

/// A load option of the firmware's.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LoadOptionSeen {
    /// Its number.
    pub number: u16,
    /// Its label.
    pub label: String,
    /// The file that it leads to: volume and path, with `/`.
    pub target: Option<(usize, String)>,
    /// Why the firmware starts nothing by it, where that is so.
    pub fault: Option<String>,
}
