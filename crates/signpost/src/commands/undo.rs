use clap::Args;
use signpost_core::Code;
use signpost_core::apply::carry_out;
use signpost_core::history::Action;
use signpost_core::plan::pass;
use signpost_core::undo::undo;

use super::guard_codes;
use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::{render, signals};

/// Take back the menu that was put in force last
///
/// Only what was written then is taken back: what the firmware or another system changed since stays.
#[derive(Args)]
pub struct UndoArgs {
    /// Show what would be written, and write nothing
    #[arg(long)]
    dry_run: bool,
    /// Leave out this guard
    #[arg(long, value_name = "CODE", value_parser = guard_codes())]
    despite: Option<Code>,
}

pub fn run(app: &App<'_>, args: &UndoArgs) -> Outcome {
    let (mut machine, _lock) = app.machine_to_change_unless(args.dry_run)?;
    let mut history = app.history(&machine)?;
    let undo = undo(&app.look(&machine)?, &history)?;
    if args.dry_run {
        app.show(&undo, || render::plan::undo(&undo, true));
        pass(&undo.refusals, |refusal| Some(refusal.code) == args.despite)?;
        return Ok(Exit::Done);
    }
    pass(&undo.refusals, |refusal| Some(refusal.code) == args.despite)?;
    app.confirm(|| render::plan::undo(&undo, true), "Take this back?")?;
    signals::watch()?;
    let action = Action::Undo { of: undo.of };
    if carry_out(&mut machine, &mut history, action, &undo.writes, &signals::is_interrupted)?.is_none() {
        // Nothing is left to take back, yet the step must not be offered again.
        history.begin(action, &[], &machine.contents()?)?;
    }
    app.report(&undo, || render::plan::undo(&undo, false));
    Ok(Exit::Done)
}
