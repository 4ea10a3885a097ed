use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use serde::Serialize;
use signpost_core::draft::{Base, Draft, Wishes, draft};
use signpost_core::edit::{Policy, Refreshed, Tuned};
use signpost_core::menu_file::MenuFile;
use signpost_core::recipe::Recipes;
use signpost_facts::Result;
use signpost_machine::Machine;
use signpost_menu::document::Host;
use signpost_place::{Look, home};
use signpost_upkeep::{kept, menu_file};

use super::policy;
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
    /// Have the menu say what a policy says; `signpost policy --keys` shows what that can be
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
}

/// A draft, and what a policy made of it.
#[derive(Serialize)]
struct Drafted {
    #[serde(flatten)]
    draft: Draft,
    #[serde(skip_serializing_if = "Option::is_none")]
    policy: Option<Tuned>,
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
    let policy = args.from.as_deref().map(policy::read).transpose()?;
    let mut base = kept::base(&machine, &path);
    let look = app.look(&machine)?;
    let recipes = app.recipes(&machine)?;
    let (existing, begun_from) = begin(&look, &path)?;
    if args.offer_removed {
        let entries = existing.iter().flat_map(|menu| &menu.document.entries);
        base.forget_all_but(&entries.map(|entry| entry.id.clone()).collect::<Vec<_>>());
    }
    let make = |takes_saved| {
        let wishes = Wishes { new_host: host, takes_saved, hides_snapshots: args.no_snapshots };
        let policy = policy.as_ref().map(|policy| (policy, &recipes));
        made(&look, &path, existing.as_ref(), (wishes, policy), base.clone())
    };
    let (mut draft, mut tuned) = make(args.take_saved)?;
    if !args.take_saved && !args.dry_run && !draft.saved.is_empty() {
        let question = "Write this to the menu file?";
        if app.is_agreed(|| render::draft::saved(&draft.saved), question)? {
            (draft, tuned) = make(true)?;
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
    let drafted = Drafted { draft, policy: tuned };
    app.report(&drafted, || {
        let changed = drafted.policy.as_ref().map(render::tune::by_policy).unwrap_or_default();
        render::draft::text(&drafted.draft, &path, args.dry_run) + &changed
    });
    Ok(Exit::Done)
}

/// What a draft begins with: the menu file; where there is none, the menu that is active, and whose that is.
pub fn begin(look: &Look, path: &Path) -> Result<(Option<MenuFile>, Option<String>)> {
    if let Some(menu) = menu_file::load_if_there(path)? {
        return Ok((Some(menu), None));
    }
    Ok(active_menu(look, path).map_or((None, None), |(menu, whose)| (Some(menu), Some(whose))))
}

/// The draft, which follows the policy where there is one.
fn made(
    look: &Look,
    path: &Path,
    existing: Option<&MenuFile>,
    (wishes, policy): (Wishes, Option<(&Policy, &Recipes)>),
    base: Base,
) -> Result<(Draft, Option<Tuned>)> {
    let Some((policy, recipes)) = policy else {
        return Ok((draft(look, path, existing, wishes, base)?, None));
    };
    let Refreshed { draft, tuned } = policy.draft(look, recipes, path, existing, wishes, base)?;
    Ok((draft, Some(tuned)))
}

/// What is asked of a draft where nothing is asked for.
pub const PLAIN: Wishes = Wishes { new_host: Host::Firmware, takes_saved: false, hides_snapshots: false };

/// Makes the menu file of a machine that has none, as `draft` does, for a command that adds to it.
pub fn first(machine: &Machine, look: &Look, path: &Path) -> Result<MenuFile> {
    let begun = active_menu(look, path).map(|(menu, _)| menu);
    let draft = draft(look, path, begun.as_ref(), PLAIN, Base::default())?;
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
