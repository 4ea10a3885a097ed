//! Kernels, the initrds that belong to them, and the systems they belong to.

use signpost_facts::belongs::Standing;
use signpost_facts::{Kernel, Survey, VolumeNumber};
use signpost_firmware::image::linux::{self, LinuxKernel};
use signpost_menu::kernels::{KernelHeader, is_spare, newest_first};
use signpost_menu::linux_files::{initrds, is_kernel_name, version_in_name};
use signpost_place::{Look, VolumeReader};

use super::found::{Contents, Root};
use super::said;

/// Gives each kernel to its system: the one in whose root it lies; else one whose word its volume is, which has the modules of
/// its version, or mounts the volume at `/boot`. A system that has no kernel then may have one on another fixed disk.
///
/// The systems are those of all roots, in their order.
pub(crate) fn assign(look: &mut Look, contents: &[Contents]) {
    let modules: Vec<&[String]> =
        contents.iter().flat_map(|found| found.roots.iter().map(|root| root.modules.as_slice())).collect();
    let mut roots_before = 0;
    let mut left = Vec::new();
    for found in contents {
        for (root, kernels) in &found.kernels {
            for kernel in kernels {
                let owner = root.map(|root| roots_before + root);
                let owner = owner.or_else(|| owner_of(&look.survey, kernel, &modules, false));
                match owner.and_then(|owner| look.survey.systems.get_mut(owner)) {
                    Some(system) => system.kernels.push(kernel.clone()),
                    None => left.push(kernel),
                }
            }
        }
        roots_before += found.roots.len();
    }
    for kernel in left {
        if let Some(owner) = owner_of(&look.survey, kernel, &modules, true) {
            look.survey.systems[owner].kernels.push(kernel.clone());
        }
    }
    for system in &mut look.survey.systems {
        system.kernels.sort_by(|a, b| newest_first((&a.path, &a.version), (&b.path, &b.version)));
    }
}

/// The system that a kernel outside of all roots belongs to, by its index.
fn owner_of(survey: &Survey, kernel: &Kernel, modules: &[&[String]], is_last_try: bool) -> Option<usize> {
    let standing = |index: &usize| survey.standing(&survey.systems[*index], kernel.volume);
    let only_one_with_modules = |systems: &[usize]| {
        let mut having = systems.iter().filter(|index| modules[**index].contains(&kernel.version));
        having.next().copied().filter(|_| having.next().is_none())
    };
    let all = || 0..survey.systems.len().min(modules.len());
    if is_last_try {
        let is_free = |index: &usize| {
            standing(index) == Some(Standing::OtherDisk) && survey.systems[*index].kernels.is_empty()
        };
        return only_one_with_modules(&all().filter(is_free).collect::<Vec<_>>());
    }
    let own: Vec<usize> = all().filter(|index| standing(index) == Some(Standing::Own)).collect();
    let mounting = || own.iter().copied().find(|index| survey.systems[*index].boot == Some(kernel.volume));
    let beside = || {
        let beside = all().filter(|index| standing(index) == Some(Standing::SameDisk));
        only_one_with_modules(&beside.collect::<Vec<_>>())
    };
    only_one_with_modules(&own).or_else(mounting).or_else(beside)
}

/// The kernels of a volume, by the root on it in which they lie; one that is no root may be mounted in its system at
/// `/boot`, or as an ESP.
pub(crate) fn on_volume(
    reader: &VolumeReader,
    number: VolumeNumber,
    roots: &[Root],
) -> Vec<(Option<usize>, Vec<Kernel>)> {
    let mut folders: Vec<(Option<usize>, String)> =
        roots.iter().enumerate().map(|(index, root)| (Some(index), root.system.below_root(""))).collect();
    if !folders.iter().any(|(_, below)| below.is_empty()) {
        folders.push((None, String::new()));
    }
    folders.into_iter().map(|(root, below)| (root, below_folder(reader, number, &below))).collect()
}

fn below_folder(reader: &VolumeReader, volume: VolumeNumber, below: &str) -> Vec<Kernel> {
    let mut folders = vec![[below, "/boot"].concat(), below.to_string()];
    for item in reader.plain(&[below, "/EFI"].concat()).unwrap_or_default() {
        if item.is_folder {
            folders.push(format!("{below}/EFI/{}", item.name));
        }
    }
    folders.iter().flat_map(|folder| in_folder(reader, volume, folder)).collect()
}

fn in_folder(reader: &VolumeReader, volume: VolumeNumber, folder: &str) -> Vec<Kernel> {
    let items = reader.plain(if folder.is_empty() { "/" } else { folder }).unwrap_or_default();
    let names: Vec<&str> =
        items.iter().filter(|item| !item.is_folder).map(|item| item.name.as_str()).collect();
    let kernels = names.iter().filter(|name| is_kernel_name(name));
    kernels
        .filter_map(|name| {
            let path = format!("{folder}/{name}");
            let head = reader.read_head(&path, linux::HEAD_LEN).ok()?;
            Some(describe(volume, path, name, &linux::decode(&head)?, folder, &names))
        })
        .collect()
}

fn describe(
    volume: VolumeNumber,
    path: String,
    name: &str,
    header: &LinuxKernel,
    folder: &str,
    names: &[&str],
) -> Kernel {
    let in_name = version_in_name(name);
    Kernel {
        volume,
        path,
        is_spare: is_spare(name),
        version: said(&KernelHeader { version: header.version.clone() }.version_of(name)),
        architecture: if header.is_64_bit { "x86_64" } else { "x86" }.to_string(),
        efi_stub: header.efi_stub.map(|stub| format!("{}.{}", stub.version.0, stub.version.1)),
        initrds: initrds(in_name, names).into_iter().map(|initrd| format!("{folder}/{initrd}")).collect(),
    }
}
