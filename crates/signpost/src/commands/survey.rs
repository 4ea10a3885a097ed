use std::path::PathBuf;

use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use serde_json::Value;
use signpost_core::check::check;
use signpost_facts::OptionNumber;
use signpost_machine::Machine;
use signpost_place::Look;
use signpost_survey::Changes;
use signpost_upkeep::kept;

use super::check::Known;
use super::policy;
use crate::app::{App, Outcome};
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::render::{self, short::Short};

/// Show the machine: systems, disks, firmware entries, problems
///
/// Where a disk has many partitions, those that start nothing are folded into one line; --all shows each.
#[derive(Args, Default)]
pub struct SurveyArgs {
    /// What to show in detail: a disk (d2), a volume (d2p1, a label, a UUID), a system's id, a firmware entry's number
    #[arg(value_name = "WHAT", add = ArgValueCompleter::new(complete::surveyed))]
    what: Option<String>,
    /// Only the systems, what starts next, and the problems; `signpost` alone shows the same
    #[arg(long, conflicts_with_all = ["what", "all"])]
    short: bool,
    /// Show every partition and file, also of kinds that are folded
    #[arg(long)]
    all: bool,
    /// Keep no record of what was seen: the next survey compares with the one before
    #[arg(long)]
    no_record: bool,
    /// A folder of further catalogue rows (can be repeated)
    #[arg(long = "catalogue", value_name = "DIR")]
    catalogues: Vec<PathBuf>,
}

impl SurveyArgs {
    /// What is shown where no command is given.
    pub fn short() -> Self {
        Self { short: true, ..Self::default() }
    }
}

pub fn run(app: &App<'_>, args: &SurveyArgs) -> Outcome {
    let machine = app.machine()?;
    let mut look = app.look_with(&machine, &args.catalogues)?;
    if let Some(what) = &args.what {
        return detail(app, &look, what);
    }
    let record = machine.survey_record();
    if args.short {
        let known = Known::of(app, &machine, &mut look)?;
        let found = check(&known.case(&look, None));
        app.show(&Short::of(&look.survey, &found), || render::short::text(&look.survey, &found));
    } else {
        let changes = record.as_deref().and_then(|record| Changes::since(record, &look.survey));
        let shown = render::survey::Shown { survey: &look.survey, changes: changes.as_ref() };
        if app.is_json() {
            let document = judged(app, &machine, args, &shown)?;
            app.show(&document, String::new);
        } else {
            app.show(&shown, || render::survey::text(&look.survey, changes.as_ref(), args.all));
        }
    }
    if let Some(record) = record.filter(|_| !args.no_record) {
        // A machine that cannot be written to is surveyed anyway; then nothing is kept to compare with.
        if !args.short {
            let _ = Changes::keep(&record, &look.survey);
        }
        kept::keep_known(&machine, &look);
    }
    Ok(Exit::Done)
}

/// The survey as a document in which each finding has its severity, and the command that cures it: a check's words on it, for which
/// the machine is looked at as a check does.
fn judged(
    app: &App<'_>,
    machine: &Machine,
    args: &SurveyArgs,
    shown: &render::survey::Shown<'_>,
) -> Result<Value, Failure> {
    let mut look = app.look_with(machine, &args.catalogues)?;
    let known = Known::of(app, machine, &mut look)?;
    let judged = check(&known.case(&look, None)).judged(&shown.survey.findings);
    let failed = |error: serde_json::Error| Failure::Other(error.to_string());
    let mut document = serde_json::to_value(shown).map_err(failed)?;
    document["findings"] = serde_json::to_value(judged).map_err(failed)?;
    if let Some(policy) = policy::of_machine(app, machine, &look) {
        document["policy"] = serde_json::to_value(policy).map_err(failed)?;
    }
    Ok(document)
}

/// One thing in detail, whatever kind of name it goes by.
fn detail(app: &App<'_>, look: &Look, what: &str) -> Outcome {
    let survey = &look.survey;
    if let Some(system) = survey.system(what) {
        app.show(system, || render::detail::system(survey, system));
        return Ok(Exit::Done);
    }
    let number = u16::from_str_radix(what, 16).ok().filter(|_| what.len() == 4).map(OptionNumber);
    if let Some(entry) = survey.firmware.entries.iter().find(|entry| Some(entry.number) == number) {
        app.show(entry, || render::detail::entry(survey, entry));
        return Ok(Exit::Done);
    }
    let digits = what.strip_prefix("disk").or_else(|| what.strip_prefix('d'));
    let numbered = digits.and_then(|digits| survey.disk(digits.trim().parse().ok()?));
    let is_it = |disk: &&signpost_facts::Disk| disk.name == what || disk.serial.as_deref() == Some(what);
    if let Some(disk) = numbered.or_else(|| survey.disks.iter().find(is_it)) {
        app.show(disk, || render::detail::disk(survey, disk));
        return Ok(Exit::Done);
    }
    if digits.is_some_and(|digits| digits.chars().all(|c| c.is_ascii_digit())) {
        let all: Vec<String> = survey.disks.iter().map(|disk| format!("d{}", disk.number)).collect();
        return Err(Failure::Usage(format!("there is no disk {what}; there are {}", all.join(", "))));
    }
    let volume = look.typed_volume(what).map_err(|error| Failure::Usage(error.to_string()))?;
    let volume = &survey.volumes[volume];
    app.show(volume, || render::detail::volume(look, volume));
    Ok(Exit::Done)
}
