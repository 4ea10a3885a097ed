//! Rehearsing a start: the firmware's rules followed on the surveyed machine, without a reboot; and behind
//! them our menu's, where the firmware starts it.

mod menu;

use serde::Serialize;
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::start::{self, End, Reason, Start, Target};
use signpost_firmware::ucs2::Ucs2;

use crate::hardware::SurveyedHardware;
use crate::history::FileWrite;
use crate::survey::{Look, Role};
use crate::words;

/// A start, followed.
#[derive(Clone, Debug, Serialize)]
pub struct Rehearsal {
    /// Version of this document.
    pub schema: u32,
    /// Every step, in order.
    pub steps: Vec<Step>,
    /// How it ends.
    pub outcome: Outcome,
}

/// One step.
#[derive(Clone, Debug, Serialize)]
pub struct Step {
    /// The load option's number.
    pub entry: Option<String>,
    /// Its label.
    pub label: Option<String>,
    /// Why it is looked at.
    pub reason: String,
    /// What came of it, in one word.
    pub verdict: &'static str,
    /// What came of it.
    pub finding: String,
}

/// How a start ends.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Outcome {
    /// `starts`, `may-start`, `waits` (in our menu, for a key), `built-in` or `nothing`.
    pub kind: &'static str,
    /// The load option's number.
    pub entry: Option<String>,
    /// The id of the system that starts.
    pub system: Option<String>,
    /// All of it in one line.
    pub text: String,
    /// What is handed over, and what is odd about it.
    pub notes: Vec<String>,
}

impl Outcome {
    /// Whether a system or program of a disk starts, for all that can be told.
    pub fn is_start(&self) -> bool {
        matches!(self.kind, "starts" | "may-start" | "waits")
    }
}

/// What is different from the machine as it is.
#[derive(Clone, Copy, Debug, Default)]
pub struct WhatIf<'a> {
    /// Files that would be written.
    pub planned: &'a [FileWrite],
    /// The menu entry that somebody chooses, by its id.
    pub choose: Option<&'a str>,
}

/// Follows a start of this machine with these variables.
pub fn rehearse(look: &Look<'_>, boot: &BootVariables) -> Rehearsal {
    rehearse_with(look, boot, &WhatIf::default())
}

/// The same, on a machine that is different in something.
pub fn rehearse_with(look: &Look<'_>, boot: &BootVariables, what_if: &WhatIf<'_>) -> Rehearsal {
    let hardware = SurveyedHardware::new(look).with_planned(what_if.planned);
    let start = start::follow(boot, &hardware);
    let mut steps: Vec<Step> = start.steps.iter().map(|step| describe(look, step)).collect();
    let mut outcome = outcome(look, boot, &start);
    if let Some((option, target)) = menu::reached(look, &hardware, &start) {
        let followed = menu::follow(look, boot, &hardware, &target, what_if);
        steps.extend(followed.steps);
        outcome = Outcome { entry: option.map(crate::survey::hex), ..followed.outcome };
    } else if let Some(id) = what_if.choose {
        outcome.notes.push(format!(
            "our menu is not reached, so nobody can choose {id} there; `signpost apply` puts it in force"
        ));
    }
    Rehearsal { schema: crate::SCHEMA, steps, outcome }
}

fn describe(look: &Look<'_>, step: &start::Step) -> Step {
    let reason = match step.reason {
        Reason::NextBoot => "next boot".to_string(),
        Reason::Order(place) => format!("order, place {place}"),
        Reason::MadeForDisk(disk) => format!("spare path of disk {disk}"),
    };
    Step {
        entry: step.option.map(crate::survey::hex),
        label: step.label.clone(),
        reason,
        verdict: words::kind(&step.verdict),
        finding: words::verdict(look, &step.verdict),
    }
}

fn outcome(look: &Look<'_>, boot: &BootVariables, start: &Start) -> Outcome {
    // What may start comes first where it cannot be told to be refused.
    let sure = start.possible.is_empty();
    let end = start.possible.first().unwrap_or(&start.end);
    match end {
        End::Starts { option, targets } => {
            let names: Vec<String> = targets.iter().map(|target| starts(look, target)).collect();
            let mut notes = handed_over(look, boot, *option, targets);
            if targets.len() > 1 {
                notes.push("the volumes are clones: which of them starts cannot be told".into());
            }
            let kind = if sure { "starts" } else { "may-start" };
            let mut text = names.join(", or ");
            if !sure {
                let otherwise = match &start.end {
                    End::Nothing => "nothing starts".to_string(),
                    End::BuiltIn { .. } => "a program inside the firmware starts".to_string(),
                    End::Starts { targets, .. } => {
                        targets.first().map(|target| starts(look, target)).unwrap_or_default()
                    }
                };
                text = format!("{text}, if Secure Boot accepts it; if not, {otherwise}");
            }
            Outcome {
                kind,
                entry: option.map(crate::survey::hex),
                system: system(look, targets),
                text,
                notes,
            }
        }
        End::BuiltIn { option, .. } => Outcome {
            kind: "built-in",
            entry: Some(crate::survey::hex(*option)),
            system: None,
            text: "no system starts: a program inside the firmware takes over".into(),
            notes: Vec::new(),
        },
        End::Nothing => Outcome {
            kind: "nothing",
            entry: None,
            system: None,
            text: "nothing starts: the firmware opens its own screen".into(),
            notes: Vec::new(),
        },
    }
}

fn starts(look: &Look<'_>, target: &Target) -> String {
    let title = words::title(look, target).unwrap_or_else(|| "a program".into());
    format!("{title} starts, from {}", words::place(look, target))
}

fn system(look: &Look<'_>, targets: &[Target]) -> Option<String> {
    let target = targets.first()?;
    let index = look.survey.startup_file(target.partition, &words::volume_path(&target.path))?;
    look.survey.startup_files[index].system.clone()
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
fn handed_over(
    look: &Look<'_>,
    boot: &BootVariables,
    option: Option<u16>,
    targets: &[Target],
) -> Vec<String> {
    let data = option.and_then(|number| boot.options.get(&number)?.decoded.as_ref().ok());
    let (Some(data), Some(target)) = (data, targets.first()) else { return Vec::new() };
    let index = look.survey.startup_file(target.partition, &words::volume_path(&target.path));
    let is_kernel = index.is_some_and(|index| {
        matches!(look.survey.startup_files[index].role, Role::Kernel | Role::UnifiedImage)
    });
    let data = data.optional_data.as_slice();
    if data.is_empty() || !(is_kernel || is_text(data)) {
        return Vec::new();
    }
    let arguments = Ucs2::decode_lenient(data).to_string();
    vec![format!("arguments: {arguments}")]
}
