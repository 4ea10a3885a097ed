use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use signpost_core::menu_file;
use signpost_core::once::set;
use signpost_core::rehearse::rehearse;

use crate::app::{App, Outcome};
use crate::complete;
use crate::failure::Exit;
use crate::render;

/// Send the next start, and only that, to an entry of our menu, or to the menu itself
///
/// It is the boot program that obeys: with host "firmware" nothing comes of it.
#[derive(Args)]
pub struct OnceArgs {
    /// The entry, or "menu" to show the menu whatever its policy
    #[arg(required_unless_present = "clear", add = ArgValueCompleter::new(complete::once_targets))]
    entry: Option<String>,
    /// Take it back
    #[arg(long, conflicts_with = "entry")]
    clear: bool,
}

pub fn run(app: &App<'_>, args: &OnceArgs) -> Outcome {
    let (mut machine, _lock) = app.machine_to_change_unless(false)?;
    let menu = menu_file::load(&app.menu_file(&machine))?;
    set(&mut machine, &menu.document, args.entry.as_deref())?;
    let look = app.look(&machine)?;
    let rehearsal = rehearse(&look, &look.boot);
    app.report(&rehearsal, || render::rehearse::outcome("Next: ", &rehearsal.outcome));
    Ok(Exit::Done)
}
