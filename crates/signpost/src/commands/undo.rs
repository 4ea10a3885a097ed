use std::path::PathBuf;

use clap::Args;
use signpost_core::history::{Action, Progress};
use signpost_core::undo::undo;
use signpost_upkeep::menu_file;

use super::shared::Despite;
use crate::app::{App, How, OWN_MENU, Outcome};
use crate::failure::Exit;
use crate::render;

/// Undo the last step, or go back to before the step of a number
///
/// Only what was written since is undone, corrections by hold included: what the firmware or another system changed stays. A
/// step that was interrupted is undone as far as it came; an undo that was interrupted is finished.
#[derive(Args)]
pub struct UndoArgs {
    /// The number of a step, as `history` shows it: it and all that came after are undone
    #[arg(value_name = "NUMBER")]
    to: Option<u32>,
    /// Bring the menu file back as it was before the last command that changed it: the machine's own, or this one
    #[arg(
        long,
        value_name = "FILE",
        num_args = 0..=1,
        default_missing_value = OWN_MENU,
        conflicts_with_all = ["to", "despite", "dry_run"]
    )]
    menu: Option<PathBuf>,
    /// Show what would be written, and write nothing
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    despite: Despite,
}

pub fn run(app: &App<'_>, args: &UndoArgs) -> Outcome {
    let (mut machine, _lock) = app.any_machine_to_change_unless(args.dry_run)?;
    if args.menu.is_some() {
        let path = app.menu_file(&machine);
        menu_file::bring_back(&path)?;
        let done = format!(
            "{} is as it was before the last change; `signpost apply` makes it active",
            path.display()
        );
        app.report(&done, || format!("{done}.\n"));
        return Ok(Exit::Done);
    }
    let (mut records, undo) = app.plan(&machine, |look, history| Ok(undo(look, history, args.to)?))?;
    let how = How {
        is_trial: args.dry_run,
        text: &|| render::plan::undo(&undo, true),
        question: Some("Undo this?"),
        is_overridden: &|refusal| args.despite.has(refusal),
    };
    let action = Action::Undo { of: undo.of };
    let Some(put) = app.carry_through((&mut machine, &mut records), (action, &undo), &how)? else {
        return Ok(Exit::Done);
    };
    if put.record.is_none() {
        // Nothing is left to undo, yet the step must not be offered again.
        records.begin(action, &[], &machine.contents()?)?;
        records.end(Progress::Done)?;
    }
    app.report(&undo, || render::plan::undo(&undo, false));
    Ok(Exit::Done)
}
