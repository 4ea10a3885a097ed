//! What each boot file is and whose, and the systems that show by their loaders alone.

use std::collections::BTreeSet;

use signpost_facts::belongs::Standing;
use signpost_facts::{BootFile, Family, Role, Survey, System, VolumeNumber};
use signpost_firmware::start::volume_path;
use signpost_menu::os_release::OsRelease;
use signpost_place::{Look, boot_program};

use super::firmware::Judged;
use super::systems::{capitalised, free_id, is_rescue, make_ids_unique, slug};
use crate::catalogue::Catalogue;

/// Gives every boot file its role and its system; systems that no root volume shows are added. Ids go to the systems of the
/// machine first, so that none on a stick takes one away.
pub(crate) fn assign(look: &mut Look, judged: &Judged, catalogue: &Catalogue) {
    let led_to = led_to(look, judged);
    let mut files = std::mem::take(&mut look.survey.boot_files);
    let (mut own, others): (Vec<System>, Vec<System>) = std::mem::take(&mut look.survey.systems)
        .into_iter()
        .partition(|system| look.survey.is_of_machine(system));
    make_ids_unique(&mut own);
    let survey = &look.survey;
    let is_own = |file: &BootFile| survey.takes_part(file.volume);
    let mut assigning = Assigning { survey, catalogue, led_to, systems: own };
    assigning.assign(&mut files, is_own);
    assigning.systems.extend(others);
    make_ids_unique(&mut assigning.systems);
    assigning.assign(&mut files, |file| !is_own(file));
    let mut systems = assigning.systems;
    for (index, file) in files.iter().enumerate() {
        if !matches!(file.role, Role::OwnLoader | Role::UnifiedImage | Role::FallbackPath) {
            continue;
        }
        for system in systems.iter_mut().filter(|system| file.owners().any(|id| *id == system.id)) {
            system.loaders.push(index);
        }
    }
    (look.survey.boot_files, look.survey.systems) = (files, systems);
}

/// The files that entries of the firmware's lead to: somebody put those there, which nobody can who has only a stick.
/// Entries that the firmware makes by itself for whatever is plugged in do not count.
fn led_to(look: &Look, judged: &Judged) -> Vec<(VolumeNumber, String)> {
    let boot = &look.boot;
    let in_use = |number: &u16| boot.order.contains(number) || boot.next == Some(*number);
    let made = boot.options.iter().filter(|(number, option)| {
        let decoded = option.decoded.as_ref();
        in_use(number) && decoded.is_ok_and(|option| option.is_active() && !option.is_made_by_firmware())
    });
    let targets = made.filter_map(|(number, _)| judged.get(number)?.target());
    targets
        .map(|target| (VolumeNumber::of_index(target.partition), volume_path(&target.path).to_lowercase()))
        .collect()
}

struct Assigning<'a> {
    survey: &'a Survey,
    catalogue: &'a Catalogue,
    led_to: Vec<(VolumeNumber, String)>,
    systems: Vec<System>,
}

/// A loader while its owner is looked for.
struct Loader {
    file: usize,
    /// What its system may be called.
    names: Vec<String>,
    /// Its systems, by index.
    whose: Vec<usize>,
}

impl Assigning<'_> {
    fn assign(&mut self, files: &mut [BootFile], is_meant: impl Fn(&BootFile) -> bool) {
        let mut loaders = Vec::new();
        for (index, file) in files.iter_mut().enumerate().filter(|(_, file)| is_meant(file)) {
            if is_rescue(&file.path) || self.tells_itself(file) {
                continue;
            }
            loaders.push(Loader { file: index, names: self.names(file), whose: Vec::new() });
        }
        self.claim(&mut loaders, files);
        self.claim_by_kin(&mut loaders, files);
        for loader in loaders {
            self.settle(loader, files);
        }
        // The fallback path is most often a copy: the others must be known first.
        for index in 0..files.len() {
            if is_rescue(&files[index].path) && is_meant(&files[index]) {
                self.assign_spare(index, files);
            }
        }
    }

    /// What is known without asking whose it is: what is broken, ours, or a kernel.
    fn tells_itself(&self, file: &mut BootFile) -> bool {
        if let Some(fault) = &file.hints.fault {
            file.description = format!("cannot be started: {fault}");
            return true;
        }
        if boot_program::is_boot_program(&file.path, file.sha256.as_deref()) {
            file.role = Role::BootProgram;
            file.description = match self.survey.takes_part(file.volume) {
                true => "our boot program, which shows the menu".into(),
                false => "the boot program of another PC's menu".into(),
            };
            return true;
        }
        let Some(kernel) = file.hints.kernel.as_ref().filter(|_| !file.hints.has_kernel_section) else {
            return false;
        };
        file.role = Role::Kernel;
        let version = kernel.version.clone().unwrap_or_else(|| "of unknown version".into());
        let owner = self.systems.iter().find(|system| {
            system.kernels.iter().any(|kernel| kernel.volume == file.volume && kernel.path == file.path)
        });
        file.system = owner.map(|system| system.id.clone());
        file.description = format!("Linux kernel {version}");
        true
    }

    /// What the system of a loader may be called.
    fn names(&self, file: &BootFile) -> Vec<String> {
        if file.hints.has_kernel_section {
            return vec![release(file).id().unwrap_or("linux").to_string()];
        }
        let row = self.catalogue.system(below_efi(&file.path)).map(|row| row.id.clone());
        [vendor(file)].into_iter().chain(row).collect()
    }

    /// The systems, by index, whose loaders a folder of these names on a volume is for.
    fn owners(&self, names: &[String], volume: VolumeNumber) -> Vec<usize> {
        let owners = self.survey.owners_of_name(&self.systems, names, volume);
        let index_of = |system: &System| self.systems.iter().position(|other| other.id == system.id);
        owners.into_iter().filter_map(index_of).collect()
    }

    /// Tells whose the loaders are: of systems that mount their volume or lie on its disk; then of systems that an entry of
    /// the firmware's leads to there; then, of systems that have none yet, on another fixed disk.
    fn claim(&self, loaders: &mut [Loader], files: &[BootFile]) {
        for loader in loaders.iter_mut() {
            loader.whose = self.owners(&loader.names, files[loader.file].volume);
        }
        let is_led_to = |loader: &Loader| {
            let file = &files[loader.file];
            self.led_to.contains(&(file.volume, file.path.to_lowercase()))
        };
        for by_entry in [true, false] {
            let having: Vec<usize> = loaders.iter().flat_map(|loader| loader.whose.clone()).collect();
            for loader in loaders.iter_mut().filter(|loader| loader.whose.is_empty()) {
                let volume = files[loader.file].volume;
                let named = |index: &usize| {
                    let system = &self.systems[*index];
                    system.is_named(&loader.names) && self.survey.standing(system, volume).is_some()
                };
                let named: Vec<usize> = (0..self.systems.len()).filter(named).collect();
                let lacking: Vec<usize> =
                    named.iter().copied().filter(|index| !having.contains(index)).collect();
                if by_entry && is_led_to(loader) {
                    loader.whose = if lacking.is_empty() { named } else { lacking };
                } else if !by_entry {
                    loader.whose = lacking;
                }
            }
        }
    }

    /// Tells whose the loaders are whose folder has no system's name: a Linux system that has none yet and mounts their
    /// volume; one on the same disk that is made from a system of that name; the only one on the disk, beside one such folder.
    fn claim_by_kin(&self, loaders: &mut [Loader], files: &[BootFile]) {
        let having: Vec<usize> = loaders.iter().flat_map(|loader| loader.whose.clone()).collect();
        let is_lacking = |index: &usize| {
            let system = &self.systems[*index];
            system.family == Family::Linux
                && system.root.is_some()
                && system.snapshot.is_none()
                && !having.contains(index)
        };
        let lacking: Vec<usize> = (0..self.systems.len()).filter(is_lacking).collect();
        let is_nameless = |loader: &Loader| {
            let file = &files[loader.file];
            let says_nothing = file.version.as_ref().is_none_or(|version| version.product.is_none());
            loader.whose.is_empty()
                && loader.names.len() == 1
                && says_nothing
                && !file.hints.has_kernel_section
        };
        let nameless = loaders.iter().filter(|loader| is_nameless(loader));
        let folders: BTreeSet<(VolumeNumber, String)> =
            nameless.map(|loader| (files[loader.file].volume, loader.names[0].to_lowercase())).collect();
        for loader in loaders.iter_mut().filter(|loader| is_nameless(loader)) {
            let volume = files[loader.file].volume;
            let at = |wanted: Standing| {
                let standing =
                    |index: &&usize| self.survey.standing(&self.systems[**index], volume) == Some(wanted);
                lacking.iter().filter(standing).copied().collect::<Vec<_>>()
            };
            let (mounting, beside) = (at(Standing::Own), at(Standing::SameDisk));
            let is_made_from = |index: &usize| {
                self.systems[*index].id_like.iter().any(|like| like.eq_ignore_ascii_case(&loader.names[0]))
            };
            let made_from: Vec<usize> = beside.iter().copied().filter(is_made_from).collect();
            let is_alone = folders.iter().filter(|(other, _)| *other == volume).count() == 1;
            let only = |of: Vec<usize>| of.first().copied().filter(|_| of.len() == 1);
            let kin =
                only(mounting).or_else(|| only(made_from)).or_else(|| only(beside).filter(|_| is_alone));
            loader.whose.extend(kin);
        }
    }

    /// Gives a loader its role, its system and its description.
    fn settle(&mut self, loader: Loader, files: &mut [BootFile]) {
        let file = &mut files[loader.file];
        let Loader { names, mut whose, .. } = loader;
        let is_unified = file.hints.has_kernel_section;
        let product = file.version.as_ref().and_then(|version| version.product.clone());
        if whose.is_empty() {
            // Another of the same folder may have shown the system already.
            whose.extend(self.owners(&names, file.volume).first());
        }
        if whose.is_empty() {
            let program = file.version.as_ref().and_then(|version| self.catalogue.program(version));
            let has_row = names.len() > 1;
            if let Some(role) = program.filter(|_| !has_row && !is_unified) {
                file.role = role;
                let what = if role == Role::Tool { "tool" } else { "another boot manager" };
                file.description = format!("{what}, folder {}", vendor(file));
                return;
            }
        }
        file.role = if is_unified { Role::UnifiedImage } else { Role::OwnLoader };
        if whose.is_empty() {
            if let Some(other) =
                self.systems.iter().find(|system| system.root.is_some() && system.is_named(&names))
            {
                let why = match self.survey.takes_part(file.volume) {
                    true => "its own lie elsewhere",
                    false => "it lies on a removable disk",
                };
                file.description = format!("not {}'s: {why}", other.title);
                return;
            }
            whose.push(self.by_loader(file, &names, product));
        }
        self.take_title(whose[0], file);
        let system = &self.systems[whose[0]];
        let title = &system.title;
        let is_elsewhere = !self.survey.disks_of(file.volume).iter().any(|disk| system.disks.contains(disk));
        let disk =
            self.survey.volumes.get(file.volume.index()).filter(|_| is_elsewhere).map(|volume| volume.disk);
        let note = disk.map(|disk| format!(", on disk {disk} and not on its own")).unwrap_or_default();
        file.description = match whose.len() {
            _ if is_unified => {
                let version =
                    file.hints.uname.as_ref().map(|uname| format!(", kernel {uname}")).unwrap_or_default();
                format!("{title}, unified kernel image{version}{note}")
            }
            1 => format!("{title}'s own loader{note}"),
            more => format!("own loader of {title} and {} more: nothing tells whose", more - 1),
        };
        file.system = Some(system.id.clone());
        file.also = whose[1..].iter().map(|index| self.systems[*index].id.clone()).collect();
    }

    /// What a closed system's loader calls it is what people know it by.
    fn take_title(&mut self, system: usize, file: &BootFile) {
        let row = self.catalogue.system(below_efi(&file.path)).map(|row| row.title.clone());
        let product = file.version.as_ref().and_then(|version| version.product.clone());
        let system = &mut self.systems[system];
        if let Some(title) = row.or(product).filter(|_| system.family != Family::Linux) {
            system.title = title;
        }
    }

    /// A system that shows by its loader alone; its index.
    fn by_loader(&mut self, file: &BootFile, names: &[String], product: Option<String>) -> usize {
        if file.hints.has_kernel_section {
            let title = release(file).title().unwrap_or_else(|| "Linux".into());
            let from = "os-release inside a unified kernel image".to_string();
            return self.add(file.volume, System::new(names[0].clone(), title, from, Family::Linux));
        }
        if let Some(row) = self.catalogue.system(below_efi(&file.path)) {
            let from = "the catalogue".to_string();
            let system = System::new(row.id.clone(), row.title.clone(), from, row.family);
            return self.add(file.volume, system);
        }
        let from = if product.is_some() { "the loader's version resource" } else { "the loader's folder" };
        let title = product.unwrap_or_else(|| capitalised(&names[0]));
        let mut system = System::new(slug(&names[0]), title, from.to_string(), Family::Other);
        system.os_id.clone_from(&names[0]);
        self.add(file.volume, system)
    }

    /// Adds a system that a file on a volume shows; its index.
    fn add(&mut self, volume: VolumeNumber, mut system: System) -> usize {
        system.id = free_id(&system.id, &self.systems);
        system.disks = self.survey.disks_of(volume).into_iter().collect();
        self.systems.push(system);
        self.systems.len() - 1
    }

    fn assign_spare(&mut self, index: usize, files: &mut [BootFile]) {
        if let Some(fault) = &files[index].hints.fault {
            files[index].description = format!("fallback path; cannot be started: {fault}");
            return;
        }
        let same = |other: &&BootFile| {
            !is_rescue(&other.path) && other.sha256.is_some() && other.sha256 == files[index].sha256
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
                (twin.system.clone(), format!("fallback path, same file as {}", twin.path))
            }
            (Some(twin), _) => {
                let known =
                    twin.system.as_ref().and_then(|id| self.systems.iter().find(|system| system.id == *id));
                let names: Vec<String> = known.map(|known| known.os_id.clone()).into_iter().collect();
                let owners = self.survey.owners_of_name(&self.systems, &names, volume);
                let mut owners = owners.into_iter().map(|system| system.id.clone());
                let system =
                    owners.next().or_else(|| twin.system.clone().filter(|_| self.survey.takes_part(volume)));
                also.extend(owners);
                (system, format!("fallback path, same file as {}", self.survey.at(twin.volume, &twin.path)))
            }
            (None, _) if files[index].is_ours() => (None, "fallback path, our boot program".to_string()),
            (None, Some(product)) => {
                let id = self.of_product(&product, volume);
                (id, format!("fallback path, {product}"))
            }
            (None, None) => (None, "fallback path, of a system that it does not name".to_string()),
        };
        let file = &mut files[index];
        (file.role, file.system, file.also, file.description) =
            (Role::FallbackPath, system, also, description);
    }

    /// The system that a program on the fallback path names as its product: the one of that title whose word this volume is,
    /// else, where no system has the title, one that shows by this alone.
    fn of_product(&mut self, product: &str, volume: VolumeNumber) -> Option<String> {
        let titled =
            || self.systems.iter().filter(|system| system.title == product && system.image.is_none());
        let nearest = titled().filter_map(|system| Some((self.survey.standing(system, volume)?, &system.id)));
        if let Some((_, id)) = nearest.min() {
            return Some(id.clone());
        }
        if titled().next().is_some() {
            return None;
        }
        let from = "the version resource of a fallback path".to_string();
        let index = self.add(volume, System::new(slug(product), product.to_string(), from, Family::Other));
        Some(self.systems[index].id.clone())
    }
}

fn release(file: &BootFile) -> OsRelease {
    file.hints.os_release.as_deref().map(OsRelease::parse).unwrap_or_default()
}

/// The folder below `/EFI` in which a file lies.
fn vendor(file: &BootFile) -> String {
    below_efi(&file.path).split('/').next().unwrap_or_default().to_string()
}

fn below_efi(path: &str) -> &str {
    let below = path.get(..5).filter(|start| start.eq_ignore_ascii_case("/efi/")).and(path.get(5..));
    below.unwrap_or(path.trim_start_matches('/'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_are_known_in_any_case() {
        assert_eq!(below_efi("/efi/larkspur/a.efi"), "larkspur/a.efi");
    }
}
