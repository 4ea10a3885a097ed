//! Host "firmware" on a machine with BIOS firmware, which shows no menu: the default's partition is made the active one, and its
//! system starts. One at a time is all that can be had without a boot program.

use signpost_facts::{Code, Refusal, Result};
use signpost_firmware::bios::active;
use signpost_place::Look;

use super::guards;
use super::planned::{Action, EntryPlan, Plan, ToKeep};
use crate::bios::{Wanted, Which, activated, plan as plan_sector};
use crate::draft;
use crate::menu_file::MenuFile;
use crate::rehearse::{first_in_words, rehearse};
use crate::resolve::{ResolvedEntry, describe, opening, resolve};

pub(super) fn plan(look: &Look, menu: &MenuFile) -> Result<Plan> {
    let document = &menu.document;
    let resolved = resolve(look, document);
    let opening = opening(look, document, &resolved);
    let chosen = opening.chosen.and_then(|index| resolved.get(index));
    let mut notes = Vec::new();
    let mut refusals: Vec<Refusal> = guards::default_gone(&opening).into_iter().collect();
    let (mut writes, mut outcome) = (Vec::new(), rehearse(look).outcome);
    if let Some(default) = chosen {
        match activated(look, default) {
            Ok(which) => {
                let planned = plan_sector(look, &which, &Wanted::Active)?;
                (writes, outcome) = (planned.writes, planned.outcome);
                refusals.extend(planned.refusals);
                notes.extend(foreign_code(look, &which));
            }
            Err(why) => refusals.push(Refusal {
                code: Code::DefaultGone,
                message: format!("the default, {}, cannot be what starts: {why}", default.entry.id),
                way: "make another entry the default: `signpost tune default=ID`".into(),
            }),
        }
    }
    notes.push(
        "BIOS firmware shows no menu and waits for nothing: the default starts, the others once they are made the default".into(),
    );
    let entries = resolved.iter().map(|entry| of_entry(look, entry, chosen, writes.is_empty())).collect();
    Ok(Plan {
        entries,
        order_before: Vec::new(),
        order_after: Vec::new(),
        timeout_before: None,
        timeout_after: None,
        writes,
        home: None,
        second_home: None,
        left_out: draft::left_out(look, document, &resolved),
        notes,
        refusals,
        outcome,
        kept: ToKeep::default(),
    })
}

/// What becomes of an entry.
fn of_entry(
    look: &Look,
    entry: &ResolvedEntry<'_>,
    default: Option<&ResolvedEntry<'_>>,
    is_active: bool,
) -> EntryPlan {
    let id = entry.entry.id.clone();
    let is_default = default.is_some_and(|default| default.entry.id == id);
    let (action, detail) = match activated(look, entry) {
        Err(why) => (Action::LeaveOut, why),
        Ok(_) if !is_default => {
            (Action::LeaveOut, format!("starts once it is the default: `signpost tune default={id}`"))
        }
        Ok(_) if is_active => (Action::Keep, format!("{}, which is active", describe(look, entry))),
        Ok(_) => (Action::Change, format!("{}, made active", describe(look, entry))),
    };
    EntryPlan { id, title: entry.entry.title.clone(), number: None, action, detail }
}

/// That the code before the partition is not such as starts the active one, or the disk is not the first.
fn foreign_code(look: &Look, which: &Which) -> Option<String> {
    let (disk, _) = which.place(look)?;
    let first = look.survey.boot_sectors.first_of(disk)?;
    if first.code.leads_on() {
        let others = look.survey.boot_sectors.order.first().filter(|number| **number != disk);
        return others
            .map(|number| format!("the firmware starts d{number}, and not d{disk}: its order decides"));
    }
    let now = active(&first.bytes).count();
    Some(format!(
        "the first sector of d{disk} is {}, with {now} active: it may not go by the active partition; \
         `signpost sector standard d{disk}` writes plain code",
        first_in_words(first)
    ))
}
