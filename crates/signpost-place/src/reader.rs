//! Looking into a volume.

use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::cell::{Cell, OnceCell};

use signpost_disk::file_system::{FileSystem, Item, Metadata, Subvolume, VolumeError};
use signpost_disk::inside::{self, InnerVolume};
use signpost_disk::probe::Identity;
use signpost_menu::text::{acts, shown_lines};

/// Runs what reads a volume: the desk keeps a reader's panic from taking the program down, and gives it back as words.
pub type Guard = fn(&mut dyn FnMut()) -> Result<(), String>;

/// No guard: where a panic ends everything anyway.
///
/// # Errors
/// Never.
pub fn unguarded(call: &mut dyn FnMut()) -> Result<(), String> {
    call();
    Ok(())
}

/// Bytes of a text file that is read whole.
const MAX_TEXT: usize = 256 * 1024;

/// Names of an top folder that are kept. A disk may say that it has many volumes with the largest of folders.
const MAX_NAMES: usize = 4096;

/// Names in a volume's top folder, once they were asked for: in lower case and in order; none where it cannot
/// be listed, or holds too many.
pub type Names = OnceCell<Option<Vec<String>>>;

/// Whether an top folder with these names may have what a path leads to.
pub fn may_hold(names: &[String], path: &str) -> bool {
    let Some(first) = path.split('/').find(|part| !part.is_empty() && *part != ".") else { return true };
    // Asked so often that a text of its own, in lower case, is made only where it must be.
    let found = if first.is_ascii() {
        names.binary_search_by(|name| name.bytes().cmp(first.bytes().map(|byte| byte.to_ascii_lowercase())))
    } else {
        names.binary_search(&first.to_lowercase())
    };
    first == ".." || found.is_ok()
}

/// A volume's file system, opened.
pub struct VolumeReader {
    fs: Box<dyn FileSystem>,
    names: Names,
    guard: Guard,
    fault: OnceCell<Fault>,
    unprintable_names: Cell<usize>,
}

/// What of a volume could not be read, and why.
#[derive(Clone, Debug)]
pub struct Fault {
    /// The path that was asked for; `/` where nothing of the volume can be read.
    pub path: String,
    /// Why.
    pub why: VolumeError,
}

impl Fault {
    /// Of the whole volume.
    pub fn of_all(why: VolumeError) -> Self {
        Self { path: "/".into(), why }
    }

    /// Whether nothing of the volume can be read.
    pub fn is_of_all(&self) -> bool {
        self.path == "/"
    }
}

impl VolumeReader {
    /// Looks into a file system; `names` are those of its top folder, where they are known already.
    pub fn new(fs: Box<dyn FileSystem>, names: Names, guard: Guard) -> Self {
        Self { fs, names, guard, fault: OnceCell::new(), unprintable_names: Cell::new(0) }
    }

    /// Its files without anything between.
    pub fn files(&self) -> &dyn FileSystem {
        self.fs.as_ref()
    }

    /// The first thing that was asked for and is there, and could not be read.
    pub fn fault(&self) -> Option<&Fault> {
        self.fault.get()
    }

    /// The names in its top folder, kept for when it is opened again.
    pub fn into_names(self) -> Names {
        self.names
    }

    /// Whether the top folder has what a path starts with. Most volumes hold nothing of what a survey asks
    /// for; with this they are asked once.
    fn may_have(&self, path: &str) -> bool {
        let names = self.names.get_or_init(|| {
            let items = match self.call("/", |fs| fs.list("/")) {
                Ok(items) => items,
                Err(why) => {
                    let _ = self.fault.set(Fault::of_all(why));
                    return None;
                }
            };
            if items.len() > MAX_NAMES {
                return None;
            }
            let mut names: Vec<String> = items.into_iter().map(|item| item.name.to_lowercase()).collect();
            names.sort_unstable();
            Some(names)
        });
        names.as_ref().is_none_or(|names| may_hold(names, path))
    }

    fn at<T>(
        &self,
        path: &str,
        call: impl FnOnce(&dyn FileSystem) -> Result<T, VolumeError>,
    ) -> Result<T, VolumeError> {
        if self.may_have(path) { self.call(path, call) } else { Err(VolumeError::NotFound(path.to_string())) }
    }

    fn call<T>(
        &self,
        path: &str,
        call: impl FnOnce(&dyn FileSystem) -> Result<T, VolumeError>,
    ) -> Result<T, VolumeError> {
        let found = {
            let (mut call, mut found) = (Some(call), None);
            let guarded = (self.guard)(&mut || found = call.take().map(|call| call(self.fs.as_ref())));
            match (guarded, found) {
                (Ok(()), Some(found)) => found,
                (Ok(()), None) => Err(VolumeError::Corrupt("its reader was not called".to_string())),
                (Err(why), _) => Err(VolumeError::Corrupt(why)),
            }
        };
        if let Err(why @ (VolumeError::Corrupt(_) | VolumeError::Device(_))) = &found {
            let _ = self.fault.set(Fault { path: path.to_string(), why: why.clone() });
        }
        found
    }

    /// What stands in a folder.
    ///
    /// # Errors
    /// Where it is not a folder, or cannot be read.
    pub fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        self.at(folder, |fs| fs.list(folder))
    }

    /// What stands in a folder under names that can be shown and written as they are. The others are counted, and are
    /// nothing that a menu could name.
    pub fn plain(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        let (plain, odd): (Vec<Item>, Vec<Item>) =
            self.list(folder)?.into_iter().partition(|item| !item.name.contains(acts));
        self.unprintable_names.set(self.unprintable_names.get().saturating_add(odd.len()));
        Ok(plain)
    }

    /// Paths of the folders in a folder, at most so many; none where it cannot be listed.
    pub fn folders_in(&self, folder: &str, most: usize) -> Vec<String> {
        self.paths_in(folder, true, most)
    }

    /// Paths of the files in a folder, at most so many; none where it cannot be listed.
    pub fn files_in(&self, folder: &str, most: usize) -> Vec<String> {
        self.paths_in(folder, false, most)
    }

    fn paths_in(&self, folder: &str, is_folder: bool, most: usize) -> Vec<String> {
        let items = self.plain(if folder.is_empty() { "/" } else { folder }).unwrap_or_default();
        let wanted = items.iter().filter(|item| item.is_folder == is_folder).take(most);
        wanted.map(|item| [folder.trim_end_matches('/'), "/", &item.name].concat()).collect()
    }

    /// How many names were met that cannot be shown as they are.
    pub fn unprintable_names(&self) -> usize {
        self.unprintable_names.get()
    }

    /// What stands at a path.
    ///
    /// # Errors
    /// Where nothing does.
    pub fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        self.at(path, |fs| fs.metadata(path))
    }

    /// A file's first bytes.
    ///
    /// # Errors
    /// Where it is not a file, or cannot be read.
    pub fn read_head(&self, path: &str, most: usize) -> Result<Vec<u8>, VolumeError> {
        self.at(path, |fs| fs.read_head(path, most))
    }

    /// A whole file of at most `most` bytes.
    ///
    /// # Errors
    /// Where it is longer, no file, or cannot be read.
    pub fn read(&self, path: &str, most: usize) -> Result<Vec<u8>, VolumeError> {
        self.at(path, |fs| fs.read(path, most))
    }

    /// Parts of the volume that systems may have as their root.
    ///
    /// # Errors
    /// Where they cannot be read.
    pub fn subvolumes(&self) -> Result<Vec<Subvolume>, VolumeError> {
        let mut found = self.call("subvolumes", |fs| fs.subvolumes())?;
        found.retain(|subvolume| !subvolume.path.contains(acts));
        Ok(found)
    }

    /// Fills `buffer` with a file's bytes from `offset` on; how many there were.
    ///
    /// # Errors
    /// Where it is not a file, or cannot be read.
    pub fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        self.at(path, |fs| fs.read_at(path, offset, buffer))
    }

    /// The volumes inside the image file at a path, each with a reader where it can be looked into.
    ///
    /// # Errors
    /// Where it is not a file, or its file system does not say where its bytes lie.
    pub fn inside(&self, path: &str) -> Result<Vec<(Identity, Option<Self>)>, VolumeError> {
        let volumes = self.at(path, |fs| inside::volumes(fs, path))?;
        let reader = |volume: InnerVolume| {
            (volume.identity, volume.files.map(|fs| Self::new(fs, Names::default(), self.guard)))
        };
        Ok(volumes.into_iter().map(reader).collect())
    }

    /// A text file, read as UTF-8, in it nothing that acts on a screen; `None` where it is not there, or is none.
    pub fn text(&self, path: &str) -> Option<String> {
        let bytes = self.read(path, MAX_TEXT).ok()?;
        String::from_utf8(bytes).ok().map(|text| shown_lines(&text).into_owned())
    }

    /// Whether a file stands at this path.
    pub fn has_file(&self, path: &str) -> bool {
        self.metadata(path).is_ok_and(|found| !found.is_folder)
    }
}
