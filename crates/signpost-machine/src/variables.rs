//! The stores of variables that lie in files.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use rustix::fs::Access;
use signpost_facts::error::{Error, Result};
use signpost_firmware::store::fd::{FdImage, Patch};
use signpost_firmware::store::kernel_file;
use signpost_firmware::variable::{Contents, StoreError, Variable, VariableName, VariableStore};

use crate::durable::write_durably;
use crate::files;
use crate::os_words::words;

/// No variable and no store of a bench is longer, in bytes.
const MAX_FILE: u64 = 64 << 20;

/// A folder of files, as the Linux kernel shows variables.
pub(super) struct FolderStore {
    folder: PathBuf,
}

impl FolderStore {
    pub(super) fn new(folder: PathBuf) -> Self {
        Self { folder }
    }

    pub(super) fn path(&self, name: &VariableName) -> std::result::Result<PathBuf, StoreError> {
        let file = kernel_file::file_name(name);
        if file.contains(['/', '\0']) {
            return Err(StoreError::Unfit { name: name.to_string(), why: "its name is not a file name" });
        }
        Ok(self.folder.join(file))
    }
}

impl VariableStore for FolderStore {
    fn read_all(&self) -> std::result::Result<Contents, StoreError> {
        let mut contents = Contents::default();
        let entries = fs::read_dir(&self.folder).map_err(|error| failed(&self.folder, &error))?;
        let mut files: Vec<PathBuf> =
            entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).collect();
        files.sort();
        for path in files {
            let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            // Files that are not variables are none of ours.
            let Some(name) = kernel_file::parse_file_name(name) else { continue };
            let bytes = match read_bounded(&path) {
                // The kernel shows a variable that was opened and not written yet as an empty file; a run that was killed then leaves
                // it behind.
                Ok(bytes) if bytes.is_empty() => continue,
                bytes => bytes,
            };
            match bytes.map(|bytes| kernel_file::decode(name, &bytes)) {
                Ok(Some(variable)) => contents.variables.push(variable),
                Ok(None) => {
                    contents
                        .faults
                        .push(format!("{}: shorter than the 4 bytes of its attributes", path.display()));
                }
                Err(error) => contents.faults.push(format!("{}: {}", path.display(), words(&error))),
            }
        }
        Ok(contents)
    }

    fn write(&mut self, variable: &Variable) -> std::result::Result<(), StoreError> {
        let path = self.path(&variable.name)?;
        write_durably(&path, &kernel_file::encode(variable))
            .map_err(|error| StoreError::Io(error.to_string()))
    }

    fn remove(&mut self, name: &VariableName) -> std::result::Result<(), StoreError> {
        let path = self.path(name)?;
        let removed = fs::remove_file(&path).and_then(|()| File::open(&self.folder)?.sync_all());
        match removed {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(failed(&path, &error)),
            _ => Ok(()),
        }
    }

    fn need_writable(&self) -> std::result::Result<(), StoreError> {
        need_writable(&self.folder)
    }
}

/// That a store of a bench takes writing, found out before anything is written.
fn need_writable(path: &Path) -> std::result::Result<(), StoreError> {
    let place = path.display();
    rustix::fs::access(path, Access::WRITE_OK).map_err(|error| StoreError::OutOfReach {
        why: format!("{place} cannot be written: {}", words(&error.into())),
        help: format!("chmod u+w {place}, or copy the bench to where it can be written"),
    })
}

/// An `.fd` store in a file, patched in place.
pub(super) struct FdFile {
    path: PathBuf,
}

impl FdFile {
    /// Takes a file that holds a variable store.
    pub(super) fn open(path: &Path) -> Result<Self> {
        let store = Self { path: path.to_path_buf() };
        let image = store.load().map_err(|error| match error {
            StoreError::Io(why) => Error::Unusable { place: "firmware variables".into(), why },
            other => Error::unusable(path.display(), other),
        });
        image.map(|_| store)
    }

    fn load(&self) -> std::result::Result<FdImage, StoreError> {
        let bytes = read_bounded(&self.path).map_err(|error| failed(&self.path, &error))?;
        FdImage::decode(bytes)
    }

    /// Each patch on its own, synced before the next: a cut leaves what the firmware itself would leave.
    fn put(&self, patches: &[Patch]) -> std::result::Result<(), StoreError> {
        let write = || {
            let file = OpenOptions::new().write(true).open(&self.path)?;
            patches.iter().try_for_each(|patch| {
                file.write_all_at(&patch.bytes, patch.offset as u64)?;
                file.sync_data()
            })
        };
        write().map_err(|error: io::Error| failed(&self.path, &error))
    }
}

impl VariableStore for FdFile {
    fn read_all(&self) -> std::result::Result<Contents, StoreError> {
        Ok(self.load()?.contents())
    }

    fn write(&mut self, variable: &Variable) -> std::result::Result<(), StoreError> {
        let patches = self.load()?.write(variable)?;
        self.put(&patches)
    }

    fn remove(&mut self, name: &VariableName) -> std::result::Result<(), StoreError> {
        let patches = self.load()?.remove(name)?;
        self.put(&patches)
    }

    fn room(&self) -> Option<u64> {
        self.load().ok().map(|image| image.room() as u64)
    }

    fn need_writable(&self) -> std::result::Result<(), StoreError> {
        need_writable(&self.path)
    }
}

fn read_bounded(path: &Path) -> io::Result<Vec<u8>> {
    files::read(path, MAX_FILE)?.ok_or_else(|| rustix::io::Errno::NOENT.into())
}

fn failed(path: &Path, error: &io::Error) -> StoreError {
    StoreError::Io(format!("{}: {}", path.display(), words(error)))
}
