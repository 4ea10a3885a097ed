//! Whose is what: what a system mounts, and which kernels are its.

use alloc::vec::Vec;

use signpost_menu::disk_number::DiskNumber;
use signpost_menu::linux_files::{mounts, named};
use signpost_menu::place::{Unresolved, VolumeIdentity, resolve};
use signpost_menu::standing::Standing;

use super::roots::Root;
use crate::volumes::Volumes;

/// A line of a system's table of mounts.
#[derive(Clone, Debug)]
pub struct Mounted<'a> {
    /// Its number, from 1.
    pub line: usize,
    /// What is mounted.
    pub what: &'a str,
    /// Where.
    pub at: &'a str,
    /// How.
    pub options: &'a str,
    /// The volume.
    pub volume: Result<usize, Unresolved>,
}

/// What a system mounts by a stable name.
pub fn mounted<'a>(root: &'a Root, volumes: &[VolumeIdentity]) -> Vec<Mounted<'a>> {
    let Some((_, text)) = &root.fstab else { return Vec::new() };
    let lines = mounts(text).into_iter().filter_map(|mount| Some((named(mount.what)?, mount)));
    lines
        .map(|(name, mount)| Mounted {
            line: mount.line,
            what: mount.what,
            at: mount.at,
            options: mount.options,
            volume: resolve(&name, volumes),
        })
        .collect()
}

/// A system while its parts are assigned.
pub(super) struct Owner<'a> {
    pub(super) volume: usize,
    pub(super) root: &'a Root,
    pub(super) disks: Vec<DiskNumber>,
    /// The volume that it mounts at `/boot`.
    pub(super) boot: Option<usize>,
    /// All volumes that it mounts.
    pub(super) mounts: Vec<usize>,
}

impl<'a> Owner<'a> {
    pub(super) fn new(volumes: &impl Volumes, volume: usize, root: &'a Root) -> Self {
        let mounted = mounted(root, volumes.identities());
        let at_boot = mounted.iter().find(|mount| mount.at == "/boot");
        Self {
            volume,
            root,
            disks: volumes.disks_of(volume),
            boot: at_boot.and_then(|mount| mount.volume.as_ref().ok().copied()),
            mounts: mounted.iter().filter_map(|mount| mount.volume.as_ref().ok().copied()).collect(),
        }
    }

    /// How near a volume stands to it.
    pub(super) fn standing(&self, volumes: &impl Volumes, volume: usize) -> Option<Standing> {
        let disks = volumes.disks_of(volume);
        Standing::of(
            self.volume == volume || self.mounts.contains(&volume),
            disks.iter().any(|disk| self.disks.contains(disk)),
            disks.iter().all(|disk| volumes.takes_part(*disk)),
        )
    }
}

/// The system that a kernel outside of all roots belongs to: one whose word its volume is, which has the modules of its
/// version, or mounts the volume at `/boot`; else the one on its disk that has the modules. A copy that was made of a system
/// once owns nothing.
pub(super) fn of_kernel(
    volumes: &impl Volumes,
    owners: &[Owner<'_>],
    (volume, version): (usize, &str),
) -> Option<usize> {
    let own = at(volumes, owners, volume, Standing::Own);
    let mounting = || {
        own.iter().copied().find(|index| owners.get(*index).is_some_and(|owner| owner.boot == Some(volume)))
    };
    let beside = || only_one_with_modules(owners, &at(volumes, owners, volume, Standing::SameDisk), version);
    only_one_with_modules(owners, &own, version).or_else(mounting).or_else(beside)
}

/// The same for what no system on its disk has: of those that have no kernel, one on another fixed disk.
pub(super) fn of_kernel_elsewhere(
    volumes: &impl Volumes,
    owners: &[Owner<'_>],
    (volume, version): (usize, &str),
    has_kernels: impl Fn(usize) -> bool,
) -> Option<usize> {
    let mut lacking = at(volumes, owners, volume, Standing::OtherDisk);
    lacking.retain(|index| !has_kernels(*index));
    only_one_with_modules(owners, &lacking, version)
}

/// The systems to which a volume stands so.
fn at(volumes: &impl Volumes, owners: &[Owner<'_>], volume: usize, standing: Standing) -> Vec<usize> {
    let all = owners.iter().enumerate().filter(|(_, owner)| !owner.root.is_snapshot);
    let fitting = all.filter(|(_, owner)| owner.standing(volumes, volume) == Some(standing));
    fitting.map(|(index, _)| index).collect()
}

fn only_one_with_modules(owners: &[Owner<'_>], of: &[usize], version: &str) -> Option<usize> {
    let has = |index: &&usize| {
        owners.get(**index).is_some_and(|owner| owner.root.modules.iter().any(|held| held == version))
    };
    let mut having = of.iter().filter(has);
    having.next().copied().filter(|_| having.next().is_none())
}
