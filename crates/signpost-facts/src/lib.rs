//! What is known of a machine, as values: what a survey found, where things lie, what a change writes, what went wrong.
//!
//! In come only the crates below; everything here can be kept and read back. No function here reads anything or decides what
//! is done: relations between facts, such as on which disks a system lies, are as far as it goes.
#![no_std]
#![forbid(unsafe_code)]

extern crate alloc;

pub mod belongs;
pub mod cause;
pub mod change;
pub mod code;
pub mod error;
pub mod finding;
pub mod firmware;
pub mod known;
pub mod location;
pub mod noted;
pub mod number;
pub mod ours;
pub mod programs;
pub mod sectors;
pub mod secure_boot;
pub mod survey;
pub mod volume;
pub mod way;

pub use cause::{Act, Cause, Cure, Effect};
pub use code::Code;
pub use error::{Error, Refusal, Result};
pub use finding::{Finding, Subject};
pub use firmware::{FirmwareEntry, FirmwareFacts, Target, UnconfirmedStarts};
pub use number::{DiskNumber, DiskNumbers, MbrSignature, OptionNumber, PartitionNumber, VolumeNumber};
pub use programs::{
    Arguments, ArgumentsFrom, BootFile, EntryFile, Family, Hints, ImageFile, Kernel, Role, System,
    VersionFacts,
};
pub use survey::{Disk, DiskArray, FirmwareKind, MachineFacts, Partition, Survey, TableFacts, TableKind};
pub use volume::{Aside, KernelUse, Volume};

/// Version of the JSON documents.
pub const SCHEMA: u32 = 1;
