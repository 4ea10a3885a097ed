//! Where a system's arguments come from: what it keeps for its kernels, its entry files, or its root volume.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::Hands;
use super::linux::{LinuxSystem, mounted_at};
use crate::include::{ENTRY_FOLDER, EntryFile};
use crate::linux_files::{CMDLINE, kept_arguments, made_arguments};
use crate::resolve::Within;

/// Entry files of one folder that are read.
const MAX_FILES: usize = 64;
/// Where a system mounts what its entry files may lie on.
const MOUNTED: [&str; 3] = ["/boot", "/boot/efi", "/efi"];

/// A system's arguments, and where they come from; `None` where its volume is not there.
pub(super) fn of(hands: &impl Hands, system: &LinuxSystem, fstab: &str) -> Option<(String, String)> {
    let number = system.root.saturating_add(1);
    let path = format!("{}{CMDLINE}", below(system));
    if let Some(kept) = hands.text(system.root, &path).and_then(|text| kept_arguments(&text)) {
        return Some((kept, format!("{path} of v{number}")));
    }
    if let Some(found) = of_entry_files(hands, system, fstab) {
        return Some(found);
    }
    let (made, what) = made_arguments(hands.volumes().get(system.root)?, &system.root_path);
    Some((made, format!("made from the {what} of v{number}")))
}

fn below(system: &LinuxSystem) -> &str {
    system.root_path.trim_end_matches('/')
}

/// The arguments of the entry file that starts a system's newest kernel, or else of another one of the system's.
fn of_entry_files(hands: &impl Hands, system: &LinuxSystem, fstab: &str) -> Option<(String, String)> {
    let machine_id = hands.text(system.root, &format!("{}/etc/machine-id", below(system)));
    let machine_id = machine_id.map(|id| id.trim().to_string()).filter(|id| !id.is_empty());
    let mut found: Vec<(bool, String, String)> = Vec::new();
    for (volume, folder) in folders(hands, system, fstab) {
        let names = hands.files(Within::volume(volume), &folder).ok().flatten().unwrap_or_default();
        for name in names.iter().filter(|name| name.ends_with(".conf")).take(MAX_FILES) {
            let path = format!("{folder}/{name}");
            let Some(entry) = hands.text(volume, &path).map(|text| EntryFile::parse(&text)) else { continue };
            if entry.options.is_empty() || !is_of(system, volume, machine_id.as_ref(), &entry) {
                continue;
            }
            let newest = system.kernels.first().map(|kernel| &kernel.path);
            let starts_newest = volume == system.boot && newest.is_some() && newest == entry.program();
            found.push((!starts_newest, entry.options, format!("{path} of v{}", volume.saturating_add(1))));
        }
    }
    let found = found.into_iter().min_by_key(|(is_other, _, _)| *is_other);
    found.map(|(_, options, from)| (options, from))
}

/// The folders that hold a system's entry files, with their volumes.
fn folders(hands: &impl Hands, system: &LinuxSystem, fstab: &str) -> Vec<(usize, String)> {
    let own = [ENTRY_FOLDER.to_string(), format!("/boot{ENTRY_FOLDER}")];
    let own = own.map(|folder| (system.root, format!("{}{folder}", below(system))));
    let mounted = MOUNTED.iter().filter_map(|at| mounted_at(hands, fstab, at));
    let home = hands.volumes().iter().position(|volume| volume.is_home);
    let included = home.map(|home| hands.include_from(home)).unwrap_or_default();
    let others = mounted.chain([system.boot]).chain(included);
    let mut folders = Vec::from(own);
    for volume in others {
        let folder = (volume, ENTRY_FOLDER.to_string());
        if !folders.contains(&folder) {
            folders.push(folder);
        }
    }
    folders
}

/// Whether an entry file starts a system: by the machine-id, by the kernel that it names, by its title.
fn is_of(system: &LinuxSystem, volume: usize, machine_id: Option<&String>, entry: &EntryFile) -> bool {
    if let (Some(own), Some(its)) = (machine_id, &entry.machine_id) {
        return own == its;
    }
    let names_kernel =
        volume == system.boot && system.kernels.iter().any(|kernel| Some(&kernel.path) == entry.program());
    names_kernel || entry.title.as_ref().is_some_and(|title| title.starts_with(&system.title))
}
