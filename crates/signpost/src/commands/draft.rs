use clap::{Args, ValueEnum};
use signpost_core::draft::draft;
use signpost_core::menu::document::Host;
use signpost_core::menu_file;

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render;

/// Make the menu file from what is on the machine, or add to it what is new
///
/// What stands in the file stays as it is. Entries that start nothing any more are named, not removed.
#[derive(Args)]
pub struct DraftArgs {
    /// Show what the file would be, and write nothing
    #[arg(long)]
    dry_run: bool,
    /// Who shows the menu, where its file is made now: the firmware's own list, or the boot program
    #[arg(long, value_enum, default_value_t = HostArg::Firmware)]
    host: HostArg,
}

#[derive(Clone, Copy, ValueEnum)]
enum HostArg {
    /// The firmware's own list
    Firmware,
    /// The boot program
    Signpost,
}

pub fn run(app: &App<'_>, args: &DraftArgs) -> Outcome {
    let (machine, _lock) = app.machine_to_change_unless(args.dry_run)?;
    let path = app.menu_file(&machine);
    let host = match args.host {
        HostArg::Firmware => Host::Firmware,
        HostArg::Signpost => Host::Signpost,
    };
    let draft = draft(&app.look(&machine)?, &path, host)?;
    let changes = draft.is_new_file || !draft.added.is_empty();
    if changes && !args.dry_run {
        menu_file::save(&path, &draft.text)?;
    }
    app.report(&draft, || render::draft::text(&draft, &path, args.dry_run));
    Ok(Exit::Done)
}
