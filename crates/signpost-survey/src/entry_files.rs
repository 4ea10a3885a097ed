//! Entry files (the Boot Loader Specification, "Type #1"): menu entries that distributions leave beside their kernels.

use signpost_facts::belongs::Standing;
use signpost_facts::{Arguments, ArgumentsFrom, EntryFile, System, VolumeNumber};
use signpost_menu::include;
use signpost_place::{Look, VolumeReader};

use super::found::Root;

/// Folders in which they lie, from the root of an ESP or extended boot partition, or of a system.
const FOLDERS: [&str; 2] = [include::ENTRY_FOLDER, "/boot/loader/entries"];
/// Entry files of one folder.
const MAX_FILES: usize = 256;

/// Every entry file of a volume, whose it is not yet told.
pub(crate) fn on_volume(reader: &VolumeReader, number: VolumeNumber, roots: &[Root]) -> Vec<EntryFile> {
    let mut folders: Vec<String> = roots.iter().map(|root| root.system.below_root("")).collect();
    folders.push(String::new());
    folders.sort();
    folders.dedup();
    let mut found = Vec::new();
    for below in folders {
        for folder in FOLDERS {
            found.extend(in_folder(reader, number, &[&below, folder].concat()));
        }
    }
    found
}

/// Tells whose each is.
pub(crate) fn assign(look: &mut Look, mut files: Vec<EntryFile>) {
    for entry in &mut files {
        entry.system = owner(look, entry);
    }
    look.survey.entry_files = files;
}

fn in_folder(reader: &VolumeReader, number: VolumeNumber, folder: &str) -> Vec<EntryFile> {
    let items = reader.plain(folder).unwrap_or_default();
    let names = items.into_iter().filter(|item| !item.is_folder && item.name.ends_with(".conf"));
    names
        .take(MAX_FILES)
        .filter_map(|item| {
            let path = format!("{folder}/{}", item.name);
            let file = include::EntryFile::parse(&reader.text(&path)?);
            let mut entry = facts(number, path, file);
            // Paths in it start at the root of its own volume.
            let files = entry.program.iter().chain(&entry.initrds);
            entry.missing = files.filter(|file| !reader.has_file(file)).cloned().collect();
            Some(entry)
        })
        .collect()
}

/// What an entry file says, as facts.
fn facts(volume: VolumeNumber, path: String, file: include::EntryFile) -> EntryFile {
    EntryFile {
        volume,
        path,
        program: file.program().cloned(),
        title: file.title,
        version: file.version,
        machine_id: file.machine_id,
        initrds: file.initrds,
        options: file.options,
        missing: Vec::new(),
        system: None,
    }
}

/// The system that an entry file starts: by the machine-id, by the kernel it names, by its title.
fn owner(look: &Look, entry: &EntryFile) -> Option<String> {
    let is_last_try = |system: &&System| system.kernels.is_empty() && system.loaders.is_empty();
    let counts = |system: &&System| match look.survey.standing(system, entry.volume) {
        Some(Standing::Own | Standing::SameDisk) => true,
        Some(Standing::OtherDisk) => is_last_try(system),
        None => false,
    };
    let systems: Vec<&System> = look.survey.systems.iter().filter(counts).collect();
    let by_id = systems
        .iter()
        .find(|system| entry.machine_id.is_some() && machine_id(look, system) == entry.machine_id);
    let has_kernel = |system: &&System| {
        system
            .kernels
            .iter()
            .any(|kernel| kernel.volume == entry.volume && Some(&kernel.path) == entry.program.as_ref())
    };
    let starts =
        |system: &&System| entry.title.as_ref().is_some_and(|title| title.starts_with(&system.title));
    let find = |is_it: &dyn Fn(&&System) -> bool| systems.iter().find(|system| is_it(system));
    let found = by_id.or_else(|| find(&has_kernel)).or_else(|| find(&starts));
    found.map(|system| system.id.clone())
}

fn machine_id(look: &Look, system: &System) -> Option<String> {
    let reader = look.reader(system.root?.index())?;
    Some(reader.text(&system.below_root("/etc/machine-id"))?.trim().to_string())
}

/// Arguments that an entry file gives its system, which it starts with today: better than what we would make.
pub(crate) fn take_arguments(look: &mut Look) {
    for system in &mut look.survey.systems {
        let is_made = system.arguments.as_ref().is_some_and(|held| held.from == ArgumentsFrom::Made);
        let newest = system.kernels.first();
        let of_system =
            look.survey.entry_files.iter().filter(|entry| entry.system.as_ref() == Some(&system.id));
        let named =
            |entry: &&EntryFile| newest.is_some_and(|kernel| Some(&kernel.path) == entry.program.as_ref());
        let mut usable = of_system.filter(|entry| !entry.options.is_empty()).collect::<Vec<_>>();
        usable.sort_by_key(|entry| !named(entry));
        if let Some(entry) = usable.first().filter(|_| is_made) {
            let source = format!("{} of v{}", entry.path, entry.volume);
            system.arguments =
                Some(Arguments { text: entry.options.clone(), source, from: ArgumentsFrom::EntryFile });
        }
    }
}
