//! A volume by disk and bytes, for who writes to it.

use crate::number::DiskNumber;

/// A volume as it is written to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Location {
    /// Its disk.
    pub disk: DiskNumber,
    /// Bytes from the disk's start.
    pub start: u64,
    /// Its length in bytes.
    pub length: u64,
}
