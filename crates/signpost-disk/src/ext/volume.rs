//! An ext volume, read.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::ToString;
use alloc::vec::Vec;
use core::cell::OnceCell;

use ext4_view::{Ext4, Ext4Error, Ext4Read};

use super::runs::Layout;
use super::superblock::{OFFSET, Superblock};
use crate::block::{ReadAhead, ReadError, SharedDevice, read_vec};
use crate::error::VolumeError;
use crate::file_system::{FileSystem, Item, Metadata};

/// A folder with more items than this is cut off.
const MAX_ITEMS: usize = 65536;

/// An ext volume, opened.
pub struct ExtVolume {
    device: SharedDevice,
    /// The fast way to folders and whole files, where the volume is of a kind that allows it.
    layout: Option<Layout>,
    /// The other way, opened once it is needed.
    careful: OnceCell<Result<Careful, VolumeError>>,
}

impl ExtVolume {
    /// Opens a volume whose superblock holds.
    ///
    /// # Errors
    /// Where it is broken, or has features that cannot be read.
    pub fn open(device: &SharedDevice) -> Result<Self, VolumeError> {
        let Some(superblock) = Superblock::read(device.as_ref())? else {
            return Err(VolumeError::Corrupt("no ext superblock at offset 1024".into()));
        };
        let raw = read_vec(device.as_ref(), OFFSET, 1024)?;
        let layout = Layout::new(device.clone(), &raw, superblock.block_size);
        let volume = Self { device: device.clone(), layout, careful: OnceCell::new() };
        if volume.layout.is_none() {
            volume.careful()?;
        }
        Ok(volume)
    }

    /// The same volume without the fast way.
    ///
    /// # Errors
    /// Where it is broken, or has features that cannot be read.
    pub fn careful(&self) -> Result<&Careful, VolumeError> {
        let open = || {
            let reader = Box::new(Reader(ReadAhead::new(self.device.clone())));
            Ext4::load(reader).map(Careful).map_err(|error| fault(error, "/"))
        };
        self.careful.get_or_init(open).as_ref().map_err(Clone::clone)
    }
}

impl FileSystem for ExtVolume {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        match self.layout.as_ref().and_then(|layout| layout.list(folder, MAX_ITEMS)) {
            Some(found) => {
                let mut items = found.ok_or_else(|| VolumeError::NotFound(folder.to_string()))?;
                items.sort_unstable();
                Ok(items)
            }
            None => self.careful()?.list(folder),
        }
    }

    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        match self.layout.as_ref().and_then(|layout| layout.metadata(path)) {
            Some(found) => found.ok_or_else(|| VolumeError::NotFound(path.to_string())),
            None => self.careful()?.metadata(path),
        }
    }

    fn file_device(&self, path: &str) -> Result<Option<SharedDevice>, VolumeError> {
        Ok(self.layout.as_ref().and_then(|layout| layout.file_device(path)))
    }

    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        match self.layout.as_ref().and_then(|layout| layout.read_at(path, offset, buffer)) {
            Some(there) => Ok(there),
            None => self.careful()?.read_at(path, offset, buffer),
        }
    }
}

/// An ext volume, read by the crate `ext4-view`, block by block and with its checksums: right for every case, and slow.
pub struct Careful(Ext4);

impl FileSystem for Careful {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        let mut items = Vec::new();
        for entry in self.0.read_dir(folder).map_err(|error| fault(error, folder))?.take(MAX_ITEMS) {
            let entry = entry.map_err(|error| fault(error, folder))?;
            let name = entry.file_name().display().to_string();
            if name == "." || name == ".." {
                continue;
            }
            let is_folder = entry.file_type().is_ok_and(ext4_view::FileType::is_dir);
            items.push(Item { name, is_folder });
        }
        items.sort_unstable();
        Ok(items)
    }

    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        let found = self.0.metadata(path).map_err(|error| fault(error, path))?;
        Ok(Metadata { size: found.len(), is_folder: found.is_dir() })
    }

    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        let failed = |error| fault(error, path);
        let mut file = self.0.open(path).map_err(failed)?;
        file.seek_to(offset).map_err(failed)?;
        let mut done = 0usize;
        while let Some(rest) = buffer.get_mut(done..).filter(|rest| !rest.is_empty()) {
            match file.read_bytes(rest).map_err(failed)? {
                0 => break,
                read => done = done.saturating_add(read),
            }
        }
        Ok(done)
    }
}

struct Reader(ReadAhead);

impl Ext4Read for Reader {
    fn read(
        &mut self,
        start_byte: u64,
        dst: &mut [u8],
    ) -> Result<(), Box<dyn core::error::Error + Send + Sync + 'static>> {
        self.0.read(start_byte, dst).map_err(Into::into)
    }
}

fn fault(error: Ext4Error, path: &str) -> VolumeError {
    match error {
        Ext4Error::NotFound => VolumeError::NotFound(path.to_string()),
        Ext4Error::NotADirectory => VolumeError::WrongKind { path: path.to_string(), found: "no folder" },
        Ext4Error::IsADirectory => VolumeError::WrongKind { path: path.to_string(), found: "a folder" },
        Ext4Error::IsASpecialFile => {
            VolumeError::WrongKind { path: path.to_string(), found: "no plain file" }
        }
        Ext4Error::Io(error) => match error.downcast::<ReadError>() {
            Ok(error) => VolumeError::Device(*error),
            Err(error) => VolumeError::Corrupt(format!("{path}: {error}")),
        },
        Ext4Error::Corrupt(what) => VolumeError::Corrupt(format!("{path}: {what}")),
        Ext4Error::Incompatible(what) => VolumeError::Unsupported(format!("{path}: {what}")),
        other => VolumeError::Unsupported(format!("{path}: {other}")),
    }
}
