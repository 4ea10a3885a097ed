use std::path::Path;

use clap::{Args, Subcommand};
use serde::Serialize;
use signpost_core::draft::Base;
use signpost_core::edit::{self, HiddenThing, NewEntry, Where};
use signpost_core::menu::place::{Place, VolumeRef};
use signpost_core::plan::pass;
use signpost_core::{Code, Refusal, menu_file};

use super::guard_codes;
use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};

/// Change single entries of the menu: add, rename, edit, move, remove, hide, reveal
///
/// An entry is named by its id, its title, or any start of either that fits no other. Everything else in the file stays as
/// it is. `apply` puts the change in force.
#[derive(Args)]
pub struct EntryArgs {
    #[command(subcommand)]
    what: What,
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
        entry: String,
        /// Its new title
        title: String,
    },
    /// Set or drop an entry's keys, checked before they are taken
    Edit {
        /// The entry
        entry: String,
        /// What to set, such as args="root={root} ro"; several initrds are parted by blanks
        #[arg(value_name = "KEY=VALUE", required_unless_present = "drop")]
        assignments: Vec<String>,
        /// A key to drop (can be repeated)
        #[arg(long, value_name = "KEY")]
        drop: Vec<String>,
    },
    /// Put an entry in another place
    Move {
        /// The entry
        entry: String,
        /// top, bottom, before, after, into (a group), out (of its group)
        #[arg(value_parser = ["top", "bottom", "before", "after", "into", "out"])]
        to: String,
        /// The entry or group that is meant by before, after, into
        other: Option<String>,
    },
    /// Take an entry out of the menu; never the last way to start a system
    Remove {
        /// The entry
        entry: String,
        #[command(flatten)]
        guard: Guard,
    },
    /// See to it that draft never offers something again; an entry goes from the menu too
    Hide {
        /// An entry, a volume (v3 or uuid:4F2A-11C9), a system's title, or a file (v4:/EFI/BOOT/BOOTX64.EFI)
        what: String,
        /// Why, for whoever reads the file later
        #[arg(long, value_name = "TEXT")]
        why: Option<String>,
        #[command(flatten)]
        guard: Guard,
    },
    /// Let draft offer something again
    Reveal {
        /// What is hidden, as --list shows it
        #[arg(required_unless_present = "list")]
        what: Option<String>,
        /// Show all that is hidden
        #[arg(long)]
        list: bool,
    },
}

#[derive(Subcommand)]
enum New {
    /// An EFI program, on any volume
    Efi {
        /// Where it is, such as v4:/EFI/meridian/start.efi; the number becomes a name that holds
        #[arg(value_parser = Place::parse)]
        program: Place,
        /// Do not look whether it is there
        #[arg(long)]
        unchecked: bool,
        #[command(flatten)]
        titled: Titled,
    },
    /// A Linux system: kernel, initrd, root and arguments are filled in
    Linux {
        /// The volume that its root is on, such as v3
        #[arg(long, value_name = "VOLUME", value_parser = volume)]
        on: VolumeRef,
        #[command(flatten)]
        titled: Titled,
    },
    /// An entry that the firmware has
    FirmwareEntry {
        /// Its number or its label
        name: String,
        #[command(flatten)]
        titled: Titled,
    },
    /// A heading over other entries; `entry move X into GROUP` fills it
    Group {
        /// Its title
        title: String,
    },
    /// The firmware's own screen
    SetupScreen,
    /// A restart
    Restart,
    /// Power off
    PowerOff,
}

/// A volume, with or without the colon that parts it from a path.
fn volume(text: &str) -> Result<VolumeRef, String> {
    edit::volume_named(text).ok_or_else(|| format!("{text} names no volume; v3 or uuid:4F2A-11C9 does"))
}

#[derive(Args)]
struct Titled {
    /// Its title, instead of the one that is found
    #[arg(long, value_name = "TEXT")]
    title: Option<String>,
}

impl New {
    fn wanted(&self) -> (NewEntry, Option<&str>) {
        let plain = |starts, title| (NewEntry::Plain { starts, title }, None);
        match self {
            Self::Efi { program, unchecked, titled } => {
                (NewEntry::Efi { program: program.clone(), unchecked: *unchecked }, titled.title.as_deref())
            }
            Self::Linux { on, titled } => (NewEntry::Linux { on: on.clone() }, titled.title.as_deref()),
            Self::FirmwareEntry { name, titled } => {
                (NewEntry::FirmwareEntry { name: name.clone() }, titled.title.as_deref())
            }
            Self::Group { title } => (NewEntry::Plain { starts: "group", title: "Group" }, Some(title)),
            Self::SetupScreen => plain("setup-screen", "Firmware screen"),
            Self::Restart => plain("restart", "Restart"),
            Self::PowerOff => plain("power-off", "Power off"),
        }
    }
}

#[derive(Args)]
struct Guard {
    /// Leave out this guard
    #[arg(long, value_name = "CODE", value_parser = guard_codes())]
    despite: Option<Code>,
}

impl Guard {
    fn pass(&self, refusal: Option<Refusal>) -> Result<(), Failure> {
        let refusals: Vec<Refusal> = refusal.into_iter().collect();
        Ok(pass(&refusals, |refusal| Some(refusal.code) == self.despite)?)
    }
}

#[derive(Serialize)]
struct Changed {
    schema: u32,
    /// What was done, in words.
    done: String,
}

#[derive(Serialize)]
struct HiddenThings {
    schema: u32,
    hidden: Vec<HiddenThing>,
}

pub fn run(app: &App<'_>, args: &EntryArgs) -> Outcome {
    let is_question = matches!(args.what, What::Reveal { list: true, .. });
    let (machine, _lock) = app.machine_to_change_unless(is_question)?;
    let path = app.menu_file(&machine);
    let mut hidden = None;
    let (text, done) = match &args.what {
        What::Add { new } => {
            let (wanted, title) = new.wanted();
            let (text, added) = edit::add(&app.look(&machine)?, &path, &wanted, title)?;
            (text, format!("{} is added, \"{}\": {}", added.id, added.title, added.why))
        }
        What::Rename { entry, title } => {
            let (text, id) = edit::rename(&path, entry, title)?;
            (text, format!("{id} is called {title} now"))
        }
        What::Edit { entry, assignments, drop } => {
            let (text, id) = edit::edit(&path, entry, assignments, drop)?;
            (text, format!("{id} is changed"))
        }
        What::Move { entry, to, other } => {
            let (text, id) = edit::move_entry(&path, entry, &place(to, other.as_deref())?)?;
            (text, format!("{id} is moved"))
        }
        What::Remove { entry, guard } => {
            let (text, id, refusal) = edit::remove(&app.look(&machine)?, &path, entry)?;
            guard.pass(refusal)?;
            (text, format!("{id} is no longer in the menu; `draft --offer-removed` offers it again"))
        }
        What::Hide { what, why, guard } => {
            let (text, thing, refusal) = edit::hide(&app.look(&machine)?, &path, what, why.as_deref())?;
            guard.pass(refusal)?;
            hidden = thing.what.strip_prefix("entry ").map(str::to_string);
            (text, format!("{} is hidden; `entry reveal` takes that back", thing.what))
        }
        What::Reveal { list: true, .. } => return list(app, &path),
        What::Reveal { what, .. } => {
            let (text, thing) = edit::reveal(&path, what.as_deref().unwrap_or_default())?;
            (text, format!("{} is hidden no longer; `signpost draft` offers it again", thing.what))
        }
    };
    menu_file::save(&path, &text)?;
    if let Some(id) = hidden {
        // Else draft would take it for removed by hand once it is revealed.
        let record = machine.draft_record(&path);
        let mut base = Base::load(&record);
        base.forget(&id);
        base.save(&record)?;
    }
    let changed = Changed { schema: signpost_core::SCHEMA, done };
    app.report(&changed, || format!("{}.\n", changed.done));
    Ok(Exit::Done)
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
        _ if other.is_some() => Err(Failure::Usage(format!("{to} stands by itself, without another entry"))),
        "top" => Ok(Where::Top),
        "bottom" => Ok(Where::Bottom),
        _ => Ok(Where::Out),
    }
}

fn list(app: &App<'_>, path: &Path) -> Outcome {
    let things = HiddenThings { schema: signpost_core::SCHEMA, hidden: edit::hidden(path)? };
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
