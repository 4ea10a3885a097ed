//! The means by which systems can be started.

use alloc::string::String;
use signpost_menu::ids::EntryId;

use serde::{Deserialize, Serialize};

use crate::number::{DiskNumber, OptionNumber};

/// One concrete means by which a system can be started.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Way {
    /// The system's id.
    pub system: String,
    /// What it goes through.
    pub through: Through,
}

/// What a way goes through.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Through {
    /// An entry of the active menu, by its id.
    Menu(EntryId),
    /// An entry of the firmware's, by its number.
    FirmwareEntry(OptionNumber),
    /// The fallback path of a disk, by the disk's number: firmware comes to it where no entry starts.
    FallbackPath(DiskNumber),
    /// The active partition of a disk, by the disk's number: its first sector's code starts it, with BIOS firmware.
    ActivePartition(DiskNumber),
}
