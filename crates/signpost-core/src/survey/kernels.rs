//! Kernels, the initrds that belong to them, and the systems they belong to.

use signpost_firmware::image::linux::{self, LinuxKernel};
use signpost_menu::kernels::{KernelHeader, is_spare, newest_first};
use signpost_menu::linux_files::{initrds, is_kernel_name, version_in_name};

use super::VolumeReader;
use super::contents::Contents;
use super::facts::{Kernel, System};
use super::linux::Root;

/// Where modules of a kernel stand on its system's root volume.
const MODULES: [&str; 2] = ["/usr/lib/modules", "/lib/modules"];

/// Gives each kernel to its system: the one in whose root it lies, which mounts its volume at `/boot`, or whose root
/// has the modules of its version. `systems` are those of all roots, in their order.
pub(super) fn assign(contents: &[Contents], systems: &mut [System]) {
    let versions: Vec<&[String]> =
        contents.iter().flat_map(|found| found.roots.iter().map(|root| root.modules.as_slice())).collect();
    let mut roots_before = 0;
    for (number, found) in (1..).zip(contents) {
        let in_root =
            found.kernels.iter().flat_map(|(root, kernels)| kernels.iter().map(move |kernel| (root, kernel)));
        for (root, kernel) in in_root {
            let mounted = || systems.iter().position(|system| system.boot == Some(number));
            let by_modules = || {
                let mut having =
                    versions.iter().enumerate().filter(|(_, known)| known.contains(&kernel.version));
                having.next().filter(|_| having.next().is_none()).map(|(index, _)| index)
            };
            let owner = root.map(|root| roots_before + root).or_else(by_modules).or_else(mounted);
            if let Some(system) = owner.and_then(|owner| systems.get_mut(owner)) {
                system.kernels.push(kernel.clone());
            }
        }
        roots_before += found.roots.len();
    }
    for system in systems {
        system.kernels.sort_by(|a, b| newest_first((&a.path, &a.version), (&b.path, &b.version)));
    }
}

/// The kernels that a system has modules of.
pub(super) fn modules(reader: &VolumeReader, system: &System) -> Vec<String> {
    MODULES
        .iter()
        .filter_map(|folder| reader.list(&system.below_root(folder)).ok())
        .flatten()
        .filter(|item| item.is_folder)
        .map(|item| item.name)
        .collect()
}

/// The kernels of a volume, by the root on it in which they lie; one that is no root may be mounted in its system at
/// `/boot`, or as an ESP.
pub(super) fn on_volume(
    reader: &VolumeReader,
    number: usize,
    roots: &[Root],
) -> Vec<(Option<usize>, Vec<Kernel>)> {
    let mut folders: Vec<(Option<usize>, String)> =
        roots.iter().enumerate().map(|(index, root)| (Some(index), root.system.below_root(""))).collect();
    if !folders.iter().any(|(_, below)| below.is_empty()) {
        folders.push((None, String::new()));
    }
    folders.into_iter().map(|(root, below)| (root, below_folder(reader, number, &below))).collect()
}

fn below_folder(reader: &VolumeReader, volume: usize, below: &str) -> Vec<Kernel> {
    let mut folders = vec![[below, "/boot"].concat(), below.to_string()];
    for item in reader.list(&[below, "/EFI"].concat()).unwrap_or_default() {
        if item.is_folder {
            folders.push(format!("{below}/EFI/{}", item.name));
        }
    }
    folders.iter().flat_map(|folder| in_folder(reader, volume, folder)).collect()
}

fn in_folder(reader: &VolumeReader, volume: usize, folder: &str) -> Vec<Kernel> {
    let items = reader.list(if folder.is_empty() { "/" } else { folder }).unwrap_or_default();
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
    volume: usize,
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
        version: KernelHeader { version: header.version.clone() }.version_of(name),
        architecture: if header.is_64_bit { "x86_64" } else { "x86" }.to_string(),
        efi_stub: header.efi_stub.map(|stub| format!("{}.{}", stub.version.0, stub.version.1)),
        initrds: initrds(in_name, names).into_iter().map(|initrd| format!("{folder}/{initrd}")).collect(),
    }
}

/// The pattern of a kernel's path and of its initrds', where both carry its version in their names: what
/// `newest:` and `{version}` are made of.
pub(crate) fn patterns(kernel: &Kernel) -> Option<(String, Vec<String>)> {
    let (folder, name) = kernel.path.rsplit_once('/')?;
    let version = version_in_name(name);
    let starred = name.strip_suffix(version).filter(|_| !version.is_empty())?;
    let initrds: Option<Vec<String>> = kernel
        .initrds
        .iter()
        .map(|initrd| initrd.contains(version).then(|| initrd.replacen(version, "{version}", 1)))
        .collect();
    Some((format!("newest:{folder}/{starred}*"), initrds?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_stand_for_the_version_in_both_names() {
        let kernel = |path: &str, initrds: &[&str]| Kernel {
            volume: 1,
            path: path.into(),
            version: "6.9.4".into(),
            architecture: "x86_64".into(),
            efi_stub: None,
            is_spare: false,
            initrds: initrds.iter().map(ToString::to_string).collect(),
        };
        let (pattern, initrds) = patterns(&kernel("/boot/vmlinuz-6.9.4", &["/boot/initrd-6.9.4"])).unwrap();
        assert_eq!(
            (pattern.as_str(), initrds.as_slice()),
            ("newest:/boot/vmlinuz-*", &["/boot/initrd-{version}".to_string()][..])
        );
        assert_eq!(patterns(&kernel("/boot/vmlinuz", &[])), None);
        assert_eq!(patterns(&kernel("/boot/vmlinuz-6.9.4", &["/boot/microcode"])), None);
    }
}
