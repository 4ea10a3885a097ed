use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use signpost_core::confirm::confirm;
use signpost_upkeep as upkeep;

use crate::app::{App, Outcome};
use crate::complete;
use crate::failure::Exit;

/// Say that the running system has come up, where the menu counts its starts
///
/// An entry with "tries" in the menu file is started that often; if its system never says that it came up, its fallback
/// starts instead. signpost-confirm.service runs this at each start.
#[derive(Args)]
pub struct ConfirmArgs {
    /// Have this entry tried again, instead of the one that the running system was started by
    #[arg(add = ArgValueCompleter::new(complete::ids))]
    entry: Option<String>,
    /// Show what would be written, and write nothing
    #[arg(long)]
    dry_run: bool,
}

pub fn run(app: &App<'_>, args: &ConfirmArgs) -> Outcome {
    let (mut machine, _lock) = app.any_machine_to_note_on(args.dry_run)?;
    let confirmation = confirm(&app.look(&machine)?, args.entry.as_deref())?;
    if !args.dry_run {
        upkeep::note_down(&mut machine, &confirmation.writes)?;
    }
    app.report(&confirmation, || match (&confirmation.entry, &confirmation.why_not) {
        (Some(entry), _) if args.entry.is_some() => format!("{entry} is tried again.\n"),
        (Some(entry), _) => format!("{entry} has come up.\n"),
        (None, why) => format!("Nothing to confirm: {}.\n", why.as_deref().unwrap_or("nothing is counted")),
    });
    Ok(Exit::Done)
}
