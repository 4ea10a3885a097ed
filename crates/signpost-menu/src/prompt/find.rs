//! Finding systems, kernels and files on a machine, in a bounded way.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

use super::Hands;
use crate::linux_files::{
    CMDLINE, FSTAB, initrds, is_kernel_name, made_arguments, mounts, named, version_in_name,
};
use crate::newest::is_spare;
use crate::os_release::{OsRelease, PATHS};
use crate::place::resolve;
use crate::resolve::Within;
use crate::version;

/// Folders that a search looks into, on all volumes together.
const MAX_FOLDERS: usize = 400;
/// Files that a search tells.
const MAX_FOUND: usize = 60;
/// Folders of one volume's `/EFI` that are looked into.
const MAX_VENDORS: usize = 32;
/// Where people and systems keep what starts.
const USUAL: [&str; 8] =
    ["", "/boot", "/boot/efi", "/efi", "/live", "/casper", "/systems", "/loader/entries"];

/// A Linux system, as far as a start needs it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LinuxSystem {
    /// Its title.
    pub title: String,
    /// The volume of its root.
    pub root: usize,
    /// The volume of its kernels.
    pub boot: usize,
    /// Its kernels, the newest first; spare ones last.
    pub kernels: Vec<Kernel>,
    /// Its arguments.
    pub args: String,
    /// Where they come from.
    pub args_from: String,
}

/// A kernel, with its initrds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Kernel {
    /// Its path.
    pub path: String,
    /// Its version.
    pub version: String,
    /// The initrds of its version.
    pub initrds: Vec<String>,
}

/// The system whose root a volume is, if it is one's.
pub fn system_on(hands: &impl Hands, volume: usize) -> Option<LinuxSystem> {
    let release = PATHS.iter().find_map(|path| hands.text(volume, path))?;
    let title = OsRelease::parse(&release).title().unwrap_or_else(|| "Linux".into());
    let mut boot = volume;
    let mut kernels = kernels_in(hands, volume, "/boot");
    if let Some(other) = boot_volume(hands, volume).filter(|_| kernels.is_empty()) {
        boot = other;
        kernels = kernels_on(hands, other);
    }
    let kept = hands.text(volume, CMDLINE).map(|text| text.split_whitespace().collect::<Vec<_>>().join(" "));
    let (args, args_from) = match kept.filter(|kept| !kept.is_empty()) {
        Some(kept) => (kept, format!("{CMDLINE} of v{}", volume.saturating_add(1))),
        None => {
            let (made, what) = made_arguments(hands.volumes().get(volume)?, "/");
            (made, format!("made from the {what} of v{}", volume.saturating_add(1)))
        }
    };
    Some(LinuxSystem { title, root: volume, boot, kernels, args, args_from })
}

/// The volume that a system mounts at `/boot`.
fn boot_volume(hands: &impl Hands, root: usize) -> Option<usize> {
    let fstab = hands.text(root, FSTAB)?;
    let what = mounts(&fstab).into_iter().find(|mount| mount.at == "/boot")?.what;
    resolve(&named(what)?, hands.volumes()).ok()
}

/// The kernels of a volume that is no root: at its top, and in the folders of its `/EFI`.
pub(super) fn kernels_on(hands: &impl Hands, volume: usize) -> Vec<Kernel> {
    let mut kernels = kernels_in(hands, volume, "");
    kernels.extend(kernels_in(hands, volume, "/boot"));
    for folder in vendors(hands, volume) {
        kernels.extend(kernels_in(hands, volume, &folder));
    }
    in_order(kernels)
}

/// The folders of a volume's `/EFI`.
pub(super) fn vendors(hands: &impl Hands, volume: usize) -> Vec<String> {
    let items = hands.items(volume, "/EFI").ok().flatten().unwrap_or_default();
    let folders = items.into_iter().filter(|item| item.is_folder).take(MAX_VENDORS);
    folders.map(|item| format!("/EFI/{}", item.name)).collect()
}

fn kernels_in(hands: &impl Hands, volume: usize, folder: &str) -> Vec<Kernel> {
    let shown = if folder.is_empty() { "/" } else { folder };
    let names = hands.files(Within::volume(volume), shown).ok().flatten().unwrap_or_default();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let kernel = |name: &&&str| is_kernel_name(name);
    let found = names.iter().filter(kernel).filter_map(|name| {
        let path = format!("{folder}/{name}");
        let version = hands.kernel_version(Within::volume(volume), &path)?;
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
    kernels.sort_by(|a, b| {
        let spare = |kernel: &Kernel| is_spare(kernel.path.rsplit('/').next().unwrap_or_default());
        spare(a)
            .cmp(&spare(b))
            .then_with(|| version::compare(&b.version, &a.version))
            .then_with(|| a.path.cmp(&b.path))
    });
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
