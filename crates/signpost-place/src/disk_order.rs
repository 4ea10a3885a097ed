//! The numbers of the disks at boot: those that the desk noted in the slot when it wrote the menu.

use alloc::string::String;
use alloc::vec::Vec;

use signpost_disk::open;
use signpost_disk::volumes::{Disk, Part};
use signpost_firmware::device_path::{DevicePath, HardDrive};
use signpost_menu::disk_number::{DiskNumber, DiskNumbers};
use signpost_menu::slot::{Slot, SlotFault, Slots, newest};

use crate::homes::{Named, in_force};
use crate::slots;

/// A partition as the firmware shows it.
pub struct ShownPartition {
    /// Its device path.
    pub path: DevicePath,
    /// Where it lies, as its device path says it.
    pub drive: HardDrive,
    /// The disk's index.
    pub disk: usize,
    /// Whether the boot program was started from it.
    pub is_home: bool,
}

/// The disks by index, in the order of their numbers. Firmware shows disks in any order, so those of which no slot says a
/// number are counted by their identity.
pub(crate) fn of(
    disks: &[Disk],
    shown: &[ShownPartition],
    slots: Option<&[Result<Slot, SlotFault>; 2]>,
) -> Vec<(DiskNumber, usize)> {
    let identities: Vec<Option<String>> = disks.iter().map(|disk| disk.table.identity()).collect();
    let mut ordered: Vec<(Option<&str>, usize)> = Vec::with_capacity(disks.len());
    for (index, identity) in identities.iter().enumerate() {
        let identity = identity.as_deref();
        let at =
            ordered.partition_point(|(known, _)| (known.is_none(), *known) <= (identity.is_none(), identity));
        ordered.insert(at, (identity, index));
    }
    let ordered_identities: Vec<Option<&str>> = ordered.iter().map(|(identity, _)| *identity).collect();
    let in_sectors = slots.and_then(|slots| newest(slots)).map(|(_, slot)| slot.disks.clone());
    let noted = in_sectors.or_else(|| noted(disks, shown));
    let numbers = noted.unwrap_or_default().for_disks(&ordered_identities);
    let mut order: Vec<(DiskNumber, usize)> = Vec::with_capacity(disks.len());
    for (number, (_, index)) in numbers.into_iter().zip(ordered) {
        order.insert(order.partition_point(|(known, _)| *known <= number), (number, index));
    }
    order
}

/// What the menu that counts on the volume says that the boot program came from.
fn noted(disks: &[Disk], shown: &[ShownPartition]) -> Option<DiskNumbers> {
    let home = shown.iter().find(|shown| shown.is_home)?;
    let start = home.drive.start.checked_mul(u64::from(disks.get(home.disk)?.sector_size))?;
    let parts: Vec<(usize, &Part, &str)> = disks
        .iter()
        .enumerate()
        .flat_map(|(index, disk)| {
            disk.parts.iter().filter_map(move |part| Some((index, part, name(disk, part)?)))
        })
        .collect();
    let own = parts.iter().position(|(disk, part, _)| *disk == home.disk && part.start() == start)?;
    let read = |at: usize| {
        let part = parts.get(at).map(|(_, part, _)| *part).filter(|part| part.identity().kind.is_fat());
        let files = part.and_then(|part| open::file_system(part.device()?, part.identity())?.ok());
        files.map_or(NO_SLOTS, |files| slots::read(files.as_ref()))
    };
    let named: Vec<Named<'_>> = parts.iter().enumerate().map(|(at, (_, _, name))| (at, *name)).collect();
    in_force(*named.get(own)?, read(own), &named, read).map(|found| found.slot.disks)
}

const NO_SLOTS: Slots = [Err(SlotFault::Empty), Err(SlotFault::Empty)];

/// The identity of a partition in its table; none for a disk without one.
fn name<'d>(disk: &'d Disk, part: &Part) -> Option<&'d str> {
    let entry = disk.table.partitions.get(part.entry?)?;
    Some(entry.uuid.as_deref().unwrap_or_default())
}
