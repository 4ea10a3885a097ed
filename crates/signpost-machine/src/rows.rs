//! Folders of rows: TOML files that people add to what is compiled in.

use std::path::{Path, PathBuf};

use signpost_facts::error::{Error, Result};

/// Bytes of a file of rows.
const MAX_FILE: u64 = 1 << 20;

/// Every `*.toml` of a folder with its text, in the order of their names.
///
/// # Errors
/// Where the folder or a file of it cannot be read, or one is too long.
pub fn files(folder: &Path) -> Result<Vec<(PathBuf, String)>> {
    let entries = std::fs::read_dir(folder).map_err(|error| Error::unusable(folder.display(), error))?;
    let mut files: Vec<PathBuf> = entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).collect();
    files.retain(|path| path.extension().is_some_and(|extension| extension == "toml"));
    files.sort();
    files.into_iter().map(|path| Ok((path.clone(), text(&path)?))).collect()
}

fn text(path: &Path) -> Result<String> {
    let text =
        crate::files::read_text(path, MAX_FILE).map_err(|error| Error::unusable(path.display(), error))?;
    Ok(text.unwrap_or_default())
}
