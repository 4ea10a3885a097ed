//! The kernels of a volume, by their headers, and what goes with each.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_disk::file_system::Subvolume;
use signpost_firmware::image::linux::{self, LinuxKernel};
use signpost_menu::include::EntryFile;
use signpost_menu::kernels::{KernelHeader, is_rescue};
use signpost_menu::layouts::{KernelName, last_part, may_be_initrd};
use signpost_menu::linux_system::LinuxKernel as Started;
use signpost_menu::sorted::sorted;
use signpost_menu::text::shown;
use signpost_menu::version;

use super::roots::Root;
use crate::reader::VolumeReader;

/// Folders of a volume's `/EFI`, and of others whose folders hold kernels, that are looked into.
const MAX_FOLDERS: usize = 64;
/// Kernels of one folder whose headers are read.
const MAX_KERNELS: usize = 64;
/// Initrds of one folder that are told apart.
const MAX_INITRDS: usize = 2048;

/// A kernel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FoundKernel {
    /// Its path.
    pub path: String,
    /// Its version, by its header; by its name where that tells none.
    pub version: String,
    /// What its header says.
    pub header: LinuxKernel,
    /// Its initrds, in the kernel's order.
    pub initrds: Vec<String>,
    /// The same with the initrd that has all drivers.
    pub fallback: Vec<String>,
    /// Whether it is for rescue: never the newest.
    pub is_rescue: bool,
}

impl FoundKernel {
    /// What goes with it.
    pub fn as_started(&self, volume: usize) -> Started {
        Started {
            volume,
            path: self.path.clone(),
            version: self.version.clone(),
            initrds: self.initrds.clone(),
            args: None,
        }
    }
}

/// The kernels of a volume, by the root on it in which they lie; one that is not a root may be mounted in its system at
/// `/boot`, or as an ESP. What only an entry file names is found too.
pub(super) fn on_volume(
    reader: &VolumeReader,
    subvolumes: &[Subvolume],
    roots: &[Root],
    entry_files: &[(String, EntryFile)],
) -> Vec<(Option<usize>, Vec<FoundKernel>)> {
    let mut folders: Vec<(Option<usize>, String)> =
        roots.iter().enumerate().map(|(index, root)| (Some(index), root.below(""))).collect();
    if !folders.iter().any(|(_, below)| below.is_empty()) {
        folders.push((None, String::new()));
    }
    // A subvolume that its systems mount at /boot.
    let of_boot = subvolumes.iter().map(|found| &found.path).filter(|path| path.ends_with("boot"));
    folders.extend(of_boot.map(|path| (None, path.clone())));
    let mut found: Vec<(Option<usize>, Vec<FoundKernel>)> =
        folders.into_iter().map(|(root, below)| (root, below_folder(reader, &below))).collect();
    for (_, entry) in entry_files {
        take_entry(reader, roots, entry, &mut found);
    }
    for (_, kernels) in &mut found {
        drop_other_names(kernels);
    }
    found.retain(|(_, kernels)| !kernels.is_empty());
    found
}

fn below_folder(reader: &VolumeReader, below: &str) -> Vec<FoundKernel> {
    let mut folders = Vec::from([[below, "/boot"].concat(), below.to_string()]);
    for holding in ["/EFI", "/boot/EFI", "/boot/ostree", "/ostree"] {
        folders.extend(reader.folders_in(&[below, holding].concat(), MAX_FOLDERS));
    }
    folders.extend(["/boot/kernels", "/kernels"].map(|folder| [below, folder].concat()));
    folders.iter().flat_map(|folder| in_folder(reader, folder)).collect()
}

/// The kernels in a folder.
pub fn in_folder(reader: &VolumeReader, folder: &str) -> Vec<FoundKernel> {
    let items = reader.plain(if folder.is_empty() { "/" } else { folder }).unwrap_or_default();
    let names = || items.iter().filter(|item| !item.is_folder).map(|item| item.name.as_str());
    let beside: Vec<&str> = names().filter(|name| may_be_initrd(name)).take(MAX_INITRDS).collect();
    let path = |name: &str| [folder, "/", name].concat();
    let paths = |names: &[String]| names.iter().map(|name| path(name)).collect();
    let has_bytes = |name: &str| reader.metadata(&path(name)).is_ok_and(|found| found.size > 0);
    // Where there are more than any system has, the newest by their names are looked at.
    let named: Vec<(&str, KernelName<'_>)> =
        names().filter_map(|name| Some((name, KernelName::of(name)?))).collect();
    let newest = sorted(named, |(_, left), (_, right)| version::compare(right.version, left.version));
    let mut found = Vec::new();
    for (name, by_name) in newest.into_iter().take(MAX_KERNELS) {
        if let Some(header) = header(reader, &path(name)) {
            let initrds = by_name.initrds(&beside, has_bytes);
            found.push(kernel(path(name), header, name, (paths(&initrds.own), paths(&initrds.fallback))));
        }
    }
    found
}

fn header(reader: &VolumeReader, path: &str) -> Option<LinuxKernel> {
    linux::decode(&reader.read_head(path, linux::HEAD_LEN).ok()?)
}

fn kernel(
    path: String,
    header: LinuxKernel,
    name: &str,
    (initrds, fallback): (Vec<String>, Vec<String>),
) -> FoundKernel {
    let version = KernelHeader { version: header.version.clone() }.version_of(name);
    FoundKernel {
        path,
        version: shown(&version).into_owned(),
        header,
        initrds,
        fallback,
        is_rescue: is_rescue(name),
    }
}

/// What a system's own entry file says goes with a kernel counts before what names say; a kernel that lies where only the
/// entry file tells is added.
fn take_entry(
    reader: &VolumeReader,
    roots: &[Root],
    entry: &EntryFile,
    found: &mut [(Option<usize>, Vec<FoundKernel>)],
) {
    let Some(path) = &entry.linux else { return };
    let initrds: Vec<String> = entry.initrds.iter().filter(|path| reader.has_file(path)).cloned().collect();
    let is_whole = initrds.len() == entry.initrds.len();
    let mut all = found.iter_mut().flat_map(|(_, kernels)| kernels.iter_mut());
    if let Some(known) = all.find(|known| known.path == *path) {
        // Of several files of one kernel that without its fallback is its own.
        let is_better = known.initrds.is_empty() || initrds.len() > known.initrds.len();
        if is_whole && is_better && initrds.last() != known.fallback.last() {
            known.initrds = initrds;
        }
        return;
    }
    let Some(header) = header(reader, path) else { return };
    let name = last_part(path);
    let kernel =
        kernel(path.clone(), header, name, (if is_whole { initrds } else { Vec::new() }, Vec::new()));
    let of =
        |root: &Option<usize>| root.and_then(|root| roots.get(root)).map_or(0, |root| root.below("").len());
    let holds = |root: &Option<usize>| {
        let below = root.and_then(|root| roots.get(root)).map(|root| root.below("/"));
        below.is_none_or(|below| path.starts_with(&below))
    };
    let nearest = found.iter_mut().filter(|(root, _)| holds(root)).max_by_key(|(root, _)| of(root));
    if let Some((_, kernels)) = nearest {
        kernels.push(kernel);
    }
}

/// A name without a version that leads to a kernel which has one, as links do, is that kernel's other name.
fn drop_other_names(kernels: &mut Vec<FoundKernel>) {
    let has_version = |kernel: &FoundKernel| {
        let name = last_part(&kernel.path);
        KernelName::of(name).is_some_and(|name| !name.version.is_empty())
    };
    let versions: Vec<String> = kernels
        .iter()
        .filter(|kernel| has_version(kernel))
        .map(|kernel| kernel.version.to_string())
        .collect();
    kernels.retain(|kernel| has_version(kernel) || !versions.contains(&kernel.version));
}
