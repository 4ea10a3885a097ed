mod add;
mod editor;
mod noise;

use add::New;
use clap::{Args, Subcommand};
use clap_complete::engine::ArgValueCompleter;
use serde::Serialize;
use signpost_core::draft::{self, Base};
use signpost_core::edit::{self, HiddenThing, Where};
use signpost_core::menu_file::MenuFile;
use signpost_core::recipe::{Recipe, RecipeKind};
use signpost_machine::Machine;
use signpost_upkeep::{kept, menu_file};

use super::shared::Despite;
use crate::app::{App, Outcome};
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::render::out;

/// Add, rename, edit, move, remove or hide single entries
///
/// An entry is named by its id, its title, or any start of either that fits no other. Everything else in the file stays as
/// it is. `apply` makes the change active.
#[derive(Args)]
pub struct EntryArgs {
    #[command(subcommand)]
    what: What,
    /// Say what would be done, and write nothing
    #[arg(long, global = true)]
    dry_run: bool,
}

#[derive(Subcommand)]
enum What {
    /// Add an entry; what can be looked up is looked up
    Add {
        #[command(subcommand)]
        new: New,
    },
    /// Give an entry another title
    Rename {
        /// The entry
        #[arg(add = ArgValueCompleter::new(complete::ids))]
        entry: String,
        /// Its new title
        title: String,
    },
    /// Set or drop an entry's keys, or edit its text
    Edit {
        /// The entry
        #[arg(add = ArgValueCompleter::new(complete::ids))]
        entry: String,
        /// What to set, such as args="root={root} ro"; args=+quiet -splash changes single words; several initrds are parted by
        /// blanks
        #[arg(value_name = "KEY=VALUE", required_unless_present_any = ["drop", "editor"])]
        assignments: Vec<String>,
        /// Edit its text in $VISUAL or $EDITOR
        #[arg(long, conflicts_with_all = ["assignments", "drop"])]
        editor: bool,
        /// A key to drop (can be repeated)
        #[arg(long, value_name = "KEY")]
        drop: Vec<String>,
        /// Do not look whether what it starts is there
        #[arg(long)]
        unchecked: bool,
        #[command(flatten)]
        guard: Despite,
    },
    /// Make an entry what draft would write for it now
    Reset {
        /// The entry
        #[arg(add = ArgValueCompleter::new(complete::ids))]
        entry: String,
    },
    /// Put an entry in another place
    Move {
        /// The entry
        #[arg(add = ArgValueCompleter::new(complete::ids))]
        entry: String,
        /// top, bottom, before, after, into (a group), out (of its group)
        #[arg(value_parser = ["top", "bottom", "before", "after", "into", "out"])]
        to: String,
        /// The entry or group that is meant by before, after, into
        #[arg(add = ArgValueCompleter::new(complete::ids))]
        other: Option<String>,
    },
    /// Take an entry out of the menu; never the last way to start a system
    Remove {
        /// The entry
        #[arg(add = ArgValueCompleter::new(complete::ids))]
        entry: String,
        #[command(flatten)]
        guard: Despite,
    },
    /// Show the recipes for systems that need particular arguments
    Recipes,
    /// List entries that only make the menu longer; hide or remove them
    ///
    /// Noise is a second way to what another entry starts, something that is gone, a recovery loader, a fallback file. The
    /// default, and the last way to start a system, are never among it.
    Noise {
        /// Hide all of it, once it was shown: draft never offers it again
        #[arg(long, conflicts_with = "remove")]
        hide: bool,
        /// Remove all of it, once it was shown
        #[arg(long)]
        remove: bool,
    },
    /// Take something out of the menu, and never have draft offer it
    Hide {
        /// An entry, a volume (d1p3 or uuid:4F2A-11C9), a system's title, or a file (d2p1:/EFI/*/fb*.efi)
        #[arg(add = ArgValueCompleter::new(complete::ids))]
        what: String,
        /// Why, for whoever reads the file later
        #[arg(long, value_name = "TEXT")]
        why: Option<String>,
        #[command(flatten)]
        guard: Despite,
    },
    /// Let draft offer something again
    Reveal {
        /// What is hidden, as --list shows it
        #[arg(required_unless_present = "list", add = ArgValueCompleter::new(complete::hidden))]
        what: Option<String>,
        /// Show all that is hidden
        #[arg(long)]
        list: bool,
    },
}

#[derive(Serialize)]
struct Changed {
    /// What was done, in words.
    done: String,
    /// The entries that it was done to.
    entries: Vec<String>,
    /// Whether the file is another now, or would be.
    is_different: bool,
    /// Whether it was written, and not only tried.
    is_written: bool,
}

#[derive(Serialize)]
struct HiddenThings {
    hidden: Vec<HiddenThing>,
}

pub fn run(app: &App<'_>, args: &EntryArgs) -> Outcome {
    let is_question = matches!(
        args.what,
        What::Reveal { list: true, .. } | What::Recipes | What::Noise { hide: false, remove: false }
    );
    let (machine, _lock) = app.any_machine_to_change_unless(is_question || args.dry_run)?;
    if matches!(args.what, What::Recipes) {
        return recipes(app, &machine);
    }
    let menu = menu_file::load(&app.menu_file(&machine))?;
    if matches!(args.what, What::Reveal { list: true, .. }) {
        return list(app, &menu);
    }
    let Some(edited) = edited(app, &machine, &menu, args)? else { return Ok(Exit::Done) };
    let is_different = edited.text != menu.text;
    let is_written = is_different && !args.dry_run;
    let changed = Changed { done: edited.done, entries: edited.entries, is_different, is_written };
    if !args.dry_run {
        menu_file::save(&menu.path, &edited.text)?;
        // Else draft would take what is hidden for removed by hand once it is revealed.
        let mut base = edited.base.unwrap_or_else(|| kept::base(&machine, &menu.path));
        edited.hidden.iter().for_each(|id| base.forget(id));
        kept::keep_base(&machine, &menu.path, &base)?;
    }
    let note = match (is_different, args.dry_run) {
        (false, _) => " Nothing was written: nothing would change.",
        (true, true) => " Nothing was written.",
        (true, false) => "",
    };
    app.report(&changed, || format!("{}.{note}\n", changed.done));
    Ok(Exit::Done)
}

/// The menu file's text as it was edited, and what goes with it.
struct Edited {
    text: String,
    /// What was done, in words.
    done: String,
    /// The entries that it was done to.
    entries: Vec<String>,
    /// Ids of entries that draft is never to offer again.
    hidden: Vec<String>,
    /// What draft compares with from now on, where that is another.
    base: Option<Base>,
}

impl Edited {
    fn new(text: String, done: String) -> Self {
        Self { text, done, entries: Vec::new(), hidden: Vec::new(), base: None }
    }

    fn of(id: &str, text: String, done: String) -> Self {
        Self { entries: vec![id.to_string()], ..Self::new(text, done) }
    }
}

/// Edits what is asked for; `None` where nothing is to be written.
fn edited(
    app: &App<'_>,
    machine: &Machine,
    menu: &MenuFile,
    args: &EntryArgs,
) -> Result<Option<Edited>, Failure> {
    Ok(Some(match &args.what {
        What::Recipes | What::Reveal { list: true, .. } => return Ok(None),
        What::Add { new } => {
            let look = app.look(machine)?;
            let (wanted, title, unchecked) = new.wanted(&look)?;
            let recipes = app.recipes(machine)?;
            let (text, added) = edit::add(&look, menu, &recipes, &wanted, title, unchecked)?;
            let done = if added.is_new { "is added" } else { "is as it was" };
            Edited::of(&added.id, text, format!("{} {done}, \"{}\": {}", added.id, added.title, added.why))
        }
        What::Rename { entry, title } => {
            let (text, id) = edit::rename(menu, entry, title)?;
            Edited::of(&id, text, format!("{id} is now called {title}"))
        }
        What::Edit { entry, editor: true, guard, .. } => {
            let Some((text, id)) = editor::edit(app, menu, entry)? else {
                out::note("Nothing was changed.");
                return Ok(None);
            };
            guard.pass(edit::loses(&app.look(machine)?, menu, &text)?)?;
            Edited::of(&id, text, format!("{id} is changed"))
        }
        What::Edit { entry, assignments, drop, unchecked, guard, .. } => {
            let look = app.look(machine)?;
            let (text, id) = edit::edit(&look, menu, entry, (assignments, drop), *unchecked)?;
            guard.pass(edit::loses(&look, menu, &text)?)?;
            Edited::of(&id, text, format!("{id} is changed"))
        }
        What::Reset { entry } => {
            let base = kept::base(machine, &menu.path);
            let (text, id, base) = draft::reset(&app.look(machine)?, menu, entry, base)?;
            Edited {
                base: Some(base),
                ..Edited::of(&id, text, format!("{id} is what draft makes of it now"))
            }
        }
        What::Move { entry, to, other } => {
            let (text, id) = edit::move_entry(menu, entry, &place(to, other.as_deref())?)?;
            Edited::of(&id, text, format!("{id} is moved"))
        }
        What::Remove { entry, guard } => {
            let (text, id, refusal) = edit::remove(&app.look(machine)?, menu, entry)?;
            guard.pass(refusal)?;
            Edited::of(
                &id,
                text,
                format!("{id} is no longer in the menu; `signpost draft --offer-removed` offers it again"),
            )
        }
        What::Noise { hide, remove } => {
            let how = (*hide, *remove);
            let Some((text, done, ids)) = noise::run(app, &app.look(machine)?, menu, how, args.dry_run)?
            else {
                return Ok(None);
            };
            let hidden = if *hide { ids.clone() } else { Vec::new() };
            Edited { hidden, entries: ids, ..Edited::new(text, done) }
        }
        What::Hide { what, why, guard } => {
            return hidden(app, machine, menu, (what, why.as_deref(), guard)).map(Some);
        }
        What::Reveal { what, .. } => {
            let (text, thing) = edit::reveal(menu, what.as_deref().unwrap_or_default())?;
            Edited::new(text, format!("{} is no longer hidden; `signpost draft` offers it again", thing.what))
        }
    }))
}

/// The file with something that draft is never to offer again.
fn hidden(
    app: &App<'_>,
    machine: &Machine,
    menu: &MenuFile,
    (what, why, guard): (&str, Option<&str>, &Despite),
) -> Result<Edited, Failure> {
    let (text, thing, refusal) = edit::hide(&app.look(machine)?, menu, what, why)?;
    guard.pass(refusal)?;
    let hidden: Vec<String> = thing.what.strip_prefix("entry ").map(str::to_string).into_iter().collect();
    let done = format!("{} is hidden; `signpost entry reveal` undoes that", thing.what);
    Ok(Edited { entries: hidden.clone(), hidden, ..Edited::new(text, done) })
}

fn place(to: &str, other: Option<&str>) -> Result<Where, Failure> {
    let named = |make: fn(String) -> Where| {
        let other = other.ok_or_else(|| Failure::Usage(format!("{to} what? name the entry behind it")))?;
        Ok(make(other.to_string()))
    };
    match to {
        "before" => named(Where::Before),
        "after" => named(Where::After),
        "into" => named(Where::Into),
        _ if other.is_some() => Err(Failure::Usage(format!("{to} takes no other entry"))),
        "top" => Ok(Where::Top),
        "bottom" => Ok(Where::Bottom),
        _ => Ok(Where::Out),
    }
}

fn list(app: &App<'_>, menu: &MenuFile) -> Outcome {
    let things = HiddenThings { hidden: edit::hidden(&menu.document) };
    app.show(&things, || {
        if things.hidden.is_empty() {
            return "Nothing is hidden.\n".into();
        }
        let mut table = crate::render::table::Table::new(&["what", "why"]);
        for thing in &things.hidden {
            table.row([thing.what.clone(), thing.why.clone().unwrap_or_default()]);
        }
        table.text()
    });
    Ok(Exit::Done)
}

#[derive(Serialize)]
struct AllRecipes<'a> {
    recipes: &'a [Recipe],
}

fn recipes(app: &App<'_>, machine: &Machine) -> Outcome {
    let recipes = app.recipes(machine)?;
    let all = AllRecipes { recipes: recipes.all() };
    app.show(&all, || {
        let mut table = crate::render::table::Table::new(&["recipe", "for", "starts", "arguments"]);
        for recipe in all.recipes {
            let kind = match recipe.kind {
                RecipeKind::Image => "an image",
                RecipeKind::Linux => "Linux",
                RecipeKind::Efi => "a program",
            };
            table.row([recipe.id.clone(), kind.into(), recipe.title.clone(), recipe.args.clone()]);
        }
        table.text()
    });
    Ok(Exit::Done)
}
