use std::path::PathBuf;

use clap::Args;
use signpost_place::Look;
use signpost_survey::Changes;
use signpost_upkeep::kept;

use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::render;

/// Show the machine: systems, disks, start-up files, firmware entries, what is odd
///
/// Partitions that only confuse who looks for systems are folded into one line a disk; --all shows each.
#[derive(Args)]
pub struct SurveyArgs {
    /// A disk or volume to show in detail, such as disk2 or v4
    what: Option<String>,
    /// Show every partition and file, also of kinds that are folded
    #[arg(long)]
    all: bool,
    /// A folder of further catalogue rows (can be repeated)
    #[arg(long = "catalogue", value_name = "DIR")]
    catalogues: Vec<PathBuf>,
}

pub fn run(app: &App<'_>, args: &SurveyArgs) -> Outcome {
    let machine = app.machine()?;
    let look = app.look_with(&machine, &args.catalogues)?;
    if let Some(what) = &args.what {
        return detail(app, &look, what);
    }
    let record = machine.survey_record();
    let changes = record.as_deref().and_then(|record| Changes::since(record, &look.survey));
    let shown = render::survey::Shown { survey: &look.survey, changes: changes.as_ref() };
    app.show(&shown, || render::survey::text(&look.survey, changes.as_ref(), args.all));
    if let Some(record) = record {
        // A machine that cannot be written to is surveyed all the same; then nothing is kept to compare with.
        let _ = Changes::keep(&record, &look.survey);
        kept::keep_known(&machine, &look);
    }
    Ok(Exit::Done)
}

fn detail(app: &App<'_>, look: &Look, what: &str) -> Outcome {
    let survey = &look.survey;
    let number = |prefix: &str| what.strip_prefix(prefix)?.trim().parse::<usize>().ok();
    if let Some(volume) = number("v").and_then(|number| survey.volumes.get(number.checked_sub(1)?)) {
        app.show(volume, || render::detail::volume(look, volume));
        return Ok(Exit::Done);
    }
    let named = survey.disks.iter().find(|disk| disk.name == what || disk.serial.as_deref() == Some(what));
    let numbered = || survey.disk(what.strip_prefix("disk")?.trim().parse().ok()?);
    let disk = numbered().or(named);
    if let Some(disk) = disk {
        app.show(disk, || render::detail::disk(survey, disk));
        return Ok(Exit::Done);
    }
    let disks: Vec<String> = survey.disks.iter().map(|disk| format!("disk{}", disk.number)).collect();
    let (disks, volumes) = (disks.join(", "), survey.volumes.len());
    Err(Failure::Usage(format!("there is no {what}; there are {disks}, and volumes v1 to v{volumes}")))
}
