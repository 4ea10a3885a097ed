//! Behind the firmware: our menu, by the code that the boot program runs.

use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::start::{self, End, Hardware, Program, Start, Target};
use signpost_menu::document::Entry;
use signpost_menu::policy::{self, Shown, Situation};
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, Slot, newest};
use signpost_menu::{MenuDocument, include, parse_leniently};

use super::{Outcome, Step, WhatIf};
use crate::hardware::SurveyedHardware;
use crate::home;
use crate::resolve::{ResolvedEntry, StartTarget, describe, resolve};
use crate::survey::{Look, System};
use crate::words;

/// Where a start goes behind our boot program.
pub(super) struct Followed {
    pub(super) steps: Vec<Step>,
    pub(super) outcome: Outcome,
}

/// The option and the file, where the firmware starts our boot program.
pub(super) fn reached(
    look: &Look<'_>,
    hardware: &SurveyedHardware<'_>,
    start: &Start,
) -> Option<(Option<u16>, Target)> {
    let End::Starts { option, targets } = start.possible.first().unwrap_or(&start.end) else { return None };
    let target = targets.first()?;
    let path = words::volume_path(&target.path);
    let sha256 = match hardware.planned(target.partition, &path) {
        Some(bytes) => Some(home::sha256(bytes)),
        None => {
            let file = look.survey.startup_file(target.partition, &path)?;
            look.survey.startup_files[file].sha256.clone()
        }
    };
    let is_ours = home::is_boot_program(&path, sha256.as_deref()) || home::is_copy(look, sha256.as_deref());
    is_ours.then(|| (*option, target.clone()))
}

/// Follows the menu that is in force on the volume that the boot program came from.
pub(super) fn follow(
    look: &Look<'_>,
    boot: &BootVariables,
    hardware: &SurveyedHardware<'_>,
    target: &Target,
    what_if: &WhatIf<'_>,
) -> Followed {
    let Some(document) = in_force(look, hardware, target.partition) else {
        return waits("there is no menu in force: the boot program offers the programs it finds".into());
    };
    let resolved = resolve(look, &document);
    let faults: Vec<Option<String>> = resolved.iter().map(|entry| entry.target.clone().err()).collect();
    let ours = &look.ours;
    let opening = policy::open(&Situation {
        document: &document,
        faults: &faults,
        once: ours.once.as_deref(),
        kept: ours.kept.as_deref(),
        last_started: ours.last.as_deref(),
        failed: None,
    });
    let chosen = match what_if.choose {
        Some(id) => document.entries.iter().position(|entry| entry.id == id),
        None if opening.shown == Shown::Waiting => None,
        None => opening.chosen,
    };
    let Some(entry) = chosen.and_then(|index| resolved.get(index)) else {
        let why = match (what_if.choose, opening.reason) {
            (Some(id), _) => format!("the menu has no entry {id}"),
            (None, Some(reason)) => reason,
            (None, None) => "nothing starts by itself".into(),
        };
        return waits(format!("the menu waits for a key: {why}"));
    };
    let why = match (what_if.choose, &ours.once) {
        (Some(_), _) => "menu, chosen",
        (None, Some(once)) if *once == entry.entry.id => "menu, once",
        (None, _) => "menu, default",
    };
    let mut followed = entry_start(look, boot, hardware, entry);
    let step = Step {
        entry: None,
        label: Some(entry.entry.title.clone()),
        reason: why.into(),
        verdict: followed.outcome.kind,
        finding: std::iter::once(describe(look, entry))
            .chain(entry.notes.clone())
            .collect::<Vec<_>>()
            .join("; "),
    };
    followed.steps.insert(0, step);
    followed
}

fn in_force(look: &Look<'_>, hardware: &SurveyedHardware<'_>, volume: usize) -> Option<MenuDocument> {
    let mut slots = home::slots(look, volume);
    for (slot, name) in slots.iter_mut().zip(SLOT_NAMES) {
        if let Some(bytes) = hardware.planned(volume, &format!("{HOME_FOLDER}/{name}")) {
            *slot = Slot::decode(bytes);
        }
    }
    let text = newest(&slots).map(|(_, slot)| slot.text.clone())?;
    let mut document = parse_leniently(&text).0?;
    include::complete(look, &mut document);
    Some(document)
}

fn waits(text: String) -> Followed {
    Followed {
        steps: Vec::new(),
        outcome: Outcome { kind: "waits", entry: None, system: None, text, notes: Vec::new() },
    }
}

/// What becomes of an entry that is started.
fn entry_start(
    look: &Look<'_>,
    boot: &BootVariables,
    hardware: &SurveyedHardware<'_>,
    resolved: &ResolvedEntry<'_>,
) -> Followed {
    let entry = resolved.entry;
    match &resolved.target {
        Err(why) => waits(format!("the menu waits for a key: {} cannot start: {why}", entry.title)),
        Ok(StartTarget::Program { volume, path, args }) => {
            let notes = if args.is_empty() { Vec::new() } else { vec![format!("arguments: {args}")] };
            file_start(look, hardware, entry, (*volume, path), notes)
        }
        Ok(StartTarget::Linux { volume, kernel, initrds, args, .. }) => {
            file_start(look, hardware, entry, (*volume, kernel), handed_over(initrds, args))
        }
        Ok(StartTarget::Image { volume, image, kernel, initrds, args }) => {
            let at = format!("{}, {kernel} in {image}", look.survey.volumes[*volume].where_it_is());
            let mut followed = judged(entry, at, hardware.kernel_inside(*volume, image, kernel));
            let is_it = |system: &&System| {
                system.image.as_ref().is_some_and(|own| own.volume == volume + 1 && own.path == *image)
            };
            followed.outcome.system = look.survey.systems.iter().find(is_it).map(|system| system.id.clone());
            followed.outcome.notes = handed_over(initrds, args);
            followed
        }
        Ok(StartTarget::FirmwareEntry { number, .. }) => by_firmware(look, boot, hardware, entry, *number),
        Ok(StartTarget::BuiltIn | StartTarget::Group) => waits(format!("{} starts no system", entry.title)),
    }
}

fn file_start(
    look: &Look<'_>,
    hardware: &SurveyedHardware<'_>,
    entry: &Entry,
    (volume, path): (usize, &str),
    notes: Vec<String>,
) -> Followed {
    let at = format!("{}, {path}", look.survey.volumes[volume].where_it_is());
    let mut followed = judged(entry, at, hardware.program(volume, &path.replace('/', "\\"), &[]));
    if followed.outcome.kind != "waits" {
        followed.outcome.system = system_of(look, volume, path);
        followed.outcome.notes = notes;
    }
    followed
}

/// What is handed to a kernel, a line each.
fn handed_over(initrds: &[String], args: &str) -> Vec<String> {
    let mut notes: Vec<String> = initrds.iter().map(|initrd| format!("initrd: {initrd}")).collect();
    notes.push(format!("arguments: {args}"));
    notes
}

/// What becomes of an entry whose program is as told.
fn judged(entry: &Entry, at: String, program: Program) -> Followed {
    let title = &entry.title;
    let (kind, text) = match program {
        Program::Starts => ("starts", format!("{title} starts, from {at}")),
        Program::CannotTell(why) => ("may-start", format!("{title} may start, from {at}: {why}")),
        Program::Missing => return waits(format!("the menu is back: {title}: {at} is not there")),
        Program::Unfit(why) => return waits(format!("the menu is back: {title}: {at}: {why}")),
    };
    let outcome = Outcome { kind, entry: None, system: None, text, notes: Vec::new() };
    Followed { steps: Vec::new(), outcome }
}

/// The system that a program or kernel belongs to.
fn system_of(look: &Look<'_>, volume: usize, path: &str) -> Option<String> {
    let known = look.survey.startup_file(volume, path);
    let by_file = known.and_then(|index| look.survey.startup_files[index].system.clone());
    let has_kernel =
        |system: &&System| system.kernels.iter().any(|k| k.volume == volume + 1 && k.path == path);
    by_file.or_else(|| look.survey.systems.iter().find(has_kernel).map(|system| system.id.clone()))
}

/// Next boot and restart: the firmware decides again, with this option first.
fn by_firmware(
    look: &Look<'_>,
    boot: &BootVariables,
    hardware: &SurveyedHardware<'_>,
    entry: &Entry,
    number: u16,
) -> Followed {
    let again = BootVariables { next: Some(number), ..boot.clone() };
    let start = start::follow(&again, hardware);
    let steps = start.steps.iter().map(|step| super::describe(look, step)).collect();
    if reached(look, hardware, &start).is_some() {
        return Followed { steps, ..waits(format!("the menu is back: {} leads to it again", entry.title)) };
    }
    Followed { steps, outcome: super::outcome(look, &again, &start) }
}
