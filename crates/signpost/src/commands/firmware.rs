use clap::{Args, Subcommand};
use clap_complete::engine::ArgValueCompleter;
use signpost_core::firmware::{self, NewFirmwareEntry, Tidy, Wish};
use signpost_core::history::Action;
use signpost_facts::Refusal;
use signpost_machine::Machine;
use signpost_upkeep::Records;

use super::shared::Despite;
use crate::app::{App, How, Outcome};
use crate::failure::{Exit, Failure};
use crate::{complete, render};

/// See, order and tidy the firmware's own entries
///
/// An entry is named by its number, which is hexadecimal (3, 0003 and Boot0003 are the same), or by its label, or any part
/// of it that fits no other. What was changed is undone by `undo`.
#[derive(Args)]
pub struct FirmwareArgs {
    #[command(subcommand)]
    what: What,
    /// Show what would be written, and write nothing
    #[arg(long, global = true)]
    dry_run: bool,
    #[command(flatten)]
    despite: Despite,
}

#[derive(Subcommand)]
enum What {
    /// Show every entry: what it leads to, who made it, problems with it
    List {
        /// Show device paths too, in the specification's text form
        #[arg(long)]
        paths: bool,
    },
    /// Put entries first in the boot order; the others follow as before
    Order {
        /// The entries, the first one first
        #[arg(required = true, value_name = "ENTRY", add = ArgValueCompleter::new(complete::firmware_entries))]
        entries: Vec<String>,
    },
    /// Send the next start, and only that, to an entry
    Next {
        /// The entry
        #[arg(required_unless_present = "clear", add = ArgValueCompleter::new(complete::firmware_entries))]
        entry: Option<String>,
        /// Undo this
        #[arg(long, conflicts_with = "entry")]
        clear: bool,
    },
    /// Make an entry for a program, which must be there and fit the machine
    Add {
        /// Its label
        label: String,
        /// The program, such as d1p1:/EFI/larkspur/lkload.efi
        #[arg(value_name = "PLACE", add = ArgValueCompleter::new(complete::places))]
        program: String,
        /// Arguments for it
        #[arg(long, value_name = "TEXT", default_value = "")]
        args: String,
        /// Make it disabled
        #[arg(long)]
        disabled: bool,
        /// First in the boot order
        #[arg(long, conflicts_with = "last")]
        first: bool,
        /// Last in the boot order, as without --first
        #[arg(long)]
        last: bool,
    },
    /// Give an entry another label
    Rename {
        /// The entry
        #[arg(add = ArgValueCompleter::new(complete::firmware_entries))]
        entry: String,
        /// Its new label
        label: String,
    },
    /// Use an entry that is disabled
    Enable {
        /// The entry
        #[arg(add = ArgValueCompleter::new(complete::firmware_entries))]
        entry: String,
    },
    /// Keep an entry, and have the firmware skip it
    Disable {
        /// The entry
        #[arg(add = ArgValueCompleter::new(complete::firmware_entries))]
        entry: String,
    },
    /// Remove an entry; never the last way to a system
    Remove {
        /// The entry
        #[arg(add = ArgValueCompleter::new(complete::firmware_entries))]
        entry: String,
    },
    /// Show what can be removed, and remove it if you agree
    Tidy,
}

pub fn run(app: &App<'_>, args: &FirmwareArgs) -> Outcome {
    let is_question = matches!(args.what, What::List { .. });
    let (mut machine, _lock) = app.machine_to_change_unless(is_question || args.dry_run)?;
    let look = app.look(&machine)?;
    let records = Records::of(&machine, &look)?;
    let number = |name: &String| firmware::find(&look, name);
    let wish = match &args.what {
        What::List { paths } => {
            let list = firmware::list(&look, records.history());
            app.show(&list, || render::firmware::list(&list, *paths));
            return Ok(Exit::Done);
        }
        What::Tidy => {
            let tidy = firmware::tidy(&look, records.history())?;
            return put_in_order(app, (machine, records), args, &tidy);
        }
        What::Order { entries } => Wish::Order(entries.iter().map(number).collect::<Result<_, _>>()?),
        What::Next { entry, .. } => Wish::Next(entry.as_ref().map(number).transpose()?),
        What::Add { label, program, args, disabled, first, .. } => Wish::Add(NewFirmwareEntry {
            label: label.clone(),
            program: look.typed(program).map_err(|error| Failure::Usage(error.to_string()))?,
            args: args.clone(),
            is_active: !disabled,
            is_first: *first,
        }),
        What::Rename { entry, label } => Wish::Rename(number(entry)?, label.clone()),
        What::Enable { entry } => Wish::Use(number(entry)?, true),
        What::Disable { entry } => Wish::Use(number(entry)?, false),
        What::Remove { entry } => Wish::Remove(number(entry)?),
    };
    let change = firmware::change(&look, records.history(), &wish)?;
    let how = How {
        is_trial: args.dry_run,
        text: &|| render::firmware::planned(&change),
        // What is named, and can be undone, needs no question; what is removed does.
        question: Some("Do this?").filter(|_| matches!(wish, Wish::Remove(_))),
        is_overridden: &is_overridden(args),
    };
    if app.carry_through((&mut machine, &mut { records }), (Action::Firmware, &change), &how)?.is_some() {
        app.report(&change, || render::firmware::done(&change));
    }
    Ok(Exit::Done)
}

/// Shows what can be removed, and removes it where asked to.
fn put_in_order(
    app: &App<'_>,
    (mut machine, mut records): (Machine, Records),
    args: &FirmwareArgs,
    tidy: &Tidy,
) -> Outcome {
    if args.dry_run || tidy.change.writes.is_empty() {
        app.show(tidy, || render::firmware::tidy(tidy));
        return Ok(Exit::Done);
    }
    let how = How {
        is_trial: false,
        text: &|| render::firmware::tidy(tidy),
        question: Some("Tidy it so?"),
        is_overridden: &is_overridden(args),
    };
    app.carry_through((&mut machine, &mut records), (Action::Firmware, &tidy.change), &how)?;
    app.report(tidy, || render::firmware::done(&tidy.change));
    Ok(Exit::Done)
}

fn is_overridden(args: &FirmwareArgs) -> impl Fn(&Refusal) -> bool {
    |refusal| args.despite.has(refusal)
}
