//! What our first sector goes to, as it would be after writes that are planned.

use signpost_facts::change::SectorWrite;
use signpost_facts::ours::OurVariables;
use signpost_facts::sectors::{Copy, FirstSector, OurSectors};
use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::area::{self, Area};
use signpost_menu::slot::{SLOT_SIZE, Slot, SlotFault};
use signpost_menu::state::{self, State};
use signpost_place::Look;
use signpost_place::boot_program::sha256;

use super::first;

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
    Some(Ours { has_program, slots, remembered: remembered_in(&remembered) })
}

/// What stands in an area where a step wrote: what is remembered; a slot; a copy of the boot program, where it is the one that was
/// written. Nothing where that is not known.
pub(super) fn part(ours: &OurSectors, write: &SectorWrite) -> Option<Vec<u8>> {
    let is_at = |sector: u32| u64::from(sector).checked_mul(SECTOR as u64) == Some(write.offset);
    [0u32, 1].into_iter().find_map(|index| {
        let at = index as usize;
        if is_at(ours.area.state(index)) {
            return ours.state.get(at).cloned();
        }
        if is_at(ours.area.slot(index)) {
            let mut bytes = ours.slots.get(at)?.clone().into_bytes();
            Slot::decode(&bytes).ok()?;
            bytes.resize(SLOT_SIZE, b'\n');
            return Some(bytes);
        }
        let wrote = write.after.as_ref().filter(|_| is_at(ours.area.copy(index)))?;
        (ours.copies.get(at) == Some(&Copy::Whole(sha256(wrote)))).then(|| wrote.clone())
    })
}

fn remembered_in(state: &State) -> OurVariables {
    OurVariables::of(|name| state.text(name).map(ToString::to_string))
}
