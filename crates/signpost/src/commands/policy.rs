use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use signpost_core::edit::{KEYS, OWN_KEYS, OwnKey, Policy};
use signpost_core::recipe::Recipes;
use signpost_facts::{Error, Result};
use signpost_machine::Machine;
use signpost_place::Look;
use signpost_upkeep::menu_file;

use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::render;
use crate::render::policy::Compared;

/// Show where the menu file is not as a policy says
///
/// A policy is one file for many machines: values of `tune`, which systems come first, which are hidden, what they are called.
/// It names systems by title or id. `draft --from` and `tune --from` have the menu file follow it.
#[derive(Args)]
pub struct PolicyArgs {
    /// The policy, instead of the machine's own: policy.toml beside the menu file
    #[arg(value_name = "FILE")]
    file: Option<PathBuf>,
    /// Show what a policy can say
    #[arg(long, conflicts_with = "file")]
    keys: bool,
}

/// All that a policy can say: `tune`'s keys, then its own.
#[derive(Serialize)]
struct Keys {
    keys: Vec<OwnKey>,
}

pub fn run(app: &App<'_>, args: &PolicyArgs) -> Outcome {
    if args.keys {
        let of_tune = KEYS.iter().map(|key| OwnKey {
            name: key.name,
            values: key.values,
            meaning: key.meaning,
            example: key.example,
        });
        let keys = Keys { keys: of_tune.chain(OWN_KEYS).collect() };
        app.show(&keys, || render::policy::keys(&keys.keys));
        return Ok(Exit::Done);
    }
    let machine = app.uefi_or_bios_machine()?;
    let own = || machine.policy_file();
    let none = || Error::WrongUse("disk images alone have no policy; name its file".into());
    let file = args.file.clone().or_else(own).ok_or_else(none)?;
    let policy = read(&file)?;
    let compared =
        compare((&policy, &app.recipes(&machine)?), &app.look(&machine)?, &app.menu_file(&machine), &file)?;
    app.show(&compared, || render::policy::compared(&compared));
    Ok(if compared.differences.is_empty() { Exit::Done } else { Exit::Problems })
}

/// The text of a policy, or of a look that was handed on.
pub fn text(path: &Path) -> Result<String> {
    menu_file::text(path)?.ok_or_else(|| Error::unusable(path.display(), "there is no such file"))
}

/// Reads a policy.
pub fn read(path: &Path) -> Result<Policy> {
    Policy::parse(path, &text(path)?)
}

/// How a machine's menu file stands to the machine's own policy; `None` where it has none.
pub fn of_machine(app: &App<'_>, machine: &Machine, look: &Look) -> Option<Compared> {
    let file = machine.policy_file().filter(|file| file.exists())?;
    let menu = app.menu_file(machine);
    let compared = read(&file)
        .map_err(Failure::from)
        .and_then(|policy| Ok(compare((&policy, &app.recipes(machine)?), look, &menu, &file)?));
    Some(compared.unwrap_or_else(|failure| Compared {
        file,
        differences: Vec::new(),
        notes: Vec::new(),
        fault: Some(failure.message()),
    }))
}

fn compare(
    (policy, recipes): (&Policy, &Recipes),
    look: &Look,
    menu: &Path,
    file: &Path,
) -> Result<Compared> {
    let none = || {
        let way = format!("there is no menu file; `signpost draft --from {}` makes one", file.display());
        Error::unusable(menu.display(), way)
    };
    let text = menu_file::text(menu)?.ok_or_else(none)?;
    let followed = policy.follow(look, recipes, menu, &text)?;
    Ok(Compared {
        file: file.to_path_buf(),
        differences: followed.differences(),
        notes: followed.notes,
        fault: None,
    })
}
