//! Folders of rows: TOML files that people add to what is compiled in.

use std::path::{Path, PathBuf};

use crate::error::{Error, Result};

/// Bytes of a file of rows.
const MAX_FILE: u64 = 1 << 20;

/// Every `*.toml` of a folder with its text, in the order of their names.
///
/// # Errors
/// Where the folder or a file of it cannot be read, or one is too long.
pub(crate) fn files(folder: &Path) -> Result<Vec<(PathBuf, String)>> {
    let entries = std::fs::read_dir(folder).map_err(|error| Error::unusable(folder, error))?;
    let mut files: Vec<PathBuf> = entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).collect();
    files.retain(|path| path.extension().is_some_and(|extension| extension == "toml"));
    files.sort();
    files.into_iter().map(|path| Ok((path.clone(), text(&path)?))).collect()
}

fn text(path: &Path) -> Result<String> {
    let length = std::fs::metadata(path).map_err(|error| Error::unusable(path, error))?.len();
    if length > MAX_FILE {
        return Err(Error::unusable(path, format!("{length} bytes; a file of rows has {MAX_FILE} at most")));
    }
    std::fs::read_to_string(path).map_err(|error| Error::unusable(path, error))
}
