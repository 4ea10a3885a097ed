//! The menu file's text together with what it says, so that faults have a line and edits keep what they do not change.

use std::path::{Path, PathBuf};

use signpost_facts::{Error, Result};
use signpost_menu::{MenuDocument, Problem, parse};

/// A menu file that holds.
#[derive(Clone, Debug)]
pub struct MenuFile {
    /// Where it stands.
    pub path: PathBuf,
    /// Its text.
    pub text: String,
    /// What it says.
    pub document: MenuDocument,
}

impl MenuFile {
    /// Takes a text; `path` is where it stands.
    ///
    /// # Errors
    /// [`Error::MenuFile`] with all that is wrong with it.
    pub fn new(path: &Path, text: String) -> Result<Self> {
        let document = check(path, &text)?;
        Ok(Self { path: path.to_path_buf(), text, document })
    }
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

/// The bytes of a menu file as text, whether it holds or not.
///
/// # Errors
/// [`Error::MenuFile`] where they are none.
pub fn text(path: &Path, bytes: Vec<u8>) -> Result<String> {
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let line = error.as_bytes()[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
        let message = format!("byte {at} of the file is not UTF-8 text");
        Error::MenuFile {
            file: path.display().to_string(),
            problems: vec![Problem { line, column: 1, message }],
        }
    })
}
