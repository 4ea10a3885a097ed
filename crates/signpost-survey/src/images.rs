//! Systems inside image files: raw disks and ISO 9660, looked for in a bounded way.

use signpost_disk::probe::{Identity, VolumeKind};
use signpost_facts::{Family, ImageFile, System, Volume};
use signpost_place::VolumeReader;
use signpost_place::finder::os_release;

use super::said;
use super::systems::slug;

/// Folders in one another that are looked into.
const MAX_DEPTH: usize = 3;
/// Folders of a volume that are looked into.
const MAX_FOLDERS: usize = 80;
/// Image files of a volume that are looked into.
const MAX_IMAGES: usize = 16;
/// People of a system whose folders are looked into.
const MAX_PEOPLE: usize = 20;
/// Less holds no system, in bytes.
const MIN_SIZE: u64 = 1 << 20;
const SUFFIXES: [&str; 3] = [".img", ".iso", ".raw"];
/// Folders of systems themselves, in which nobody keeps images.
const NOT_IN: [&str; 24] = [
    "bin",
    "boot",
    "dev",
    "efi",
    "etc",
    "lib",
    "lib32",
    "lib64",
    "libx32",
    "lost+found",
    "proc",
    "run",
    "sbin",
    "sys",
    "tmp",
    "usr",
    "windows",
    "program files",
    "program files (x86)",
    "programdata",
    "$recycle.bin",
    "$extend",
    "system volume information",
    "loader",
];

/// Every system inside an image file of a volume.
pub(crate) fn on_volume(reader: &VolumeReader, volume: &Volume) -> Vec<System> {
    let mut roots = vec![String::new()];
    roots.extend(
        reader
            .subvolumes()
            .unwrap_or_default()
            .into_iter()
            .map(|found| found.path)
            .filter(|path| path != "/"),
    );
    let mut search = Search { reader, folders: 0, found: Vec::new() };
    // First where people keep images, which may lie deeper than the search goes.
    for root in &roots {
        search.walk_usual(root);
    }
    for root in roots {
        search.walk(&root, MAX_DEPTH);
    }
    search.found.iter().filter_map(|path| inside(reader, volume, path)).collect()
}

struct Search<'a> {
    reader: &'a VolumeReader,
    folders: usize,
    found: Vec<String>,
}

impl Search<'_> {
    fn walk_usual(&mut self, root: &str) {
        self.walk(&[root, "/var/lib/libvirt/images"].concat(), 1);
        for homes in ["/home", "/Users", ""] {
            let homes = [root, homes].concat();
            // A subvolume may be the folder of homes itself.
            if homes.is_empty() {
                continue;
            }
            let people = self.reader.plain(&homes).unwrap_or_default();
            for person in people.iter().filter(|item| item.is_folder).take(MAX_PEOPLE) {
                self.walk(&[&homes, "/", &person.name, "/Downloads"].concat(), 1);
            }
        }
    }

    fn walk(&mut self, folder: &str, depth: usize) {
        if self.folders >= MAX_FOLDERS {
            return;
        }
        let Ok(items) = self.reader.plain(if folder.is_empty() { "/" } else { folder }) else { return };
        self.folders += 1;
        let mut below = Vec::new();
        for item in items {
            let lower = item.name.to_lowercase();
            let path = [folder, "/", &item.name].concat();
            if item.is_folder && depth > 1 && !lower.starts_with('.') && !NOT_IN.contains(&lower.as_str()) {
                below.push(path);
            } else if !item.is_folder
                && SUFFIXES.iter().any(|suffix| lower.ends_with(suffix))
                && self.found.len() < MAX_IMAGES
                && !self.found.contains(&path)
            {
                self.found.push(path);
            }
        }
        for path in below {
            self.walk(&path, depth - 1);
        }
    }
}

/// The system in an image file, if there is one.
fn inside(reader: &VolumeReader, volume: &Volume, path: &str) -> Option<System> {
    let size = reader.metadata(path).ok().filter(|found| found.size >= MIN_SIZE)?.size;
    let readers = reader.inside(path).ok()?;
    let partitioned = if readers.len() > 1 { ", partitioned" } else { "" };
    let image = |identity: &Identity| ImageFile {
        volume: volume.number,
        path: path.to_string(),
        holds: format!("{}{partitioned}", identity.kind),
        label: identity.label.as_deref().map(said),
        size,
    };
    let release = readers.iter().find_map(|(identity, reader)| {
        let (_, release) = os_release(reader.as_ref()?, "")?;
        Some((identity, release))
    });
    if let Some((identity, release)) = release {
        let id = release.id().unwrap_or("linux").to_string();
        let title = release.title().unwrap_or_else(|| "Linux".into());
        let mut system =
            System::new(id, title, format!("os-release inside of {}", volume.at(path)), Family::Linux);
        system.image = Some(image(identity));
        return Some(system);
    }
    // A medium to start from has a place for a loader or a kernel.
    let bootable = |reader: &VolumeReader| {
        ["/EFI/BOOT", "/boot", "/live"].iter().any(|folder| reader.plain(folder).is_ok())
    };
    let (identity, _) = readers.iter().find(|(identity, reader)| {
        identity.kind != VolumeKind::Unknown && reader.as_ref().is_some_and(bootable)
    })?;
    let stem = path.rsplit('/').next().and_then(|name| name.rsplit_once('.')).map_or(path, |(stem, _)| stem);
    let title = identity.label.as_deref().map_or_else(|| stem.to_string(), said).replace('_', " ");
    let from = format!("the label inside of {}", volume.at(path));
    let mut system = System::new(slug(&title), title, from, Family::Other);
    system.image = Some(image(identity));
    Some(system)
}
