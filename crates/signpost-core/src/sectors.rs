//! Sectors as they would be after writes that are planned, and what a first sector of ours goes to then.

use signpost_facts::DiskNumber;
use signpost_facts::change::SectorWrite;
use signpost_facts::ours::OurVariables;
use signpost_facts::sectors::{Copy, FirstSector, OurSectors, PartitionSector, sector as as_sector};
use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::area::{self, Area};
use signpost_menu::slot::{Slot, SlotFault};
use signpost_menu::state;
use signpost_place::Look;

/// A disk's first sector as it would be after these writes.
pub(crate) fn first(look: &Look, of: &FirstSector, planned: &[SectorWrite]) -> Option<[u8; SECTOR]> {
    written(look, (of.disk, 0, &of.bytes), planned)
}

/// A partition's boot sector as it would be after these writes.
pub(crate) fn boot_sector(
    look: &Look,
    of: &PartitionSector,
    planned: &[SectorWrite],
) -> Option<[u8; SECTOR]> {
    written(look, (of.disk, of.start, &of.bytes), planned)
}

/// What stands now where a step wrote; nothing where the survey does not have it.
pub(crate) fn now(look: &Look, write: &SectorWrite) -> Option<Vec<u8>> {
    let disk = look.survey.disks.iter().find(|disk| disk.identity() == Some(&write.disk))?.number;
    let in_area = || state_at(look.survey.boot_sectors.first_of(disk)?.any_of_ours()?, write);
    look.survey.boot_sectors.bytes_at(disk, write.offset).map(<[u8]>::to_vec).or_else(in_area)
}

fn written(
    look: &Look,
    (disk, offset, bytes): (DiskNumber, u64, &[u8]),
    planned: &[SectorWrite],
) -> Option<[u8; SECTOR]> {
    let identity = look.survey.disk(disk)?.identity()?;
    let hits = |write: &&SectorWrite| write.disk == *identity && write.offset == offset;
    let last = planned.iter().rev().find(hits).and_then(|write| write.after.as_deref());
    as_sector(last.and_then(|after| after.get(..SECTOR)).unwrap_or(bytes))
}

/// What a start comes to behind a first sector of ours.
pub(crate) struct Ours {
    /// Whether a copy of the boot program counts.
    pub(crate) has_program: bool,
    /// The slots.
    pub(crate) slots: [Result<Slot, SlotFault>; 2],
    /// What is remembered.
    pub(crate) remembered: OurVariables,
}

/// That of a disk; nothing where its first sector is not ours then.
pub(crate) fn ours_after(look: &Look, of: &FirstSector, planned: &[SectorWrite]) -> Option<Ours> {
    let area = Area::of_first(&first(look, of, planned)?)?;
    let held = of.ours.as_ref().filter(|ours| ours.area == area);
    let disk = look.survey.disk(of.disk)?.identity()?;
    let written = |sector: u32| {
        let offset = u64::from(sector).checked_mul(SECTOR as u64)?;
        let last = planned.iter().rev().find(|write| write.disk == *disk && write.offset == offset)?;
        last.after.as_deref()
    };
    let has_program = [0, 1].into_iter().any(|index: u32| match written(area.copy(index)) {
        Some(bytes) => area::copy_in(bytes).is_ok(),
        None => held.and_then(|ours| ours.copies.get(index as usize)).is_some_and(Copy::is_whole),
    });
    let held_slots = held.map_or([Err(SlotFault::Empty), Err(SlotFault::Empty)], OurSectors::slots);
    let mut slots = held_slots;
    for (slot, index) in slots.iter_mut().zip(0u32..) {
        if let Some(bytes) = written(area.slot(index)) {
            *slot = Slot::decode(bytes);
        }
    }
    let sector = |index: u32| {
        let now = || held.and_then(|ours| ours.state.get(index as usize)).map(Vec::as_slice);
        written(area.state(index)).or_else(now).unwrap_or_default()
    };
    let (_, remembered) = state::newest([sector(0), sector(1)]);
    Some(Ours { has_program, slots, remembered: OurVariables::in_state(&remembered) })
}

/// What is remembered in a sector where a step wrote. What else stands in an area is not kept by the survey to the byte.
fn state_at(ours: &OurSectors, write: &SectorWrite) -> Option<Vec<u8>> {
    let is_at = |index: &usize| at(ours.area.state(u32::from(*index == 1))) == Some(write.offset);
    (0..2).find(is_at).and_then(|index| ours.state.get(index).cloned())
}

/// The whole slot of the menu that stands where a step wrote.
pub(crate) fn slot_at(look: &Look, write: &SectorWrite) -> Option<Slot> {
    let disk = look.survey.disks.iter().find(|disk| disk.identity() == Some(&write.disk))?.number;
    let ours = look.survey.boot_sectors.first_of(disk)?.any_of_ours()?;
    let index = (0..2u32).find(|index| at(ours.area.slot(*index)) == Some(write.offset))?;
    ours.slots().into_iter().nth(index as usize)?.ok()
}

/// A sector's place in bytes.
fn at(sector: u32) -> Option<u64> {
    u64::from(sector).checked_mul(SECTOR as u64)
}
