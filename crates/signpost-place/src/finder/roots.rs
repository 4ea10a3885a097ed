//! The roots of Linux systems on a volume: its top folder, and subvolumes.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_disk::file_system::Subvolume;
use signpost_menu::linux_files::{CMDLINE, FSTAB, kept_arguments, mounts};
use signpost_menu::os_release::OsRelease;
use signpost_menu::sorted::sorted;

use super::releases::{before_os_release, id_of, os_release, text, title};
use crate::reader::VolumeReader;

/// Where modules of a kernel stand on its system's root volume.
const MODULES: [&str; 2] = ["/usr/lib/modules", "/lib/modules"];
/// Where containers, caches and people keep copies of systems that are none of the machine's.
const NOT_INSTALLED: [&str; 5] = ["/var/", "/home/", "/srv/", "/tmp/", "/root/"];
/// Where deployments of an image-based system lie: a folder of its own for each name, and in it one for each deployment.
const DEPLOYMENTS: &str = "/ostree/deploy";
/// Roots on one volume that are looked at, snapshots aside.
const MAX_ROOTS: usize = 1024;
/// Snapshots of one volume that are looked at, the newest.
const MAX_SNAPSHOTS: usize = 10;
/// Deployments that are looked at.
const MAX_DEPLOYMENTS: usize = 16;

/// A system's root, and what it says of its start.
#[derive(Clone, Debug)]
pub struct Root {
    /// The root on its volume: `/`, or a subvolume's path.
    pub path: String,
    /// Whether it is mounted where nobody names one.
    pub is_default: bool,
    /// Whether it is a copy of another root of the volume as that was once.
    pub is_snapshot: bool,
    /// When a snapshot was made, in seconds since 1970.
    pub made: i64,
    /// What the system calls itself; nothing where only another volume tells, which it mounts at `/usr`.
    pub title: Option<String>,
    /// Its `ID`.
    pub id: Option<String>,
    /// Names of systems that it is made from.
    pub id_like: Vec<String>,
    /// The file that says so.
    pub release: String,
    /// Its table of mounts, and the file.
    pub fstab: Option<(String, String)>,
    /// The arguments that it keeps for its kernels, and the file.
    pub cmdline: Option<(String, String)>,
    /// The kernels that it has modules of.
    pub modules: Vec<String>,
    /// Its machine-id.
    pub machine_id: Option<String>,
    /// What a tool that makes its initrds wants to be told in the arguments, in the words of `layouts`.
    pub wanted: Option<&'static str>,
}

impl Root {
    /// A root of which nothing is known but where it lies, and the file that says whose it is.
    fn new(found: Subvolume, release: String) -> Self {
        Self {
            is_snapshot: is_copy(&found),
            path: found.path,
            is_default: found.is_default,
            made: found.copied.unwrap_or(0),
            title: None,
            id: None,
            id_like: Vec::new(),
            release,
            fstab: None,
            cmdline: None,
            modules: Vec::new(),
            machine_id: None,
            wanted: None,
        }
    }

    /// Takes in what the system calls itself.
    fn take(&mut self, release: &OsRelease) {
        self.title = title(release);
        self.id = release.id().map(ToString::to_string);
        self.id_like = release.id_like().map(ToString::to_string).collect();
    }

    /// A path of the system as one on its volume.
    pub fn below(&self, path: &str) -> String {
        [self.path.trim_end_matches('/'), path].concat()
    }
}

/// Every Linux system whose root is on a volume; the one that is mounted where nobody names one first.
pub(super) fn on_volume(reader: &VolumeReader, subvolumes: &[Subvolume]) -> Vec<Root> {
    let top = Subvolume { path: "/".into(), is_default: false, copied: None };
    let mut folders = subvolumes.to_vec();
    folders.retain(|found| found.path != "/" && !NOT_INSTALLED.iter().any(|of| is_below(&found.path, of)));
    let (snapshots, mut folders): (Vec<Subvolume>, Vec<Subvolume>) = folders.into_iter().partition(is_copy);
    folders.truncate(MAX_ROOTS);
    let snapshots = sorted(snapshots, |a, b| b.copied.cmp(&a.copied));
    let mut roots: Vec<Root> =
        core::iter::once(top).chain(folders).filter_map(|found| root_at(reader, found)).collect();
    let of_snapshots = snapshots.into_iter().filter_map(|found| root_at(reader, found));
    roots.extend(of_snapshots.take(MAX_SNAPSHOTS));
    if roots.is_empty() {
        roots.extend(deployed(reader));
    }
    let (first, others): (Vec<Root>, Vec<Root>) = roots.into_iter().partition(|root| root.is_default);
    first.into_iter().chain(others).collect()
}

/// Whether a subvolume was made as a copy, and is not the one that is mounted where nobody names one.
fn is_copy(found: &Subvolume) -> bool {
    found.copied.is_some() && !found.is_default
}

fn is_below(path: &str, of: &str) -> bool {
    path.starts_with(of) || path.get(1..).is_some_and(|rest| rest.contains(of))
}

/// The system whose root this is, if it is one's.
fn root_at(reader: &VolumeReader, found: Subvolume) -> Option<Root> {
    let below = found.path.trim_end_matches('/').to_string();
    let fstab = [&below, FSTAB].concat();
    let fstab = text(reader, &fstab).map(|text| (fstab, text));
    let mut root = Root::new(found, String::new());
    if let Some((path, release)) = os_release(reader, &below) {
        root.release = path;
        root.take(&release);
    } else {
        // Without any mounts it is not a system's root.
        let (table, mounted) = fstab.as_ref()?;
        match before_os_release(reader, &below) {
            Some((title, path)) => {
                root.release = path;
                root.id = Some(id_of(&title));
                root.title = Some(title);
            }
            // What it calls itself may lie on the volume that it mounts at /usr.
            None if mounts(mounted).iter().any(|mount| mount.at == "/usr") => root.release.clone_from(table),
            None => return None,
        }
    }
    root.fstab = fstab;
    read_more(reader, &mut root, &below);
    Some(root)
}

/// What stands below a folder that holds a system's own files.
fn read_more(reader: &VolumeReader, root: &mut Root, below: &str) {
    let cmdline = [below, CMDLINE].concat();
    let kept = text(reader, &cmdline).and_then(|text| kept_arguments(&text));
    root.cmdline = kept.map(|text| (cmdline, text));
    let id = text(reader, &[below, "/etc/machine-id"].concat()).map(|id| id.trim().to_string());
    root.machine_id = id.filter(|id| !id.is_empty());
    let modules = MODULES.iter().filter_map(|folder| reader.plain(&[below, folder].concat()).ok()).flatten();
    root.modules = modules.filter(|item| item.is_folder).map(|item| item.name).collect();
    let makers = signpost_menu::layouts::INITRD_MAKERS.iter();
    root.wanted = makers
        .filter(|maker| reader.has_file(&[below, maker.file].concat()))
        .map(|maker| maker.arguments)
        .next();
}

/// The system of an image-based volume: its root is the volume's, and what it says of itself lies in a deployment.
fn deployed(reader: &VolumeReader) -> Option<Root> {
    for name in reader.folders_in(DEPLOYMENTS, MAX_DEPLOYMENTS) {
        for deployment in reader.folders_in(&[&name, "/deploy"].concat(), MAX_DEPLOYMENTS) {
            if let Some((path, release)) = os_release(reader, &deployment) {
                let top = Subvolume { path: "/".into(), is_default: false, copied: None };
                let mut root = Root::new(top, path);
                root.take(&release);
                read_more(reader, &mut root, &deployment);
                return Some(root);
            }
        }
    }
    None
}
