//! Linux systems, by their `os-release` (the freedesktop.org specification of that name).

use signpost_disk::file_system::Subvolume;
use signpost_facts::{Arguments, ArgumentsFrom, Family, System, Volume, VolumeNumber};
use signpost_menu::linux_files::{CMDLINE, FSTAB, kept_arguments, made_arguments};
use signpost_menu::os_release::{OsRelease, PATHS};
use signpost_place::VolumeReader;

use super::found::{Contents, Root};

/// Reads a system's `os-release` below a folder, which is its root; its path too.
pub(crate) fn os_release(reader: &VolumeReader, below: &str) -> Option<(String, OsRelease)> {
    PATHS.iter().find_map(|path| {
        let path = [below, path].concat();
        let release = OsRelease::parse(&reader.text(&path)?);
        Some((path, release))
    })
}

/// Where modules of a kernel stand on its system's root volume.
const MODULES: [&str; 2] = ["/usr/lib/modules", "/lib/modules"];

/// Folders that may be a system's root on one volume.
const MAX_ROOTS: usize = 64;

/// Every Linux system whose root is on a volume: its uppermost folder, or a subvolume.
pub(crate) fn roots(reader: &VolumeReader, number: VolumeNumber) -> Vec<Root> {
    let mut folders: Vec<Subvolume> = vec![Subvolume { path: "/".into(), is_default: false }];
    folders.extend(reader.subvolumes().into_iter().filter(|found| found.path != "/").take(MAX_ROOTS));
    let found = folders.iter().filter_map(|root| Some((root.is_default, root_at(reader, number, root)?)));
    told_apart(found.collect())
}

/// All of them, with the arguments that start each.
pub(crate) fn systems(
    contents: &[Contents],
    volumes: &[Volume],
    running: Option<usize>,
    running_path: Option<&str>,
    command_line: Option<&str>,
) -> Vec<System> {
    let mut systems = Vec::new();
    for (index, (found, volume)) in contents.iter().zip(volumes).enumerate() {
        for root in &found.roots {
            let mut system = root.system.clone();
            let is_its_root = running_path.is_none_or(|path| path == system.root_path);
            system.is_running = running == Some(index) && is_its_root;
            let started_with = command_line.filter(|_| system.is_running).and_then(started_with);
            let kept = root.kept.clone().or(started_with);
            system.arguments = Some(kept.unwrap_or_else(|| made(volume, &system)));
            systems.push(system);
        }
    }
    systems
}

/// Systems of one volume: a snapshot has its origin's title, so all but the one that is mounted by itself add where
/// they lie.
fn told_apart(mut found: Vec<(bool, Root)>) -> Vec<Root> {
    let titles: Vec<String> = found.iter().map(|(_, root)| root.system.title.clone()).collect();
    for (is_default, root) in &mut found {
        let system = &mut root.system;
        if !*is_default && titles.iter().filter(|title| **title == system.title).count() > 1 {
            system.title = format!("{}, {}", system.title, system.root_path);
        }
    }
    found.sort_by_key(|(is_default, _)| !is_default);
    found.into_iter().map(|(_, root)| root).collect()
}

/// The system whose root this is, if it is one's.
fn root_at(reader: &VolumeReader, number: VolumeNumber, root: &Subvolume) -> Option<Root> {
    let (path, release) = os_release(reader, root.path.trim_end_matches('/'))?;
    let mut system = System::new(
        release.id().unwrap_or("linux").to_string(),
        release.title().unwrap_or_else(|| "Linux".to_string()),
        format!("{path} of v{number}"),
        Family::Linux,
    );
    system.root = Some(number);
    system.root_path = root.path.clone();
    let fstab = system.below_root(FSTAB);
    let fstab = reader.text(&fstab).map(|text| (fstab, text));
    let (kept, modules) = (kept(reader, &system, number), modules(reader, &system));
    Some(Root { kept, fstab, modules, system })
}

/// The arguments that a system keeps itself for its kernels.
fn kept(reader: &VolumeReader, system: &System, number: VolumeNumber) -> Option<Arguments> {
    let path = system.below_root(CMDLINE);
    let text = kept_arguments(&reader.text(&path)?)?;
    Some(Arguments { text, source: format!("{path} of v{number}"), from: ArgumentsFrom::Kept })
}

/// What the running kernel was started with, without what its loader adds for itself.
fn started_with(command_line: &str) -> Option<Arguments> {
    const LOADERS_OWN: [&str; 2] = ["BOOT_IMAGE=", "initrd="];
    let own = |word: &&str| !LOADERS_OWN.iter().any(|start| word.starts_with(start));
    let words: Vec<&str> = command_line.split_whitespace().filter(own).collect();
    let names_root = words.iter().any(|word| word.starts_with("root="));
    let source = "what the running kernel was started with".to_string();
    names_root.then(|| Arguments { text: words.join(" "), source, from: ArgumentsFrom::Running })
}

/// Arguments made from where a system's root is.
fn made(volume: &Volume, system: &System) -> Arguments {
    let (text, what) = made_arguments(&volume.identity(false), &system.root_path);
    let source = format!("made from the {what} of v{}", volume.number);
    Arguments { text, source, from: ArgumentsFrom::Made }
}

/// The kernels that a system has modules of.
fn modules(reader: &VolumeReader, system: &System) -> Vec<String> {
    MODULES
        .iter()
        .filter_map(|folder| reader.plain(&system.below_root(folder)).ok())
        .flatten()
        .filter(|item| item.is_folder)
        .map(|item| item.name)
        .collect()
}
