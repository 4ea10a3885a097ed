//! Linux systems as facts, by what the finder found.

use signpost_facts::{Arguments, ArgumentsFrom, EntryFile, Family, Kernel, System, VolumeNumber};
use signpost_firmware::image::linux::LinuxKernel;
use signpost_menu::document::{Entry, Starts};
use signpost_menu::ids::Given;
use signpost_menu::{include, parse_leniently};
use signpost_place::finder::{self, FoundKernel, FoundSystem, Source, SystemKernel};
use signpost_place::volumes::Volumes;
use signpost_place::{Look, VolumeReader};

use super::systems::slug;

/// Takes in the systems that the finder found, with their kernels, arguments and entry files.
pub(crate) fn take(look: &mut Look) {
    let mut systems: Vec<System> = look.systems.list.iter().map(|found| system(look, found)).collect();
    // Ids go to the systems of the machine first, so that none on a stick takes one away.
    let mut ids = Given::default();
    for of_machine in [true, false] {
        let is_meant = |system: &&mut System| look.survey.is_of_machine(system) == of_machine;
        for system in systems.iter_mut().filter(is_meant) {
            system.id = ids.give(&slug(&system.os_id));
        }
    }
    for system in systems.iter_mut().filter(|system| system.is_running) {
        take_running(look, system);
    }
    look.survey.entry_files = entry_files(look, &systems);
    look.survey.stray_kernels = stray_kernels(look, &systems);
    look.survey.systems = systems;
}

/// Kernels that belong to no system that was found.
fn stray_kernels(look: &Look, systems: &[System]) -> Vec<Kernel> {
    let is_owned = |volume: usize, path: &str| {
        let mut kernels = systems.iter().flat_map(|system| &system.kernels);
        kernels.any(|kernel| kernel.volume.index() == volume && kernel.path == path)
    };
    let mut stray = Vec::new();
    for (volume, found) in look.systems.found_kernels() {
        if !is_owned(volume, &found.path) {
            stray.push(kernel_facts(volume, found.clone(), None));
        }
    }
    stray
}

fn system(look: &Look, found: &FoundSystem) -> System {
    let number = VolumeNumber::of_index;
    let from = look.survey.at(VolumeNumber::of_index(found.release.0), &found.release.1);
    // Its id is made unlike others of the same name when all of them are known.
    let mut system = System::new(found.id.clone(), found.title.clone(), from, Family::Linux);
    system.id = String::new();
    system.id_like.clone_from(&found.id_like);
    system.root = found.root.map(|(volume, _)| number(volume));
    system.root_path.clone_from(&found.root_path);
    system.snapshot = found.snapshot;
    system.boot = found.boot.map(number);
    system.mounts = found.mounts.iter().copied().map(number).collect();
    let place = found.root.map_or(found.release.0, |(volume, _)| volume);
    system.disks = look.disks_of(place);
    let path = look.root_path.as_ref().is_none_or(|path| *path == system.root_path);
    system.is_running =
        path && look.running.is_some() && look.running == found.root.map(|(volume, _)| volume);
    system.kernels = found.kernels.iter().map(|own| kernel(look, own)).collect();
    system.arguments = found.arguments.as_ref().map(|held| arguments(look, held));
    system
}

fn kernel(look: &Look, own: &SystemKernel) -> Kernel {
    kernel_facts(own.volume, own.kernel.clone(), own.arguments.as_ref().map(|held| arguments(look, held)))
}

fn kernel_facts(volume: usize, found: FoundKernel, arguments: Option<Arguments>) -> Kernel {
    let FoundKernel { path, version, header, initrds, fallback, is_rescue } = found;
    Kernel {
        volume: VolumeNumber::of_index(volume),
        path,
        version,
        architecture: architecture(&header).to_string(),
        efi_stub: header.efi_stub.map(|stub| format!("{}.{}", stub.version.0, stub.version.1)),
        initrds,
        fallback,
        is_rescue,
        arguments,
    }
}

fn architecture(header: &LinuxKernel) -> &'static str {
    if header.is_64_bit { "x86_64" } else { "x86" }
}

fn arguments(look: &Look, found: &finder::Arguments) -> Arguments {
    let from = match found.source {
        Source::Kept { .. } => ArgumentsFrom::Kept,
        Source::EntryFile { .. } => ArgumentsFrom::EntryFile,
        Source::Made { .. } => ArgumentsFrom::Made,
    };
    Arguments {
        text: found.text.clone(),
        source: found.words(|volume| look.survey.volumes[volume].name.clone()),
        from,
    }
}

/// Where such arguments come from, in words.
const RUNNING: &str = "what the running kernel was started with";

/// Arguments that are only made give way to those that the system runs with.
fn take_running(look: &Look, system: &mut System) {
    let is_made = system.arguments.as_ref().is_none_or(|held| held.from == ArgumentsFrom::Made);
    let Some(command_line) = look.survey.machine.command_line.as_deref().filter(|_| is_made) else { return };
    let words: Vec<&str> = command_line.split_whitespace().collect();
    let running = handed_over(look, system, &words).or_else(|| started_with(&words));
    system.arguments = running.or(system.arguments.take());
}

/// What the menu that is active hands to this system, where its kernel was started with all of that: what stands beside it
/// on the command line was added for one start, or goes behind every entry's arguments anyway.
fn handed_over(look: &Look, system: &System, words: &[&str]) -> Option<Arguments> {
    let applied = look.noted.applied.as_ref()?;
    let document = parse_leniently(&applied.menu).0?;
    let of_entry = |entry: &Entry| {
        let Starts::Linux(linux) = &entry.starts else { return None };
        let root = look.resolve(linux.root.as_ref().unwrap_or(&linux.volume)).ok()?;
        let all_there = linux.args.split_whitespace().all(|word| words.contains(&word));
        let is_it =
            system.root == Some(VolumeNumber::of_index(root)) && all_there && linux.args.contains("root=");
        is_it.then(|| (entry.id.clone(), linux.args.clone()))
    };
    // One that asks for more, such as a single user, is for one start too.
    let own = document.entries.iter().filter_map(of_entry);
    let (_, text) = own.min_by_key(|(id, args)| (*id != system.id, args.split_whitespace().count()))?;
    Some(Arguments { text, source: RUNNING.to_string(), from: ArgumentsFrom::Running })
}

/// What the running kernel was started with, without what its loader adds for itself.
fn started_with(words: &[&str]) -> Option<Arguments> {
    const LOADERS_OWN: [&str; 2] = ["BOOT_IMAGE=", "initrd="];
    let own = |word: &&&str| !LOADERS_OWN.iter().any(|start| word.starts_with(start));
    let words: Vec<&str> = words.iter().filter(own).copied().collect();
    let names_root = words.iter().any(|word| word.starts_with("root="));
    let source = RUNNING.to_string();
    names_root.then(|| Arguments { text: words.join(" "), source, from: ArgumentsFrom::Running })
}

/// Every entry file, and the system that it starts.
fn entry_files(look: &Look, systems: &[System]) -> Vec<EntryFile> {
    let owner = |at: (usize, usize)| {
        let mut all = look.systems.list.iter().zip(systems);
        all.find(|(found, _)| found.entry_files.contains(&at)).map(|(_, system)| system.id.clone())
    };
    let on_volumes = look.systems.found.iter().enumerate();
    let each = on_volumes.flat_map(|(volume, found)| {
        found.entry_files.iter().enumerate().map(move |(index, file)| (volume, index, file))
    });
    each.map(|(volume, index, (path, file))| EntryFile {
        system: owner((volume, index)),
        ..entry_file(look.reader(volume), VolumeNumber::of_index(volume), path, file)
    })
    .collect()
}

fn entry_file(
    reader: Option<&VolumeReader>,
    volume: VolumeNumber,
    path: &str,
    file: &include::EntryFile,
) -> EntryFile {
    // Paths in it start at the root of its own volume.
    let is_missing = |file: &&String| reader.is_some_and(|reader| !reader.has_file(file));
    EntryFile {
        volume,
        path: path.to_string(),
        missing: file.program().into_iter().chain(&file.initrds).filter(is_missing).cloned().collect(),
        program: file.program().cloned(),
        title: file.title.clone(),
        version: file.version.clone(),
        machine_id: file.machine_id.clone(),
        initrds: file.initrds.clone(),
        options: file.options.clone(),
        system: None,
    }
}
