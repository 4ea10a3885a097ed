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
    for file in files.iter_mut().filter(|file| !is_spare(&file.path)) {
        assign_one(file, systems, catalogue);
    }
    // The spare path is most often a copy: the others must be known first.
    for index in 0..files.len() {
        if is_spare(&files[index].path) {
            assign_spare(index, &mut files, systems);
        }
    }
    for (index, file) in files.iter().enumerate() {
        let Some(system) = file.system.as_ref().and_then(|id| systems.iter_mut().find(|s| s.id == *id))
        else {
            continue;
        };
        if matches!(file.role, Role::OwnLoader | Role::UnifiedImage | Role::SparePath) {
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
        let own = |entry: &&super::FirmwareEntry| entry.system.as_ref() == Some(&system.id);
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

fn assign_one(file: &mut StartupFile, systems: &mut Vec<System>, catalogue: &Catalogue) {
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
        return assign_unified(file, systems);
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
    let own =
        systems.iter().find(|system| system.family == "linux" && system.id.eq_ignore_ascii_case(&vendor));
    let product = file.version.as_ref().and_then(|version| version.product.clone());
    let (id, title, from) = if let Some(system) = own {
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
    file.description = format!("{title}'s own loader");
    file.system = Some(id.clone());
    if !systems.iter().any(|system| system.id == id) {
        systems.push(System::new(id, title, from, row.map_or(Family::Other, |row| row.family)));
    }
}

fn assign_unified(file: &mut StartupFile, systems: &mut Vec<System>) {
    let release = file.hints.os_release.as_deref().map(OsRelease::parse).unwrap_or_default();
    let id = release.id().unwrap_or("linux").to_string();
    let known = systems.iter().find(|system| system.id == id).map(|system| system.title.clone());
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

fn assign_spare(index: usize, files: &mut [StartupFile], systems: &mut Vec<System>) {
    if let Some(fault) = &files[index].hints.fault {
        files[index].description = format!("spare path; cannot be started: {fault}");
        return;
    }
    let same = |other: &&StartupFile| {
        !is_spare(&other.path) && other.sha256.is_some() && other.sha256 == files[index].sha256
    };
    // A copy on the same volume tells more than one elsewhere.
    let here = files.iter().filter(same).find(|other| other.volume == files[index].volume);
    let twin = here.or_else(|| files.iter().find(same));
    let product = files[index].version.as_ref().and_then(|version| version.product.clone());
    let (system, description) = match (twin, product) {
        (Some(twin), _) => {
            let elsewhere = if twin.volume == files[index].volume {
                String::new()
            } else {
                format!(" on v{}", twin.volume)
            };
            (twin.system.clone(), format!("spare path, same file as {}{elsewhere}", twin.path))
        }
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
    (file.role, file.system, file.description) = (Role::SparePath, system, description);
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
