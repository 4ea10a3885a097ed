//! Writing a file so that a cut leaves the old one or the new one.

use std::fs::{File, Metadata};
use std::io::{self, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt, fchown};
use std::path::{Path, PathBuf};

use signpost_facts::error::{Error, Result};

use crate::os_words::in_words;

/// What the names of temporary files start with; behind it stands the process.
const TEMPORARY: &str = ".signpost-";
/// Links that are followed to a file.
const MAX_LINKS: usize = 16;

/// Puts `bytes` into the file at `path`: a new file beside it, synced, renamed over it, the folder synced. A link is written
/// through, and owner and mode stay; a file that has other names too is overwritten in its place, so that it keeps them.
/// Folders that are missing are made. A cut may leave the new file beside it, under a temporary name.
///
/// # Errors
/// Where any of that fails; the file is then as it was.
pub fn write_durably(path: &Path, bytes: &[u8]) -> Result<()> {
    let write = || {
        let path = followed(path)?;
        match std::fs::metadata(&path) {
            Ok(before) if before.is_file() && before.nlink() > 1 => overwrite(&path, bytes),
            Ok(before) => replace(&path, bytes, Like::Before(&before)),
            Err(_) => {
                std::fs::create_dir_all(folder_of(&path))?;
                replace(&path, bytes, Like::Mode(0o644))
            }
        }
    };
    write().map_err(|error| Error::unusable(path.display(), in_words(error)))
}

/// The same for what is nobody else's business: read and written by its owner alone, as its folder, whatever the umask.
///
/// # Errors
/// As [`write_durably`].
pub fn write_privately(path: &Path, bytes: &[u8]) -> Result<()> {
    let write = || {
        let folder = folder_of(path);
        if !folder.exists() {
            std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
        }
        replace(path, bytes, Like::Mode(0o600))
    };
    write().map_err(|error| Error::unusable(path.display(), in_words(error)))
}

/// Takes away what writes of ours left in a folder when they were killed.
pub fn clean(folder: &Path) {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    for entry in entries {
        let name = entry.file_name();
        let process = name.to_str().and_then(|name| name.strip_prefix(TEMPORARY)?.split('-').next());
        let is_left =
            process.and_then(|process| process.parse::<u32>().ok()).is_some_and(|process| !runs(process));
        if is_left {
            let _ = std::fs::remove_file(entry.path());
        }
    }
}

fn runs(process: u32) -> bool {
    Path::new("/proc").join(process.to_string()).exists()
}

enum Like<'a> {
    Before(&'a Metadata),
    Mode(u32),
}

fn replace(path: &Path, bytes: &[u8], like: Like<'_>) -> io::Result<()> {
    let folder = folder_of(path);
    let prefix = format!("{TEMPORARY}{}-", std::process::id());
    let mut file = tempfile::Builder::new().prefix(&prefix).tempfile_in(folder)?;
    match like {
        Like::Before(before) => {
            // Not everybody may give a file away; then it is ours, and as open as it was.
            let _ = fchown(file.as_file(), Some(before.uid()), Some(before.gid()));
            file.as_file().set_permissions(before.permissions())?;
        }
        Like::Mode(mode) => file.as_file().set_permissions(std::fs::Permissions::from_mode(mode))?,
    }
    file.write_all(bytes)?;
    file.as_file().sync_all()?;
    file.persist(path).map_err(|error| error.error)?;
    File::open(folder)?.sync_all()
}

fn overwrite(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut file = File::options().write(true).truncate(true).open(path)?;
    file.write_all(bytes)?;
    file.sync_all()
}

fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// The file that a path means, links followed; it need not be there.
fn followed(path: &Path) -> io::Result<PathBuf> {
    let mut path = path.to_path_buf();
    for _ in 0..MAX_LINKS {
        match std::fs::symlink_metadata(&path) {
            Ok(found) if found.is_symlink() => path = folder_of(&path).join(std::fs::read_link(&path)?),
            _ => return Ok(path),
        }
    }
    Err(io::Error::other("a link that leads to links without end"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mode(path: &Path) -> u32 {
        std::fs::metadata(path).unwrap().mode() & 0o777
    }

    #[test]
    fn links_are_written_through_and_modes_stay() {
        let work = tempfile::tempdir().unwrap();
        let path = |name: &str| work.path().join(name);
        write_durably(&path("plain"), b"1").unwrap();
        assert_eq!(mode(&path("plain")), 0o644);
        std::fs::set_permissions(path("plain"), std::fs::Permissions::from_mode(0o640)).unwrap();
        std::os::unix::fs::symlink("plain", path("link")).unwrap();
        write_durably(&path("link"), b"2").unwrap();
        assert!(std::fs::symlink_metadata(path("link")).unwrap().is_symlink());
        assert_eq!((std::fs::read(path("plain")).unwrap(), mode(&path("plain"))), (b"2".to_vec(), 0o640));
        std::fs::hard_link(path("plain"), path("other")).unwrap();
        write_durably(&path("plain"), b"3").unwrap();
        assert_eq!(std::fs::read(path("other")).unwrap(), b"3");
        std::os::unix::fs::symlink("round", path("round")).unwrap();
        assert!(write_durably(&path("round"), b"4").is_err());
    }

    #[test]
    fn what_is_private_is_so_whatever_stood_there_and_leftovers_go() {
        let work = tempfile::tempdir().unwrap();
        let path = work.path().join("state/record.json");
        write_privately(&path, b"1").unwrap();
        assert_eq!((mode(&path), mode(path.parent().unwrap())), (0o600, 0o700));
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o666)).unwrap();
        write_privately(&path, b"2").unwrap();
        assert_eq!(mode(&path), 0o600);
        let folder = path.parent().unwrap();
        let (left, used) = (
            folder.join(".signpost-4294967295-a"),
            folder.join(format!(".signpost-{}-b", std::process::id())),
        );
        std::fs::write(&left, b"").unwrap();
        std::fs::write(&used, b"").unwrap();
        clean(folder);
        assert!(!left.exists() && used.exists() && path.exists());
    }
}
