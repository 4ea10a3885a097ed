//! What hold writes of a plan, and what it leaves.

use signpost_facts::change::{Change, SectorWrite, Write};
use signpost_facts::{Code, Refusal, Result};
use signpost_firmware::bios::SECTOR;
use signpost_firmware::boot_variables::boot_order;
use signpost_menu::place::VolumeRef;
use signpost_menu::slot::{SLOT_NAMES, Writer};
use signpost_place::Look;

use super::order::decided_order;
use super::{Held, HoldPlan};
use crate::history::History;
use crate::plan::{Plan, guards, safe, state_after, words};
use crate::rehearse::{Outcome, rehearse_bios, rehearse_state};

/// What is left to the person whose menu it is.
const CHANGED_AT_BOOT: &str =
    "the menu was changed at boot: `signpost draft --take-saved` adds that to the menu file";

/// What is held of load options and files: what is missing of it, but for a menu that was changed at boot; and the order.
///
/// # Errors
/// Where the variables cannot be read.
pub(super) fn in_variables(
    look: &Look,
    (history, held): (&History, &Held),
    plan: Plan,
    (now, mut left): (Outcome, Vec<String>),
    lacks_picture: bool,
) -> Result<HoldPlan> {
    let (mut variables, mut files) = (Vec::new(), Vec::new());
    for change in plan.writes {
        match change {
            Change::Variable(write) if is_held(&write) => variables.push(write),
            Change::Variable(_) | Change::Sectors(_) => {}
            // What is left over from before goes at an apply.
            Change::File(write) if write.after.is_none() => {}
            Change::File(write) => files.push(write),
        }
    }
    if was_changed_at_boot(look, held) {
        let is_slot = |path: &str| SLOT_NAMES.iter().any(|name| path.ends_with(name));
        files.retain(|write| !is_slot(&write.path));
        left.push(CHANGED_AT_BOOT.into());
    }
    let contents = look.contents()?;
    let order = decided_order(look, held, history, &variables);
    if order != look.boot.order {
        let what = format!("boot order {}", words(&order));
        variables.push(Write::to(contents, boot_order(&order), what, None));
    }
    let after = state_after(look, contents, &variables)?;
    let outcome = rehearse_state(look, after.state(&files), None).outcome;
    // Where nothing starts as it is, what hold corrects is not the worse for that.
    let mut refusals: Vec<Refusal> = Vec::new();
    if guards::nothing_starts(&now).is_none() {
        refusals.extend(guards::nothing_starts(&outcome));
    }
    refusals.extend(plan.refusals.into_iter().filter(|refusal| refusal.code == Code::NoRoom));
    let mut writes: Vec<Change> = files.into_iter().map(Change::File).collect();
    writes.extend(variables.into_iter().map(Change::Variable));
    refusals.extend(safe::refusals(look, &writes));
    Ok(HoldPlan { writes, left, lacks_picture, refusals, found: now.text, outcome })
}

/// What is held among the sectors of a disk: code, copies and slots, but for a menu that was changed at boot. Which partition is active
/// is everybody's to change.
pub(super) fn in_sectors(
    look: &Look,
    plan: Plan,
    (now, mut left): (Outcome, Vec<String>),
    lacks_picture: bool,
) -> HoldPlan {
    let newest = signpost_place::home::newest_at_home(look);
    let is_news = newest.is_some_and(|slot| slot.writer == Writer::Boot);
    let ours = look.survey.boot_sectors.home().and_then(|first| first.ours.as_ref());
    let is_slot = |write: &SectorWrite| {
        ours.is_some_and(|ours| {
            [0, 1].into_iter().any(|index| u64::from(ours.area.slot(index)) * SECTOR as u64 == write.offset)
        })
    };
    let is_held = |write: &SectorWrite| plan.home.is_some() && !(is_news && is_slot(write));
    if is_news {
        left.push(CHANGED_AT_BOOT.into());
    }
    let writes: Vec<SectorWrite> =
        plan.writes.iter().filter_map(Change::sectors).filter(|write| is_held(write)).cloned().collect();
    let outcome = rehearse_bios(look, &writes, None).outcome;
    let mut refusals: Vec<Refusal> = Vec::new();
    if guards::no_system_starts(&now).is_none() {
        refusals.extend(guards::no_system_starts(&outcome));
    }
    refusals.extend(plan.refusals.into_iter().filter(|refusal| refusal.code == Code::GapInUse));
    let picture =
        plan.writes.into_iter().filter(|change| change.file().is_some_and(|file| file.after.is_some()));
    let writes = picture.chain(writes.into_iter().map(Change::Sectors)).collect();
    HoldPlan { writes, left, lacks_picture, refusals, found: now.text, outcome }
}

/// Entries of ours that are not there or not as they were; the order has a rule of its own, and firmware writes the
/// time-out anew at every start.
fn is_held(write: &Write) -> bool {
    write.after.is_some() && write.variable_name().boot_option_number().is_some()
}

/// Whether the newest slot was written at boot.
fn was_changed_at_boot(look: &Look, held: &Held) -> bool {
    let volumes = held.homes().filter_map(|home| look.resolve(&VolumeRef::parse(home).ok()?).ok());
    let slots = volumes.filter_map(|volume| signpost_place::home::newest_slot(look, volume));
    slots.max_by_key(|(_, slot)| slot.serial).is_some_and(|(_, slot)| slot.writer == Writer::Boot)
}
