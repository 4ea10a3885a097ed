//! Disks as they are: reading blocks, partition tables, file systems and what is in them.
//!
//! Everything is read-only, works without an operating system, and takes no number from a disk on trust.
#![no_std]
#![forbid(unsafe_code)]
#![cfg_attr(
    not(test),
    deny(
        clippy::arithmetic_side_effects,
        clippy::indexing_slicing,
        clippy::cast_possible_truncation,
        clippy::unwrap_used
    )
)]
#![cfg_attr(
    not(all(feature = "btrfs", feature = "ext", feature = "iso", feature = "ntfs", feature = "xfs")),
    allow(dead_code, reason = "helpers of the readers that are left out")
)]

extern crate alloc;

pub mod array;
pub mod block;
#[cfg(feature = "btrfs")]
mod btrfs;
mod bytes;
mod checksum;
pub mod disklabel;
pub mod error;
#[cfg(feature = "exfat")]
mod exfat;
pub mod ext;
pub mod fat;
pub mod file_system;
pub mod gpt;
pub mod identify;
mod identity;
pub mod inside;
#[cfg(feature = "iso")]
mod iso;
pub mod lvm;
pub mod mbr;
pub mod md;
pub mod names;
mod ntfs;
pub mod open;
pub mod partition_type;
pub mod probe;
pub mod purpose;
mod runs;
pub mod table;
mod text;
#[cfg(any(feature = "btrfs", feature = "iso", feature = "ntfs", feature = "xfs"))]
mod tree;
#[cfg(feature = "udf")]
mod udf;
pub mod volumes;
#[cfg(feature = "xfs")]
mod xfs;

pub use bytes::uuid_text;
pub use uguid::{Guid, guid};
