//! Benches made from nothing: disk images, programs, kernels and firmware variables of made-up systems.
//!
//! The demo and the tests both stand on this crate. It needs no tools, no network and no rights.
#![forbid(unsafe_code)]

pub mod bench;
pub mod bios_kernel;
pub mod boot_sector;
mod format;
pub mod gauge;
pub mod plain_disk;
pub mod program;
pub mod tide;
mod version_block;
mod volume;

pub use bench::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
pub use volume::{Packed, change_fat, fat};
