use std::path::{Path, PathBuf};

use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use serde::Serialize;
use signpost_core::edit;
use signpost_facts::Error;
use signpost_machine::durable::write_durably;
use signpost_upkeep::{kept, menu_file};

use super::policy;
use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::{complete, render};

/// Show or set the menu's policy: default, timeout, when it shows
///
/// Without anything to set, every key is shown with its value, its default and what it takes. Several are set at once: all
/// of them, or none. `apply` makes the change active.
#[derive(Args)]
pub struct TuneArgs {
    /// What to set, such as timeout=10
    #[arg(value_name = "KEY=VALUE", add = ArgValueCompleter::new(complete::assignments))]
    assignments: Vec<String>,
    /// Show every key, those of the look at their defaults too
    #[arg(long, conflicts_with_all = ["assignments", "reset", "from", "save_look"])]
    all: bool,
    /// A policy: a file of such keys, as TOML, the same for many machines
    #[arg(long, value_name = "FILE", conflicts_with_all = ["assignments", "reset"])]
    from: Option<PathBuf>,
    /// Set a key to its default (can be repeated)
    #[arg(long, value_name = "KEY", add = ArgValueCompleter::new(complete::keys))]
    reset: Vec<String>,
    /// Save the menu's look to a file that `tune look=FILE` takes
    #[arg(long, value_name = "FILE", conflicts_with_all = ["assignments", "reset", "from"])]
    save_look: Option<PathBuf>,
    /// Show what would be, and write nothing
    #[arg(long)]
    dry_run: bool,
}

pub fn run(app: &App<'_>, args: &TuneArgs) -> Outcome {
    if let Some(file) = &args.save_look {
        return save_look(app, file);
    }
    let is_question = args.assignments.is_empty() && args.reset.is_empty() && args.from.is_none();
    let (machine, _lock) = app.any_machine_to_change_unless(args.dry_run || is_question)?;
    let path = app.menu_file(&machine);
    let none = || Error::unusable(path.display(), "there is no menu file; `signpost draft` makes one");
    let text = menu_file::text(&path)?.ok_or_else(none)?;
    let tuned = match &args.from {
        Some(from) => {
            policy::read(from)?.follow(&app.look(&machine)?, &app.recipes(&machine)?, &path, &text)?
        }
        None => match look_file(args) {
            Some(file) => edit::tune_look(&path, &text, (file, &policy::text(file)?))?,
            None => edit::tune(&path, &text, &args.assignments, &args.reset)?,
        },
    };
    if is_question {
        app.show(&tuned, || render::tune::keys(&tuned, args.all));
        return Ok(Exit::Done);
    }
    if !args.dry_run {
        menu_file::save(&path, &tuned.text)?;
        if !tuned.hidden.is_empty() {
            let mut base = kept::base(&machine, &path);
            tuned.hidden.iter().for_each(|id| base.forget(id));
            kept::keep_base(&machine, &path, &base)?;
        }
    }
    app.report(&tuned, || render::tune::changed(&tuned, args.dry_run));
    Ok(Exit::Done)
}

/// The file of a look, where that is what is set: a name has no point and no slash.
fn look_file(args: &TuneArgs) -> Option<&Path> {
    let [only] = args.assignments.as_slice() else { return None };
    let value = only.strip_prefix("look=").filter(|_| args.reset.is_empty())?;
    value.contains(['.', '/']).then_some(Path::new(value))
}

#[derive(Serialize)]
struct Saved<'a> {
    file: &'a Path,
}

fn save_look(app: &App<'_>, file: &Path) -> Outcome {
    let machine = app.machine()?;
    let menu = menu_file::load(&app.menu_file(&machine))?;
    write_durably(file, edit::look_file(&menu.document).as_bytes())?;
    app.show(&Saved { file }, || {
        format!("{0}: the menu's look; `signpost tune look={0}` sets it elsewhere\n", file.display())
    });
    Ok(Exit::Done)
}
