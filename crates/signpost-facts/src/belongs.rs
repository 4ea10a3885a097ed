//! Whose word counts for a system. Names are free for anybody to write on a stick; what is offered for a system comes from
//! its own volumes, else from its own disk, else from another fixed disk, and never from one that can be taken along.

use alloc::collections::BTreeSet;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;

pub use signpost_menu::standing::Standing;

use crate::number::{DiskNumber, VolumeNumber};
use crate::programs::System;
use crate::survey::{Disk, Survey};

/// Members of members of a volume that are looked through.
const MAX_DEPTH: usize = 8;

impl Survey {
    /// The disk of this number.
    pub fn disk(&self, number: DiskNumber) -> Option<&Disk> {
        self.disks.iter().find(|disk| disk.number == number)
    }

    /// Numbers of the disks that a volume (by its number) lies on; several, where it is a logical volume or an array.
    pub fn disks_of(&self, volume: VolumeNumber) -> BTreeSet<DiskNumber> {
        let mut disks = BTreeSet::new();
        let mut volumes = vec![volume];
        for _ in 0..MAX_DEPTH {
            if volumes.is_empty() {
                break;
            }
            let found = volumes.iter().filter_map(|number| self.volumes.get(number.index()));
            let found: Vec<_> = found.collect();
            disks.extend(found.iter().filter(|volume| volume.members.is_empty()).map(|volume| volume.disk));
            volumes = found.iter().flat_map(|volume| volume.members.iter().copied()).collect();
        }
        disks
    }

    /// Whether a volume (by its number) lies on disks that decide what this machine starts.
    pub fn takes_part(&self, volume: VolumeNumber) -> bool {
        self.all_take_part(&self.disks_of(volume))
    }

    /// Whether a system lies on disks that decide what this machine starts.
    pub fn is_of_machine(&self, system: &System) -> bool {
        self.all_take_part(&system.disks)
    }

    fn all_take_part<'n>(&self, disks: impl IntoIterator<Item = &'n DiskNumber>) -> bool {
        disks.into_iter().filter_map(|number| self.disk(*number)).all(|disk| disk.takes_part)
    }

    /// How near a volume (by its number) stands to a system; `None` where nothing of it is the system's.
    pub fn standing(&self, system: &System, volume: VolumeNumber) -> Option<Standing> {
        let disks = self.disks_of(volume);
        Standing::of(
            system.root == Some(volume) || system.mounts.contains(&volume),
            disks.iter().any(|disk| system.disks.contains(disk)),
            self.all_take_part(&disks),
        )
    }

    /// The systems whose loaders a folder of this name on a volume (by its number) is for: those that mount that volume;
    /// else those on the same disk, but for one that mounts another ESP and has its loaders there.
    pub fn owners_of_name<'s>(
        &self,
        systems: &'s [System],
        names: &[String],
        volume: VolumeNumber,
    ) -> Vec<&'s System> {
        let named = || systems.iter().filter(|system| system.is_named(names));
        let own: Vec<&System> =
            named().filter(|system| self.standing(system, volume) == Some(Standing::Own)).collect();
        if !own.is_empty() {
            return own;
        }
        let is_beside = |system: &&System| {
            system.esp.is_none() && self.standing(system, volume) == Some(Standing::SameDisk)
        };
        named().filter(is_beside).collect()
    }
}

impl System {
    /// Whether its loaders' folder has one of these names.
    pub fn is_named(&self, names: &[String]) -> bool {
        let is_it = |own: &str| names.iter().any(|name| name.eq_ignore_ascii_case(own));
        self.image.is_none() && (is_it(&self.os_id) || is_it(&self.id))
    }
}
