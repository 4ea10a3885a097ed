//! Where a volume lies.

/// A volume as it is written to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Location {
    /// Index of its disk.
    pub disk: usize,
    /// Bytes from the disk's start.
    pub start: u64,
    /// Its length in bytes.
    pub length: u64,
}
