//! Rehearsing a start: the firmware's rules followed on the surveyed machine, without a reboot; and behind
//! them our menu's, where the firmware starts it.

mod bios;
pub(crate) mod menu;
mod outcome;

pub(crate) use bios::{entries_that_start, rehearse as rehearse_bios};
pub use bios::{first_in_words, first_words, rehearse_in_order};
pub use outcome::{Choice, Kind, Outcome, Rehearsal, State, Step, StepVerdict, Through};
use signpost_facts::{FirmwareKind, OptionNumber, Role};
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::start::{self, End, Names, Reason, Start, Target, Verdict, volume_path};
use signpost_firmware::ucs2::Ucs2;
use signpost_menu::MenuDocument;
use signpost_place::Look;
use signpost_place::boot_program::sha256;
use signpost_place::hardware::SurveyedHardware;
use signpost_place::started_from::StartedFrom;

use crate::resolve::ResolvedEntry;

/// Follows a start of this machine as it is.
pub fn rehearse(look: &Look) -> Rehearsal {
    rehearse_state(look, State::of(look), None)
}

/// Follows a start of this machine in a state, in which somebody chooses an entry of our menu, by its id.
pub fn rehearse_state(look: &Look, state: State<'_>, choose: Option<&str>) -> Rehearsal {
    if look.survey.machine.firmware == FirmwareKind::Bios {
        return rehearse_bios(look, state.sectors, choose);
    }
    let hardware = SurveyedHardware::new(look).with_planned(state.planned).with_tables(state.tables);
    let start = start::follow(state.boot, &hardware);
    let mut steps: Vec<Step> = start.steps.iter().map(|step| describe(look, step)).collect();
    let mut outcome = outcome((look, &hardware), state.boot, &start);
    let unclear = start.steps.iter().find(|step| step.verdict == Verdict::UnknownDevice);
    let mut choice = None;
    if let Some((option, target)) = menu::reached(look, &hardware, &start) {
        let followed = menu::follow(look, state, &hardware, &target, choose);
        steps.extend(followed.steps);
        outcome = Outcome { entry: option.map(OptionNumber), ..followed.outcome };
        choice = followed.choice;
    } else if let Some(id) = choose {
        outcome.notes.push(format!(
            "our menu is not reached, so nobody can choose {id} there; `signpost apply` makes it active"
        ));
        choice = Some(Choice::NotReached);
    }
    if let Some(step) = unclear {
        outcome = left_open(step, outcome);
    }
    Rehearsal { steps, outcome, choice }
}

/// The menu that the firmware comes to by some entry of the order, or by itself, and its volume.
pub(crate) fn active_menu(
    look: &Look,
    boot: &BootVariables,
    hardware: &SurveyedHardware<'_>,
) -> Option<(usize, MenuDocument)> {
    let options = boot
        .next
        .iter()
        .chain(&boot.order)
        .filter_map(|number| boot.options.get(number)?.decoded.as_ref().ok());
    let used = options.filter(|option| option.is_active());
    let by_option = used.filter_map(|option| start::locate(option, hardware).target().cloned());
    let by_itself = start::follow(boot, hardware).steps.into_iter().filter(|step| step.option.is_none());
    let by_itself = by_itself.filter_map(|step| step.verdict.target().cloned());
    let volume = by_option.chain(by_itself).find(|target| menu::is_ours(look, hardware, target))?.partition;
    let around = StartedFrom::volume(look, volume).in_forecast(boot, hardware);
    let document = menu::active(&around, (look, hardware), volume)?;
    Some((volume, document))
}

/// The menu of ours that is active, by what this firmware goes to.
pub(crate) fn active_document(look: &Look) -> Option<MenuDocument> {
    if look.survey.machine.firmware == FirmwareKind::Bios {
        return menu::in_slot(look, signpost_place::home::in_force(look), None);
    }
    active_menu(look, &look.boot, &SurveyedHardware::new(look)).map(|(_, document)| document)
}

/// Whether an entry of our menu starts something, once it is chosen.
pub(crate) fn entry_starts(
    look: &Look,
    boot: &BootVariables,
    hardware: &SurveyedHardware<'_>,
    entry: &ResolvedEntry<'_>,
) -> bool {
    menu::entry_start(look, boot, hardware, entry).outcome.is_start()
}

fn describe(look: &Look, step: &start::Step) -> Step {
    let reason = match step.reason {
        Reason::NextBoot => "next boot".to_string(),
        Reason::Order(place) => format!("boot order, {place}"),
        Reason::MadeForDisk(disk) => format!("fallback path of d{disk}"),
    };
    Step {
        entry: step.option.map(OptionNumber),
        label: step.label.clone(),
        reason,
        verdict: StepVerdict::Firmware(step.verdict.kind()),
        finding: step.verdict.words(look),
    }
}

fn outcome(on: On<'_>, boot: &BootVariables, start: &Start) -> Outcome {
    let (look, _) = on;
    // What may start comes first where it cannot be told to be refused.
    let sure = start.possible.is_empty();
    let end = start.possible.first().unwrap_or(&start.end);
    match end {
        End::Starts { option, targets } => {
            let names: Vec<String> = targets.iter().map(|target| starts(on, target)).collect();
            let mut notes = handed_over(look, boot, *option, targets);
            if targets.len() > 1 {
                notes.push("the volumes are clones: which of them starts cannot be told".into());
            }
            let kind = if sure { Kind::Starts } else { Kind::MayStart };
            let mut text = names.join(", or ");
            if !sure {
                let otherwise = match &start.end {
                    End::Nothing => "nothing".to_string(),
                    End::BuiltIn { .. } => "a program inside the firmware".to_string(),
                    End::Hangs { target, .. } => stands_still(look, target),
                    End::Starts { targets, .. } => {
                        targets.first().map(|target| starts(on, target)).unwrap_or_default()
                    }
                };
                text = format!("{text}, if Secure Boot accepts it; if not, {otherwise}");
            }
            Outcome {
                entry: option.map(OptionNumber),
                system: system(on, targets),
                notes,
                title: targets.first().map(|target| title(on, target)),
                file: targets.first().map(|target| (target.partition, volume_path(&target.path))),
                ..Outcome::new(kind, text)
            }
        }
        End::BuiltIn { option, .. } => {
            let text = "nothing: a program inside the firmware takes over".into();
            Outcome { entry: Some(OptionNumber(*option)), ..Outcome::new(Kind::BuiltIn, text) }
        }
        End::Hangs { option, target, why } => {
            let text = format!("{}: {why}", stands_still(look, target));
            Outcome { entry: option.map(OptionNumber), ..Outcome::new(Kind::Hangs, text) }
        }
        End::Nothing => Outcome::new(Kind::Nothing, "nothing: the firmware opens firmware setup".into()),
    }
}

/// What comes of a start where, before its end, an entry names a device that only this firmware can find.
fn left_open(step: &start::Step, end: Outcome) -> Outcome {
    let entry = step.option.map(OptionNumber).unwrap_or_default();
    let text = format!(
        "entry {entry} may start: it names a device that only this firmware can find; if not, {}",
        end.text
    );
    Outcome { kind: Kind::MayStart, entry: Some(entry), system: None, text, ..end }
}

fn stands_still(look: &Look, target: &Target) -> String {
    format!("nothing: the machine hangs in {}", target.place(look))
}

/// A machine, and what the firmware would see of it.
type On<'a> = (&'a Look, &'a SurveyedHardware<'a>);

fn starts(on: On<'_>, target: &Target) -> String {
    format!("{}, from {}", title(on, target), target.place(on.0))
}

fn title(on: On<'_>, target: &Target) -> String {
    on.0.title(&known_as(on, target)).unwrap_or_else(|| "a program".into())
}

fn system(on: On<'_>, targets: &[Target]) -> Option<String> {
    let target = known_as(on, targets.first()?);
    let index = on.0.survey.boot_file(target.partition, &volume_path(&target.path))?;
    on.0.survey.boot_files[index].system.clone()
}

/// What a file is known as: one that a plan would put there, as the one of which it is a copy.
fn known_as((look, hardware): On<'_>, target: &Target) -> Target {
    let Some(Some(bytes)) = hardware.planned(target.partition, &volume_path(&target.path)) else {
        return target.clone();
    };
    let mut alike = look.survey.boot_files.iter().filter(|file| file.size == bytes.len() as u64).peekable();
    // A boot program of half a megabyte is seldom a copy of anything.
    let digest = alike.peek().map(|_| sha256(bytes));
    let same = alike.find(|file| file.sha256 == digest);
    same.map_or_else(
        || target.clone(),
        |file| Target { partition: file.volume.index(), path: file.path.replace('/', "\\") },
    )
}

/// Whether data of an option is text for a program: all of it, up to the NUL at its end.
fn is_text(data: &[u8]) -> bool {
    let text = Ucs2::decode_terminated(data).filter(|(_, used)| *used == data.len());
    text.is_some_and(|(text, _)| {
        let text = text.to_string();
        !text.contains(|c: char| c.is_control() || c == char::REPLACEMENT_CHARACTER)
    })
}

/// A program gets its arguments from the option, a kernel its initrds among them.
fn handed_over(look: &Look, boot: &BootVariables, option: Option<u16>, targets: &[Target]) -> Vec<String> {
    let data = option.and_then(|number| boot.options.get(&number)?.decoded.as_ref().ok());
    let (Some(data), Some(target)) = (data, targets.first()) else { return Vec::new() };
    let index = look.survey.boot_file(target.partition, &volume_path(&target.path));
    let is_kernel = index
        .is_some_and(|index| matches!(look.survey.boot_files[index].role, Role::Kernel | Role::UnifiedImage));
    let data = data.optional_data.as_slice();
    if data.is_empty() || !(is_kernel || is_text(data)) {
        return Vec::new();
    }
    let arguments = Ucs2::decode_lenient(data).to_string();
    vec![format!("arguments: {arguments}")]
}
