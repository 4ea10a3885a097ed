//! Looking inside an image file: a file that holds a disk, or a file system alone.

use alloc::boxed::Box;
use alloc::string::ToString;
use alloc::vec::Vec;

use crate::error::VolumeError;
use crate::file_system::FileSystem;
use crate::identity::Identity;
use crate::open;
use crate::volumes::{Disk, Volumes};

/// Bytes in a sector of an image.
const SECTOR_SIZE: u32 = 512;

/// A volume inside an image file.
pub struct InnerVolume {
    /// What it is.
    pub identity: Identity,
    /// Its files, where it can be looked into.
    pub files: Option<Box<dyn FileSystem>>,
}

/// Every volume inside the image file at a path.
///
/// # Errors
/// Where it is not a file, or its file system does not say where its bytes lie.
pub fn volumes(fs: &dyn FileSystem, path: &str) -> Result<Vec<InnerVolume>, VolumeError> {
    let device = fs.file_device(path)?.ok_or_else(|| {
        VolumeError::Unsupported("images on this kind of file system are not looked into".to_string())
    })?;
    let found = Volumes::find(&[Disk::look(&device, SECTOR_SIZE)]);
    let open = |volume: crate::volumes::Volume| {
        let files = volume.device.as_ref().filter(|_| volume.fault.is_none());
        let files = files.and_then(|device| open::file_system(device, &volume.identity)?.ok());
        InnerVolume { identity: volume.identity, files }
    };
    Ok(found.list.into_iter().map(open).collect())
}

/// The files of the first volume inside an image that has something at a path.
///
/// # Errors
/// As [`volumes`]; [`VolumeError::NotFound`] where none has it.
pub fn with_path(fs: &dyn FileSystem, image: &str, path: &str) -> Result<Box<dyn FileSystem>, VolumeError> {
    let files = volumes(fs, image)?.into_iter().filter_map(|volume| volume.files);
    let mut having = files.filter(|files| files.metadata(path).is_ok());
    having.next().ok_or_else(|| VolumeError::NotFound(path.to_string()))
}
