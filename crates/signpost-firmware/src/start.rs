//! The firmware's rules of starting, from power-on to the program that takes over.
//!
//! The rules are UEFI 2.10, 3.1 and 3.5, as the open-source firmware carries them out; where the two
//! differ, what was seen on real firmware counts. The same function serves every rehearsal.

mod rules;
mod words;

use alloc::string::String;
use alloc::vec::Vec;

use uguid::Guid;

use crate::device_path::{DevicePath, PartitionSignature};

pub use rules::{follow, locate};
pub use words::{Kind, Names, volume_path};

/// A partition, as the firmware sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartitionSeen {
    /// The caller's own number for it.
    pub id: usize,
    /// The caller's own number for its disk.
    pub disk: usize,
    /// Partition number, from 1.
    pub number: u32,
    /// Its identity.
    pub signature: PartitionSignature,
    /// Whether the firmware reads its file system.
    pub readable: bool,
}

/// What became of a file that the firmware tried to start.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Program {
    /// There is no such file.
    Missing,
    /// It is there, and cannot be started, in words.
    Unfit(String),
    /// It is there; whether the firmware takes it cannot be told, in words.
    CannotTell(String),
    /// It is started, and the machine stands still: why, in words.
    Hangs(String),
    /// It takes over.
    Starts,
}

/// Which disk a device path without a partition means.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DiskMatch {
    /// This one, by the caller's own number.
    Disk(usize),
    /// None that is here.
    Gone,
    /// The path does not tell without the controllers at hand.
    Unknown,
}

/// The machine around the firmware: what it can see and read.
pub trait Hardware {
    /// Its partitions, in the order in which the firmware finds them.
    fn partitions(&self) -> &[PartitionSeen];
    /// The numbers of its disks, in the same order.
    fn disks(&self) -> &[usize];
    /// Tries a file; paths are written with backslashes and case does not matter. `data` is what the option
    /// hands to it: a kernel gives up where that names an initrd which is not there.
    fn program(&self, partition: usize, path: &str, data: &[u8]) -> Program;
    /// The disk that an option without a partition names.
    fn disk_of(&self, path: &DevicePath, label: &str) -> DiskMatch;
    /// File name of the fallback path: `BOOTX64.EFI` and its like.
    fn fallback_file_name(&self) -> &str;
}

/// Why an option was looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reason {
    /// `BootNext` names it.
    NextBoot,
    /// The boot order, at this place from 1.
    Order(usize),
    /// The firmware makes an entry for this disk by itself, behind all others.
    MadeForDisk(usize),
}

/// One step of the start.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// Why this option is looked at.
    pub reason: Reason,
    /// Its number; none where the firmware makes the entry in this start.
    pub option: Option<u16>,
    /// Its label.
    pub label: Option<String>,
    /// What came of it.
    pub verdict: Verdict,
}

/// What came of one option.
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// No variable of this number.
    NoVariable,
    /// Its variable is broken, in words.
    Malformed(String),
    /// Not in use.
    NotActive,
    /// Of another category than boot, which the order skips.
    Category,
    /// Made by the firmware itself for a device that is gone: deleted at this start.
    Deleted,
    /// No partition has this number and identity.
    NoPartition {
        /// Number in the device path.
        number: u32,
        /// Identity in the device path.
        signature: PartitionSignature,
        /// Partitions of the right identity with another number.
        renumbered: Vec<usize>,
    },
    /// The device is gone.
    NoDevice,
    /// No volume here has the file.
    NoFile {
        /// The path that was looked for.
        path: String,
        /// Partitions looked at.
        partitions: Vec<usize>,
    },
    /// The partition's file system is none that the firmware reads.
    Unreadable {
        /// The partition.
        partition: usize,
    },
    /// The file is there and cannot be started.
    Unfit {
        /// The file.
        target: Target,
        /// Why, in words.
        why: String,
    },
    /// The file is started, and the machine stands still.
    Hangs {
        /// The file.
        target: Target,
        /// Why, in words.
        why: String,
    },
    /// A network start: nobody is taken to answer.
    Network,
    /// It cannot be followed from here.
    CannotFollow(Untraced),
    /// A device that only this firmware's own paths tell: it may hold what starts.
    UnknownDevice,
    /// A program inside the firmware takes over.
    BuiltIn(Guid),
    /// One of these takes over; more than one where clones leave it open.
    Starts(Vec<Target>),
    /// This may take over; whether it does cannot be told, in words.
    MayStart(Target, String),
}

/// Why an option cannot be followed.
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Untraced {
    /// It names a legacy device class (a BIOS boot specification path), which UEFI firmware does not start.
    LegacyClass,
    /// Its device path is empty.
    EmptyPath,
}

impl Verdict {
    /// Whether nothing starts by it, for all that can be told.
    pub fn starts_nothing(&self) -> bool {
        match self {
            Self::NoVariable
            | Self::Malformed(_)
            | Self::NotActive
            | Self::Category
            | Self::Deleted
            | Self::NoPartition { .. }
            | Self::NoDevice
            | Self::NoFile { .. }
            | Self::Unreadable { .. }
            | Self::Unfit { .. }
            | Self::Hangs { .. } => true,
            Self::Network
            | Self::CannotFollow(_)
            | Self::UnknownDevice
            | Self::BuiltIn(_)
            | Self::Starts(_)
            | Self::MayStart(..) => false,
        }
    }

    /// The file that it leads to, whether that starts or not.
    pub fn target(&self) -> Option<&Target> {
        match self {
            Self::Starts(targets) => targets.first(),
            Self::MayStart(target, _) | Self::Unfit { target, .. } | Self::Hangs { target, .. } => {
                Some(target)
            }
            _ => None,
        }
    }
}

/// A file that takes over.
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    /// The partition it lies on.
    pub partition: usize,
    /// Its path, with backslashes, as the option writes it.
    pub path: String,
}

/// How the start ends.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum End {
    /// A file takes over: the option's number, and what it may be.
    Starts {
        /// The option; none where the firmware made the entry in this start.
        option: Option<u16>,
        /// The targets; more than one where it cannot be told which.
        targets: Vec<Target>,
    },
    /// A program of the firmware's own takes over.
    BuiltIn {
        /// The option.
        option: u16,
        /// The program's GUID.
        program: Guid,
    },
    /// A file is started, and the machine stands still: nothing comes behind it.
    Hangs {
        /// The option; none where the firmware made the entry in this start.
        option: Option<u16>,
        /// The file.
        target: Target,
        /// Why, in words.
        why: String,
    },
    /// Nothing starts: the firmware opens its own screen.
    Nothing,
}

/// A start, followed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Start {
    /// Every step, in order.
    pub steps: Vec<Step>,
    /// Ends that could not be told to be refused or accepted, before the sure one.
    pub possible: Vec<End>,
    /// The end.
    pub end: End,
}

#[cfg(test)]
mod tests;
