//! What every file-system reader offers.

use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

use crate::block::SharedDevice;
use crate::bytes::len;
pub use crate::error::VolumeError;

/// A file system that can be looked into. Paths are written with `/` and start with it.
pub trait FileSystem {
    /// What stands in a folder, without `.` and `..`.
    ///
    /// # Errors
    /// Where it is not a folder, or cannot be read.
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError>;

    /// What stands at a path; links are followed.
    ///
    /// # Errors
    /// [`VolumeError::NotFound`] where nothing does.
    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError>;

    /// Fills `buffer` with a file's bytes from `offset` on, and says how many there were: fewer than it holds
    /// only where the file ends. Large stretches come in long runs, straight into the buffer.
    ///
    /// # Errors
    /// Where it is not a file, or cannot be read.
    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError>;

    /// A file as a device of its own, for images of disks; `None` where its bytes do not lie on the volume as they are.
    ///
    /// # Errors
    /// Where it is not a file, or cannot be read.
    fn file_device(&self, path: &str) -> Result<Option<SharedDevice>, VolumeError> {
        self.metadata(path).map(|_| None)
    }

    /// Parts of the volume that systems may have as their root, beside its top folder. None for most kinds.
    ///
    /// # Errors
    /// Where they cannot be read.
    fn subvolumes(&self) -> Result<Vec<Subvolume>, VolumeError> {
        Ok(Vec::new())
    }

    /// A whole file of at most `most` bytes.
    ///
    /// # Errors
    /// [`VolumeError::TooLarge`] beyond that.
    fn read(&self, path: &str, most: usize) -> Result<Vec<u8>, VolumeError> {
        let bytes = self.read_head(path, most.saturating_add(1))?;
        if bytes.len() > most {
            return Err(VolumeError::TooLarge { path: path.to_string(), most });
        }
        Ok(bytes)
    }

    /// A file's first bytes, at most `most`.
    ///
    /// # Errors
    /// Where it is not a file, cannot be read, or is longer than there is memory.
    fn read_head(&self, path: &str, most: usize) -> Result<Vec<u8>, VolumeError> {
        let length = len(self.metadata(path)?.size).min(most);
        // Asked first whether the memory is there; then made cleared, which growing would do byte by byte.
        let no_memory = |_| VolumeError::NoMemory { path: path.to_string(), bytes: length };
        Vec::<u8>::new().try_reserve_exact(length).map_err(no_memory)?;
        let mut bytes = vec![0; length];
        let there = self.read_at(path, 0, &mut bytes)?;
        bytes.truncate(there);
        Ok(bytes)
    }
}

/// A part of a volume that can be mounted by itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Subvolume {
    /// Its path from the volume's top folder.
    pub path: String,
    /// Whether it is mounted where nobody names one.
    pub is_default: bool,
    /// When it was made as a copy of another, in seconds since 1970; `None` for one that was made empty.
    pub copied: Option<i64>,
}

/// One item of a folder.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Item {
    /// Its name.
    pub name: String,
    /// Whether it is a folder.
    pub is_folder: bool,
}

/// What stands at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Metadata {
    /// Bytes.
    pub size: u64,
    /// Whether it is a folder.
    pub is_folder: bool,
}

/// The parts of a path, empty ones and `.` left out.
pub(crate) fn parts(path: &str) -> impl Iterator<Item = &str> {
    path.split('/').filter(|part| !part.is_empty() && *part != ".")
}
