//! Where what was applied is not so any more: another system put itself first, the firmware lost our entry, the boot program or the
//! menu were damaged. What differs, hold says; here it is named by its cause.

use signpost_facts::cause::{Act, Cure, Effect};
use signpost_facts::change::{Change, FileWrite, Write};
use signpost_facts::{Code, Subject, VolumeNumber};
use signpost_menu::picture_place::is_picture_path;
use signpost_menu::slot::{SLOT_NAMES, SlotFault};
use signpost_place::{Look, home};

use super::{Found, Seen, behind_table, cause, hold_cure, homes, ids};
use crate::history::Action;
use crate::hold::{Held, HoldPlan, has_lost_its_program, hold};
use crate::menu_file::MenuFile;
use crate::plan::{Wishes, plan, state_after};
use crate::rehearse::State;
use crate::ways;

pub(super) fn find(seen: &Seen<'_>, found: &mut Found) {
    if let Some(held) = seen.case.held {
        if homes::missing(seen, held, found) {
            return;
        }
        differences(seen, held, found);
    } else {
        entry_of_a_menu(seen, found);
    }
    slots(seen, found);
    next_boot(seen, found);
    saved_at_boot(seen, found);
    homes::disagree(seen, found);
    old_program(seen, found);
    room(seen, found);
}

/// The boot program that was applied is gone, and another version is installed, or none: hold leaves that to a person.
pub(super) fn program_lost(seen: &Seen<'_>, held: &Held, found: &mut Found) {
    let path = held.boot_program().unwrap_or_default();
    let effect = seen.effect(&[], true, Effect::StartsOther);
    let place = format!("{}{path}", held.home().unwrap_or_default());
    let mut gone = cause(Code::BootProgramGone, effect, None, format!("the boot program is gone: {place}"));
    let menu = MenuFile::new(seen.case.menu_path, held.menu().to_string());
    let wishes = Wishes { boot_program: seen.case.program.clone(), ..Wishes::default() };
    let plan = menu.and_then(|menu| plan(seen.look, &menu, seen.case.history, &wishes));
    match plan {
        Ok(plan) => {
            gone.evidence.push("another version is installed than the one that was applied".into());
            gone.cures.push(Cure {
                name: "apply-anew",
                what: "apply the same menu with the installed boot program".into(),
                acts: vec![Act::Reapply],
            });
            gone.systems = brought_back(seen, &plan.writes);
        }
        Err(_) if seen.case.program.is_none() => {
            gone.by_hand = Some(
                "install the package again, which brings the boot program, and then `signpost apply`".into(),
            );
        }
        Err(error) => gone.by_hand = Some(format!("`signpost apply` would write it again, but: {error}")),
    }
    let index = found.add(gone, &[]);
    explain_ours(seen, found, index);
    found.explain(index, Code::NotFirst, None);
}

/// The systems that have no way, and have one once this is written.
fn brought_back(seen: &Seen<'_>, writes: &[Change]) -> Vec<String> {
    // A machine that is as it was applied is not followed twice for nothing.
    if writes.is_empty() {
        return Vec::new();
    }
    let look = seen.look;
    let files: Vec<FileWrite> = writes.iter().filter_map(Change::file).cloned().collect();
    let variables: Vec<Write> = writes.iter().filter_map(Change::variable).cloned().collect();
    let after = look.contents().and_then(|contents| state_after(look, contents, &variables));
    let Ok(after) = after else { return Vec::new() };
    ids(&ways::lost_by(look, after.state(&files), State::of(look)))
}

/// The menu stands without its picture, which hold can write again or not.
pub(super) fn picture_lost(held: &Held, plan: &HoldPlan, found: &mut Found) {
    let can_be_written =
        plan.writes.iter().filter_map(Change::file).any(|write| is_picture_path(&write.path));
    if !can_be_written && !plan.lacks_picture {
        return;
    }
    let place = held.picture_place();
    let message = format!("the picture behind the menu is gone or damaged: {place}");
    let mut gone = cause(Code::PictureGone, Effect::Untidy, None, message);
    if can_be_written {
        gone.cures.push(hold_cure("write the picture again"));
    } else {
        gone.by_hand = Some("`signpost apply` writes the one that the menu file names".into());
    }
    found.add(gone, &[]);
}

/// What hold would correct, by cause.
fn differences(seen: &Seen<'_>, held: &Held, found: &mut Found) {
    if has_lost_its_program(seen.look, seen.case.history, held, seen.case.material()) {
        program_lost(seen, held, found);
        return;
    }
    let Ok(plan) = hold(seen.look, seen.case.history, Some(held), seen.case.material(), Action::Mend) else {
        behind_table::find(seen, held, found);
        return;
    };
    let (files, others): (Vec<&FileWrite>, Vec<&FileWrite>) =
        plan.writes.iter().filter_map(Change::file).partition(|write| !homes::is_beside(seen, write));
    let beside = others.first().and_then(|write| crate::home::volume_of(seen.look, write));
    if let Some(volume) = beside.map(VolumeNumber::of_index) {
        let lacks = others.iter().map(|write| write.what.clone()).collect();
        homes::out_of_step((seen.look.survey.name(volume).into(), Subject::Volume(volume)), lacks, found);
    }
    let variables: Vec<&Write> = plan.writes.iter().filter_map(Change::variable).collect();
    let is_slot = |write: &&&FileWrite| SLOT_NAMES.iter().any(|name| write.path.ends_with(name));
    let starts_other = seen.effect(&[], true, Effect::StartsOther);
    let back = brought_back(seen, &plan.writes);
    if files.iter().any(|write| is_picture_path(&write.path)) || plan.lacks_picture {
        picture_lost(held, &plan, found);
    }
    if let Some(write) = files.iter().find(|write| !is_slot(write) && !is_picture_path(&write.path)) {
        let state = if write.before.is_some() { "is damaged" } else { "is gone" };
        let message = format!("the boot program {state}: {}{}", write.volume, write.path);
        let mut gone = cause(Code::BootProgramGone, starts_other, subject_of(seen.look, write), message);
        gone.cures.push(hold_cure("write it again"));
        gone.systems.clone_from(&back);
        let index = found.add(gone, &[]);
        explain_ours(seen, found, index);
    }
    // Where what was applied stands whole in one of the copies, the other is told of with them.
    let is_active = home::newest_text(seen.look).is_some_and(|text| text == held.menu());
    if let Some(write) = files.iter().find(is_slot).filter(|_| !is_active) {
        let message =
            format!("the menu on the home volume is damaged or gone: {}{}", write.volume, write.path);
        let mut damaged = cause(Code::MenuDamaged, starts_other, subject_of(seen.look, write), message);
        damaged.cures.push(hold_cure("write the menu that was applied again"));
        damaged.systems.clone_from(&back);
        found.add(damaged, &[]);
    }
    let entries: Vec<&&Write> =
        variables.iter().filter(|write| write.variable_name().boot_option_number().is_some()).collect();
    if let Some(write) = entries.first() {
        let number = write.variable_name().boot_option_number().unwrap_or_default();
        let state = match seen.boot().options.get(&number).map(|option| &option.decoded) {
            None => "the firmware has lost the menu's entry",
            Some(Ok(option)) if !option.is_active() => "the menu's entry is disabled in the firmware",
            Some(_) => "the menu's entry was altered in the firmware",
        };
        // The entry of the other home starts the menu just as well.
        let has_another = seen.menu.is_some() && held.homes().count() > 1;
        let effect = if has_another { Effect::WillBreak } else { starts_other };
        entry_lost(found, state, effect, &[format!("it was applied, and now {}", plan.found)]);
        if let Some(lost) = found.of(Code::EntryLost, None) {
            lost.systems = back;
        }
    } else if let Some(order) = variables.iter().find(|write| write.name == "BootOrder") {
        let first = order.after.as_ref().and_then(|bytes| bytes.first_chunk::<2>().copied());
        if first.map(u16::from_le_bytes) != seen.boot().order.first().copied() {
            other_first(seen, found, &plan.found);
        }
    }
}

fn entry_lost(found: &mut Found, state: &str, effect: Effect, evidence: &[String]) {
    let mut lost = cause(Code::EntryLost, effect, None, state.into());
    lost.evidence.extend_from_slice(evidence);
    lost.cures.push(hold_cure("make the entry again, first in the order"));
    let index = found.add(lost, &[]);
    found.explain(index, Code::NotFirst, None);
}

/// Another system put itself before the menu.
fn other_first(seen: &Seen<'_>, found: &mut Found, starts: &str) {
    let first =
        seen.boot().order.first().and_then(|first| {
            seen.look.survey.firmware.entries.iter().find(|entry| entry.number() == *first)
        });
    let who = first.map_or_else(String::new, |entry| format!(": entry {} \"{}\"", entry.number, entry.label));
    let message = format!("the menu is not first in the boot order any more{who} comes before it");
    let effect = seen.effect(&[], true, Effect::StartsOther);
    let mut other = cause(Code::NotFirst, effect, first.map(|entry| Subject::Entry(entry.number)), message);
    other.evidence.push(format!("it was first when it was applied; now {starts}"));
    other.cures.push(hold_cure("put the menu first again"));
    let index = found.add(other, &[]);
    found.explain(index, Code::NotFirst, None);
}

/// The firmware's entries that lead to our files in vain belong to what became of the files.
fn explain_ours(seen: &Seen<'_>, found: &mut Found, index: usize) {
    let owned = seen.case.history.owned();
    for number in owned.keys() {
        let subject = Subject::Entry(signpost_facts::OptionNumber(*number));
        for code in [Code::EntryFileGone, Code::EntryUnfit] {
            found.explain(index, code, Some(subject.clone()));
        }
    }
}

fn subject_of(look: &Look, write: &FileWrite) -> Option<Subject> {
    crate::home::volume_of(look, write).map(|volume| Subject::Volume(VolumeNumber::of_index(volume)))
}

/// A menu of ours stands on a volume, with its boot program, and no entry leads there.
fn entry_of_a_menu(seen: &Seen<'_>, found: &mut Found) {
    let look = seen.look;
    if look.home.is_some() || seen.menu.is_some() {
        return;
    }
    for volume in look.fat_volumes() {
        let number = VolumeNumber::of_index(volume);
        let program = look.survey.boot_files.iter().find(|file| file.volume == number && file.is_ours());
        let (Some(program), Some(_)) = (program, home::newest_slot(look, volume)) else { continue };
        if !look.survey.takes_part(number) {
            continue;
        }
        let effect = seen.effect(&[], true, Effect::StartsOther);
        let message = format!("our menu is on {}, and no firmware entry starts it", look.survey.name(number));
        let mut lost = cause(Code::EntryLost, effect, Some(Subject::Volume(number)), message);
        lost.cures.push(Cure {
            name: "make-entry",
            what: format!("make an entry for {}, first in the order", look.survey.at(number, &program.path)),
            acts: vec![Act::Make {
                label: "Signpost".into(),
                volume: number,
                path: program.path.clone(),
                is_first: true,
            }],
        });
        lost.by_hand = Some("`signpost apply` on the system whose menu it is makes the entry too".into());
        let index = found.add(lost, &[]);
        found.explain(index, Code::NotFirst, None);
        return;
    }
}

/// Slots of the active menu that hold what nobody wrote; that one of the two is whole is what two are there for.
fn slots(seen: &Seen<'_>, found: &mut Found) {
    let Some(home) = seen.look.home else { return };
    let subject = Some(Subject::Volume(VolumeNumber::of_index(home)));
    if found.of(Code::MenuDamaged, subject.as_ref()).is_some() {
        return;
    }
    let slots = home::slots(seen.look, home);
    let is_spoiled = |slot: &Result<_, SlotFault>| slot.as_ref().is_err_and(SlotFault::is_damage);
    let faults: Vec<String> = SLOT_NAMES
        .iter()
        .zip(&slots)
        .filter(|(_, slot)| is_spoiled(slot))
        .filter_map(|(name, slot)| Some(format!("{name}: {}", slot.as_ref().err()?)))
        .collect();
    if faults.is_empty() {
        return;
    }
    let is_all = slots.iter().all(Result::is_err);
    let effect = if is_all { seen.effect(&[], true, Effect::StartsOther) } else { Effect::WillBreak };
    let what = if is_all {
        "the active menu is damaged"
    } else {
        "one of the two copies of the active menu is damaged"
    };
    let mut damaged = cause(Code::MenuDamaged, effect, subject, what.into());
    damaged.evidence = faults;
    if matches!(seen.case.menu, Some(Ok(_))) {
        damaged.cures.push(Cure {
            name: "apply-anew",
            what: "apply the menu file again".into(),
            acts: vec![Act::Redraft],
        });
    } else {
        damaged.by_hand = Some("`signpost draft` and `signpost apply` make the menu again".into());
    }
    found.add(damaged, &[]);
}

/// The next start goes elsewhere, and nobody said so by us.
fn next_boot(seen: &Seen<'_>, found: &mut Found) {
    let Some(next) = seen.boot().next else { return };
    let asked = |action: Action| matches!(action, Action::Once | Action::Firmware);
    let records = seen.case.history.records().iter().rev();
    let last = records.flat_map(|record| record.writes.iter().map(move |write| (record.action, write)));
    let last = last.filter_map(|(action, write)| Some((action, write.variable()?)));
    let is_ours = last
        .filter(|(_, write)| write.name == "BootNext")
        .map(|(action, write)| asked(action) && write.after.as_deref() == Some(&next.to_le_bytes()))
        .next();
    let number = signpost_facts::OptionNumber(next);
    let message = format!("the next start goes to entry {number}, once, whatever the order says");
    let effect = if is_ours == Some(true) { Effect::Untidy } else { Effect::StartsOther };
    let mut set = cause(Code::NextBootSet, effect, Some(Subject::Entry(number)), message);
    if is_ours == Some(true) {
        set.evidence.push("it was asked for with signpost; the firmware forgets it then".into());
    } else {
        set.evidence.push("nothing that was done with signpost asked for it".into());
    }
    set.cures.push(Cure {
        name: "clear-next",
        what: "clear it; then the order counts".into(),
        acts: vec![Act::ClearNext],
    });
    let index = found.add(set, &[]);
    found.explain(index, Code::NextBootSet, None);
}

/// What was saved at boot and is not in the menu file: it starts as it is, and an apply without it is refused.
pub(super) fn saved_at_boot(seen: &Seen<'_>, found: &mut Found) {
    let Some(Ok(menu)) = &seen.case.menu else { return };
    let Some(refusal) = crate::news::News::of(seen.look, &menu.document).refusal() else { return };
    let mut saved = cause(Code::ChangedAtBoot, Effect::Untidy, None, refusal.message);
    saved.cures.push(Cure {
        name: "take-saved",
        what: "add it to the menu file, and apply that".into(),
        acts: vec![Act::TakeSaved],
    });
    found.add(saved, &[]);
}

/// The home volume has no room for the next boot program, which is written before the one from before goes.
fn room(seen: &Seen<'_>, found: &mut Found) {
    let (Some(home), Some(program)) = (seen.look.home, &seen.case.program) else { return };
    let Ok(room) = seen.look.room(home) else { return };
    let needed = (program.bytes().len() as u64).next_multiple_of(room.cluster.max(1));
    if room.free >= needed {
        return;
    }
    let number = VolumeNumber::of_index(home);
    let message = format!(
        "the home volume {} has {} bytes free, and the next boot program takes {needed}: an update of it cannot be applied",
        seen.look.survey.name(number),
        room.free
    );
    let mut full = cause(Code::EspFull, Effect::WillBreak, Some(Subject::Volume(number)), message);
    full.by_hand = Some(format!(
        "make room: `signpost survey {}` shows what is there; files of systems that are no longer installed can go",
        seen.look.survey.name(number)
    ));
    found.add(full, &[]);
}

/// The active boot program is of another version than the installed one.
fn old_program(seen: &Seen<'_>, found: &mut Found) {
    let (Some(held), Some(installed)) = (seen.case.held.and_then(Held::boot_program), &seen.case.program)
    else {
        return;
    };
    let own = installed.path();
    if own.eq_ignore_ascii_case(held) || found.causes.iter().any(|cause| cause.code == Code::BootProgramGone)
    {
        return;
    }
    let message = format!("the active boot program is {held}, and {own} is installed");
    let mut old = cause(Code::BootProgramOld, Effect::Untidy, None, message);
    old.by_hand = Some("`signpost apply` makes the installed one active".into());
    found.add(old, &[]);
}
