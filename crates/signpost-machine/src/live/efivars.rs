//! The firmware's variables on a running system: a folder of files in which the kernel shows them (`efivarfs`).

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use rustix::fs::{IFlags, StatVfsMountFlags, ioctl_getflags, ioctl_setflags};
use signpost_firmware::store::kernel_file;
use signpost_firmware::variable::{Contents, StoreError, Variable, VariableName, VariableStore};

use super::numbers::Root;
use crate::os_words::words;
use crate::variables::FolderStore;

const FOLDER: &str = "sys/firmware/efi/efivars";
/// The kernel keeps this much of the store free, in bytes, so that the firmware can start at all.
const RESERVE: u64 = 5120;

/// The folder, or why it is out of reach.
pub struct Efivars {
    folder: PathBuf,
    files: FolderStore,
}

impl Efivars {
    pub(super) fn new(root: &Root) -> Self {
        let folder = root.at(FOLDER);
        Self { files: FolderStore::new(folder.clone()), folder }
    }

    /// Whether the machine was started by UEFI firmware at all.
    pub(super) fn is_uefi(root: &Root) -> bool {
        root.at("sys/firmware/efi").is_dir()
    }

    fn need_mounted(&self) -> Result<(), StoreError> {
        let mut entries = fs::read_dir(&self.folder).map_err(|error| self.failed(&error))?;
        if entries.next().is_some() {
            return Ok(());
        }
        Err(StoreError::OutOfReach {
            why: format!("{} is empty: efivarfs is not mounted there", self.folder.display()),
            help: format!("mount -t efivarfs efivarfs {}", self.folder.display()),
        })
    }

    fn need_writable(&self) -> Result<(), StoreError> {
        self.need_mounted()?;
        let found = rustix::fs::statvfs(&self.folder).map_err(|error| self.failed(&error.into()))?;
        if !found.f_flag.contains(StatVfsMountFlags::RDONLY) {
            return Ok(());
        }
        Err(StoreError::OutOfReach {
            why: format!("{} is mounted read-only", self.folder.display()),
            help: format!("mount -o remount,rw {}", self.folder.display()),
        })
    }

    fn failed(&self, error: &io::Error) -> StoreError {
        match error.kind() {
            io::ErrorKind::NotFound => StoreError::OutOfReach {
                why: format!("{} is not there: the kernel shows no variables", self.folder.display()),
                help: "modprobe efivarfs, or start without \"noefi\" and \"efi=noruntime\"".into(),
            },
            io::ErrorKind::PermissionDenied => StoreError::OutOfReach {
                why: "they are for root alone to change".into(),
                help: "run the same command as root".into(),
            },
            io::ErrorKind::ReadOnlyFilesystem => StoreError::OutOfReach {
                why: format!("{} is mounted read-only", self.folder.display()),
                help: format!("mount -o remount,rw {}", self.folder.display()),
            },
            io::ErrorKind::StorageFull => StoreError::OutOfReach {
                why: "the firmware has no space left for them".into(),
                help:
                    "restart once, so that the firmware clears out what is deleted; else remove entries that \
                       the survey calls stale"
                        .into(),
            },
            _ => StoreError::Io(format!("{}: {}", self.folder.display(), words(error))),
        }
    }
}

impl VariableStore for Efivars {
    fn read_all(&self) -> Result<Contents, StoreError> {
        self.need_mounted()?;
        self.files.read_all()
    }

    fn write(&mut self, variable: &Variable) -> Result<(), StoreError> {
        self.need_writable()?;
        let path = self.files.path(&variable.name)?;
        // The kernel takes a variable in one piece, its attributes first.
        let bytes = kernel_file::encode(variable);
        let write =
            || OpenOptions::new().write(true).create(true).truncate(false).open(&path)?.write_all(&bytes);
        changeable(&path, write).map_err(|error| self.failed(&error))
    }

    fn remove(&mut self, name: &VariableName) -> Result<(), StoreError> {
        self.need_writable()?;
        let path = self.files.path(name)?;
        match changeable(&path, || fs::remove_file(&path)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(self.failed(&error)),
            _ => Ok(()),
        }
    }

    /// As far as the kernel says it (since Linux 6.6).
    fn room(&self) -> Option<u64> {
        let found = rustix::fs::statvfs(&self.folder).ok()?;
        let block = found.f_frsize.max(1);
        (found.f_blocks > 0).then(|| found.f_bfree.saturating_mul(block).saturating_sub(RESERVE))
    }

    fn need_writable(&self) -> Result<(), StoreError> {
        Self::need_writable(self)
    }
}

/// Does a thing to a variable's file while it is not marked immutable, as the kernel marks most of them against
/// careless hands, and marks it again.
fn changeable(path: &Path, call: impl FnOnce() -> io::Result<()>) -> io::Result<()> {
    let marked = File::open(path).ok().and_then(|file| {
        let flags = ioctl_getflags(&file).ok()?;
        flags.contains(IFlags::IMMUTABLE).then_some((file, flags))
    });
    if let Some((file, flags)) = &marked {
        ioctl_setflags(file, *flags - IFlags::IMMUTABLE)?;
    }
    let result = call();
    if let Some((_, flags)) = marked {
        // One that was removed has no file any more.
        if let Ok(file) = File::open(path) {
            ioctl_setflags(&file, flags)?;
        }
    }
    result
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_thing_that_stands_against_it_has_a_command_of_its_own() {
        let work = tempfile::tempdir().unwrap();
        let root = Root(work.path().to_path_buf());
        assert!(!Efivars::is_uefi(&root));
        let mut store = Efivars::new(&root);
        let why = |store: &Efivars| store.read_all().unwrap_err().to_string();
        assert!(why(&store).contains("modprobe efivarfs"), "{}", why(&store));
        fs::create_dir_all(root.at(FOLDER)).unwrap();
        assert!(Efivars::is_uefi(&root));
        assert!(why(&store).contains("mount -t efivarfs"), "{}", why(&store));
        fs::write(root.at(FOLDER).join("SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c"), [6, 0, 0, 0, 0])
            .unwrap();
        assert_eq!(store.read_all().unwrap().variables.len(), 1);
        let said = |kind: io::ErrorKind| store.failed(&io::Error::from(kind)).to_string();
        let all = [
            said(io::ErrorKind::PermissionDenied),
            said(io::ErrorKind::ReadOnlyFilesystem),
            said(io::ErrorKind::StorageFull),
        ];
        assert!(
            all[0].contains("as root") && all[1].contains("remount,rw") && all[2].contains("restart"),
            "{all:?}"
        );
        let name = VariableName::global("Tide");
        store.remove(&name).unwrap();
    }
}
