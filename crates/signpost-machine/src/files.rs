//! Reading files that people or we put there: plain files alone, opened without waiting for anybody, bounded before they are
//! read.

use std::fs::{File, FileType, OpenOptions};
use std::io::{self, ErrorKind, Read};
use std::os::unix::fs::{FileTypeExt, OpenOptionsExt};
use std::path::Path;

use rustix::fs::OFlags;

use crate::os_words::in_words;

/// A file's bytes; `None` where there is none.
///
/// # Errors
/// Where it is not a plain file, has more than `most` bytes, or cannot be read.
pub fn read(path: &Path, most: u64) -> io::Result<Option<Vec<u8>>> {
    let file = match open(path) {
        Ok(file) => file,
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(in_words(error)),
    };
    let found = file.metadata().map_err(in_words)?;
    need(found.file_type(), FileType::is_file, "a file")?;
    let too_long = |length: u64| {
        io::Error::new(ErrorKind::FileTooLarge, format!("it has {length} bytes, and {most} at most are read"))
    };
    if found.len() > most {
        return Err(too_long(found.len()));
    }
    let mut bytes = Vec::new();
    // It may grow while it is read.
    file.take(most.saturating_add(1)).read_to_end(&mut bytes).map_err(in_words)?;
    if bytes.len() as u64 > most { Err(too_long(bytes.len() as u64)) } else { Ok(Some(bytes)) }
}

/// The same as text.
///
/// # Errors
/// As [`read`], and where it is not UTF-8.
pub fn read_text(path: &Path, most: u64) -> io::Result<Option<String>> {
    let bytes = read(path, most)?;
    let text = bytes.map(|bytes| {
        String::from_utf8(bytes).map_err(|error| {
            let at = error.utf8_error().valid_up_to();
            io::Error::new(ErrorKind::InvalidData, format!("byte {at} of it is not UTF-8 text"))
        })
    });
    text.transpose()
}

/// Opens an image or a disk for reading.
///
/// # Errors
/// Where it is neither a plain file nor a block device, or cannot be opened.
pub fn open_image(path: &Path) -> io::Result<File> {
    let file = open(path).map_err(in_words)?;
    let is_image = |kind: &FileType| kind.is_file() || kind.is_block_device();
    need(file.metadata()?.file_type(), is_image, "an image or a disk")?;
    Ok(file)
}

/// Nothing at the other end of a pipe is waited for.
fn open(path: &Path) -> io::Result<File> {
    OpenOptions::new().read(true).custom_flags(OFlags::NONBLOCK.bits().cast_signed()).open(path)
}

fn need(kind: FileType, is_it: impl Fn(&FileType) -> bool, wanted: &str) -> io::Result<()> {
    if is_it(&kind) {
        return Ok(());
    }
    let found = match () {
        () if kind.is_dir() => "a folder",
        () if kind.is_fifo() => "a pipe",
        () if kind.is_socket() => "a socket",
        () if kind.is_char_device() || kind.is_block_device() => "a device",
        () => "none",
    };
    Err(io::Error::new(ErrorKind::InvalidInput, format!("it is {found}, and {wanted} is needed")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_plain_files_of_bounded_length_are_read() {
        let work = tempfile::tempdir().unwrap();
        let path = |name: &str| work.path().join(name);
        assert_eq!(read(&path("none"), 9).unwrap(), None);
        std::fs::write(path("file"), "123456789").unwrap();
        assert_eq!(read(&path("file"), 9).unwrap().unwrap(), b"123456789");
        assert!(read(&path("file"), 8).unwrap_err().to_string().contains("9 bytes, and 8 at most"));
        rustix::fs::mknodat(rustix::fs::CWD, path("pipe"), rustix::fs::FileType::Fifo, 0o600.into(), 0)
            .unwrap();
        std::os::unix::net::UnixListener::bind(path("socket")).unwrap();
        std::os::unix::fs::symlink("/dev/zero", path("link")).unwrap();
        for (name, word) in [("pipe", "a pipe"), ("link", "a device"), (".", "a folder")] {
            let error = read(&path(name), 9).unwrap_err().to_string();
            assert!(error.contains(word), "{name}: {error}");
        }
        assert!(read(&path("socket"), 9).is_err());
    }
}
