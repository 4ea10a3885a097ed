//! Finding systems and files on a machine, in a bounded way.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use alloc::{format, vec};

use super::Hands;
use crate::linux_system::LinuxSystem;
use crate::resolve::Within;

/// Folders that a search looks into, on all volumes together.
const MAX_FOLDERS: usize = 400;
/// Files that a search tells.
const MAX_FOUND: usize = 60;
/// Folders of one volume's `/EFI` that are looked into.
const MAX_VENDORS: usize = 32;
/// Where people and systems keep what starts.
const USUAL: [&str; 8] =
    ["", "/boot", "/boot/efi", "/efi", "/live", "/casper", "/systems", "/loader/entries"];

/// The systems that have their root on a volume, the one that is mounted where nobody names one first.
pub(super) fn systems_on(hands: &impl Hands, volume: usize) -> Vec<&LinuxSystem> {
    hands.systems().iter().filter(|system| system.root == Some(volume)).collect()
}

/// The folders of a volume's `/EFI`.
pub(super) fn vendors(hands: &impl Hands, volume: usize) -> Vec<String> {
    let items = hands.items(volume, "/EFI").ok().flatten().unwrap_or_default();
    let folders = items.into_iter().filter(|item| item.is_folder).take(MAX_VENDORS);
    folders.map(|item| format!("/EFI/{}", item.name)).collect()
}

/// Files whose names have this in them, in the usual places of all volumes.
pub(super) fn find(hands: &impl Hands, wanted: &str) -> Result<Vec<String>, String> {
    if wanted.is_empty() {
        return Err("find what? a part of a name, such as vmlinuz or .efi".to_string());
    }
    let lower = wanted.to_lowercase();
    let (mut folders, mut found) = (0usize, Vec::new());
    let systems = hands.systems();
    for volume in 0..hands.volumes().len() {
        let mut places: Vec<String> = USUAL.iter().map(ToString::to_string).collect();
        places.extend(vendors(hands, volume));
        let roots = systems.iter().filter(|system| system.root == Some(volume));
        places.extend(roots.map(|system| format!("{}/boot", system.root_path.trim_end_matches('/'))));
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
            found.extend(fitting.map(|name| hands.at(volume, &format!("{folder}/{name}"))));
        }
    }
    found.truncate(MAX_FOUND);
    if found.is_empty() {
        found = vec![format!(
            "no file in the usual places has {wanted} in its name; `look VOLUME:/` lists a volume"
        )];
    }
    Ok(found)
}
