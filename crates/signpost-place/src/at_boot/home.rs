//! Where the boot program came from: a volume, or a disk whose sectors are home.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use signpost_menu::disk_number::DiskNumber;

use super::BootMachine;
use crate::homes::Named;
use crate::volumes::Volumes;

impl BootMachine {
    /// The numbers of the disks that home lies on.
    pub(super) fn home_disks(&self) -> Vec<DiskNumber> {
        match self.home {
            Some(home) => self.disks_of(home),
            None => self.home_disk.and_then(|disk| self.numbers.get(disk)).copied().into_iter().collect(),
        }
    }

    /// Home, a volume or a disk by its index, and where its menu may stand too; nothing where home is not known.
    pub fn homes(&self) -> Option<(Named<'_>, Vec<Named<'_>>)> {
        let home = self.home.or(self.home_disk)?;
        let others = |named: &Named<'_>| named.0 != home && !named.1.is_empty();
        let named: Vec<Named<'_>> = if self.home.is_some() { self.partitions() } else { self.tables() };
        let own = named.iter().find(|(index, _)| *index == home).copied()?;
        Some((own, named.into_iter().filter(others).collect()))
    }

    /// Volumes that the firmware reads, and their identities in their tables.
    fn partitions(&self) -> Vec<Named<'_>> {
        let volumes = self.volumes.iter().zip(&self.identities).enumerate();
        let read = volumes.filter(|(index, (volume, _))| volume.is_fat || self.home == Some(*index));
        read.map(|(index, (_, identity))| (index, identity.part_uuid.as_deref().unwrap_or_default()))
            .collect()
    }

    /// The disks, and the identities of their tables.
    fn tables(&self) -> Vec<Named<'_>> {
        let tables = self.tables.iter().enumerate();
        tables.map(|(index, table)| (index, table.as_deref().unwrap_or_default())).collect()
    }

    /// What a home is called.
    pub fn home_name(&self, home: usize) -> String {
        match self.home {
            Some(_) => Volumes::name(self, home),
            None => self.numbers.get(home).map(|number| format!("d{number}")).unwrap_or_default(),
        }
    }
}
