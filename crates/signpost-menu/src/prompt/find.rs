//! Finding systems, kernels and files on a machine, in a bounded way.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use alloc::{format, vec};

use super::linux::{Kernel, LinuxSystem, mounted_at};
use super::{Hands, Subvolume, arguments};
use crate::kernels::newest_first;
use crate::linux_files::{FSTAB, initrds, is_kernel_name, version_in_name};
use crate::os_release::{OsRelease, PATHS};
use crate::resolve::Within;

/// Folders that a search looks into, on all volumes together.
const MAX_FOLDERS: usize = 400;
/// Files that a search tells.
const MAX_FOUND: usize = 60;
/// Folders of one volume's `/EFI` that are looked into.
const MAX_VENDORS: usize = 32;
/// Subvolumes of one volume that are looked at.
const MAX_ROOTS: usize = 64;
/// Where people and systems keep what starts.
const USUAL: [&str; 8] =
    ["", "/boot", "/boot/efi", "/efi", "/live", "/casper", "/systems", "/loader/entries"];

/// The systems that have their root on a volume: in its uppermost folder, or in subvolumes. The one that is mounted where
/// nobody names a subvolume comes first; titles tell them apart.
pub(super) fn systems_on(hands: &impl Hands, volume: usize) -> Vec<LinuxSystem> {
    let top = Subvolume { path: "/".into(), is_default: false };
    let subvolumes = hands.subvolumes(volume).into_iter().filter(|found| found.path != "/").take(MAX_ROOTS);
    let (first, others): (Vec<_>, Vec<_>) =
        core::iter::once(top).chain(subvolumes).partition(|root| root.is_default);
    let mut found: Vec<(bool, LinuxSystem)> = first
        .into_iter()
        .chain(others)
        .filter_map(|root| Some((root.is_default, system_at(hands, volume, root.path)?)))
        .collect();
    let titles: Vec<String> = found.iter().map(|(_, system)| system.title.clone()).collect();
    for (is_default, system) in &mut found {
        if !*is_default && titles.iter().filter(|title| **title == system.title).count() > 1 {
            system.title = format!("{}, {}", system.title, system.root_path);
        }
    }
    found.into_iter().map(|(_, system)| system).collect()
}

/// Every system of the machine.
pub(super) fn systems(hands: &impl Hands) -> impl Iterator<Item = LinuxSystem> {
    (0..hands.volumes().len()).flat_map(|volume| systems_on(hands, volume))
}

/// The system whose root this folder is, if it is one's.
fn system_at(hands: &impl Hands, volume: usize, root_path: String) -> Option<LinuxSystem> {
    let below = root_path.trim_end_matches('/').to_string();
    let release = PATHS.iter().find_map(|path| hands.text(volume, &format!("{below}{path}")))?;
    let title = OsRelease::parse(&release).title().unwrap_or_else(|| "Linux".into());
    let fstab = hands.text(volume, &format!("{below}{FSTAB}")).unwrap_or_default();
    let mut boot = volume;
    let mut kernels = kernels_in(hands, Within::volume(volume), &format!("{below}/boot"));
    if let Some(other) = mounted_at(hands, &fstab, "/boot").filter(|_| kernels.is_empty()) {
        boot = other;
        kernels = kernels_on(hands, other);
    }
    let system = LinuxSystem {
        title,
        root: volume,
        root_path,
        boot,
        kernels,
        args: String::new(),
        args_from: String::new(),
    };
    let (args, args_from) = arguments::of(hands, &system, &fstab)?;
    Some(LinuxSystem { args, args_from, ..system })
}

/// The kernels of a volume that is no root: at its top, and in the folders of its `/EFI`.
pub(super) fn kernels_on(hands: &impl Hands, volume: usize) -> Vec<Kernel> {
    let mut kernels = kernels_in(hands, Within::volume(volume), "");
    kernels.extend(kernels_in(hands, Within::volume(volume), "/boot"));
    for folder in vendors(hands, volume) {
        kernels.extend(kernels_in(hands, Within::volume(volume), &folder));
    }
    in_order(kernels)
}

/// The folders of a volume's `/EFI`.
pub(super) fn vendors(hands: &impl Hands, volume: usize) -> Vec<String> {
    let items = hands.items(volume, "/EFI").ok().flatten().unwrap_or_default();
    let folders = items.into_iter().filter(|item| item.is_folder).take(MAX_VENDORS);
    folders.map(|item| format!("/EFI/{}", item.name)).collect()
}

/// The kernels in a folder, the newest first.
pub(super) fn kernels_in(hands: &impl Hands, within: Within<'_>, folder: &str) -> Vec<Kernel> {
    let shown = if folder.is_empty() { "/" } else { folder };
    let names = hands.files(within, shown).ok().flatten().unwrap_or_default();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let kernel = |name: &&&str| is_kernel_name(name);
    let found = names.iter().filter(kernel).filter_map(|name| {
        let path = format!("{folder}/{name}");
        let version = hands.kernel_header(within, &path)?.version_of(name);
        let own = initrds(version_in_name(name), &names);
        Some(Kernel {
            path,
            version,
            initrds: own.into_iter().map(|initrd| format!("{folder}/{initrd}")).collect(),
        })
    });
    in_order(found.collect())
}

fn in_order(mut kernels: Vec<Kernel>) -> Vec<Kernel> {
    kernels.sort_unstable_by(|a, b| newest_first((&a.path, &a.version), (&b.path, &b.version)));
    kernels
}

/// Files whose names have this in them, in the usual places of all volumes.
pub(super) fn find(hands: &impl Hands, wanted: &str) -> Result<Vec<String>, String> {
    if wanted.is_empty() {
        return Err("find what? a part of a name, such as vmlinuz or .efi".to_string());
    }
    let lower = wanted.to_lowercase();
    let (mut folders, mut found) = (0usize, Vec::new());
    for volume in 0..hands.volumes().len() {
        let mut places: Vec<String> = USUAL.iter().map(ToString::to_string).collect();
        places.extend(vendors(hands, volume));
        let subvolumes = hands.subvolumes(volume).into_iter().take(MAX_ROOTS);
        places.extend(subvolumes.map(|found| format!("{}/boot", found.path.trim_end_matches('/'))));
        places.sort_unstable();
        places.dedup();
        for folder in places {
            folders = folders.saturating_add(1);
            if folders > MAX_FOLDERS || found.len() >= MAX_FOUND {
                found.push("there is more; say more of the name".to_string());
                return Ok(found);
            }
            let shown = if folder.is_empty() { "/" } else { folder.as_str() };
            let names = hands.files(Within::volume(volume), shown).ok().flatten().unwrap_or_default();
            let fitting = names.into_iter().filter(|name| name.to_lowercase().contains(&lower));
            found.extend(fitting.map(|name| format!("v{}:{folder}/{name}", volume.saturating_add(1))));
        }
    }
    found.truncate(MAX_FOUND);
    if found.is_empty() {
        found = vec![format!(
            "nothing in the usual places has {wanted} in its name; `look v1:/` goes through a volume"
        )];
    }
    Ok(found)
}
