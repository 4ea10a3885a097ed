//! Host "signpost" on a machine with BIOS firmware: boot program, menu and what is remembered lie behind a disk's first sector, or in a
//! BIOS boot partition. The first sector is written last, and is one sector: until then what started before starts.

use signpost_facts::change::{Change, FileWrite, SectorWrite};
use signpost_facts::sectors::{Copy, FirstSector, OurSectors, sector as as_sector};
use signpost_facts::{Code, DiskNumber, Error, Refusal, Result, TableKind};
use signpost_firmware::bios::area::{self, Area};
use signpost_firmware::bios::{CODE_LEN, SECTOR, plain, with_code};
use signpost_menu::ours;
use signpost_menu::slot::{SECTOR_SLOT_NAMES, SLOT_SIZE, Slot, Slots, newest};
use signpost_menu::state::{STATE_SIZE, State};
use signpost_place::Look;
use signpost_place::boot_program::{BootProgram, sha256};
use signpost_place::home::{NO_SLOTS, identity_in, slots_in};
use signpost_place::started_from::StartedFrom;

use super::boot_program::{entries, no_boot_program};
use super::guards;
use super::planned::{Plan, ToKeep, Wishes};
use super::{bios_homes, bios_picture, slots, tries};
use crate::bios;
use crate::draft;
use crate::history::History;
use crate::menu_file::MenuFile;
use crate::news::News;
use crate::rehearse;
use crate::resolve::{opening, resolve};
use crate::ways;

pub(super) fn plan(look: &Look, menu: &MenuFile, history: &History, wishes: &Wishes) -> Result<Plan> {
    let program = wishes.boot_program.as_ref().ok_or_else(no_boot_program)?;
    let (code, copy) = area::program(program.bytes()).ok_or_else(|| Error::Unusable {
        place: "the boot program".into(),
        why: "it is none for BIOS firmware; `cargo xtask boot` builds that".into(),
    })?;
    let sectors = u32::try_from(copy.len() / SECTOR).unwrap_or(u32::MAX);
    let resolved = resolve(look, &menu.document);
    let used = |other: &FirstSector| room(look, other, sectors).ok().map(|room| room.used);
    let homes = bios_homes::of(look, menu.document.settings.homes > 1, (wishes, &resolved), used)?;
    let machine = signpost_place::home::machine_id(look);
    let news = News::of(look, &menu.document);
    let rooms = homes.disks.iter().map(|first| room(look, first, sectors)).collect::<Result<Vec<Room>>>()?;
    let on: Vec<(&FirstSector, Room)> = homes.disks.iter().copied().zip(rooms).collect();
    let seen: Vec<Slots> =
        on.iter().map(|(first, room)| room.held(first).map_or(NO_SLOTS, OurSectors::slots)).collect();
    let held = seen.iter().find_map(|slots| newest(slots)?.1.picture.clone());
    let disks: Vec<DiskNumber> = homes.disks.iter().map(|first| first.disk).collect();
    let picture = bios_picture::of(look, menu, (&disks, held.as_ref()), wishes)?;
    let to_name = (homes.identities.clone(), picture.place.clone());
    let wanted = slots::wanted(look, &seen, (menu, machine.clone()), to_name);
    let mut refusals: Vec<Refusal> = Vec::new();
    let mut writes = Vec::new();
    for (index, ((first, room), seen)) in on.iter().zip(&seen).enumerate() {
        refusals.extend(room.foreign(first));
        refusals.extend(other_system(history, seen, first.disk, &machine));
        let slots = wanted.writes(index, seen, SECTOR_SLOT_NAMES)?;
        writes.extend(written(look, (first, room), (code, copy), slots, news.default.is_none())?);
    }
    let mut notes = homes.notes.clone();
    // What is left over from before goes at an apply.
    if menu.document.settings.homes < 2 && !wishes.stays {
        for first in twins(look, &homes.disks) {
            take_off(look, history, first, &mut writes, &mut notes)?;
        }
    }
    let outcome = rehearse::rehearse_bios(look, &writes, None).outcome;
    let around = homes.disks.first().map(|first| StartedFrom::disk(look, first.disk));
    let resolved = around.map_or(resolved, |around| resolve(&around, &menu.document));
    let opening = opening(look, &menu.document, &resolved);
    refusals.extend(guards::by_itself(guards::no_system_starts(&outcome), &opening, &resolved));
    let after = rehearse::State::with_sectors(look, &writes);
    refusals.extend(super::last_way(look, &menu.document, after));
    refusals.extend(news.refusal());
    notes.extend(tries::instead(&opening, &menu.document));
    notes.extend(homes.disks.first().and_then(|first| not_first(look, first.disk)));
    notes.extend(picture.notes);
    let words = |index: usize| {
        on.get(index).map(|(first, room): &(&FirstSector, Room)| format!("d{}, {}", first.disk, room.words))
    };
    Ok(Plan {
        entries: entries(look, &resolved),
        order_before: Vec::new(),
        order_after: Vec::new(),
        timeout_before: None,
        timeout_after: None,
        writes: with_files(picture.write, writes, picture.removal),
        home: words(0),
        second_home: words(1),
        left_out: draft::left_out(look, &menu.document, &resolved),
        notes,
        refusals,
        outcome,
        kept: ToKeep { picture: picture.place, out_of_step: homes.notes, ..ToKeep::default() },
    })
}

/// What is written to a disk: the copy of the program that is not in use, then the menu, what is remembered, and the first sector.
fn written(
    look: &Look,
    (first, room): (&FirstSector, &Room),
    (code, copy): (&[u8; CODE_LEN], &[u8]),
    slots: Vec<slots::SlotWrite>,
    forgets_kept: bool,
) -> Result<Vec<SectorWrite>> {
    let mut writer = Sectors { look, first, writes: Vec::new() };
    writer.copies(&room.area, room.held(first), copy)?;
    for slot in slots {
        let at = room.area.slot(slot.index as u32);
        writer.write(at, slot.bytes, format!("{} of d{}", slot.what, first.disk))?;
    }
    writer.state(room, forgets_kept)?;
    writer.first(
        &room.area.first_code(code),
        format!("write our code into the first sector of d{}", first.disk),
    )?;
    Ok(writer.writes)
}

/// A file is there before the sectors that name it, and goes once they do not.
fn with_files(before: Option<FileWrite>, sectors: Vec<SectorWrite>, after: Option<FileWrite>) -> Vec<Change> {
    let files = |file: Option<FileWrite>| file.into_iter().map(Change::File);
    files(before).chain(sectors.into_iter().map(Change::Sectors)).chain(files(after)).collect()
}

/// Other disks that the menu was put on beside these.
fn twins<'l>(look: &'l Look, homes: &[&FirstSector]) -> Vec<&'l FirstSector> {
    let machine = signpost_place::home::machine_id(look);
    let is_home = |first: &FirstSector| homes.iter().any(|home| home.disk == first.disk);
    let names = |slot: &Slot, first: &FirstSector| {
        let own = identity_in(look, first.disk);
        slot.machine == machine && slot.homes.iter().any(|name| name == own)
    };
    let is_twin = |first: &&FirstSector| {
        let slots = slots_in(look, first.disk);
        newest(&slots).is_some_and(|(_, slot)| homes.iter().all(|home| names(slot, home)))
    };
    look.survey.boot_sectors.first.iter().filter(|first| !is_home(first)).filter(is_twin).collect()
}

/// Where everything is put.
struct Room {
    area: Area,
    words: String,
    /// How many of its sectors hold something that is not ours, as far as that can be told.
    used: u64,
}

impl Room {
    /// What of ours lies there already.
    fn held<'f>(&self, first: &'f FirstSector) -> Option<&'f OurSectors> {
        first.any_of_ours().filter(|ours| ours.area == self.area)
    }

    /// The guard against writing over what another boot manager, or anybody, keeps there.
    fn foreign(&self, first: &FirstSector) -> Option<Refusal> {
        (self.used > 0).then(|| Refusal {
            code: Code::GapInUse,
            message: format!(
                "{} sectors of d{} where the boot program goes are in use, by another boot manager perhaps",
                self.used, first.disk
            ),
            way: format!(
                "`signpost sector save d{0}-gap FILE` saves them; `--despite gap-in-use` keeps them in the record, for undo",
                first.disk
            ),
        })
    }
}

fn room(look: &Look, first: &FirstSector, program: u32) -> Result<Room> {
    let disk = first.disk;
    if let Some(ours) = &first.ours
        && ours.area.room >= program
    {
        return Ok(Room { area: ours.area, words: "where it is already".into(), used: 0 });
    }
    let lacks = |why: String| Error::Unusable {
        place: format!("d{disk}"),
        why: format!("{why}; `signpost tune host=firmware` does without it, and starts one system at a time"),
    };
    let is_gpt = look.survey.disk(disk).is_some_and(|facts| facts.table.kind == Some(TableKind::Gpt));
    let (start, sectors, used, words) = match (is_gpt, &first.boot_partition) {
        (true, Some(found)) => {
            let name = format!("in its BIOS boot partition, d{disk}p{}", found.partition);
            (found.start, found.sectors, found.used, name)
        }
        (true, None) => {
            return Err(lacks(
                "it has a GPT and no BIOS boot partition, where the boot program would go; one of 1 MiB, of type \
                 21686148-6449-6E6F-744E-656564454649, helps"
                    .into(),
            ));
        }
        (false, _) if look.survey.disk(disk).is_none_or(|facts| facts.table.kind.is_none()) => {
            return Err(lacks(
                "it has no partition table, so that nothing is free behind its first sector".into(),
            ));
        }
        (false, _) => (1, first.gap, first.gap_used, "behind its first sector".to_string()),
    };
    let (from, count) = (u32::try_from(start).ok(), u32::try_from(sectors).unwrap_or(u32::MAX));
    let area = from.and_then(|from| Area::in_sectors(from, count, program)).ok_or_else(|| {
        lacks(format!(
            "there are {sectors} free sectors {words}, and two copies of the boot program with the menu take {}; a first \
             partition that starts at 1 MiB leaves them",
            Area::needed(program)
        ))
    })?;
    let used = if first.any_of_ours().is_some() { 0 } else { used };
    Ok(Room { area, words, used })
}

/// What is written, in its order.
struct Sectors<'l> {
    look: &'l Look,
    first: &'l FirstSector,
    writes: Vec<SectorWrite>,
}

impl Sectors<'_> {
    /// What stands there is read when the plan is carried out, and kept in the record.
    fn write(&mut self, sector: u32, after: Vec<u8>, what: String) -> Result<()> {
        let disk = bios::identity(self.look, self.first.disk)?.clone();
        let offset = u64::from(sector).saturating_mul(SECTOR as u64);
        self.writes.push(SectorWrite { what, disk, offset, before: None, after: Some(after) });
        Ok(())
    }

    /// Copies that are not this program: first one that does not count, since the other is what starts.
    fn copies(&mut self, area: &Area, held: Option<&OurSectors>, copy: &[u8]) -> Result<()> {
        let wanted = Copy::Whole(sha256(copy));
        let of = |index: u32| held.and_then(|ours| ours.copies.get(index as usize));
        let mut stale: Vec<u32> = [0, 1].into_iter().filter(|index| of(*index) != Some(&wanted)).collect();
        stale.sort_by_key(|index| of(*index).is_some_and(Copy::is_whole));
        for index in stale {
            let what = format!("write copy {} of the boot program to d{}", index + 1, self.first.disk);
            self.write(area.copy(index), copy.to_vec(), what)?;
        }
        Ok(())
    }

    /// What somebody else left there is nothing that was remembered; a default that was kept, and is in the menu file now, is forgotten.
    fn state(&mut self, room: &Room, forgets_kept: bool) -> Result<()> {
        let (disk, area) = (self.first.disk, &room.area);
        let Some(held) = room.held(self.first) else {
            let written = if room.used > 0 { 2 } else { 0 };
            for index in 0..written {
                let what =
                    format!("clear what is remembered from start to start on d{disk}, {} of 2", index + 1);
                self.write(area.state(index), vec![0; STATE_SIZE], what)?;
            }
            return Ok(());
        };
        let (index, state) = held.state();
        let without = state.with(ours::KEPT, None).filter(|_| forgets_kept);
        if let Some(sector) = without.as_ref().and_then(State::encode) {
            let what = "forget what was kept as the default at boot: the menu says it now".into();
            self.write(area.state(if index == 0 { 1 } else { 0 }), sector.to_vec(), what)?;
        }
        Ok(())
    }

    /// All that lies there, a part at a time: its length is that of what may stand there.
    fn clear(&mut self, area: &Area) -> Result<()> {
        let disk = self.first.disk;
        let copy = area.room as usize * SECTOR;
        let parts = [0, 1].into_iter().flat_map(|index: u32| {
            [
                (area.copy(index), copy, "copy of the boot program"),
                (area.slot(index), SLOT_SIZE, "slot of the menu"),
                (area.state(index), STATE_SIZE, "sector of what is remembered"),
            ]
        });
        for (sector, length, what) in parts {
            self.write(sector, vec![0; length], format!("clear a {what} on d{disk}"))?;
        }
        Ok(())
    }

    /// The code that the first sector had before ours was written, by the records.
    fn code_before(&self, history: &History) -> Option<[u8; CODE_LEN]> {
        let disk = bios::identity(self.look, self.first.disk).ok()?;
        let writes = history.records().iter().flat_map(|record| &record.writes).filter_map(Change::sectors);
        let mut firsts = writes.filter(|write| write.offset == 0 && write.disk == *disk);
        let before = firsts.find_map(|write| {
            let after = as_sector(write.after.as_deref()?)?;
            let before = as_sector(write.before.as_deref()?)?;
            (area::is_first(&after) && !area::is_first(&before)).then_some(before)
        })?;
        before.first_chunk().copied()
    }

    /// The first sector with this code; what that is, in words.
    fn first(&mut self, code: &[u8; CODE_LEN], what: String) -> Result<()> {
        let disk = self.first.disk;
        let before = as_sector(&self.first.bytes)
            .ok_or_else(|| Error::Unusable { place: format!("d{disk}"), why: "it cannot be read".into() })?;
        let after = with_code(&before, code);
        if after != before {
            self.write(0, after.to_vec(), what)?;
        }
        Ok(())
    }
}

/// Plans to take what is ours off the machine: the first sector gets the code that it had before, or plain code, and then what it went
/// to is cleared.
///
/// # Errors
/// Where its first sector cannot be read.
pub(super) fn remove(look: &Look, history: &History) -> Result<Plan> {
    let sectors = &look.survey.boot_sectors;
    let homes: Vec<&FirstSector> =
        sectors.first.iter().filter(|first| first.any_of_ours().is_some()).collect();
    let mut writes = Vec::new();
    let mut notes = Vec::new();
    if homes.is_empty() && history.last_step().is_some() {
        notes.push("`signpost undo` undoes what was written into the machine's sectors".to_string());
    }
    for first in &homes {
        take_off(look, history, first, &mut writes, &mut notes)?;
    }
    let outcome = rehearse::rehearse_bios(look, &writes, None).outcome;
    let slots = homes.first().and_then(|first| first.ours.as_ref()).map(OurSectors::slots);
    let named = slots.as_ref().and_then(|slots| newest(slots)?.1.picture.clone());
    let (picture, stays) = named.map_or(Ok((None, None)), |named| bios_picture::remove(look, &named))?;
    notes.extend(stays);
    let mut refusals: Vec<Refusal> = guards::no_system_starts(&outcome).into_iter().collect();
    if let (Some(slots), Some(first)) = (&slots, homes.first()) {
        let machine = signpost_place::home::machine_id(look);
        refusals.extend(other_system(history, slots, first.disk, &machine));
    }
    refusals.extend(ways::last_way_by_sectors(look, &writes));
    notes.push("units that run `signpost hold` are turned off by `systemctl disable`".into());
    Ok(Plan {
        entries: Vec::new(),
        order_before: Vec::new(),
        order_after: Vec::new(),
        timeout_before: None,
        timeout_after: None,
        writes: with_files(None, writes, picture),
        home: None,
        second_home: None,
        left_out: Vec::new(),
        notes,
        refusals,
        outcome,
        kept: ToKeep::default(),
    })
}

/// Takes what is ours off a disk.
fn take_off(
    look: &Look,
    history: &History,
    first: &FirstSector,
    writes: &mut Vec<SectorWrite>,
    notes: &mut Vec<String>,
) -> Result<()> {
    let mut writer = Sectors { look, first, writes: Vec::new() };
    let before = writer.code_before(history).filter(|_| first.ours.is_some());
    if first.ours.is_some() {
        if before.is_none() {
            notes.push(format!(
                "what the first sector of d{} held before is not known: plain code starts its active partition",
                first.disk
            ));
        }
        let (code, what) = match before {
            Some(before) => (before, "put back the code that it held before"),
            None => (plain_code(), "write plain code"),
        };
        writer.first(&code, format!("{what} into the first sector of d{}", first.disk))?;
    }
    if let Some(ours) = first.any_of_ours() {
        writer.clear(&ours.area)?;
    }
    writes.extend(writer.writes);
    Ok(())
}

fn plain_code() -> [u8; CODE_LEN] {
    core::array::from_fn(|at| plain::CODE.get(at).copied().unwrap_or(0))
}

/// The guard against writing over the menu of another system of this PC.
fn other_system(history: &History, slots: &Slots, disk: DiskNumber, machine: &str) -> Option<Refusal> {
    let (_, slot) = newest(slots)?;
    let is_own = match slot.machine.as_str() {
        "" => history.records().iter().any(|record| !record.is_copy && !history.is_undone(record.serial)),
        other => other == machine,
    };
    (!is_own).then(|| crate::home::other_systems(&format!("d{disk}"), &slot.machine, machine))
}

/// That the firmware may start another disk.
fn not_first(look: &Look, disk: DiskNumber) -> Option<String> {
    let first = look.survey.boot_sectors.order.first().filter(|first| **first != disk)?;
    Some(format!("the firmware starts d{first}, and not d{disk}: its order decides, which its setup shows"))
}

/// The boot program's name among what was applied.
pub(crate) fn name_of(program: &BootProgram) -> Option<String> {
    let (_, copy) = area::program(program.bytes())?;
    Some(sha256(copy))
}
