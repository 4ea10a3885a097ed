//! Behind the firmware: our menu, by the code that the boot program runs.

use signpost_facts::System;
use signpost_facts::ours::OurVariables;
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::start::{self, End, Hardware, Program, Start, Target, volume_path};
use signpost_menu::document::Entry;
use signpost_menu::policy::{self, ChosenBy, Situation};
use signpost_menu::resolve::Surroundings;
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, Slot};
use signpost_menu::{MenuDocument, include, parse_leniently};
use signpost_place::Look;
use signpost_place::boot_program;
use signpost_place::hardware::SurveyedHardware;
use signpost_place::home;
use signpost_place::homes::InForce;
use signpost_place::started_from::StartedFrom;

use super::outcome::{Choice, Kind, Outcome, State, Step, StepVerdict};
use crate::resolve::{ResolvedEntry, StartTarget, describe, faults, resolve};

/// Where a start goes behind our boot program.
pub(crate) struct Followed {
    pub(crate) steps: Vec<Step>,
    pub(crate) outcome: Outcome,
    pub(crate) choice: Option<Choice>,
}

/// Whether a file is our boot program, or would be once a plan is carried out.
pub(super) fn is_ours(look: &Look, hardware: &SurveyedHardware<'_>, target: &Target) -> bool {
    let path = volume_path(&target.path);
    match hardware.planned(target.partition, &path) {
        Some(Some(bytes)) => {
            boot_program::says_so(bytes)
                || boot_program::is_boot_program(&path, Some(&boot_program::sha256(bytes)))
        }
        Some(None) => false,
        None => {
            let file = look.survey.boot_file(target.partition, &path);
            file.is_some_and(|file| look.survey.boot_files[file].is_ours())
        }
    }
}

/// The option and the file, where the firmware starts our boot program.
pub(super) fn reached(
    look: &Look,
    hardware: &SurveyedHardware<'_>,
    start: &Start,
) -> Option<(Option<u16>, Target)> {
    let End::Starts { option, targets } = start.possible.first().unwrap_or(&start.end) else { return None };
    let target = targets.first()?;
    is_ours(look, hardware, target).then(|| (*option, target.clone()))
}

/// Follows the menu that is active on the volume that the boot program came from.
pub(super) fn follow(
    look: &Look,
    state: State<'_>,
    hardware: &SurveyedHardware<'_>,
    target: &Target,
    choose: Option<&str>,
) -> Followed {
    let around = StartedFrom::volume(look, target.partition).in_forecast(state.boot, hardware);
    let document = active(&around, (look, hardware), target.partition);
    let starter = |entry: &ResolvedEntry<'_>| entry_start(look, state.boot, hardware, entry);
    follow_menu(&around, (document, state.ours), choose, &starter)
}

/// Follows a menu, with what is remembered from start to start; what becomes of an entry, the firmware's kind decides.
pub(crate) fn follow_menu(
    around: &StartedFrom<'_>,
    (document, ours): (Option<MenuDocument>, &OurVariables),
    choose: Option<&str>,
    starter: &dyn Fn(&ResolvedEntry<'_>) -> Followed,
) -> Followed {
    let Some(document) = document else {
        let choice = choose.map(|_| Choice::NoEntry(Vec::new()));
        let waits = waits("the boot program, which has no menu and offers the programs it finds".into());
        return Followed { choice, ..waits };
    };
    let resolved = resolve(around, &document);
    let faults = faults(&resolved);
    let opening = policy::open(&Situation {
        document: &document,
        faults: &faults,
        once: ours.once.as_deref(),
        kept: ours.kept.as_deref(),
        last_started: ours.last.as_deref(),
        unconfirmed: &ours.unconfirmed,
        failed: None,
    });
    if let Some(id) = choose {
        let Some(entry) = resolved.iter().find(|entry| entry.entry.id == id) else {
            let ids = document.entries.iter().map(|entry| entry.id.clone()).collect();
            let waits = waits(format!("the menu, which waits for a key: it has no entry {id}"));
            return Followed { choice: Some(Choice::NoEntry(ids)), ..waits };
        };
        return started(around, entry, starter(entry), "menu, chosen");
    }
    let why = match opening.by {
        ChosenBy::Once => "menu, once",
        ChosenBy::Kept => "menu, kept as the default",
        ChosenBy::LastStarted => "menu, started last",
        ChosenBy::Default => "menu, default",
        ChosenBy::Fallback => "menu, fallback",
    };
    let note = opening.note(&document);
    match (opening.starts(), opening.default(), note) {
        (Some(index), _, note) => {
            let mut followed = started(around, &resolved[index], starter(&resolved[index]), why);
            followed.outcome.notes.splice(0..0, note);
            followed
        }
        (None, Some(index), _) => {
            // Somebody asked for the menu, or for a timeout without an end: that what it would start can start, counts.
            let would = starter(&resolved[index]).outcome;
            let mut waits = waits(format!(
                "the menu, which waits for a key; Enter starts {}",
                resolved[index].entry.title
            ));
            if would.is_start() {
                waits.outcome.kind = Kind::WaitsAsAsked;
            }
            waits
        }
        (None, None, Some(note)) => waits(format!("the menu, which waits for a key: {note}")),
        (None, None, None) => waits("the menu, which waits for a key: nothing starts by itself".into()),
    }
}

/// What becomes of an entry, with a step for it.
fn started(
    around: &StartedFrom<'_>,
    entry: &ResolvedEntry<'_>,
    mut followed: Followed,
    why: &str,
) -> Followed {
    let step = Step {
        entry: None,
        label: Some(entry.entry.title.clone()),
        reason: why.into(),
        verdict: StepVerdict::End(followed.outcome.kind),
        finding: std::iter::once(describe(around, entry))
            .chain(entry.notes.clone())
            .collect::<Vec<_>>()
            .join("; "),
    };
    followed.steps.insert(0, step);
    followed
}

/// The menu that counts for who starts from a volume.
pub(super) fn active(
    around: &StartedFrom<'_>,
    (look, hardware): (&Look, &SurveyedHardware<'_>),
    volume: usize,
) -> Option<MenuDocument> {
    let slots = |volume| {
        let mut slots = home::slots(look, volume);
        for (slot, name) in slots.iter_mut().zip(SLOT_NAMES) {
            if let Some(bytes) = hardware.planned(volume, &format!("{HOME_FOLDER}/{name}")) {
                *slot = Slot::decode(bytes.unwrap_or_default());
            }
        }
        slots
    };
    in_slot(around, home::in_force_on(look, volume, slots), Some(volume))
}

/// The menu that counts, with what is found beside it.
pub(crate) fn in_slot(
    around: &impl Surroundings,
    found: Option<InForce>,
    home: Option<usize>,
) -> Option<MenuDocument> {
    let mut document = parse_leniently(&found?.slot.text).0?;
    include::complete(around, home, &mut document);
    Some(document)
}

pub(crate) fn waits(text: String) -> Followed {
    Followed { steps: Vec::new(), outcome: Outcome::new(Kind::Waits, text), choice: None }
}

/// What becomes of an entry that is started.
pub(super) fn entry_start(
    look: &Look,
    boot: &BootVariables,
    hardware: &SurveyedHardware<'_>,
    resolved: &ResolvedEntry<'_>,
) -> Followed {
    let entry = resolved.entry;
    match &resolved.target {
        Err(why) => waits(format!("the menu, which waits for a key: {} cannot start: {why}", entry.title)),
        Ok(StartTarget::Program { volume, path, args }) => {
            let notes = if args.is_empty() { Vec::new() } else { vec![format!("arguments: {args}")] };
            file_start(look, hardware, entry, (*volume, path), notes)
        }
        Ok(StartTarget::Linux { volume, kernel, initrds, args, .. }) => {
            file_start(look, hardware, entry, (*volume, kernel), handed_over(initrds, args))
        }
        Ok(StartTarget::Image { volume, image, kernel, initrds, args }) => {
            let at = format!("{kernel} in {}", look.at(*volume, image));
            let mut followed = judged(entry, at, hardware.kernel_inside(*volume, image, kernel));
            let is_it = |system: &&System| {
                system.image.as_ref().is_some_and(|own| own.volume.index() == *volume && own.path == *image)
            };
            followed.outcome.system = look.survey.systems.iter().find(is_it).map(|system| system.id.clone());
            followed.outcome.notes = handed_over(initrds, args);
            followed
        }
        Ok(StartTarget::FirmwareEntry { number, .. }) => by_firmware(look, boot, hardware, entry, *number),
        Ok(StartTarget::Sector { .. } | StartTarget::BuiltIn | StartTarget::Group) => {
            waits(format!("{} starts no system", entry.title))
        }
    }
}

fn file_start(
    look: &Look,
    hardware: &SurveyedHardware<'_>,
    entry: &Entry,
    (volume, path): (usize, &str),
    notes: Vec<String>,
) -> Followed {
    let at = look.at(volume, path);
    let target = Target { partition: volume, path: path.replace('/', "\\") };
    let mut followed = judged(entry, at, hardware.program(volume, &target.path, &[]));
    if followed.outcome.is_start() {
        let known = super::known_as((look, hardware), &target);
        followed.outcome.system = system_of(look, known.partition, &volume_path(&known.path));
        followed.outcome.notes = notes;
    }
    followed
}

/// What is handed to a kernel, a line each.
pub(crate) fn handed_over(initrds: &[String], args: &str) -> Vec<String> {
    let mut notes: Vec<String> = initrds.iter().map(|initrd| format!("initrd: {initrd}")).collect();
    notes.push(format!("arguments: {args}"));
    notes
}

/// What becomes of an entry whose program is as told.
pub(crate) fn judged(entry: &Entry, at: String, program: Program) -> Followed {
    let title = &entry.title;
    let (kind, text) = match program {
        Program::Starts => (Kind::Starts, format!("{title}, from {at}")),
        Program::CannotTell(why) => (Kind::MayStart, format!("perhaps {title}, from {at}: {why}")),
        Program::Missing => {
            return waits(format!("the menu again, since {title} cannot start: {at} is not there"));
        }
        // The boot program starts nothing that it would stand still in.
        Program::Unfit(why) | Program::Hangs(why) => {
            return waits(format!("the menu again, since {title} cannot start: {at}: {why}"));
        }
    };
    Followed { steps: Vec::new(), outcome: Outcome::new(kind, text), choice: None }
}

/// The system that a program or kernel belongs to.
pub(crate) fn system_of(look: &Look, volume: usize, path: &str) -> Option<String> {
    let known = look.survey.boot_file(volume, path);
    let by_file = known.and_then(|index| look.survey.boot_files[index].system.clone());
    let has_kernel =
        |system: &&System| system.kernels.iter().any(|k| k.volume.index() == volume && k.path == path);
    by_file.or_else(|| look.survey.systems.iter().find(has_kernel).map(|system| system.id.clone()))
}

/// Next boot and restart: the firmware decides again, with this option first.
fn by_firmware(
    look: &Look,
    boot: &BootVariables,
    hardware: &SurveyedHardware<'_>,
    entry: &Entry,
    number: u16,
) -> Followed {
    let again = BootVariables { next: Some(number), ..boot.clone() };
    let start = start::follow(&again, hardware);
    let steps = start.steps.iter().map(|step| super::describe(look, step)).collect();
    if reached(look, hardware, &start).is_some() {
        return Followed { steps, ..waits(format!("the menu again: {} leads to it", entry.title)) };
    }
    Followed { steps, outcome: super::outcome((look, hardware), &again, &start), choice: None }
}
