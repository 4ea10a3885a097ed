//! Entry files, where only they show a system, and whose the others are.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::include::{ENTRY_FOLDER, EntryFile};
use signpost_menu::layouts::last_part;
use signpost_menu::standing::Standing;

use super::Found;
use super::found_system::{FoundSystem, SystemKernel};
use super::kernels::FoundKernel;
use super::owners::Owner;
use super::releases::{id_of, text};
use super::roots::Root;
use crate::reader::VolumeReader;
use crate::volumes::Volumes;

/// Entry files of one folder.
const MAX_FILES: usize = 256;
/// Folders in which they lie, from the root of an ESP or extended boot partition, or of a system.
const FOLDERS: [&str; 2] = [ENTRY_FOLDER, "/boot/loader/entries"];

/// Every entry file of a volume, whose it is not yet told.
pub(super) fn on_volume(reader: &VolumeReader, roots: &[Root]) -> Vec<(String, EntryFile)> {
    let mut folders: Vec<String> = roots.iter().map(|root| root.below("")).collect();
    folders.push(String::new());
    folders.sort_unstable();
    folders.dedup();
    let folders = folders.into_iter().flat_map(|below| FOLDERS.map(|folder| [&below, folder].concat()));
    let mut found = Vec::new();
    for path in folders.flat_map(|folder| reader.files_in(&folder, MAX_FILES)) {
        if let Some(text) = path.ends_with(".conf").then(|| text(reader, &path)).flatten() {
            found.push((path, EntryFile::parse(&text)));
        }
    }
    found
}

/// Gives each entry file to the system that it starts: by the kernel that it names, by the machine-id, by its title. A system
/// on another disk than the file's has it only where that system has nothing else.
pub(super) fn give(
    volumes: &impl Volumes,
    found: &[Found],
    owners: &[Owner<'_>],
    systems: &mut [FoundSystem],
) {
    for (volume, on_it) in found.iter().enumerate() {
        for (index, (_, entry)) in on_it.entry_files.iter().enumerate() {
            let nearest = |fits: &dyn Fn(&Owner<'_>, &FoundSystem) -> bool| {
                let all = owners.iter().zip(systems.iter()).enumerate();
                let fitting = all.filter(|(_, (owner, system))| fits(owner, system));
                let near = fitting.filter_map(|(index, (owner, system))| {
                    let standing = owner.standing(volumes, volume)?;
                    let counts = standing != Standing::OtherDisk || system.kernels.is_empty();
                    counts.then_some((system.snapshot.is_some(), standing, index))
                });
                near.min().map(|(_, _, index)| index)
            };
            let names_its_kernel = |_: &Owner<'_>, system: &FoundSystem| {
                let mut own = system.kernels.iter();
                own.any(|own| own.volume == volume && Some(&own.kernel.path) == entry.program())
            };
            let has_its_id = |owner: &Owner<'_>, _: &FoundSystem| {
                entry.machine_id.is_some() && owner.root.machine_id == entry.machine_id
            };
            let has_its_title = |owner: &Owner<'_>, system: &FoundSystem| {
                let ids = (&owner.root.machine_id, &entry.machine_id);
                let is_anothers = matches!(ids, (Some(own), Some(its)) if own != its);
                let title = entry.title.as_ref().filter(|_| !is_anothers);
                title.is_some_and(|title| title.starts_with(&system.title))
            };
            let owner = nearest(&names_its_kernel)
                .or_else(|| nearest(&has_its_id))
                .or_else(|| nearest(&has_its_title));
            if let Some(system) = owner.and_then(|owner| systems.get_mut(owner)) {
                system.entry_files.push((volume, index));
            }
        }
    }
}

/// The systems that only entry files show, such as those whose root is encrypted: by the kernels that are nobody's else.
pub(super) fn systems_of_their_own(found: &[Found], systems: &[FoundSystem]) -> Vec<FoundSystem> {
    let is_owned = |at: (usize, usize)| systems.iter().any(|system| system.entry_files.contains(&at));
    let mut shown: Vec<(Option<String>, FoundSystem)> = Vec::new();
    for (volume, on_it) in found.iter().enumerate() {
        let kernels = || on_it.kernels.iter().flat_map(|(_, kernels)| kernels);
        for (index, (path, entry)) in on_it.entry_files.iter().enumerate() {
            let starts = |kernel: &&FoundKernel| Some(&kernel.path) == entry.linux.as_ref();
            let Some(kernel) = kernels().find(starts).filter(|_| !is_owned((volume, index))) else {
                continue;
            };
            let title = title_of(entry, path);
            let same = shown.iter_mut().find(|(machine_id, system)| {
                system.release.0 == volume
                    && match (machine_id, &entry.machine_id) {
                        (Some(own), Some(its)) => own == its,
                        _ => system.title == title,
                    }
            });
            let kernel = SystemKernel { volume, kernel: kernel.clone(), arguments: None };
            match same {
                Some((_, system)) => {
                    if !system.kernels.iter().any(|held| held.kernel.path == kernel.kernel.path) {
                        system.kernels.push(kernel);
                    }
                    system.entry_files.push((volume, index));
                }
                None => {
                    let system = FoundSystem {
                        root: None,
                        id: id_of(&title),
                        title,
                        id_like: Vec::new(),
                        release: (volume, path.clone()),
                        root_path: "/".into(),
                        snapshot: None,
                        boot: None,
                        mounts: Vec::new(),
                        kernels: Vec::from([kernel]),
                        arguments: None,
                        entry_files: Vec::from([(volume, index)]),
                    };
                    shown.push((entry.machine_id.clone(), system));
                }
            }
        }
    }
    shown.into_iter().map(|(_, system)| system).collect()
}

/// A system's title by an entry's: versions in brackets are the kernel's, or that of one entry.
fn title_of(entry: &EntryFile, path: &str) -> String {
    let title = entry.title.as_deref().unwrap_or_default();
    let title = title.split_once(" (").map_or(title, |(title, _)| title).trim();
    let name = last_part(path);
    let otherwise = name.strip_suffix(".conf").unwrap_or(name);
    (if title.is_empty() { otherwise } else { title }).to_string()
}
