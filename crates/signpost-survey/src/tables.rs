//! What would correct the partition tables of disks that are not whole, and can be: taken from what the disks themselves hold.

use signpost_disk::block::{SharedDevice, read_vec};
use signpost_disk::gpt;
use signpost_facts::change::SectorWrite;
use signpost_facts::{Disk, DiskNumber, Survey};
use signpost_machine::Machine;

use super::guard::guarded;

/// For each disk that needs it.
pub(crate) fn corrections(machine: &Machine, survey: &Survey) -> Vec<(DiskNumber, SectorWrite)> {
    let hurt = survey.disks.iter().filter(|disk| disk.table.is_unprotected || disk.table.is_from_backup);
    let of_disk = |disk: &Disk| {
        let device = machine.disk(disk.number)?.contents.as_ref().ok()?;
        guarded(|| of(device, disk)).ok()
    };
    hurt.filter_map(|disk| Some((disk.number, of_disk(disk)?)))
        .flat_map(|(number, writes)| writes.into_iter().map(move |write| (number, write)))
        .collect()
}

fn of(device: &SharedDevice, disk: &Disk) -> Vec<SectorWrite> {
    let Some(identity) = disk.identity() else { return Vec::new() };
    let write = |what: &str, (offset, after): (u64, Vec<u8>)| {
        let before = read_vec(&**device, offset, after.len()).ok()?;
        Some(SectorWrite {
            what: format!("write {what} of disk {}", disk.number),
            disk: identity.clone(),
            offset,
            before: Some(before),
            after: Some(after),
        })
    };
    let mut writes = Vec::new();
    if disk.table.is_from_backup
        && let Ok([entries, header]) = gpt::first_copy(&**device, disk.sector_size)
    {
        writes.extend(write("the first partition entries", entries));
        writes.extend(write("the first GPT header", header));
    }
    if disk.table.is_unprotected {
        let sector = gpt::protective(&**device, disk.sector_size).ok();
        writes.extend(sector.and_then(|sector| write("the protective MBR", sector)));
    }
    writes
}
