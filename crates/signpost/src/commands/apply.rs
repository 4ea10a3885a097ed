use clap::Args;
use serde::Serialize;
use signpost_core::history::Action;
use signpost_core::hold::Held;
use signpost_core::plan::{Plan, plan, remove};
use signpost_core::rehearse::Outcome as StartOutcome;
use signpost_facts::Error;
use signpost_place::home::newest_text;
use signpost_upkeep::{kept, menu_file, now};

use super::shared::{Despite, HomeArgs, with_picture};
use crate::app::{App, How, Outcome};
use crate::failure::Exit;
use crate::render;
use crate::render::plan::Aim;

/// Make the menu active
///
/// All variables are kept first; after every single write the machine still starts; everything is read back and rehearsed. `signpost undo` undoes it.
#[derive(Args)]
pub struct ApplyArgs {
    /// Show the plan, and write nothing
    #[arg(long)]
    dry_run: bool,
    /// Take Signpost off the machine: entries, boot programs, menus; what started before starts again
    #[arg(long, conflicts_with_all = ["home", "second_home", "boot_program", "take_over"])]
    remove: bool,
    #[command(flatten)]
    despite: Despite,
    #[command(flatten)]
    home: HomeArgs,
}

#[derive(Serialize)]
struct Applied<'a> {
    /// Number in the history; none where nothing was to be written.
    record: Option<u32>,
    plan: &'a Plan,
    outcome: StartOutcome,
}

pub fn run(app: &App<'_>, args: &ApplyArgs) -> Outcome {
    let (mut machine, _lock) = app.any_machine_to_change_unless(args.dry_run)?;
    let wishes = args.home.wishes(&machine)?;
    let menu = if args.remove { None } else { Some(menu_file::load(&app.menu_file(&machine))?) };
    let (mut records, plan) = app.plan(&machine, |look, history| {
        Ok(match &menu {
            Some(menu) => plan(look, menu, history, &with_picture(&wishes, menu)?)?,
            None => remove(look, history)?,
        })
    })?;
    let (action, aim, question) = match args.remove {
        true => (Action::Remove, Aim::Removal, "Remove this from the machine?"),
        false => (Action::Apply, Aim::Menu, "Make this active?"),
    };
    let how = How {
        is_trial: args.dry_run,
        text: &|| render::plan::text(&plan, aim),
        question: Some(question).filter(|_| !plan.writes.is_empty()),
        is_overridden: &args.home.passes(&args.despite),
    };
    let Some(put) = app.carry_through((&mut machine, &mut records), (action, &plan), &how)? else {
        return Ok(Exit::Done);
    };
    if let Some(menu) = &menu {
        // What starts alike may be another menu.
        if plan.home.is_some() && newest_text(&put.look).as_ref() != Some(&menu.text) {
            let what = "the menu that is active is another than the one that was written".to_string();
            return Err(
                Error::NotReadBack { what, way: "`signpost undo` undoes what was written".into() }.into()
            );
        }
        kept::keep_held(&machine, Held::of(&put.look, menu, &plan, &wishes, records.history()))?;
    }
    let mut log = kept::log(&machine)?;
    if log.count_anew(now()) {
        kept::keep_log(&machine, &log)?;
    }
    let (record, outcome) = (put.record, plan.outcome.clone());
    let applied = Applied { record, plan: &plan, outcome };
    app.report(&applied, || render::plan::applied((&plan, aim), record, &applied.outcome, app.asks()));
    Ok(Exit::Done)
}
