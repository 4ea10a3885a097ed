//! What each start-up file is, and the systems that show by their loaders alone.

use super::Look;
use super::facts::{Role, StartupFile, System};
use signpost_menu::ids;
use signpost_menu::os_release::OsRelease;

use crate::catalogue::{Catalogue, Family};
use crate::home;

/// Gives every start-up file its role and its system; systems that no root volume shows are added.
pub(super) fn assign(look: &mut Look<'_>, catalogue: &Catalogue) {
    let mut files = std::mem::take(&mut look.survey.startup_files);
    let systems = &mut look.survey.systems;
    make_ids_unique(systems);
    let disk_of = |volume: usize| look.survey.volumes.get(volume - 1).map(|volume| volume.disk);
    for file in files.iter_mut().filter(|file| !is_spare(&file.path)) {
        assign_one(file, systems, catalogue, &disk_of);
    }
    // The spare path is most often a copy: the others must be known first.
    for index in 0..files.len() {
        if is_spare(&files[index].path) {
            assign_spare(index, &mut files, systems, &disk_of);
        }
    }
    for (index, file) in files.iter().enumerate() {
        if !matches!(file.role, Role::OwnLoader | Role::UnifiedImage | Role::SparePath) {
            continue;
        }
        for system in systems.iter_mut().filter(|system| file.owners().any(|id| *id == system.id)) {
            system.loaders.push(index);
        }
    }
    look.survey.startup_files = files;
}

/// Sorts systems and their loaders, once the firmware's entries are known.
pub(super) fn finish(look: &mut Look<'_>) {
    let entries = look.survey.firmware.entries.clone();
    let files = look.survey.startup_files.clone();
    for system in &mut look.survey.systems {
        let own = |entry: &&super::FirmwareEntry| entry.owners().any(|id| *id == system.id);
        system.entries = entries.iter().filter(own).map(|entry| entry.number.clone()).collect();
        system.loaders.sort_by_key(|index| {
            let file = &files[*index];
            let named = entries.iter().position(|entry| {
                let same = |target: &super::Target| {
                    target.volume == file.volume && target.file.eq_ignore_ascii_case(&file.path)
                };
                entry.target.as_ref().is_some_and(same)
            });
            (file.role == Role::SparePath, named.unwrap_or(usize::MAX), file.path.clone())
        });
    }
    for system in &mut look.survey.systems {
        let place = |index: &usize| format!("v{}:{}", files[*index].volume, files[*index].path);
        system.loader_places = system.loaders.iter().map(place).collect();
    }
    let running = |system: &System| !system.is_running;
    let place = |system: &System| {
        let loader = || system.loaders.first().map(|index| files[*index].volume);
        system.root.or_else(loader).or_else(|| system.image.as_ref().map(|image| image.volume))
    };
    look.survey.systems.sort_by_key(|system| (running(system), place(system)));
}

/// Whether a path is the spare path, of any architecture.
fn is_spare(path: &str) -> bool {
    let path = path.to_lowercase();
    path.strip_prefix("/efi/boot/").is_some_and(|file| file.starts_with("boot") && file.ends_with(".efi"))
}

/// The number of the disk that a volume of a number lies on.
type DiskOf<'a> = &'a dyn Fn(usize) -> Option<usize>;

/// The systems of a vendor's folder on an ESP: the one that mounts that ESP; else those with their root on the same disk;
/// else all of that name. More than one, where nothing tells which.
pub(crate) fn owners_of_folder<'s>(
    systems: &'s [System],
    vendor: &str,
    volume: usize,
    disk_of: DiskOf<'_>,
) -> Vec<&'s System> {
    let named = || {
        let linux = systems.iter().filter(|system| system.family == "linux" && system.image.is_none());
        linux.filter(|system| {
            system.os_id.eq_ignore_ascii_case(vendor) || system.id.eq_ignore_ascii_case(vendor)
        })
    };
    let mounting: Vec<&System> = named().filter(|system| system.esp == Some(volume)).collect();
    if !mounting.is_empty() {
        return mounting;
    }
    // One that mounts another ESP has its loaders there.
    let free = || named().filter(|system| system.esp.is_none());
    let beside = |system: &&System| system.root.and_then(disk_of) == disk_of(volume);
    let beside: Vec<&System> = free().filter(beside).collect();
    if !beside.is_empty() {
        return beside;
    }
    let free: Vec<&System> = free().collect();
    if free.is_empty() { named().collect() } else { free }
}

fn assign_one(file: &mut StartupFile, systems: &mut Vec<System>, catalogue: &Catalogue, disk_of: DiskOf<'_>) {
    if let Some(fault) = &file.hints.fault {
        file.description = format!("cannot be started: {fault}");
        return;
    }
    if home::is_boot_program(&file.path, file.sha256.as_deref()) {
        file.role = Role::BootProgram;
        file.description = "our boot program, which shows the menu".into();
        return;
    }
    if file.hints.has_kernel_section {
        return assign_unified(file, systems, disk_of);
    }
    if let Some(kernel) = &file.hints.kernel {
        file.role = Role::Kernel;
        let version = kernel.version.clone().unwrap_or_else(|| "of unknown version".into());
        let owner = systems.iter().find(|system| {
            system.kernels.iter().any(|kernel| kernel.volume == file.volume && kernel.path == file.path)
        });
        file.system = owner.map(|system| system.id.clone());
        file.description = format!("Linux kernel {version}");
        return;
    }
    let below_efi = below_efi(&file.path).to_string();
    let vendor = below_efi.split('/').next().unwrap_or_default().to_string();
    let row = catalogue.system(&below_efi);
    let owners = owners_of_folder(systems, &vendor, file.volume, disk_of);
    let also: Vec<String> = owners.iter().skip(1).map(|system| system.id.clone()).collect();
    let product = file.version.as_ref().and_then(|version| version.product.clone());
    let (id, title, from) = if let Some(system) = owners.first() {
        (system.id.clone(), system.title.clone(), String::new())
    } else if let Some(row) = row {
        (row.id.clone(), row.title.clone(), "the catalogue".to_string())
    } else {
        if let Some(role) = file.version.as_ref().and_then(|version| catalogue.program(version)) {
            file.role = role;
            let what = if role == Role::Tool { "tool" } else { "another boot manager" };
            file.description = format!("{what}, folder {vendor}");
            return;
        }
        let from = if product.is_some() { "the loader's version resource" } else { "the loader's folder" };
        (slug(&vendor), product.unwrap_or_else(|| capitalised(&vendor)), from.to_string())
    };
    file.role = Role::OwnLoader;
    file.description = match also.len() {
        0 => format!("{title}'s own loader"),
        more => format!("own loader of {title} and {more} more: nothing tells whose"),
    };
    (file.system, file.also) = (Some(id.clone()), also);
    if !systems.iter().any(|system| system.id == id) {
        systems.push(System::new(id, title, from, row.map_or(Family::Other, |row| row.family)));
    }
}

fn assign_unified(file: &mut StartupFile, systems: &mut Vec<System>, disk_of: DiskOf<'_>) {
    let release = file.hints.os_release.as_deref().map(OsRelease::parse).unwrap_or_default();
    let owners = owners_of_folder(systems, release.id().unwrap_or("linux"), file.volume, disk_of);
    let known = owners.first().map(|system| system.title.clone());
    let id = owners
        .first()
        .map_or_else(|| release.id().unwrap_or("linux").to_string(), |system| system.id.clone());
    file.also = owners.iter().skip(1).map(|system| system.id.clone()).collect();
    let title = known.clone().or_else(|| release.title()).unwrap_or_else(|| "Linux".into());
    let version = file.hints.uname.as_ref().map(|uname| format!(", kernel {uname}")).unwrap_or_default();
    file.role = Role::UnifiedImage;
    file.description = format!("{title}, unified kernel image{version}");
    file.system = Some(id.clone());
    if known.is_none() {
        let from = "os-release inside a unified kernel image".into();
        systems.push(System::new(id, title, from, Family::Linux));
    }
}

fn assign_spare(index: usize, files: &mut [StartupFile], systems: &mut Vec<System>, disk_of: DiskOf<'_>) {
    if let Some(fault) = &files[index].hints.fault {
        files[index].description = format!("spare path; cannot be started: {fault}");
        return;
    }
    let same = |other: &&StartupFile| {
        !is_spare(&other.path) && other.sha256.is_some() && other.sha256 == files[index].sha256
    };
    // The same content elsewhere tells what it is, and not whose: of another system it may be the only loader.
    let here = files.iter().filter(same).find(|other| other.volume == files[index].volume);
    let twin = here.or_else(|| files.iter().find(same)).cloned();
    let product = files[index].version.as_ref().and_then(|version| version.product.clone());
    let volume = files[index].volume;
    let mut also = Vec::new();
    let (system, description) = match (&twin, product) {
        (Some(twin), _) if twin.volume == volume => {
            also.clone_from(&twin.also);
            (twin.system.clone(), format!("spare path, same file as {}", twin.path))
        }
        (Some(twin), _) => {
            let known = twin.system.as_ref().and_then(|id| systems.iter().find(|system| system.id == *id));
            let owners = known.map(|known| owners_of_folder(systems, &known.os_id, volume, disk_of));
            let mut owners = owners.unwrap_or_default().into_iter().map(|system| system.id.clone());
            let system = owners.next().or_else(|| twin.system.clone());
            also.extend(owners);
            (system, format!("spare path, same file as {} on v{}", twin.path, twin.volume))
        }
        (None, _) if files[index].is_ours() => (None, "spare path, our boot program".to_string()),
        (None, Some(product)) => {
            let known = systems.iter().find(|system| system.title == product).map(|system| system.id.clone());
            let id = known.unwrap_or_else(|| {
                let id = slug(&product);
                let from = "the version resource of a spare path".into();
                systems.push(System::new(id.clone(), product.clone(), from, Family::Other));
                id
            });
            (Some(id), format!("spare path, {product}"))
        }
        (None, None) => (None, "spare path, of a system that it does not name".to_string()),
    };
    let file = &mut files[index];
    (file.role, file.system, file.also, file.description) = (Role::SparePath, system, also, description);
}

/// Two systems of one title get titles apart: by their disk, else by their partition, else by their place on it.
pub(super) fn make_titles_differ(look: &mut Look<'_>) {
    let volumes = &look.survey.volumes;
    let titles: Vec<String> = look.survey.systems.iter().map(|system| system.title.clone()).collect();
    let volume = |system: &System| system.root.or(system.image.as_ref().map(|image| image.volume));
    let disk =
        |system: &System| volume(system).and_then(|number| volumes.get(number - 1)).map(|volume| volume.disk);
    let place = |system: &System| {
        volume(system).and_then(|number| volumes.get(number - 1)).map(|volume| volume.place.clone())
    };
    let told: Vec<Option<String>> = look
        .survey
        .systems
        .iter()
        .map(|system| {
            let same: Vec<&System> =
                look.survey.systems.iter().filter(|other| other.title == system.title).collect();
            if same.len() < 2 {
                return None;
            }
            let is_told = |by: &dyn Fn(&System) -> Option<String>| {
                let own = by(system)?;
                (same.iter().filter(|other| by(other).as_ref() == Some(&own)).count() == 1).then_some(own)
            };
            let by_disk = |system: &System| disk(system).map(|disk| format!("disk {disk}"));
            let by_path = |system: &System| Some(format!("{}{}", place(system)?, system.root_path));
            is_told(&by_disk)
                .or_else(|| is_told(&place))
                .or_else(|| is_told(&by_path))
                .or(Some(system.id.clone()))
        })
        .collect();
    for ((system, title), told) in look.survey.systems.iter_mut().zip(titles).zip(told) {
        if let Some(told) = told {
            system.title = format!("{title}, {told}");
        }
    }
}

/// Two systems of one name get ids apart: `larkspur`, `larkspur-2`.
pub(super) fn make_ids_unique(systems: &mut [System]) {
    for index in 0..systems.len() {
        let base = slug(&systems[index].id);
        let mut id = base.clone();
        let mut count = 1;
        while systems[..index].iter().any(|before| before.id == id) {
            count += 1;
            id = format!("{base}-{count}");
        }
        systems[index].id = id;
    }
}

fn below_efi(path: &str) -> &str {
    let below = path.get(..5).filter(|start| start.eq_ignore_ascii_case("/efi/")).and(path.get(5..));
    below.unwrap_or(path.trim_start_matches('/'))
}

/// A short name, fit for an id: lower-case letters, digits, dashes.
pub(crate) fn slug(text: &str) -> String {
    ids::slug(text, "system")
}

fn capitalised(word: &str) -> String {
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
    fn spare_paths_are_known_in_any_case() {
        assert!(is_spare("/efi/Boot/bootx64.EFI"));
        assert!(!is_spare("/EFI/BOOT/fallback.efi"));
        assert_eq!(below_efi("/efi/larkspur/a.efi"), "larkspur/a.efi");
    }
}
