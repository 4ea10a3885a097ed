//! A volume that is mounted, read through its mounts: what the running system sees, and not what has reached the
//! disk so far.

use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;

use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode, OFlags, ResolveFlags};
use rustix::io::Errno;
use rustix::mount::OpenTreeFlags;
use signpost_disk::block::{BlockDevice, ReadError, SharedDevice};
use signpost_disk::file_system::{FileSystem, Item, Metadata, Subvolume, VolumeError};

use super::mounts::Mount;
use crate::os_words::words;

/// Items of one folder that are listed.
const MAX_ITEMS: usize = 200_000;

/// A part of a file system that can be reached.
struct Part {
    /// Where it starts in the file system, without a slash at its end: nothing for its root.
    root: String,
    folder: OwnedFd,
}

/// A mounted volume.
pub struct MountedVolume {
    parts: Vec<Part>,
    /// The volume as it lies on the disk, for what no mount reaches.
    raw: Option<Box<dyn FileSystem>>,
}

impl MountedVolume {
    /// Takes the mounts of a volume; `None` where none of them can be opened.
    pub fn open(mounts: &[Mount], raw: impl FnOnce() -> Option<Box<dyn FileSystem>>) -> Option<Self> {
        let mut parts: Vec<Part> = mounts.iter().filter_map(part).collect();
        parts.sort_by_key(|part| std::cmp::Reverse(part.root.len()));
        let is_whole = parts.iter().any(|part| part.root.is_empty());
        // Of a pool of subvolumes, no mount tells which there are.
        let needs_raw = !is_whole || mounts.iter().any(|mount| mount.kind == "btrfs");
        // What is read beside the mounts must have reached the disk.
        for part in parts.iter().filter(|_| needs_raw) {
            let folder = open_below(&part.folder, ".", OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty());
            let _ = folder.and_then(|folder| rustix::fs::syncfs(&folder));
        }
        (!parts.is_empty()).then(|| Self { parts, raw: if needs_raw { raw() } else { None } })
    }

    /// Runs a call on the part that a path lies in, with the path from there on; else on what lies on the disk.
    fn at<T>(
        &self,
        path: &str,
        mounted: impl Fn(&OwnedFd, &str) -> Result<T, Errno>,
        raw: impl FnOnce(&dyn FileSystem) -> Result<T, VolumeError>,
    ) -> Result<T, VolumeError> {
        for part in &self.parts {
            let Some(rest) = below(path, &part.root) else { continue };
            match mounted(&part.folder, rest) {
                // Something else is mounted on the way.
                Err(Errno::XDEV) => continue,
                Err(error) => return Err(fault(error, path)),
                Ok(found) => return Ok(found),
            }
        }
        match &self.raw {
            Some(fs) => raw(fs.as_ref()),
            None => Err(VolumeError::NotFound(path.to_string())),
        }
    }
}

/// Opens a mount so that what is mounted below it does not hide anything: as a copy of it alone, which takes root;
/// else as it is.
fn part(mount: &Mount) -> Option<Part> {
    let flags = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC;
    let alone = rustix::mount::open_tree(CWD, &mount.point, flags);
    let as_it_is =
        || rustix::fs::open(&mount.point, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
    let folder = alone.or_else(|_| as_it_is()).ok()?;
    Some(Part { root: mount.root.trim_end_matches('/').to_string(), folder })
}

/// A path below a folder: `/@/etc` below `/@` is `etc`.
fn below<'p>(path: &'p str, root: &str) -> Option<&'p str> {
    let rest = path.strip_prefix(root)?;
    if rest.is_empty() {
        return Some(".");
    }
    let rest = rest.strip_prefix('/')?.trim_start_matches('/');
    Some(if rest.is_empty() { "." } else { rest })
}

/// Opens a path below a folder, its links followed as if the folder were the root, and never into another volume.
pub fn open_below(folder: impl AsFd, path: &str, flags: OFlags, mode: Mode) -> Result<OwnedFd, Errno> {
    let resolve = ResolveFlags::IN_ROOT | ResolveFlags::NO_XDEV | ResolveFlags::NO_MAGICLINKS;
    rustix::fs::openat2(folder, path, flags | OFlags::CLOEXEC, mode, resolve)
}

fn open_file(folder: &OwnedFd, path: &str) -> Result<(File, u64), Errno> {
    // A pipe must not make us wait.
    let file = open_below(folder, path, OFlags::RDONLY | OFlags::NONBLOCK, Mode::empty())?;
    let found = rustix::fs::fstat(&file)?;
    match FileType::from_raw_mode(found.st_mode) {
        FileType::RegularFile => Ok((File::from(file), u64::try_from(found.st_size).unwrap_or(0))),
        FileType::Directory => Err(Errno::ISDIR),
        _ => Err(Errno::INVAL),
    }
}

fn fault(error: Errno, path: &str) -> VolumeError {
    match error {
        Errno::NOENT | Errno::NOTDIR | Errno::NAMETOOLONG => VolumeError::NotFound(path.to_string()),
        Errno::ISDIR => VolumeError::WrongKind { path: path.to_string(), found: "a folder" },
        Errno::INVAL => VolumeError::WrongKind { path: path.to_string(), found: "no plain file" },
        Errno::LOOP => VolumeError::Corrupt(format!("{path}: its links go round in a circle")),
        Errno::ACCESS | Errno::PERM => VolumeError::Unsupported(format!("{path} is for root alone to read")),
        error => VolumeError::Corrupt(format!("{path}: {}", io::Error::from(error))),
    }
}

impl FileSystem for MountedVolume {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        self.at(folder, list, |raw| raw.list(folder))
    }

    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        let mounted = |folder: &OwnedFd, path: &str| {
            let found = rustix::fs::fstat(open_below(folder, path, OFlags::PATH, Mode::empty())?)?;
            let is_folder = FileType::from_raw_mode(found.st_mode) == FileType::Directory;
            Ok(Metadata { size: u64::try_from(found.st_size).unwrap_or(0), is_folder })
        };
        self.at(path, mounted, |raw| raw.metadata(path))
    }

    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        let opened = self.at(
            path,
            |folder, path| open_file(folder, path).map(Some),
            |raw| raw.metadata(path).map(|_| None),
        )?;
        match (opened, &self.raw) {
            (Some((file, _)), _) => read_full(&file, offset, buffer)
                .map_err(|error| VolumeError::Corrupt(format!("{path}: {}", words(&error)))),
            (None, Some(raw)) => raw.read_at(path, offset, buffer),
            (None, None) => Err(VolumeError::NotFound(path.to_string())),
        }
    }

    fn file_device(&self, path: &str) -> Result<Option<SharedDevice>, VolumeError> {
        let mounted = |folder: &OwnedFd, path: &str| {
            let (file, size) = open_file(folder, path)?;
            Ok(Some(Arc::new(OpenFile { file, size }) as SharedDevice))
        };
        self.at(path, mounted, |raw| raw.file_device(path))
    }

    fn subvolumes(&self) -> Result<Vec<Subvolume>, VolumeError> {
        self.raw.as_ref().map_or_else(|| Ok(Vec::new()), |raw| raw.subvolumes())
    }
}

fn list(folder: &OwnedFd, path: &str) -> Result<Vec<Item>, Errno> {
    let opened = open_below(folder, path, OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty())?;
    let mut items = Vec::new();
    for entry in Dir::read_from(&opened)?.take(MAX_ITEMS) {
        let entry = entry?;
        let name = OsStr::from_bytes(entry.file_name().to_bytes()).to_string_lossy().into_owned();
        if name == "." || name == ".." {
            continue;
        }
        let is_folder = match entry.file_type() {
            FileType::Directory => true,
            FileType::Symlink => {
                let below = Path::new(path).join(&name);
                open_below(folder, &below.to_string_lossy(), OFlags::PATH | OFlags::DIRECTORY, Mode::empty())
                    .is_ok()
            }
            FileType::Unknown => rustix::fs::statat(&opened, entry.file_name(), AtFlags::SYMLINK_NOFOLLOW)
                .is_ok_and(|found| FileType::from_raw_mode(found.st_mode) == FileType::Directory),
            _ => false,
        };
        items.push(Item { name, is_folder });
    }
    items.sort_unstable();
    Ok(items)
}

fn read_full(file: &File, offset: u64, buffer: &mut [u8]) -> io::Result<usize> {
    let mut there = 0;
    while there < buffer.len() {
        match file.read_at(&mut buffer[there..], offset + there as u64) {
            Ok(0) => break,
            Ok(count) => there += count,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(there)
}

/// An image file on a mounted volume.
struct OpenFile {
    file: File,
    size: u64,
}

impl BlockDevice for OpenFile {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        let length = buffer.len();
        match read_full(&self.file, offset, buffer) {
            Ok(there) if there == length => Ok(()),
            Ok(_) => Err(ReadError::past_end(offset, length, self.size)),
            Err(error) => Err(ReadError { offset, length, why: words(&error) }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::live::mounts;

    /// A folder of this system stands for a mounted volume.
    fn volume(folder: &Path, root: &str) -> MountedVolume {
        let line = format!("1 0 0:1 {root} {} rw - ext4 none rw", folder.display());
        MountedVolume::open(&mounts::parse(&line), || None).unwrap()
    }

    #[test]
    fn links_stay_inside_and_paths_start_at_the_mounted_part() {
        let work = tempfile::tempdir().unwrap();
        let at = |path: &str| work.path().join(path);
        std::fs::create_dir_all(at("etc/sub")).unwrap();
        std::fs::write(at("etc/name"), "Larkspur").unwrap();
        std::os::unix::fs::symlink("/etc/name", at("etc/absolute")).unwrap();
        std::os::unix::fs::symlink("../../../../etc/name", at("etc/sub/upward")).unwrap();
        std::os::unix::fs::symlink("sub", at("etc/folder")).unwrap();
        std::os::unix::fs::symlink("circle", at("circle")).unwrap();
        let whole = volume(work.path(), "/");
        for path in ["/etc/name", "/etc/absolute", "/etc/sub/upward", "//etc//name"] {
            assert_eq!(whole.read(path, 100), Ok(b"Larkspur".to_vec()), "{path}");
        }
        let names: Vec<(String, bool)> =
            whole.list("/etc").unwrap().into_iter().map(|item| (item.name, item.is_folder)).collect();
        let expected = [("absolute", false), ("folder", true), ("name", false), ("sub", true)];
        assert_eq!(names, expected.map(|(name, is_folder)| (name.to_string(), is_folder)));
        assert!(matches!(whole.metadata("/etc/gone"), Err(VolumeError::NotFound(_))));
        assert!(matches!(whole.metadata("/circle"), Err(VolumeError::Corrupt(_))));
        assert!(matches!(whole.read("/etc", 10), Err(VolumeError::WrongKind { .. })));
        assert_eq!(whole.file_device("/etc/name").unwrap().unwrap().size(), 8);
        let part = volume(work.path(), "/@");
        assert_eq!(part.read("/@/etc/name", 100), Ok(b"Larkspur".to_vec()));
        assert!(part.read("/etc/name", 100).is_err() && part.read("/@other/etc/name", 100).is_err());
    }
}
