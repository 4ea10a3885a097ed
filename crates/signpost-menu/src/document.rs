//! The menu document: what a menu file says, once it holds.

use alloc::string::String;
use alloc::vec::Vec;

use crate::appearance::Appearance;
use crate::entry_kind::EntryKind;
use crate::ids::EntryId;
use crate::kernels::Newest;
use crate::keyboard::{Keyboard, UNITED_STATES};
use crate::place::{Place, VolumeRef};
use crate::symbol::Symbol;

/// A menu file's contents.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MenuDocument {
    /// `[menu]`.
    pub settings: Settings,
    /// `[look]`.
    pub look: Appearance,
    /// `[kernel] args`: added to every Linux entry.
    pub kernel_args: String,
    /// `[include] bls`: whether entry files and unified images are looked for at boot.
    pub include_bls: bool,
    /// `[[entry]]`, in the file's order, which is the menu's.
    pub entries: Vec<Entry>,
    /// `[[hide]]`.
    pub hidden: Vec<Hide>,
}

/// `[menu]`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Settings {
    /// Shown above the menu.
    pub heading: Option<String>,
    /// Who shows it.
    pub host: Host,
    /// What starts where nobody chooses.
    pub default: DefaultEntry,
    /// How long the menu waits.
    pub timeout: Timeout,
    /// When the menu is shown.
    pub show: Show,
    /// What the keys at boot are read as.
    pub keyboard: &'static Keyboard,
    /// `serial-port`: the serial port that shows the menu too, counted from 0, with firmware that sends nothing there itself.
    pub serial_port: Option<u8>,
    /// `fallback-path`: whether the boot program stands in the home volume's fallback path too.
    pub fallback_path: bool,
    /// `homes`: on how many volumes, or disks, boot program and menu stand.
    pub homes: u8,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            heading: None,
            host: Host::Firmware,
            default: DefaultEntry::First,
            timeout: Timeout::Seconds(5),
            show: Show::Always,
            keyboard: &UNITED_STATES,
            serial_port: None,
            fallback_path: false,
            homes: 1,
        }
    }
}

/// Who shows the menu.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Host {
    /// Our boot program.
    Signpost,
    /// The firmware's own list.
    Firmware,
}

impl Host {
    /// Both of them.
    pub const ALL: [Self; 2] = [Self::Firmware, Self::Signpost];

    /// The word that stands for it in the file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Signpost => "signpost",
            Self::Firmware => "firmware",
        }
    }
}

/// What starts where nobody chooses.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DefaultEntry {
    /// The first entry of the file that starts a system.
    First,
    /// What was started last.
    LastStarted,
    /// The entry of this id.
    Id(EntryId),
}

/// How long the menu waits before it starts the default.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Timeout {
    /// This many seconds; 0 starts at once.
    Seconds(u16),
    /// Until a key.
    Never,
}

/// When the menu is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Show {
    /// At every start.
    Always,
    /// Where a key is pressed.
    OnKey,
    /// Not at all.
    Never,
}

impl Show {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Always, Self::OnKey, Self::Never];

    /// The word that stands for it in the file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Always => "always",
            Self::OnKey => "on-key",
            Self::Never => "never",
        }
    }
}

/// One entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Its id, unique in the file.
    pub id: EntryId,
    /// Its title.
    pub title: String,
    /// What it starts.
    pub starts: Starts,
    /// `in`: the group that it is a member of.
    pub group: Option<EntryId>,
    /// `symbol`: what stands beside its title, where that is not what goes with its kind of start.
    pub symbol: Option<Symbol>,
    /// `tries`: how often it is started by itself without coming up; any number of times where nobody says.
    pub tries: Option<u8>,
    /// `fallback`: what starts instead where its tries are used up, or it cannot start.
    pub fallback: Option<EntryId>,
    /// Line of the file on which it begins, from 1; 0 for one that does not stand in the file.
    pub line: usize,
}

impl Entry {
    /// The symbol beside it: what it says, else what goes with its kind of start.
    pub fn shown_symbol(&self) -> Symbol {
        self.symbol.clone().unwrap_or_else(|| Symbol::of_kind(self.starts.kind()))
    }
}

/// What an entry starts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Starts {
    /// A Linux kernel.
    Linux(Linux),
    /// An EFI program.
    Efi {
        /// The program.
        program: Place,
        /// Handed to it.
        args: String,
    },
    /// A boot sector.
    Sector {
        /// Where it stands.
        from: SectorFrom,
        /// How it is started.
        manner: SectorManner,
    },
    /// A load option of the firmware's.
    FirmwareEntry {
        /// Its label.
        label: String,
        /// The file that it starts, where labels alone do not tell.
        target: Option<Place>,
        /// Whether it is started directly instead of by next boot and restart.
        handover: bool,
    },
    /// A system inside an image file.
    Image {
        /// The image.
        image: Place,
        /// The kernel in it.
        kernel: KernelChoice,
        /// Paths of initrds in it; `{version}` stands for the kernel's version.
        initrd: Vec<String>,
        /// Kernel arguments, which tell the system where its image is.
        args: String,
    },
    /// A heading over entries whose `in` names it.
    Group,
    /// Firmware setup.
    SetupScreen,
    /// A restart.
    Restart,
    /// Power off.
    PowerOff,
    /// Nothing that this version knows: only where a file is read leniently.
    Unknown {
        /// What is wrong with it.
        why: String,
    },
}

/// Where a boot sector stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SectorFrom {
    /// At the start of a volume, or of the partition whose slice it is.
    Volume(VolumeRef),
    /// In a file.
    File(Place),
}

/// How a boot sector is started.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SectorManner {
    /// Its partition is made the active one of its disk before.
    pub active: bool,
    /// Its disk is the firmware's first while it runs, and the first takes its place.
    pub as_first_disk: bool,
    /// Not the volume's own, but the first sector of the disk that it lies on.
    pub first_sector: bool,
}

impl SectorFrom {
    /// The volume that it names.
    pub fn volume(&self) -> &VolumeRef {
        match self {
            Self::Volume(volume) => volume,
            Self::File(place) => &place.volume,
        }
    }
}

impl Starts {
    /// Its kind; none of what this version does not know.
    pub fn kind(&self) -> Option<EntryKind> {
        Some(match self {
            Self::Linux(_) => EntryKind::Linux,
            Self::Efi { .. } => EntryKind::Efi,
            Self::Sector { .. } => EntryKind::Sector,
            Self::FirmwareEntry { .. } => EntryKind::FirmwareEntry,
            Self::Image { .. } => EntryKind::Image,
            Self::Group => EntryKind::Group,
            Self::SetupScreen => EntryKind::SetupScreen,
            Self::Restart => EntryKind::Restart,
            Self::PowerOff => EntryKind::PowerOff,
            Self::Unknown { .. } => return None,
        })
    }

    /// The word that stands for it in the file.
    pub fn word(&self) -> &'static str {
        self.kind().map_or("unknown", EntryKind::word)
    }

    /// Whether it starts a system or program, so that it can be a default.
    pub fn is_system(&self) -> bool {
        !matches!(self, Self::Group | Self::SetupScreen | Self::Restart | Self::PowerOff)
    }
}

/// A Linux kernel to start.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Linux {
    /// Where kernel and initrds lie.
    pub volume: VolumeRef,
    /// The kernel.
    pub kernel: KernelChoice,
    /// Paths of initrds; `{version}` stands for the kernel's version.
    pub initrd: Vec<String>,
    /// The root volume, where arguments say `{root}`.
    pub root: Option<VolumeRef>,
    /// Kernel arguments.
    pub args: String,
}

/// Which kernel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KernelChoice {
    /// This file.
    Fixed(String),
    /// The newest complete one of a pattern.
    Newest(Newest),
}

/// Something that draft never offers again.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hide {
    /// What is hidden.
    pub what: Hidden,
    /// Why.
    pub why: Option<String>,
}

/// What a `[[hide]]` names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Hidden {
    /// An entry by its id.
    Entry(EntryId),
    /// All that lies on a volume.
    Volume(VolumeRef),
    /// A system by its title.
    System(String),
    /// A file.
    File(Place),
}

impl MenuDocument {
    /// The entry of this id.
    pub fn entry(&self, id: &str) -> Option<&Entry> {
        self.entries.iter().find(|entry| entry.id == id)
    }

    /// The number that each entry has on the screen: its place in the menu, or in its group, from 1.
    pub fn numbers(&self) -> Vec<usize> {
        let mut counted: Vec<(Option<&str>, usize)> = Vec::new();
        let mut numbers = Vec::with_capacity(self.entries.len());
        for entry in &self.entries {
            let group = entry.group.as_deref();
            match counted.iter_mut().find(|(own, _)| *own == group) {
                Some((_, count)) => {
                    *count = count.saturating_add(1);
                    numbers.push(*count);
                }
                None => {
                    counted.push((group, 1));
                    numbers.push(1);
                }
            }
        }
        numbers
    }
}
