use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use signpost_core::edit;
use signpost_facts::Error;
use signpost_upkeep::menu_file;

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::{complete, render};

/// Show or set the menu's policy: default, timeout, when it shows, kernel arguments
///
/// Without anything to set, every key is shown with its value, its default and what it takes. Several are set at once: all
/// of them, or none. `apply` makes the change active.
#[derive(Args)]
pub struct TuneArgs {
    /// What to set, such as timeout=10
    #[arg(value_name = "KEY=VALUE", add = ArgValueCompleter::new(complete::assignments))]
    assignments: Vec<String>,
    /// A key to put back to its default (can be repeated)
    #[arg(long, value_name = "KEY", add = ArgValueCompleter::new(complete::keys))]
    reset: Vec<String>,
    /// Show what would be, and write nothing
    #[arg(long)]
    dry_run: bool,
}

pub fn run(app: &App<'_>, args: &TuneArgs) -> Outcome {
    let is_question = args.assignments.is_empty() && args.reset.is_empty();
    let (machine, _lock) = app.machine_to_change_unless(args.dry_run || is_question)?;
    let path = app.menu_file(&machine);
    let none = || Error::unusable(path.display(), "there is no menu file; `signpost draft` makes one");
    let text = menu_file::text(&path)?.ok_or_else(none)?;
    let tuned = edit::tune(&path, &text, &args.assignments, &args.reset)?;
    if is_question {
        app.show(&tuned, || render::tune::all(&tuned));
        return Ok(Exit::Done);
    }
    if !args.dry_run {
        menu_file::save(&path, &tuned.text)?;
    }
    app.report(&tuned, || render::tune::changed(&tuned, args.dry_run));
    Ok(Exit::Done)
}
