//! What the firmware holds.

use alloc::string::String;
use alloc::vec::Vec;

use serde::{Deserialize, Serialize};
use signpost_firmware::start::{Kind, Verdict};

use crate::number::{DiskNumber, OptionNumber, PartitionNumber, VolumeNumber};

/// What the firmware holds.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct FirmwareFacts {
    /// The option that the machine was started from.
    pub current: Option<OptionNumber>,
    /// The option for the next start alone.
    pub next: Option<OptionNumber>,
    /// The order.
    pub order: Vec<OptionNumber>,
    /// Seconds.
    pub timeout: Option<u16>,
    /// Every load option: those in the order first, in its order.
    pub entries: Vec<FirmwareEntry>,
    /// The entry of our menu, or `menu`, that the next start alone goes to.
    pub once: Option<String>,
    /// What starts next, in words.
    pub starts_next: String,
    /// What our menu tried last, and why it failed.
    pub last_start: Option<String>,
    /// Entries of our menu that were started and have not said since that they came up.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unconfirmed: Vec<UnconfirmedStarts>,
}

/// Starts of an entry whose system has not said that it came up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct UnconfirmedStarts {
    /// The entry's id.
    pub entry: String,
    /// How many, in a row.
    pub starts: u8,
}

/// A load option.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct FirmwareEntry {
    /// Its number.
    pub number: OptionNumber,
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
    /// The file that its device path names, with `/`.
    #[serde(default)]
    pub file: Option<String>,
    /// Length of its optional data in bytes.
    pub data_length: usize,
    /// The file it leads to.
    pub target: Option<Target>,
    /// What it leads to or why not, in words.
    pub finding: String,
    /// The same in one word: `starts`, `no-file`, `no-partition` and the like.
    pub verdict: Kind,
    /// The same, as the firmware's rules have it; none where the option is broken.
    pub judged: Option<Verdict>,
    /// The id of the system it starts.
    pub system: Option<String>,
    /// Other systems that it starts as well as that one: their loaders lie in one place.
    pub also: Vec<String>,
}

/// A file that a load option leads to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Target {
    /// Number of the volume.
    pub volume: VolumeNumber,
    /// Number of the disk.
    pub disk: DiskNumber,
    /// Number of the partition.
    pub partition: Option<PartitionNumber>,
    /// The path, with `/`.
    pub file: String,
}

impl FirmwareEntry {
    /// The ids of the systems that it starts.
    pub fn owners(&self) -> impl Iterator<Item = &String> {
        self.system.iter().chain(&self.also)
    }

    /// Its number.
    pub fn number(&self) -> u16 {
        self.number.0
    }
}
