//! Machines that start by BIOS: what their first sector leads to, and plans that change sectors.

mod behind_menu;
mod held;
mod menu;
mod note;
mod ours;
mod rehearse;
mod remember;
mod sector;

use signpost_facts::change::SectorWrite;
use signpost_facts::sectors::{FirstSector, PartitionSector, sector as as_sector};
use signpost_firmware::bios::SECTOR;
use signpost_place::Look;

pub(crate) use behind_menu::entries_that_start;
pub use held::{Held, held};
pub(crate) use menu::activated;
pub use menu::rehearse_entry;
pub use note::Note;
pub(crate) use ours::{ours_after, slot_at};
pub(crate) use rehearse::rehearse;
pub use rehearse::{first_in_words, first_words, rehearse_in_order};
pub(crate) use remember::remember;
pub(crate) use sector::identity;
pub use sector::{SectorPlan, Wanted, Which, plan, which};

/// A disk's first sector as it would be after these writes.
fn first(look: &Look, of: &FirstSector, planned: &[SectorWrite]) -> Option<[u8; SECTOR]> {
    written(look, (of.disk, 0, &of.bytes), planned)
}

/// A partition's boot sector as it would be after these writes.
fn boot_sector(look: &Look, of: &PartitionSector, planned: &[SectorWrite]) -> Option<[u8; SECTOR]> {
    written(look, (of.disk, of.start, &of.bytes), planned)
}

/// What stands now where a step wrote; nothing where the survey does not have it.
pub(crate) fn now(look: &Look, write: &SectorWrite) -> Option<Vec<u8>> {
    let disk = look.survey.disks.iter().find(|disk| disk.identity() == Some(&write.disk))?.number;
    let in_area = || ours::state_at(look.survey.boot_sectors.first_of(disk)?.any_of_ours()?, write);
    look.survey.boot_sectors.bytes_at(disk, write.offset).map(<[u8]>::to_vec).or_else(in_area)
}

fn written(
    look: &Look,
    (disk, offset, bytes): (signpost_facts::DiskNumber, u64, &[u8]),
    planned: &[SectorWrite],
) -> Option<[u8; SECTOR]> {
    let identity = look.survey.disk(disk)?.identity()?;
    let hits = |write: &&SectorWrite| write.disk == *identity && write.offset == offset;
    let last = planned.iter().rev().find(hits).and_then(|write| write.after.as_deref());
    as_sector(last.and_then(|after| after.get(..SECTOR)).unwrap_or(bytes))
}
