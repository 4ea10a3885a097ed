//! The menu file on disk.

use std::path::{Path, PathBuf};

use signpost_menu::{MenuDocument, Problem, parse};

use crate::durable::write_durably;
use crate::error::{Error, Result};
use crate::files;

/// More is read than a menu may have, so that a file that is too long is told by its own error.
const MAX_FILE: u64 = 16 << 20; // bytes

/// A menu file, read.
#[derive(Clone, Debug)]
pub struct MenuFile {
    /// Its text.
    pub text: String,
    /// What it says.
    pub document: MenuDocument,
}

/// Reads and checks a menu file.
///
/// # Errors
/// [`Error::MenuFile`] with all that is wrong with it; [`Error::Unusable`] where it is not there.
pub fn load(path: &Path) -> Result<MenuFile> {
    load_text(path)?.ok_or_else(|| Error::unusable(path, "there is no menu file; `signpost draft` makes one"))
}

/// The file's text, checked; `None` where there is no file.
///
/// # Errors
/// As [`load`].
pub fn load_text(path: &Path) -> Result<Option<MenuFile>> {
    let Some(text) = read(path)? else { return Ok(None) };
    let document = check(path, &text)?;
    Ok(Some(MenuFile { text, document }))
}

/// Writes a menu file, once its text holds. What stood there before is kept beside it; a file that says the same is left
/// alone.
///
/// # Errors
/// Where it does not, or cannot be written.
pub fn save(path: &Path, text: &str) -> Result<()> {
    check(path, text)?;
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
        Error::unusable(&kept, "the menu file was not changed by a command yet, so nothing is kept of before")
    })?;
    let now = read_bytes(path)?.unwrap_or_default();
    write_durably(path, &before)?;
    write_durably(&kept, &now)
}

/// Reads a text as a menu file.
///
/// # Errors
/// [`Error::MenuFile`] with all that is wrong with it.
pub fn check(path: &Path, text: &str) -> Result<MenuDocument> {
    // Editors may leave a byte order mark.
    parse(text.strip_prefix('\u{feff}').unwrap_or(text))
        .map_err(|problems| Error::MenuFile { file: path.display().to_string(), problems })
}

fn read_bytes(path: &Path) -> Result<Option<Vec<u8>>> {
    files::read(path, MAX_FILE).map_err(|error| Error::unusable(path, error))
}

/// The text of a menu file, whether it holds or not; `None` where there is none.
pub(crate) fn read(path: &Path) -> Result<Option<String>> {
    let Some(bytes) = read_bytes(path)? else { return Ok(None) };
    String::from_utf8(bytes).map(Some).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let line = error.as_bytes()[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
        let message = format!("byte {at} of the file is no UTF-8 text");
        Error::MenuFile {
            file: path.display().to_string(),
            problems: vec![Problem { line, column: 1, message }],
        }
    })
}
