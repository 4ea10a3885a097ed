//! Who answers for an ext volume: our own reader, or the one that takes in a journal.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::ToString;
use alloc::vec::Vec;
use core::cell::{OnceCell, RefCell};

use ext4_view::{Ext4, Ext4Error, Ext4Read};

use super::layout::Layout;
use super::superblock::{OFFSET, Superblock};
use crate::block::{ReadAhead, ReadError, SharedDevice, read_vec};
use crate::error::VolumeError;
use crate::file_system::{FileSystem, Item, Metadata};
use crate::tree::Tree;

/// A folder with more items than this is cut off.
const MAX_ITEMS: usize = 65536;

/// An ext volume, opened.
pub struct ExtVolume {
    device: SharedDevice,
    own: Tree<Layout>,
    /// Whether what counts may stand in the journal alone, which the reading crate takes in.
    needs_journal: bool,
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
        let own = Tree(Layout::new(device.clone(), &raw, superblock.block_size)?);
        let needs_journal = superblock.needs_journal;
        Ok(Self { device: device.clone(), own, needs_journal, careful: OnceCell::new() })
    }

    /// The same volume as the reading crate reads it.
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

    /// The answer with the journal taken in where it has to be. What the reading crate cannot do is answered as the volume
    /// stands, which is better than not at all.
    fn answer<T>(&self, ask: impl Fn(&dyn FileSystem) -> Result<T, VolumeError>) -> Result<T, VolumeError> {
        let careful = self.needs_journal.then(|| self.careful().and_then(|careful| ask(careful)));
        match careful {
            None | Some(Err(VolumeError::Corrupt(_) | VolumeError::Unsupported(_))) => ask(&self.own),
            Some(answer) => answer,
        }
    }
}

impl FileSystem for ExtVolume {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        self.answer(|volume| volume.list(folder))
    }

    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        self.answer(|volume| volume.metadata(path))
    }

    fn file_device(&self, path: &str) -> Result<Option<SharedDevice>, VolumeError> {
        self.own.file_device(path)
    }

    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        let buffer = RefCell::new(buffer);
        self.answer(|volume| volume.read_at(path, offset, &mut buffer.borrow_mut()))
    }
}

/// An ext volume, read by the crate `ext4-view`, block by block, with its checksums and its journal.
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
