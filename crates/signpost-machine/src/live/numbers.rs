//! Where the running system is looked up, and the numbers of its devices.

use std::fs;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

/// The folder that everything of the running system is looked up below: `/`, but in tests.
#[derive(Clone, Debug)]
pub(super) struct Root(pub(super) PathBuf);

impl Root {
    pub(super) fn at(&self, path: &str) -> PathBuf {
        self.0.join(path)
    }
}

/// A device's numbers, by which the kernel knows it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Numbers {
    /// The driver's.
    pub major: u32,
    /// The device's among those of its driver.
    pub minor: u32,
}

impl Numbers {
    /// Reads `259:2`.
    pub(super) fn parse(text: &str) -> Option<Self> {
        let (major, minor) = text.trim().split_once(':')?;
        Some(Self { major: major.parse().ok()?, minor: minor.parse().ok()? })
    }

    pub(super) fn of_device(number: u64) -> Self {
        Self { major: rustix::fs::major(number), minor: rustix::fs::minor(number) }
    }

    /// Those of a block device's file.
    pub(super) fn of_file(path: &Path) -> Option<Self> {
        let found = fs::metadata(path).ok()?;
        found.file_type().is_block_device().then(|| Self::of_device(found.rdev()))
    }
}

/// An identity without the marks between its digits, which each tool sets in another way.
pub(super) fn digits(identity: &str) -> String {
    identity.chars().filter(char::is_ascii_hexdigit).collect::<String>().to_lowercase()
}
