//! Entry files (the Boot Loader Specification, "Type #1"): menu entries that distributions leave beside their kernels.

use super::facts::{Arguments, EntryFile, System};
use super::linux::Root;
use super::{Look, VolumeReader};

/// Folders in which they lie, from the root of an ESP or extended boot partition, or of a system.
const FOLDERS: [&str; 2] = ["/loader/entries", "/boot/loader/entries"];
/// Entry files of one folder.
const MAX_FILES: usize = 256;

/// Every entry file of a volume, whose it is not yet told.
pub(super) fn on_volume(reader: &VolumeReader, number: usize, roots: &[Root]) -> Vec<EntryFile> {
    let mut folders: Vec<String> = roots.iter().map(|root| root.system.below_root("")).collect();
    folders.push(String::new());
    folders.sort();
    folders.dedup();
    let mut found = Vec::new();
    for below in folders {
        for folder in FOLDERS {
            found.extend(in_folder(reader, number, &format!("{below}{folder}")));
        }
    }
    found
}

/// Tells whose each is.
pub(super) fn assign(look: &mut Look<'_>, mut files: Vec<EntryFile>) {
    for entry in &mut files {
        entry.system = owner(look, entry);
    }
    look.survey.entry_files = files;
}

fn in_folder(reader: &VolumeReader, number: usize, folder: &str) -> Vec<EntryFile> {
    let items = reader.list(folder).unwrap_or_default();
    let names = items.into_iter().filter(|item| !item.is_folder && item.name.ends_with(".conf"));
    names
        .take(MAX_FILES)
        .filter_map(|item| {
            let path = format!("{folder}/{}", item.name);
            let mut entry = parse(number, path.clone(), &reader.text(&path)?);
            // Paths in it start at the root of its own volume.
            let files = entry.program.iter().chain(&entry.initrds);
            entry.missing = files.filter(|file| !reader.has_file(file)).cloned().collect();
            Some(entry)
        })
        .collect()
}

/// Reads an entry file: a key, blanks, a value, line by line; keys that are not known are passed over.
fn parse(volume: usize, path: String, text: &str) -> EntryFile {
    let mut entry = EntryFile {
        volume,
        path,
        title: None,
        version: None,
        machine_id: None,
        program: None,
        initrds: Vec::new(),
        options: String::new(),
        missing: Vec::new(),
        system: None,
    };
    for line in text.lines().map(str::trim).filter(|line| !line.starts_with('#')) {
        let Some((key, value)) = line.split_once(char::is_whitespace) else { continue };
        let value = value.trim().to_string();
        match key {
            "title" => entry.title = Some(value),
            "version" => entry.version = Some(value),
            "machine-id" => entry.machine_id = Some(value),
            "linux" | "efi" | "uki" => entry.program = Some(absolute(value)),
            "initrd" => entry.initrds.push(absolute(value)),
            "options" => {
                if !entry.options.is_empty() {
                    entry.options.push(' ');
                }
                entry.options.push_str(&value);
            }
            _ => {}
        }
    }
    entry
}

fn absolute(path: String) -> String {
    if path.starts_with('/') { path } else { format!("/{path}") }
}

/// The system that an entry file starts: by the machine-id, by the kernel it names, by its title.
fn owner(look: &Look<'_>, entry: &EntryFile) -> Option<String> {
    let systems = &look.survey.systems;
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
    let found = by_id.or_else(|| systems.iter().find(has_kernel)).or_else(|| systems.iter().find(starts));
    found.map(|system| system.id.clone())
}

fn machine_id(look: &Look<'_>, system: &System) -> Option<String> {
    let reader = look.reader(system.root? - 1)?;
    Some(reader.text(&system.below_root("/etc/machine-id"))?.trim().to_string())
}

/// Arguments that an entry file gives its system, which it starts with today: better than what we would make.
pub(super) fn take_arguments(look: &mut Look<'_>) {
    for system in &mut look.survey.systems {
        let is_made = system.arguments.as_ref().is_some_and(|arguments| arguments.source.starts_with("made"));
        let newest = system.kernels.first();
        let of_system =
            look.survey.entry_files.iter().filter(|entry| entry.system.as_ref() == Some(&system.id));
        let named =
            |entry: &&EntryFile| newest.is_some_and(|kernel| Some(&kernel.path) == entry.program.as_ref());
        let mut usable = of_system.filter(|entry| !entry.options.is_empty()).collect::<Vec<_>>();
        usable.sort_by_key(|entry| !named(entry));
        if let Some(entry) = usable.first().filter(|_| is_made) {
            let source = format!("{} of v{}", entry.path, entry.volume);
            system.arguments = Some(Arguments { text: entry.options.clone(), source });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_read_and_options_joined() {
        let text = "# written by a tool\ntitle\tLarkspur Linux 14\nversion 6.9\nmachine-id abc\nlinux /vmlinuz-6.9\n\
                    initrd initrd-6.9\ninitrd /microcode\noptions root=UUID=x\noptions  quiet\nfancy yes\n";
        let entry = parse(2, "/loader/entries/a.conf".into(), text);
        assert_eq!(entry.title.as_deref(), Some("Larkspur Linux 14"));
        assert_eq!(entry.program.as_deref(), Some("/vmlinuz-6.9"));
        assert_eq!(entry.initrds, ["/initrd-6.9", "/microcode"]);
        assert_eq!(entry.options, "root=UUID=x quiet");
    }
}
