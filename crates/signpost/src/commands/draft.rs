use std::path::Path;

use clap::{Args, ValueEnum};
use signpost_core::draft::{Base, Wishes, draft};
use signpost_core::menu_file::MenuFile;
use signpost_facts::Result;
use signpost_machine::Machine;
use signpost_menu::document::Host;
use signpost_place::{Look, home};
use signpost_upkeep::{kept, menu_file};

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render;

/// Make the menu file from what is on the machine, or refresh it
///
/// What is new is added in its natural place, what is different is taken over, what is gone is marked. Whatever was changed
/// by hand stays: titles, order, arguments, fields and entries that were taken out.
#[derive(Args)]
pub struct DraftArgs {
    /// Show what the file would be, and write nothing
    #[arg(long)]
    dry_run: bool,
    /// Who shows the menu, where its file is made now: the firmware's own list, or the boot program
    #[arg(long, value_enum, default_value_t = HostArg::Firmware)]
    host: HostArg,
    /// Offer again what was taken out of the menu by hand
    #[arg(long)]
    offer_removed: bool,
    /// Add what was saved at boot to the file; without it, that is shown and asked about
    #[arg(long)]
    take_saved: bool,
    /// Leave snapshots of systems out of the menu, now and at every later draft
    #[arg(long)]
    no_snapshots: bool,
}

#[derive(Clone, Copy, ValueEnum)]
enum HostArg {
    /// The firmware's own list
    Firmware,
    /// The boot program
    Signpost,
}

pub fn run(app: &App<'_>, args: &DraftArgs) -> Outcome {
    let (machine, _lock) = app.any_machine_to_change_unless(args.dry_run)?;
    let path = app.menu_file(&machine);
    let host = match args.host {
        HostArg::Firmware => Host::Firmware,
        HostArg::Signpost => Host::Signpost,
    };
    let mut base = kept::base(&machine, &path);
    let look = app.look(&machine)?;
    let mut existing = menu_file::load_if_there(&path)?;
    let active = if existing.is_none() { active_menu(&look, &path) } else { None };
    let begun_from = active.map(|(menu, whose)| {
        existing = Some(menu);
        whose
    });
    if args.offer_removed {
        let entries = existing.iter().flat_map(|menu| &menu.document.entries);
        base.forget_all_but(&entries.map(|entry| entry.id.clone()).collect::<Vec<_>>());
    }
    let make = |takes_saved| {
        let wishes = Wishes { new_host: host, takes_saved, hides_snapshots: args.no_snapshots };
        draft(&look, &path, existing.as_ref(), wishes, base.clone())
    };
    let mut draft = make(args.take_saved)?;
    if !args.take_saved && !args.dry_run && !draft.saved.is_empty() {
        let question = "Write this to the menu file?";
        if app.is_agreed(|| render::draft::saved(&draft.saved), question)? {
            draft = make(true)?;
        }
    }
    draft.begun_from = begun_from;
    if !args.dry_run {
        if draft.is_different || draft.begun_from.is_some() {
            menu_file::save(&path, &draft.text)?;
        }
        kept::keep_base(&machine, &path, &draft.base)?;
        if draft.takes_saved {
            kept::keep_taken(&machine, &look)?;
        }
        kept::keep_known(&machine, &look);
    }
    app.report(&draft, || render::draft::text(&draft, &path, args.dry_run));
    Ok(Exit::Done)
}

/// Makes the menu file of a machine that has none, as `draft` does, for a command that adds to it.
pub fn first(machine: &Machine, look: &Look, path: &Path) -> Result<MenuFile> {
    let begun = active_menu(look, path).map(|(menu, _)| menu);
    let wishes = Wishes { new_host: Host::Firmware, takes_saved: false, hides_snapshots: false };
    let draft = draft(look, path, begun.as_ref(), wishes, Base::default())?;
    menu_file::save(path, &draft.text)?;
    kept::keep_base(machine, path, &draft.base)?;
    kept::keep_known(machine, look);
    menu_file::load(path)
}

/// The menu that is active on a machine without a menu file, as what the file begins with, and whose it is: what another system
/// of this PC, or this one before its file was lost, decided of titles, order and arguments is not decided anew.
fn active_menu(look: &Look, path: &Path) -> Option<(MenuFile, String)> {
    let slot = home::newest_at_home(look)?;
    let menu = MenuFile::new(path, slot.text.clone()).ok()?;
    let name = home::name(look).unwrap_or_default();
    let whose = if !slot.machine.is_empty() && slot.machine == home::machine_id(look) {
        format!("the active menu on {name}, this system's own")
    } else {
        format!(
            "the active menu on {name}, which another system of this PC put there; `signpost apply --take-over` replaces it"
        )
    };
    Some((menu, whose))
}
