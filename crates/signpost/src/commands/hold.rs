mod units;

use std::io::IsTerminal;
use std::path::PathBuf;

use clap::Args;
use signpost_core::history::Action;
use signpost_core::hold::{MAX_SAME, Material, hold};
use signpost_core::plan::pass;
use signpost_facts::Refusal;
use signpost_place::boot_program::BootProgram;
use signpost_upkeep::{kept, now};

use super::picture;
use super::shared::{Despite, found_beside_us};
use crate::app::{App, How, Outcome};
use crate::failure::{Exit, Failure};
use crate::render;
use crate::render::out;

/// Keep what was applied: correct order, entries, boot program, menu
///
/// Another system's update often puts itself first, or removes what it does not know. Run at each start, by the units that
/// --units writes, this keeps what you applied. Nothing is written that is as it should be; a menu that was changed and not
/// applied, or changed at boot, is left alone.
#[derive(Args)]
pub struct HoldArgs {
    /// Show what would be corrected, and write nothing
    #[arg(long)]
    dry_run: bool,
    /// The same, and end with 1 where there is something to correct
    #[arg(long)]
    check: bool,
    /// Show what had to be corrected, and when
    #[arg(long, conflicts_with_all = ["dry_run", "check"])]
    log: bool,
    /// Have systemd run it at each start, after updates, and once a day: by units that are put into this folder, or, where the
    /// package brought them, by links to those
    #[arg(long, value_name = "DIR", conflicts_with_all = ["dry_run", "check", "log"])]
    units: Option<PathBuf>,
    #[command(flatten)]
    despite: Despite,
}

pub fn run(app: &App<'_>, args: &HoldArgs) -> Outcome {
    if let Some(folder) = &args.units {
        return units::put(app, folder);
    }
    let is_trial = args.dry_run || args.check;
    let (mut machine, _lock) = app.any_machine_to_change_unless(is_trial || args.log)?;
    let mut log = kept::log(&machine)?;
    if args.log {
        app.show(&log, || render::hold::log(&log));
        return Ok(Exit::Done);
    }
    let (mut records, plan) = app.plan(&machine, |look, history| {
        let held = kept::held(&machine, history)?;
        let program = found_beside_us(machine.firmware).map(BootProgram::new);
        let menu = app.menu_file(&machine);
        let copies = signpost_survey::copies(&machine, &look.survey);
        let picture: &dyn Fn(&str) -> _ = &|name| picture::encoded(&menu, name);
        let material = Material { program: program.as_ref(), copies: &copies, picture };
        Ok(hold(look, history, held.as_ref(), material, Action::Hold)?)
    })?;
    let what: Vec<String> = plan.writes.iter().map(|change| change.what().to_string()).collect();
    if is_trial {
        app.show(&plan, || render::hold::plan(&plan, log.is_in_vain(&what)));
        return Ok(if args.check && !plan.writes.is_empty() { Exit::Problems } else { Exit::Done });
    }
    if log.is_in_vain(&what) {
        return Err(Failure::Problem(format!(
            "the same was corrected {MAX_SAME} times in a row and did not last: {}; nothing more is written. This firmware, \
             or a system at each start, writes it again. What else helps: `signpost tune fallback-path=true` and `signpost apply`, so that the \
             fallback path leads to the menu too; the boot order in firmware setup; the other system's \
             setting that puts it first. `signpost apply` resets the count",
            what.join(", ")
        )));
    }
    let is_overridden = |refusal: &Refusal| args.despite.has(refusal);
    pass(&plan.refusals, is_overridden)?;
    // Noted before it is tried: a firmware that refuses is not written to at every start for ever.
    if log.note(now(), machine.boot_id(), &plan.found, what) {
        kept::keep_log(&machine, &log)?;
    }
    let how = How { is_trial: false, text: &String::new, question: None, is_overridden: &is_overridden };
    app.carry_through((&mut machine, &mut records), (Action::Hold, &plan), &how)?;
    if is_for_journal() {
        out::text(&render::hold::journal(&plan));
    } else {
        app.report(&plan, || render::hold::done(&plan));
    }
    Ok(Exit::Done)
}

/// Whether what we say goes to the journal (systemd.exec(5), `JOURNAL_STREAM`).
fn is_for_journal() -> bool {
    std::env::var_os("JOURNAL_STREAM").is_some() && !std::io::stdout().is_terminal()
}
