//! Where the menu that was applied to a machine with BIOS firmware is not so any more: another system's installer wrote over the first
//! sector, or over what it goes to. What differs, hold says; here it is named by its cause.

use signpost_facts::cause::Effect;
use signpost_facts::change::{Change, SectorWrite};
use signpost_facts::sectors::{Copy, FirstSector, OurSectors};
use signpost_facts::{Code, Disk, Subject};
use signpost_firmware::bios::SECTOR;
use signpost_menu::state::State;

use super::applied::{picture_lost, program_lost, saved_at_boot};
use super::{Found, Seen, cause, hold_cure, homes};
use crate::history::Action;
use crate::hold::{Held, has_lost_its_program, hold};
use crate::plan::bios_homes::is_one_away;
use crate::rehearse::first_in_words;

pub(super) fn find(seen: &Seen<'_>, found: &mut Found) {
    if let Some(held) = seen.case.held.filter(|held| held.boot_program().is_some()) {
        differences(seen, held, found);
    }
    if let Some(home) = seen.look.survey.boot_sectors.home() {
        remembered(home, found);
    }
    saved_at_boot(seen, found);
}

/// What is remembered from start to start, where one of its two sectors holds something else. No command has to cure that: the next
/// start writes over it.
fn remembered(home: &FirstSector, found: &mut Found) {
    let is_hurt = |sector: &&Vec<u8>| sector.iter().any(|byte| *byte != 0) && State::decode(sector).is_none();
    let lost = match home.ours.iter().flat_map(|ours| &ours.state).filter(is_hurt).count() {
        0 => return,
        1 => {
            "one of the two sectors of what is remembered from start to start is damaged, and the other counts"
        }
        _ => {
            "what is remembered from start to start is damaged: which system was started last, what was kept as the default at boot"
        }
    };
    let message = format!("on d{}, {lost}", home.disk);
    let mut damaged = cause(Code::VariablesBroken, Effect::Untidy, Some(Subject::Disk(home.disk)), message);
    damaged.by_hand = Some("nothing has to be done: the next start writes it anew".into());
    found.add(damaged, &[]);
}

fn differences(seen: &Seen<'_>, held: &Held, found: &mut Found) {
    let sectors = &seen.look.survey.boot_sectors;
    let home = sectors.home();
    let counts = |home: &FirstSector| home.ours.as_ref().is_some_and(counts);
    if has_lost_its_program(seen.look, seen.case.history, held, seen.case.material()) {
        if home.is_none_or(|home| !counts(home)) {
            program_lost(seen, held, found);
        }
        return;
    }
    let Ok(plan) = hold(seen.look, seen.case.history, Some(held), seen.case.material(), Action::Mend) else {
        return;
    };
    if is_one_away(seen.look) {
        let message =
            "one of the two homes is not attached, or cannot be read; the menu starts from the other one";
        let mut away = cause(Code::DiskMissing, Effect::WillBreak, None, message.into());
        away.by_hand = Some(
            "attach the disk, and `signpost hold` brings it up to date; should it not come back, `signpost apply --second-home DISK` puts \
             the menu on another one"
                .into(),
        );
        found.add(away, &[]);
    }
    picture_lost(held, &plan, found);
    let is_on_home = |write: &&SectorWrite| {
        home.is_none_or(|home| seen.look.survey.disk(home.disk).and_then(Disk::identity) == Some(&write.disk))
    };
    let (writes, others): (Vec<&SectorWrite>, Vec<&SectorWrite>) =
        plan.writes.iter().filter_map(Change::sectors).partition(is_on_home);
    out_of_step(seen, &others, found);
    let starts_other = seen.effect(&[], true, Effect::StartsOther);
    if writes.iter().any(|write| write.offset == 0) {
        let first = sectors.order.first().and_then(|disk| sectors.first_of(*disk));
        let (subject, is) = first
            .map_or((None, String::new()), |first| (Some(Subject::Disk(first.disk)), first_in_words(first)));
        let message = format!("the first sector does not start the menu any more: it is {is}");
        let mut lost = cause(Code::NotFirst, starts_other, subject, message);
        lost.evidence.push(format!("the menu was applied, and now {}", plan.found));
        lost.cures.push(hold_cure("write our code into it again, and what it goes to"));
        let index = found.add(lost, &[]);
        found.explain(index, Code::FirstSectorLost, None);
        return;
    }
    let Some((home, ours)) = home.and_then(|home| Some((home, home.ours.as_ref()?))) else { return };
    let subject = Some(Subject::Disk(home.disk));
    let is_at = |write: &&&SectorWrite, sector: u32| write.offset == u64::from(sector) * SECTOR as u64;
    let of = |sector: [u32; 2]| {
        let hit = |write: &&&SectorWrite| sector.into_iter().any(|sector| is_at(write, sector));
        writes.iter().filter(hit).count()
    };
    if of([ours.area.copy(0), ours.area.copy(1)]) > 0 {
        let (effect, message) = if has_program(ours) {
            let message = format!("one of the two copies of the boot program on d{} is damaged", home.disk);
            (Effect::WillBreak, message)
        } else {
            (starts_other, format!("both copies of the boot program on d{} are damaged", home.disk))
        };
        let mut damaged = cause(Code::BootProgramGone, effect, subject.clone(), message);
        damaged.cures.push(hold_cure("write it again"));
        found.add(damaged, &[]);
    }
    if of([ours.area.slot(0), ours.area.slot(1)]) > 0 {
        let is_all = ours.slots().iter().all(Result::is_err);
        let effect = if is_all { starts_other } else { Effect::WillBreak };
        let which = if is_all { "the menu" } else { "one of the two copies of the menu" };
        let message = format!("{which} on d{} is damaged, or another than was applied", home.disk);
        let mut damaged = cause(Code::MenuDamaged, effect, subject, message);
        damaged.cures.push(hold_cure("write the menu that was applied again"));
        found.add(damaged, &[]);
    }
}

/// What stands on the other home is not what was applied: it would not start the machine as it is meant to.
fn out_of_step(seen: &Seen<'_>, writes: &[&SectorWrite], found: &mut Found) {
    let Some(write) = writes.first() else { return };
    let disks = &seen.look.survey.disks;
    let Some(disk) = disks.iter().find(|disk| disk.identity() == Some(&write.disk)) else { return };
    homes::out_of_step(
        (format!("d{}", disk.number), Subject::Disk(disk.number)),
        writes.iter().map(|write| write.what.clone()).collect(),
        found,
    );
}

/// Whether a copy of the program and a copy of the menu count.
fn counts(ours: &OurSectors) -> bool {
    has_program(ours) && ours.slots().iter().any(Result::is_ok)
}

fn has_program(ours: &OurSectors) -> bool {
    ours.copies.iter().any(Copy::is_whole)
}
