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

extern crate alloc;

pub mod block;
mod btrfs;
mod bytes;
mod checksum;
pub mod disklabel;
pub mod ext;
pub mod fat;
pub mod file_system;
pub mod gpt;
pub mod inside;
mod iso;
pub mod lvm;
pub mod mbr;
pub mod md;
mod ntfs;
pub mod numbering;
pub mod partition_type;
pub mod probe;
mod runs;
pub mod table;
mod tree;
pub mod volumes;
mod xfs;

pub use bytes::uuid_text;
pub use uguid::{Guid, guid};
