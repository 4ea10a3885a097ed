//! The finder of Linux systems: their roots, their kernels with what goes with each, and their arguments. One for the survey
//! and for the prompt, at the desk and at boot.
//!
//! Each volume is looked at by itself ([`on_volume`]); whose everything is shows when all of them are known
//! ([`Systems::of`]). Names of files are data (`signpost_menu::layouts`).

mod arguments;
mod entries;
mod found_system;
mod kernels;
mod owners;
mod releases;
mod roots;
mod snapshots;
mod systems;
#[cfg(test)]
mod tests;

use alloc::string::String;
use alloc::vec::Vec;

pub use arguments::{Arguments, Source};
pub use found_system::{FoundSystem, SystemKernel};
pub use kernels::{FoundKernel, in_folder};
pub use owners::{Mounted, mounted};
pub use releases::os_release;
pub use roots::Root;
use signpost_menu::include::EntryFile;
use signpost_menu::kernels::newest_first;
use signpost_menu::linux_system::{LinuxKernel, LinuxSystem};
use signpost_menu::os_release::OsRelease;
use signpost_menu::sorted::sorted;

use crate::reader::VolumeReader;
use crate::volumes::Volumes;

/// What is found on a volume, whose it is not yet told.
#[derive(Clone, Debug, Default)]
pub struct Found {
    /// Linux systems that have their root on it.
    pub roots: Vec<Root>,
    /// Kernels, by the root on it in which they lie, if they lie in one.
    pub kernels: Vec<(Option<usize>, Vec<FoundKernel>)>,
    /// Entry files, with their paths.
    pub entry_files: Vec<(String, EntryFile)>,
    /// Blocks of variables that entry files may take theirs from.
    pub environment: Vec<String>,
    /// What a system says of itself that mounts the volume at `/usr`; and the file.
    pub usr_release: Option<(String, OsRelease)>,
}

/// Looks at a volume.
pub fn on_volume(reader: &VolumeReader) -> Found {
    // What cannot be read becomes a fault of the volume.
    let subvolumes = reader.subvolumes().unwrap_or_default();
    let mut roots = roots::on_volume(reader, &subvolumes);
    snapshots::mark(&mut roots);
    let entry_files = entries::on_volume(reader, &roots);
    let kernels = kernels::on_volume(reader, &subvolumes, &roots, &entry_files);
    let environment = arguments::environment(reader, &roots, &entry_files);
    let usr_release = if roots.is_empty() { releases::of_usr(reader) } else { None };
    Found { roots, kernels, entry_files, environment, usr_release }
}

/// A machine whose Linux systems were found.
pub trait WithSystems: Volumes {
    /// The systems.
    fn systems(&self) -> &Systems;
}

/// What was found on all volumes, and whose it is.
#[derive(Clone, Debug, Default)]
pub struct Systems {
    /// What was found on each volume.
    pub found: Vec<Found>,
    /// The systems: those of one volume one after the other, the one that is mounted where nobody names one first; those that
    /// only entry files show last.
    pub list: Vec<FoundSystem>,
    /// The same as a start needs them.
    pub started: Vec<LinuxSystem>,
}

impl Systems {
    /// Tells whose everything is that was found on the volumes of a machine.
    pub fn of(volumes: &impl Volumes, found: Vec<Found>) -> Self {
        let list = systems::all(volumes, &found);
        let started = list.iter().map(|system| system.as_started(volumes)).collect();
        Self { found, list, started }
    }

    /// Looks at all volumes.
    pub fn find(volumes: &impl Volumes) -> Self {
        let all = 0..volumes.identities().len();
        let found = all.map(|volume| volumes.opened(volume).map(on_volume).unwrap_or_default());
        let found = found.collect();
        Self::of(volumes, found)
    }

    /// Every kernel that was found, with its volume.
    pub fn found_kernels(&self) -> impl Iterator<Item = (usize, &FoundKernel)> {
        self.found.iter().enumerate().flat_map(|(volume, found)| {
            found
                .kernels
                .iter()
                .flat_map(move |(_, kernels)| kernels.iter().map(move |kernel| (volume, kernel)))
        })
    }

    /// The kernels on a volume, the newest first.
    pub fn kernels_on(&self, volume: usize) -> Vec<LinuxKernel> {
        let kernels = self.found.get(volume).into_iter().flat_map(|found| &found.kernels);
        as_started(kernels.flat_map(|(_, kernels)| kernels).cloned().collect(), volume)
    }
}

/// Kernels of one volume as a start needs them, the newest first.
pub fn as_started(kernels: Vec<FoundKernel>, volume: usize) -> Vec<LinuxKernel> {
    let kernels = kernels.into_iter().map(|kernel| kernel.as_started(volume)).collect();
    sorted(kernels, |a: &LinuxKernel, b| newest_first((&a.path, &a.version), (&b.path, &b.version)))
}
