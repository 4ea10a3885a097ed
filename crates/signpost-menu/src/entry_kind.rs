//! What an entry can start: the word for it in a menu file, and the keys that go with it.

/// Kinds of entry that a file can write.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EntryKind {
    /// A Linux kernel.
    Linux,
    /// An EFI program.
    Efi,
    /// A boot sector.
    Sector,
    /// A load option of the firmware's.
    FirmwareEntry,
    /// A system inside an image file.
    Image,
    /// A heading over members.
    Group,
    /// Firmware setup.
    SetupScreen,
    /// A restart.
    Restart,
    /// Power off.
    PowerOff,
}

impl EntryKind {
    /// Every kind, in the order in which they are listed.
    pub const ALL: [Self; 9] = [
        Self::Linux,
        Self::Efi,
        Self::Sector,
        Self::FirmwareEntry,
        Self::Image,
        Self::Group,
        Self::SetupScreen,
        Self::Restart,
        Self::PowerOff,
    ];

    /// The word that stands for it in the file.
    pub fn word(self) -> &'static str {
        match self {
            Self::Linux => "linux",
            Self::Efi => "efi",
            Self::Sector => "sector",
            Self::FirmwareEntry => "firmware-entry",
            Self::Image => "image",
            Self::Group => "group",
            Self::SetupScreen => "setup-screen",
            Self::Restart => "restart",
            Self::PowerOff => "power-off",
        }
    }

    /// The kind that a word stands for; `None` where it is none.
    pub fn of_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// Its keys beyond the common ones.
    pub fn keys(self) -> &'static [&'static str] {
        match self {
            Self::Linux => &["volume", "kernel", "initrd", "root", "args"],
            Self::Efi => &["program", "args"],
            Self::Sector => &["volume", "sector", "first-sector", "active", "as-first-disk"],
            Self::FirmwareEntry => &["label", "target", "handover"],
            Self::Image => &["image", "kernel", "initrd", "args"],
            Self::Group | Self::SetupScreen | Self::Restart | Self::PowerOff => &[],
        }
    }
}
