//! The numbers of a machine's disks, by what was kept of earlier looks.

use signpost_disk::table::Table;
use signpost_facts::known::Known;

use crate::kept;
use crate::machine::{Machine, MachineDisk};

impl Machine {
    /// What the disks held when they were last seen; nothing, where nothing was kept, or by another version.
    pub fn known(&self) -> Known {
        let read = self.known_record().and_then(|record| kept::read(&record).ok().flatten());
        read.filter(Known::is_current).unwrap_or_default()
    }

    /// Gives the disks their numbers, and puts them in that order.
    pub(crate) fn with_numbers(mut self) -> Self {
        let identities: Vec<Option<String>> = self.disks.iter().map(identity).collect();
        let identities: Vec<Option<&str>> = identities.iter().map(Option::as_deref).collect();
        let numbers = self.known().numbers().for_disks(&identities);
        self.disks.iter_mut().zip(numbers).for_each(|(disk, number)| disk.number = number);
        self.disks.sort_by_key(|disk| disk.number);
        self
    }
}

/// What tells a disk from others, as a survey tells it: its serial, else its table's identity.
fn identity(disk: &MachineDisk) -> Option<String> {
    let table = || Table::read(disk.contents.as_ref().ok()?.as_ref(), disk.sector_size).identity();
    disk.serial.clone().or_else(table)
}
