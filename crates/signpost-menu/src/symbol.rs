//! What stands for a kind of start beside its title: which sign, not how it is drawn.

use crate::document::{Entry, Starts};

/// A symbol.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Symbol {
    /// A window with a line typed in it: a Linux kernel.
    Terminal,
    /// A window: a system that starts by a program of its own.
    Window,
    /// A disk: a boot sector.
    Disk,
    /// A disc: a system in an image.
    Disc,
    /// A chip: a test of the memory.
    Chip,
    /// Several sheets: a group.
    Stack,
    /// Sliders: the firmware's settings.
    Sliders,
    /// A round arrow.
    Restart,
    /// The sign on a power button.
    Power,
    /// A lifebelt: a system that brings another up again.
    Lifebelt,
}

impl Symbol {
    /// All of them.
    pub const ALL: [Self; 10] = [
        Self::Terminal,
        Self::Window,
        Self::Disk,
        Self::Disc,
        Self::Chip,
        Self::Stack,
        Self::Sliders,
        Self::Restart,
        Self::Power,
        Self::Lifebelt,
    ];

    /// The word that stands for it in the file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Terminal => "terminal",
            Self::Window => "window",
            Self::Disk => "disk",
            Self::Disc => "disc",
            Self::Chip => "chip",
            Self::Stack => "stack",
            Self::Sliders => "sliders",
            Self::Restart => "restart",
            Self::Power => "power",
            Self::Lifebelt => "lifebelt",
        }
    }

    /// What an entry has beside it: what it says, else what goes with its kind of start.
    pub fn of(entry: &Entry) -> Self {
        entry.symbol.unwrap_or(match entry.starts {
            Starts::Linux(_) => Self::Terminal,
            Starts::Efi { .. } | Starts::FirmwareEntry { .. } | Starts::Unknown { .. } => Self::Window,
            Starts::Sector { .. } => Self::Disk,
            Starts::Image { .. } => Self::Disc,
            Starts::Group => Self::Stack,
            Starts::SetupScreen => Self::Sliders,
            Starts::Restart => Self::Restart,
            Starts::PowerOff => Self::Power,
        })
    }
}
