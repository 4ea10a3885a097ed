//! Writing a file so that a cut leaves the old one or the new one.

use std::fs::File;
use std::io::Write;
use std::path::Path;

use crate::error::{Error, Result};

/// Puts `bytes` into the file at `path`: a new file beside it, synced, renamed over it, the folder synced.
/// Folders that are missing are made. A cut may leave the new file beside it, under a temporary name.
///
/// # Errors
/// Where any of that fails; the file is then as it was.
pub fn write_durably(path: &Path, bytes: &[u8]) -> Result<()> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let write = || {
        std::fs::create_dir_all(folder)?;
        let mut file = tempfile::NamedTempFile::new_in(folder)?;
        if let Ok(before) = std::fs::metadata(path) {
            file.as_file().set_permissions(before.permissions())?;
        } else {
            set_plain_permissions(file.as_file())?;
        }
        file.write_all(bytes)?;
        file.as_file().sync_all()?;
        file.persist(path).map_err(|error| error.error)?;
        File::open(folder)?.sync_all()
    };
    write().map_err(|error| Error::unusable(path, error))
}

/// Temporary files are made for their owner alone; these are for all to read.
fn set_plain_permissions(file: &File) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    file.set_permissions(std::fs::Permissions::from_mode(0o644))
}
