//! The menu file on disk.

use std::path::Path;

use signpost_menu::{MenuDocument, Problem, parse};

use crate::durable::write_durably;
use crate::error::{Error, Result};

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

/// Writes a menu file, once its text holds.
///
/// # Errors
/// Where it does not, or cannot be written.
pub fn save(path: &Path, text: &str) -> Result<()> {
    check(path, text)?;
    write_durably(path, text.as_bytes())
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

fn read(path: &Path) -> Result<Option<String>> {
    let bytes = match std::fs::read(path) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(Error::unusable(path, error)),
    };
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
