use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use clap_complete::engine::ArgValueCompleter;
use serde::Serialize;
use signpost_core::bios::{self, Held, SectorPlan, Wanted};
use signpost_core::history::Action;
use signpost_facts::{Code, FirmwareKind};
use signpost_machine::durable::write_durably;
use signpost_machine::{Machine, files};
use signpost_place::Look;

use super::shared::guard_codes;
use crate::app::{App, How, Outcome};
use crate::failure::{Exit, Failure};
use crate::{complete, render};

/// No sector that is saved is longer, in bytes.
const MAX_FILE: u64 = 4096;

/// See, save and put back what BIOS firmware starts by
///
/// A disk's first sector holds code and the partition table; the code is changed here, and the table is not, unless that is asked
/// for. A partition's boot sector is a part of its file system. `signpost undo` undoes a change.
#[derive(Args)]
pub struct SectorArgs {
    #[command(subcommand)]
    what: What,
    /// Show what would be written, and write nothing
    #[arg(long, global = true)]
    dry_run: bool,
    /// Override these guards, by their codes
    #[arg(long, global = true, value_name = "CODE", value_delimiter = ',', value_parser = guard_codes(), hide_possible_values = true)]
    despite: Vec<Code>,
}

#[derive(Subcommand)]
enum What {
    /// Show each sector that may hold code: what it is, and what else is worth knowing
    List,
    /// Save a sector to a file of 512 bytes
    Save {
        /// A disk (d1) or a partition (d1p2)
        #[arg(required_unless_present = "all", add = ArgValueCompleter::new(complete::surveyed))]
        what: Option<String>,
        /// The file; it must not be there
        #[arg(required_unless_present = "all", conflicts_with = "all")]
        file: Option<PathBuf>,
        /// Save every sector, each to a file of its name in this folder
        #[arg(long, value_name = "DIR", conflicts_with = "what")]
        all: Option<PathBuf>,
    },
    /// Put a saved sector back
    Restore {
        /// The file
        file: PathBuf,
        /// A disk (d1) or a partition (d1p2)
        #[arg(add = ArgValueCompleter::new(complete::surveyed))]
        what: String,
        /// Of a disk's first sector, put the partition table back too
        #[arg(long)]
        table: bool,
    },
    /// Put a partition's boot sector back from the copy that its file system keeps
    Backup {
        /// A partition (d1p2)
        #[arg(add = ArgValueCompleter::new(complete::surveyed))]
        what: String,
    },
    /// Make a partition the active one of its disk
    Active {
        /// A partition (d1p2)
        #[arg(add = ArgValueCompleter::new(complete::surveyed))]
        what: String,
    },
    /// Write plain code, which starts the active partition, into a disk's first sector
    Standard {
        /// A disk (d1)
        #[arg(add = ArgValueCompleter::new(complete::surveyed))]
        what: String,
    },
}

#[derive(Serialize)]
struct Sectors {
    sectors: Vec<Held>,
}

#[derive(Serialize)]
struct Saved {
    files: Vec<String>,
}

pub fn run(app: &App<'_>, args: &SectorArgs) -> Outcome {
    let is_question = matches!(args.what, What::List | What::Save { .. });
    let (mut machine, _lock) = app.any_machine_to_change_unless(is_question || args.dry_run)?;
    if machine.firmware != FirmwareKind::Bios {
        let why = "this machine starts by UEFI, whose firmware starts files and no sectors; `signpost firmware list` shows its entries";
        return Err(Failure::Usage(why.into()));
    }
    let look = app.look(&machine)?;
    match &args.what {
        What::List => {
            let all = Sectors { sectors: bios::held(&look) };
            app.show(&all, || render::sector::list(&all.sectors));
            Ok(Exit::Done)
        }
        What::Save { what: Some(what), file: Some(file), .. } => {
            save(app, &look, &[(what.clone(), file.clone())])
        }
        What::Save { all: Some(folder), .. } => {
            let all: Vec<_> = bios::held(&look)
                .into_iter()
                .map(|held| (held.name.clone(), folder.join(format!("{}.bin", held.name))))
                .collect();
            std::fs::create_dir_all(folder)?;
            save(app, &look, &all)
        }
        What::Save { .. } => Err(Failure::Usage("save takes a sector and a file, or --all DIR".into())),
        What::Restore { file, what, table } => {
            let bytes = read(file)?;
            change(app, &mut machine, args, what, &Wanted::Restore { bytes, with_table: *table })
        }
        What::Backup { what } => change(app, &mut machine, args, what, &Wanted::Backup),
        What::Active { what } => change(app, &mut machine, args, what, &Wanted::Active),
        What::Standard { what } => change(app, &mut machine, args, what, &Wanted::Standard),
    }
}

fn read(file: &Path) -> Result<Vec<u8>, Failure> {
    let bytes = files::read(file, MAX_FILE).and_then(|bytes| {
        bytes.ok_or_else(|| std::io::Error::new(std::io::ErrorKind::NotFound, "there is no such file"))
    });
    bytes.map_err(|error| Failure::Other(format!("{}: {error}", file.display())))
}

/// Saves sectors, none over a file that is there.
fn save(app: &App<'_>, look: &Look, wanted: &[(String, PathBuf)]) -> Outcome {
    let mut files = Vec::new();
    let taken = wanted.iter().find(|(_, file)| file.exists());
    if let Some((_, file)) = taken {
        return Err(Failure::Other(format!("{} is there already; nothing was saved", file.display())));
    }
    for (what, file) in wanted {
        let which = bios::which(look, what)?;
        let Some((bytes, _)) = which.bytes(look) else { continue };
        write_durably(file, bytes)?;
        files.push(file.display().to_string());
    }
    let saved = Saved { files };
    app.report(&saved, || saved.files.iter().map(|file| format!("{file} saved\n")).collect());
    Ok(Exit::Done)
}

fn change(app: &App<'_>, machine: &mut Machine, args: &SectorArgs, what: &str, wanted: &Wanted) -> Outcome {
    let (mut records, plan): (_, SectorPlan) = app.plan(machine, |look, _| {
        let which = bios::which(look, what)?;
        Ok(bios::plan(look, &which, wanted)?)
    })?;
    let how = How {
        is_trial: args.dry_run,
        text: &|| render::sector::planned(&plan),
        question: Some("Write this?"),
        is_overridden: &|refusal| args.despite.contains(&refusal.code),
    };
    if app.carry_through((machine, &mut records), (Action::Sector, &plan), &how)?.is_some() {
        app.report(&plan, || render::sector::done(&plan));
    }
    Ok(Exit::Done)
}
