use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use signpost_core::edit::{Policy, Tuned};
use signpost_core::menu_file::MenuFile;
use signpost_core::plan::{Plan, pass, plan};
use signpost_core::recipe::Recipes;
use signpost_facts::Result;
use signpost_machine::Machine;
use signpost_place::Look;
use signpost_upkeep::{kept, menu_file};

use super::shared::{Despite, HomeArgs, with_picture};
use super::{draft, policy};
use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render;
use crate::render::plan::Aim;
use crate::render::style;

/// Show what apply would write, and what would start then
#[derive(Args)]
pub struct PlanArgs {
    #[command(flatten)]
    despite: Despite,
    /// End with 1 where there is something to do
    #[arg(long)]
    check: bool,
    /// Plan with the menu file that `signpost draft --from FILE` would write
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
    #[command(flatten)]
    home: HomeArgs,
}

/// A plan, and what would become of the menu file first.
#[derive(Serialize)]
struct Planned<'p> {
    #[serde(flatten)]
    plan: &'p Plan,
    #[serde(skip_serializing_if = "Option::is_none")]
    menu_file: Option<&'p Refreshed>,
}

/// The menu file as it would be.
#[derive(Serialize)]
struct Refreshed {
    file: PathBuf,
    /// Its text now, where it is there.
    before: Option<String>,
    /// Its text then.
    after: String,
    /// What the policy changes, and what of it fits nothing.
    policy: Tuned,
}

impl Refreshed {
    fn is_different(&self) -> bool {
        self.before.as_ref() != Some(&self.after)
    }
}

pub fn run(app: &App<'_>, args: &PlanArgs) -> Outcome {
    let machine = app.uefi_or_bios_machine()?;
    let path = app.menu_file(&machine);
    let policy = args.from.as_deref().map(policy::read).transpose()?;
    let wishes = args.home.wishes(&machine)?;
    let (_, (plan, refreshed)) = app.plan(&machine, |look, history| {
        let (menu, refreshed) = match &policy {
            None => (menu_file::load(&path)?, None),
            Some(policy) => {
                let (menu, refreshed) = refresh(&machine, look, &path, (policy, &app.recipes(&machine)?))?;
                (menu, Some(refreshed))
            }
        };
        let wishes = with_picture(&wishes, &menu)?;
        Ok((plan(look, &menu, history, &wishes)?, refreshed))
    })?;
    app.show(&Planned { plan: &plan, menu_file: refreshed.as_ref() }, || {
        let first = refreshed.as_ref().map(menu_file_text).unwrap_or_default();
        first + &render::plan::text(&plan, Aim::Menu)
    });
    pass(&plan.refusals, args.home.passes(&args.despite))?;
    let is_to_do = !plan.writes.is_empty() || refreshed.is_some_and(|menu| menu.is_different());
    Ok(if args.check && is_to_do { Exit::Problems } else { Exit::Done })
}

/// The menu file as `draft --from` would write it.
fn refresh(
    machine: &Machine,
    look: &Look,
    path: &Path,
    (policy, recipes): (&Policy, &Recipes),
) -> Result<(MenuFile, Refreshed)> {
    let (existing, _) = draft::begin(look, path)?;
    let base = kept::base(machine, path);
    let made = policy.draft(look, recipes, path, existing.as_ref(), draft::PLAIN, base)?;
    let menu = MenuFile::new(path, made.draft.text.clone())?;
    let refreshed = Refreshed {
        file: path.to_path_buf(),
        before: menu_file::text(path)?,
        after: made.draft.text,
        policy: made.tuned,
    };
    Ok((menu, refreshed))
}

fn menu_file_text(menu: &Refreshed) -> String {
    let what = match (&menu.before, menu.is_different()) {
        (None, _) => "would be made",
        (Some(_), true) => "would be another",
        (Some(_), false) => "stays as it is",
    };
    format!(
        "{}  {} {what}\n{}\n",
        style::heading("Menu file"),
        menu.file.display(),
        render::tune::by_policy(&menu.policy)
    )
}
