//! A raw disk image in a file.

use std::fs::{File, OpenOptions};
use std::io::{self, Seek, SeekFrom};
use std::os::unix::fs::FileExt;
use std::path::Path;

use signpost_disk::block::{BlockDevice, ReadError};

use crate::files::open_image;
use crate::os_words::words;

/// An image, open for reading.
pub(super) struct ImageFile {
    file: File,
    size: u64,
}

impl ImageFile {
    pub(super) fn open(path: &Path) -> io::Result<Self> {
        let mut file = open_image(path)?;
        // The end of a block device is found by going there.
        let size = file.seek(SeekFrom::End(0))?;
        Ok(Self { file, size })
    }
}

/// Carries out writes on a volume of an image, each synced before the next: offsets from `start`.
pub(super) fn put(image: &Path, start: u64, writes: &[(u64, Vec<u8>)]) -> io::Result<()> {
    let file = OpenOptions::new().read(true).write(true).open(image)?;
    for (offset, bytes) in writes {
        let at = start.checked_add(*offset).ok_or(io::ErrorKind::InvalidInput)?;
        file.write_all_at(bytes, at)?;
        file.sync_data()?;
    }
    Ok(())
}

impl BlockDevice for ImageFile {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        self.file.read_exact_at(buffer, offset).map_err(|error| match error.kind() {
            io::ErrorKind::UnexpectedEof => ReadError::past_end(offset, buffer.len(), self.size),
            _ => ReadError { offset, length: buffer.len(), why: words(&error) },
        })
    }
}
