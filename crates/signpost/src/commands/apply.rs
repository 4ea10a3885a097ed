use clap::Args;
use serde::Serialize;
use signpost_core::apply::carry_out;
use signpost_core::history::Action;
use signpost_core::hold::{Held, Log};
use signpost_core::plan::{Plan, pass, plan};
use signpost_core::rehearse::{Outcome as StartOutcome, rehearse};
use signpost_core::{Code, Error, menu_file};

use super::{HomeArgs, guard_codes};
use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::{render, signals};

/// Put the menu in force, with a way back
///
/// All variables are kept first; every write leaves a machine that starts; all of it is read back and
/// rehearsed. `signpost undo` takes it back.
#[derive(Args)]
pub struct ApplyArgs {
    /// Show the plan, and write nothing
    #[arg(long)]
    dry_run: bool,
    /// Leave out this guard
    #[arg(long, value_name = "CODE", value_parser = guard_codes())]
    despite: Option<Code>,
    #[command(flatten)]
    home: HomeArgs,
}

#[derive(Serialize)]
struct Applied<'a> {
    schema: u32,
    /// Number in the history; none where nothing was to be written.
    record: Option<u32>,
    plan: &'a Plan,
    outcome: StartOutcome,
}

pub fn run(app: &App<'_>, args: &ApplyArgs) -> Outcome {
    let (mut machine, _lock) = app.machine_to_change_unless(args.dry_run)?;
    let menu = menu_file::load(&app.menu_file(&machine))?;
    let mut history = app.history(&machine)?;
    let wishes = args.home.wishes()?;
    let plan = plan(&app.look(&machine)?, &menu, &history, &wishes)?;
    if args.dry_run {
        app.show(&plan, || render::plan::text(&plan));
        pass(&plan.refusals, args.home.passes(args.despite))?;
        return Ok(Exit::Done);
    }
    pass(&plan.refusals, args.home.passes(args.despite))?;
    if !plan.writes.is_empty() {
        app.confirm(|| render::plan::text(&plan), "Put this in force?")?;
    }
    signals::watch()?;
    let record =
        carry_out(&mut machine, &mut history, Action::Apply, &plan.writes, &signals::is_interrupted)?;
    let look = app.look(&machine)?;
    let outcome = rehearse(&look, &look.boot).outcome;
    if outcome != plan.outcome {
        let what = format!("planned: {}; rehearsed: {}", plan.outcome.text, outcome.text);
        let way = "`signpost undo` takes back what was written".into();
        return Err(Error::NotReadBack { what, way }.into());
    }
    Held::of(&look, &menu, &plan, &wishes, &history)?.save(&machine.held_record())?;
    Log::load(&machine.hold_log())?.count_anew(&machine.hold_log())?;
    let applied = Applied { schema: signpost_core::SCHEMA, record, plan: &plan, outcome };
    app.report(&applied, || render::plan::applied(&plan, record, &applied.outcome));
    Ok(Exit::Done)
}
