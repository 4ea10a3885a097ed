//! What is wrong with a machine: causes, each with its effect on starting, what was seen of it, and what cures it.

use alloc::string::String;
use alloc::vec::Vec;

use serde::{Deserialize, Serialize};
use signpost_menu::ids::EntryId;

use crate::code::Code;
use crate::finding::{Finding, Subject};
use crate::number::{DiskNumber, OptionNumber, VolumeNumber};

/// What a cause does to starting, the worst first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Effect {
    /// What starts cannot be told.
    CannotTell,
    /// Nothing starts by itself.
    NothingStarts,
    /// Something else starts than the menu, or whoever runs the machine, wants.
    StartsOther,
    /// A system cannot be started.
    SystemLost,
    /// It starts now, and will not after the next update, power cut or start.
    WillBreak,
    /// It does no harm.
    Untidy,
}

impl Effect {
    /// All of them, the worst first.
    pub const ALL: [Self; 6] = [
        Self::CannotTell,
        Self::NothingStarts,
        Self::StartsOther,
        Self::SystemLost,
        Self::WillBreak,
        Self::Untidy,
    ];

    /// The effect as a heading.
    pub fn words(self) -> &'static str {
        match self {
            Self::CannotTell => "What starts cannot be told",
            Self::NothingStarts => "Nothing starts by itself",
            Self::StartsOther => "Something else starts",
            Self::SystemLost => "A system cannot be started",
            Self::WillBreak => "Will break",
            Self::Untidy => "Untidy",
        }
    }

    /// Whether it keeps the machine, or one of its systems, from starting as it should now.
    pub fn is_felt(self) -> bool {
        self < Self::WillBreak
    }
}

/// A cause.
#[derive(Clone, Debug, Serialize)]
pub struct Cause {
    /// Its code.
    pub code: Code,
    /// What it does to starting.
    pub effect: Effect,
    /// What it is about.
    pub subject: Option<Subject>,
    /// The ids of the systems that it keeps from starting, or would.
    pub systems: Vec<String>,
    /// The cause in one sentence.
    pub message: String,
    /// What speaks for it, each a line.
    pub evidence: Vec<String>,
    /// What of it shows elsewhere.
    pub symptoms: Vec<Finding>,
    /// What cures it, the best first; `mend` carries one of them out.
    pub cures: Vec<Cure>,
    /// What a person can do, where no cure of ours does it.
    pub by_hand: Option<String>,
}

/// What cures a cause.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Cure {
    /// Its name among the cures of its cause: `mend --by NAME`.
    pub name: &'static str,
    /// What it does, in words.
    pub what: String,
    /// The same for who carries it out.
    #[serde(skip)]
    pub acts: Vec<Act>,
}

/// One thing that a cure does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Act {
    /// What was applied is corrected where it differs.
    Hold,
    /// The menu that was applied is applied anew, its home chosen anew.
    Reapply,
    /// The menu file is refreshed from what is there, and applied.
    Redraft,
    /// The same, with what was saved at boot.
    TakeSaved,
    /// Another entry is the menu's default.
    Default(EntryId),
    /// What was decided at boot, in a variable of ours of this name, is forgotten.
    Forget(&'static str),
    /// The menu is shown always.
    Show,
    /// The firmware forgets where the next start goes.
    ClearNext,
    /// An entry comes first.
    First(OptionNumber),
    /// The order names each entry once, and none that does not exist.
    CleanOrder,
    /// An entry is used.
    Enable(OptionNumber),
    /// An entry is removed.
    Remove(OptionNumber),
    /// An entry leads to this file.
    Point(OptionNumber, VolumeNumber, String),
    /// An entry is made for a file, first or last in the order.
    Make {
        /// Its label.
        label: String,
        /// The file's volume.
        volume: VolumeNumber,
        /// The file.
        path: String,
        /// Whether it comes first.
        is_first: bool,
    },
    /// A file is put where it was, from another place where it stands.
    Copy {
        /// Where it stands.
        from: (VolumeNumber, String),
        /// Where it goes.
        to: (VolumeNumber, String),
    },
    /// The first GPT of a disk, or its protective MBR, is written from what the disk's own backup says.
    Table(DiskNumber),
    /// A sector that BIOS firmware starts by is changed.
    Sector(SectorAct),
}

/// A change of a sector.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SectorAct {
    /// The disk.
    pub disk: DiskNumber,
    /// The partition, by its name; nothing for the disk's first sector.
    pub partition: Option<String>,
    /// What is done.
    pub what: SectorWhat,
}

/// What is done to a sector.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SectorWhat {
    /// Plain code goes into the first sector.
    Standard,
    /// The partition is active, and no other.
    Active,
    /// The boot sector comes back from its copy.
    Backup,
}
