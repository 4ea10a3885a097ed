//! What every file-system reader offers.

use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::block::{ReadError, SharedDevice};
use crate::probe::{Identity, VolumeKind};

/// A file system that can be looked into. Paths are written with `/` and start with it.
pub trait FileSystem {
    /// What stands in a folder, without `.` and `..`.
    ///
    /// # Errors
    /// Where it is no folder, or cannot be read.
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError>;

    /// What stands at a path; links are followed.
    ///
    /// # Errors
    /// [`VolumeError::NotFound`] where nothing does.
    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError>;

    /// Hands a file's bytes to `sink`, piece by piece, until it is all there or `sink` says `false`.
    ///
    /// # Errors
    /// Where it is no file, or cannot be read.
    fn read_with(&self, path: &str, sink: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), VolumeError>;

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
    /// Where it is no file, or cannot be read.
    fn read_head(&self, path: &str, most: usize) -> Result<Vec<u8>, VolumeError> {
        head_by_pieces(self, path, most)
    }
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

/// Why a volume could not be read: whose fault it is.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum VolumeError {
    /// The disk beneath did not give the bytes.
    #[error("{0}")]
    Device(#[from] ReadError),
    /// We cannot read this; it need not be broken.
    #[error("cannot be read by this program: {0}")]
    Unsupported(String),
    /// It is broken.
    #[error("broken: {0}")]
    Corrupt(String),
    /// Nothing stands at this path.
    #[error("there is no {0}")]
    NotFound(String),
    /// A folder was asked for, this is none; or the other way round.
    #[error("{path} is {found}")]
    WrongKind {
        /// The path.
        path: String,
        /// What it is instead.
        found: &'static str,
    },
    /// Longer than what was asked for.
    #[error("{path} is longer than {most} bytes")]
    TooLarge {
        /// The path.
        path: String,
        /// Bytes allowed.
        most: usize,
    },
}

/// Opens a volume's file system; `None` for a kind that is not looked into.
///
/// # Errors
/// Where the volume says it is of that kind and is broken or beyond us.
pub fn open(device: &SharedDevice, identity: &Identity) -> Option<Result<Box<dyn FileSystem>, VolumeError>> {
    Some(match identity.kind {
        VolumeKind::Fat12 | VolumeKind::Fat16 | VolumeKind::Fat32 => {
            crate::fat::FatVolume::open(device.clone()).map(|volume| Box::new(volume) as Box<dyn FileSystem>)
        }
        VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4 => {
            crate::ext::ExtVolume::open(device).map(|volume| Box::new(volume) as Box<dyn FileSystem>)
        }
        _ => return None,
    })
}

/// A file's first bytes, gathered from the pieces that its reader hands on.
pub(crate) fn head_by_pieces(
    fs: &(impl FileSystem + ?Sized),
    path: &str,
    most: usize,
) -> Result<Vec<u8>, VolumeError> {
    let mut bytes = Vec::new();
    fs.read_with(path, &mut |piece| {
        let left = most.saturating_sub(bytes.len());
        bytes.extend_from_slice(piece.get(..left).unwrap_or(piece));
        bytes.len() < most
    })?;
    Ok(bytes)
}

/// The parts of a path, empty ones and `.` left out.
pub(crate) fn parts(path: &str) -> impl Iterator<Item = &str> {
    path.split('/').filter(|part| !part.is_empty() && *part != ".")
}
