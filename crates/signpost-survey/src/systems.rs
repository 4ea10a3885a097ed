//! Systems as a whole: their ids, titles and order.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use signpost_facts::{DiskNumber, Family, Role, System};
use signpost_menu::ids::{self, Given};
use signpost_menu::place::Nearness;
use signpost_place::Look;

/// Sorts systems and their loaders, once the firmware's entries are known.
pub(crate) fn finish(look: &mut Look) {
    let entries = look.survey.firmware.entries.clone();
    let files = look.survey.boot_files.clone();
    for system in &mut look.survey.systems {
        let own = |entry: &&signpost_facts::FirmwareEntry| entry.owners().any(|id| *id == system.id);
        system.entries = entries.iter().filter(own).map(|entry| entry.number).collect();
        system.loaders.sort_by_key(|index| {
            let file = &files[*index];
            let named = entries.iter().position(|entry| {
                let same = |target: &signpost_facts::Target| {
                    target.volume == file.volume && target.file.eq_ignore_ascii_case(&file.path)
                };
                entry.target.as_ref().is_some_and(same)
            });
            (file.role == Role::FallbackPath, named.unwrap_or(usize::MAX), file.path.clone())
        });
    }
    let volumes = &look.survey.volumes;
    for system in &mut look.survey.systems {
        let place = |index: &usize| volumes[files[*index].volume.index()].at(&files[*index].path);
        system.loader_places = system.loaders.iter().map(place).collect();
    }

    let disks = &look.survey.disks;
    let takes_part =
        |disk: DiskNumber| disks.iter().find(|held| held.number == disk).is_none_or(|disk| disk.takes_part);
    // What shows by a loader alone may be no system at all: it is never the first, where there are others.
    let is_vague = |system: &System| system.family == Family::Other && system.root.is_none();
    let order = |system: &System| {
        let is_away = !system.disks.iter().all(|disk| takes_part(*disk));
        (!system.is_running, is_away, is_vague(system), system.snapshot.is_some())
    };
    let place = |system: &System| {
        let loader = || system.loaders.first().map(|index| files[*index].volume);
        system.root.or_else(loader).or_else(|| system.image.as_ref().map(|image| image.volume))
    };
    look.survey.systems.sort_by_key(|system| (order(system), place(system)));
}

/// Whether a path is the fallback path, of any architecture.
pub(crate) fn is_rescue(path: &str) -> bool {
    let path = path.to_lowercase();
    path.strip_prefix("/efi/boot/").is_some_and(|file| file.starts_with("boot") && file.ends_with(".efi"))
}

/// Two systems of one title get titles apart: by their disk, else by their partition, else by their place on it. Where they are
/// a system and its copies, the one that is nearest to the menu keeps its own.
pub(crate) fn make_titles_differ(look: &mut Look) {
    let told: Vec<[Option<String>; 3]> =
        look.survey.systems.iter().map(|system| told_by(look, system)).collect();
    let titles: Vec<String> = look.survey.systems.iter().map(|system| system.title.clone()).collect();
    let mut titled: BTreeMap<&str, usize> = BTreeMap::new();
    let mut told_so: BTreeMap<(&str, usize, &str), usize> = BTreeMap::new();
    for (title, told) in titles.iter().zip(&told) {
        *titled.entry(title).or_default() += 1;
        for (kind, told) in told.iter().enumerate() {
            if let Some(told) = told {
                *told_so.entry((title, kind, told)).or_default() += 1;
            }
        }
    }
    let near: Vec<Nearness> = look.survey.systems.iter().map(|system| nearness(look, system)).collect();
    // By title: how near the nearest is, and how many are as near as that.
    let mut nearest: BTreeMap<&str, (Nearness, usize)> = BTreeMap::new();
    for (title, near) in titles.iter().zip(&near) {
        let (best, count) = nearest.entry(title).or_insert((*near, 0));
        match near.cmp(best) {
            Ordering::Less => (*best, *count) = (*near, 1),
            Ordering::Equal => *count += 1,
            Ordering::Greater => {}
        }
    }
    for (index, (system, told)) in look.survey.systems.iter_mut().zip(&told).enumerate() {
        let title = &titles[index];
        let keeps = nearest.get(title.as_str()) == Some(&(near[index], 1));
        if keeps || titled.get(title.as_str()).is_none_or(|count| *count < 2) {
            continue;
        }
        let is_only = |(kind, told): &(usize, &String)| {
            told_so.get(&(title.as_str(), *kind, told.as_str())) == Some(&1)
        };
        let mut kinds = told.iter().enumerate().filter_map(|(kind, told)| Some((kind, told.as_ref()?)));
        let told = kinds.find(is_only).map_or(&system.id, |(_, told)| told);
        system.title = format!("{title}, {told}");
    }
}

/// How near to the menu a system lies.
fn nearness(look: &Look, system: &System) -> Nearness {
    let own = system.root.or(system.image.as_ref().map(|image| image.volume));
    let loaders = || system.loaders.iter().map(|index| look.survey.boot_files[*index].volume);
    let volumes = own.into_iter().chain(loaders().filter(|_| own.is_none()));
    let near = volumes.filter_map(|volume| Some(look.identities.get(volume.index())?.nearness));
    near.min().unwrap_or_default()
}

/// What may tell a system from others: its disk, its partition, its place on that.
fn told_by(look: &Look, system: &System) -> [Option<String>; 3] {
    let number = system.root.or(system.image.as_ref().map(|image| image.volume));
    let volume = number.and_then(|number| look.survey.volumes.get(number.index()));
    let place = volume.map(|volume| volume.name.clone());
    let path = place.as_ref().map(|place| format!("{place}{}", system.root_path));
    [volume.map(|volume| format!("disk {}", volume.disk)), place, path]
}

/// Two systems of one name get ids apart: `larkspur`, `larkspur-2`.
pub(crate) fn make_ids_unique(systems: &mut [System]) {
    let mut ids = Given::default();
    for system in systems {
        system.id = ids.give(&slug(&system.id));
    }
}

/// An id that none of these has.
pub(crate) fn free_id(base: &str, taken: &[System]) -> String {
    ids::first_free(base, base, |id| taken.iter().any(|before| before.id == id))
}

/// A short name, fit for an id: lower-case letters, digits, dashes.
pub(crate) fn slug(text: &str) -> String {
    ids::slug(text, "system")
}

pub(crate) fn capitalised(word: &str) -> String {
    let mut chars = word.chars();
    chars.next().map(|first| first.to_uppercase().chain(chars).collect()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_are_short_and_plain() {
        assert_eq!(slug("Meridian Desktop 4"), "meridian-desktop-4");
        assert_eq!(slug("--Größe--"), "gr-e");
        assert_eq!(slug("☂"), "system");
    }

    #[test]
    fn fallback_paths_are_known_in_any_case() {
        assert!(is_rescue("/efi/Boot/bootx64.EFI"));
        assert!(!is_rescue("/EFI/BOOT/fallback.efi"));
    }
}
