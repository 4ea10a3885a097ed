//! Arrays of disks: what a member says of the array, whoever made it: Linux RAID, or firmware in one of two formats.

mod ddf;
mod imsm;

use alloc::string::String;
use core::fmt;

use crate::block::BlockDevice;
use crate::md;

/// How an array spreads its bytes over its members.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Level {
    /// One member behind the other.
    Linear,
    /// By its number: 0 stripes, 1 mirror, 4 to 6 with parity, 10 striped mirrors.
    Raid(u32),
    /// Another one.
    Other,
}

impl Level {
    /// Whether each member holds the whole, so that one of them is enough.
    pub fn is_mirror(self) -> bool {
        self == Self::Raid(1)
    }
}

impl fmt::Display for Level {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Linear => f.write_str("linear array"),
            Self::Raid(1) => f.write_str("mirror"),
            Self::Raid(number) => write!(f, "RAID {number}"),
            Self::Other => f.write_str("array"),
        }
    }
}

/// What a member says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Member {
    /// Identity of the array: the same for all its members.
    pub array: String,
    /// The array's name.
    pub name: Option<String>,
    /// Its level.
    pub level: Level,
    /// Where the data starts on the member, in bytes.
    pub data_offset: u64,
    /// Length of the data, in bytes.
    pub data_size: u64,
    /// Counts changes: of two members that differ, the higher one is the newer.
    pub events: u64,
    /// Whether the member holds the array's data as far as it goes.
    pub is_in_sync: bool,
    /// Whether firmware made the array, and may show it as one disk.
    pub is_firmwares: bool,
}

impl Member {
    /// Finds it on a disk or partition.
    pub fn read(device: &dyn BlockDevice) -> Option<Self> {
        let of_linux = md::Superblock::read(device).map(Self::of_linux);
        of_linux.or_else(|| imsm::read(device)).or_else(|| ddf::read(device))
    }

    fn of_linux(found: md::Superblock) -> Self {
        Self {
            level: match found.level {
                u32::MAX => Level::Linear,
                number @ (0 | 1 | 4 | 5 | 6 | 10) => Level::Raid(number),
                _ => Level::Other,
            },
            array: found.set_uuid,
            name: found.name,
            data_offset: found.data_offset,
            data_size: found.data_size,
            events: found.events,
            is_in_sync: found.is_in_sync,
            is_firmwares: false,
        }
    }

    /// The array in words: `mirror kestrel0`.
    pub fn words(&self) -> String {
        alloc::format!("{} {}", self.level, self.name.as_ref().unwrap_or(&self.array))
    }
}
