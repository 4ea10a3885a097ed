//! The menu file on disk.

use std::path::{Path, PathBuf};

use signpost_core::menu_file::{self, MenuFile};
use signpost_facts::{Error, Result};
use signpost_machine::durable::write_durably;
use signpost_machine::files;

/// More is read than a menu may have, so that a file that is too long gets its own error.
const MAX_FILE: u64 = 16 << 20; // bytes

/// Reads and checks a menu file.
///
/// # Errors
/// [`Error::MenuFile`] with all that is wrong with it; [`Error::Unusable`] where it is not there.
pub fn load(path: &Path) -> Result<MenuFile> {
    let none = || Error::unusable(path.display(), "there is no menu file; `signpost draft` makes one");
    load_if_there(path)?.ok_or_else(none)
}

/// The same; `None` where there is no file.
///
/// # Errors
/// As [`load`].
pub fn load_if_there(path: &Path) -> Result<Option<MenuFile>> {
    text(path)?.map(|text| MenuFile::new(path, text)).transpose()
}

/// The text of a menu file, whether it holds or not; `None` where there is none.
///
/// # Errors
/// Where it cannot be read, or is not a text.
pub fn text(path: &Path) -> Result<Option<String>> {
    read_bytes(path)?.map(|bytes| menu_file::text(path, bytes)).transpose()
}

/// Writes a menu file, once its text holds. What stood there before is kept beside it; a file that says the same is left
/// alone.
///
/// # Errors
/// Where it does not, or cannot be written.
pub fn save(path: &Path, text: &str) -> Result<()> {
    menu_file::check(path, text)?;
    let Some(before) = read_bytes(path)? else { return write_durably(path, text.as_bytes()) };
    if before == text.as_bytes() {
        return Ok(());
    }
    write_durably(&before_last_change(path), &before)?;
    write_durably(path, text.as_bytes())
}

/// Where the menu file as it was before the last change is kept.
pub fn before_last_change(path: &Path) -> PathBuf {
    let mut name = path.file_name().map(std::ffi::OsStr::to_os_string).unwrap_or_default();
    name.push(".before");
    path.with_file_name(name)
}

/// Brings the menu file back as it was before the last change; done twice, all is as it is now.
///
/// # Errors
/// Where none is kept, or one of the two cannot be read or written.
pub fn bring_back(path: &Path) -> Result<()> {
    let kept = before_last_change(path);
    let before = read_bytes(&kept)?.ok_or_else(|| {
        Error::unusable(
            kept.display(),
            "the menu file was not changed by a command yet, so nothing is kept of before",
        )
    })?;
    let now = read_bytes(path)?.unwrap_or_default();
    write_durably(path, &before)?;
    write_durably(&kept, &now)
}

fn read_bytes(path: &Path) -> Result<Option<Vec<u8>>> {
    files::read(path, MAX_FILE).map_err(|error| Error::unusable(path.display(), error))
}
