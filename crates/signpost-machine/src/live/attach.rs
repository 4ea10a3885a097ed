//! Writing to a volume of the running machine: through its mount where it has one; else through one that nobody
//! sees, which goes away with us.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::FileExt;
use std::path::Path;

use rustix::fs::{Advice, AtFlags, Mode, OFlags};
use rustix::io::Errno;
use rustix::mount::{FsMountFlags, FsOpenFlags, MountAttrFlags};

use super::devices::Devices;
use super::mounted::open_below;
use super::numbers::Numbers;
use crate::os_words;
use crate::ours::own_folder;

/// Folders are made for all to read, files for root alone to write.
const FOLDER: Mode = Mode::from_raw_mode(0o755);
const FILE: Mode = Mode::from_raw_mode(0o644);

/// Puts (or, without bytes, removes) a file on a FAT volume, and waits until it has reached the disk.
///
/// # Errors
/// In words: what stands against it, and the command that helps.
pub fn put(devices: &Devices, volume: Numbers, path: &str, bytes: Option<&[u8]>) -> Result<(), String> {
    let attached = writable(devices, volume)?;
    let folder = &attached.folder;
    let path = path.trim_end_matches('/');
    let below = path.trim_start_matches('/');
    let (parent, name) = below.rsplit_once('/').unwrap_or(("", below));
    let done = match bytes {
        Some(bytes) => write(folder, parent, name, bytes),
        None => remove(folder, parent, name, AtFlags::empty())
            .and_then(|()| own_folder(path).map_or(Ok(()), |_| remove_folder(folder, parent))),
    };
    done.and_then(|()| rustix::fs::syncfs(folder)).map_err(words)?;
    drop(attached);
    forget(devices, volume);
    Ok(())
}

/// A file of a mounted volume as it is on the disk, of at most `most` bytes: the inner `None` where it is not there, the
/// outer one where the volume is not mounted.
///
/// # Errors
/// In words, where it cannot be read.
pub fn read(
    devices: &Devices,
    volume: Numbers,
    path: &str,
    most: usize,
) -> Result<Option<Option<Vec<u8>>>, String> {
    let Some(folder) = mounted(devices, volume).map(|(folder, _)| folder) else { return Ok(None) };
    let path = path.trim_start_matches('/');
    let file = match open_below(&folder, path, OFlags::RDONLY, Mode::empty()) {
        Ok(file) => File::from(file),
        Err(Errno::NOENT | Errno::NOTDIR) => return Ok(Some(None)),
        Err(error) => return Err(words(error)),
    };
    // What is in memory is not what is asked for.
    let _ = rustix::fs::fadvise(&file, 0, None, Advice::DontNeed);
    let length = file.metadata().map_err(|error| error.to_string())?.len();
    let length = usize::try_from(length).ok().filter(|length| *length <= most);
    let length = length.ok_or_else(|| format!("{path} is longer than {most} bytes"))?;
    let mut bytes = vec![0; length];
    file.read_exact_at(&mut bytes, 0).map_err(|error| error.to_string())?;
    Ok(Some(Some(bytes)))
}

/// The top folder of a mounted volume, and whether it takes writing.
fn mounted(devices: &Devices, volume: Numbers) -> Option<(OwnedFd, bool)> {
    super::mounts::open(&devices.mounts_of(volume))
}

/// A volume's top folder, and what keeps it mounted, where that is us.
struct Attached {
    folder: OwnedFd,
    _mount: Option<OwnedFd>,
}

fn writable(devices: &Devices, volume: Numbers) -> Result<Attached, String> {
    if let Some((folder, is_writable)) = mounted(devices, volume) {
        if is_writable {
            return Ok(Attached { folder, _mount: None });
        }
        let mounts = devices.mounts_of(volume);
        let point = mounts.first().map(|mount| mount.point.display().to_string()).unwrap_or_default();
        return Err(format!("it is mounted read-only; `mount -o remount,rw {point}` changes that"));
    }
    let file = devices.file_of(volume).ok_or("it has no device file")?;
    unseen(file).map_err(|error| match error {
        Errno::NODEV => "this kernel cannot mount FAT; `modprobe vfat` adds it".into(),
        Errno::NOSYS => "this kernel is older than Linux 5.6; mount the volume, then do this again".into(),
        error => format!("it cannot be mounted: {}", words(error)),
    })
}

/// Mounts a FAT volume at no place at all.
fn unseen(file: &Path) -> Result<Attached, Errno> {
    let context = rustix::mount::fsopen("vfat", FsOpenFlags::FSOPEN_CLOEXEC)?;
    rustix::mount::fsconfig_set_string(&context, "source", file)?;
    rustix::mount::fsconfig_create(&context)?;
    let quiet = MountAttrFlags::MOUNT_ATTR_NOATIME | MountAttrFlags::MOUNT_ATTR_NOEXEC;
    let mount = rustix::mount::fsmount(&context, FsMountFlags::FSMOUNT_CLOEXEC, quiet)?;
    let folder = open_below(&mount, ".", OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty())?;
    Ok(Attached { folder, _mount: Some(mount) })
}

/// A folder below another, made where it is not there.
fn folder_at(folder: &OwnedFd, path: &str) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY;
    let mut here = open_below(folder, ".", flags, Mode::empty())?;
    for part in path.split('/').filter(|part| !part.is_empty()) {
        here = match open_below(&here, part, flags, Mode::empty()) {
            Err(Errno::NOENT) => {
                rustix::fs::mkdirat(&here, part, FOLDER)?;
                rustix::fs::fsync(&here)?;
                open_below(&here, part, flags, Mode::empty())?
            }
            found => found?,
        };
    }
    Ok(here)
}

/// A file of the same length is overwritten in place.
fn write(folder: &OwnedFd, parent: &str, name: &str, bytes: &[u8]) -> Result<(), Errno> {
    let parent = folder_at(folder, parent)?;
    let file = File::from(open_below(&parent, name, OFlags::WRONLY | OFlags::CREATE, FILE)?);
    file.write_all_at(bytes, 0).map_err(errno)?;
    let length = bytes.len() as u64;
    if file.metadata().map_err(errno)?.len() > length {
        file.set_len(length).map_err(errno)?;
    }
    rustix::fs::fsync(&file)?;
    rustix::fs::fsync(&parent)
}

/// Removes a folder that we made, where nothing is in it any more.
fn remove_folder(folder: &OwnedFd, path: &str) -> Result<(), Errno> {
    let (parent, name) = path.rsplit_once('/').unwrap_or(("", path));
    match remove(folder, parent, name, AtFlags::REMOVEDIR) {
        Err(Errno::NOTEMPTY | Errno::EXIST) => Ok(()),
        removed => removed,
    }
}

fn remove(folder: &OwnedFd, parent: &str, name: &str, what: AtFlags) -> Result<(), Errno> {
    let parent = match open_below(
        folder,
        if parent.is_empty() { "." } else { parent },
        OFlags::RDONLY | OFlags::DIRECTORY,
        Mode::empty(),
    ) {
        Err(Errno::NOENT) => return Ok(()),
        found => found?,
    };
    match rustix::fs::unlinkat(&parent, name, what) {
        Err(Errno::NOENT) => Ok(()),
        removed => removed.and_then(|()| rustix::fs::fsync(&parent)),
    }
}

/// Drops what the kernel remembers of the bare devices: a file system's writes go past that.
fn forget(devices: &Devices, volume: Numbers) {
    devices.around(volume).for_each(forget_device);
}

/// Drops what the kernel remembers of one device. Who cannot open it has nothing of it in mind.
pub fn forget_device(file: &Path) {
    if let Ok(file) = File::open(file) {
        let _ = rustix::fs::fadvise(&file, 0, None, Advice::DontNeed);
    }
}

fn errno(error: io::Error) -> Errno {
    Errno::from_io_error(&error).unwrap_or(Errno::IO)
}

fn words(error: Errno) -> String {
    os_words::words(&io::Error::from(error))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder(work: &Path) -> OwnedFd {
        rustix::fs::open(work, OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty()).unwrap()
    }

    #[test]
    fn files_are_made_overwritten_cut_and_removed() {
        let work = tempfile::tempdir().unwrap();
        let at = folder(work.path());
        let held = || std::fs::read(work.path().join("EFI/signpost/MENU-A.TML")).ok();
        for bytes in [&b"a longer menu"[..], b"a menu", b"", b"menu"] {
            write(&at, "EFI/signpost", "MENU-A.TML", bytes).unwrap();
            assert_eq!(held().as_deref(), Some(bytes));
        }
        remove(&at, "EFI/signpost", "MENU-A.TML", AtFlags::empty()).unwrap();
        remove(&at, "EFI/signpost", "MENU-A.TML", AtFlags::empty()).unwrap();
        remove(&at, "EFI/none", "MENU-A.TML", AtFlags::empty()).unwrap();
        assert_eq!(held(), None);
    }

    /// A link that leads out of the volume is not followed out of it.
    #[test]
    fn nothing_is_written_outside_of_the_volume() {
        let work = tempfile::tempdir().unwrap();
        let (inside, outside) = (work.path().join("in"), work.path().join("out"));
        std::fs::create_dir_all(&inside).unwrap();
        std::fs::create_dir_all(&outside).unwrap();
        std::os::unix::fs::symlink(&outside, inside.join("EFI")).unwrap();
        let written = write(&folder(&inside), "EFI", "x", b"x");
        assert!(written.is_err() || !outside.join("x").exists());
        assert!(!outside.join("x").exists());
    }
}
