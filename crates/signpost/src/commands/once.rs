use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use signpost_core::history::Action;
use signpost_core::once::once;
use signpost_upkeep::menu_file;

use crate::app::{App, How, Outcome};
use crate::failure::Exit;
use crate::{complete, render};

/// Send the next start, and only that, to an entry or the menu
///
/// Where our menu is active, that obeys; where the firmware's own list is the menu, its next boot is set.
#[derive(Args)]
pub struct OnceArgs {
    /// The entry, or "menu" to show our menu whatever its policy
    #[arg(required_unless_present = "clear", add = ArgValueCompleter::new(complete::once_targets))]
    entry: Option<String>,
    /// Undo it
    #[arg(long, conflicts_with = "entry")]
    clear: bool,
    /// Show what would be written, and write nothing
    #[arg(long)]
    dry_run: bool,
}

pub fn run(app: &App<'_>, args: &OnceArgs) -> Outcome {
    let (mut machine, _lock) = app.any_machine_to_change_unless(args.dry_run)?;
    let menu = menu_file::load_if_there(&app.menu_file(&machine)).ok().flatten();
    let document = menu.map(|menu| menu.document);
    let (mut records, plan) = app
        .plan(&machine, |look, history| Ok(once(look, history, document.as_ref(), args.entry.as_deref())?))?;
    if !args.dry_run {
        let how = How { is_trial: false, text: &String::new, question: None, is_overridden: &|_| false };
        app.carry_through((&mut machine, &mut records), (Action::Once, &plan), &how)?;
    }
    app.report(&plan, || {
        render::plan::notes(&plan.notes) + &render::rehearse::outcome("Next start", &plan.outcome)
    });
    Ok(Exit::Done)
}
