use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use clap_complete::engine::ArgValueCompleter;
use serde::Serialize;
use signpost_core::bios::{self, Held, Note, SectorPlan, Wanted, Which};
use signpost_core::history::Action;
use signpost_facts::{Code, FirmwareKind};
use signpost_firmware::bios::SECTOR;
use signpost_machine::durable::write_durably;
use signpost_machine::{Machine, files, now as time};
use signpost_place::Look;

use super::shared::Despite;
use crate::app::{App, How, Outcome};
use crate::failure::{Exit, Failure};
use crate::{complete, render};

/// Nothing that is saved is longer, in bytes: what lies before the first partition ends at the first MiB.
const MAX_FILE: u64 = 1 << 20;
/// A note is a few lines.
const MAX_NOTE: u64 = 4096;

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
    #[command(flatten)]
    despite: Despite,
}

#[derive(Subcommand)]
enum What {
    /// Show each sector that may hold code: what it is, and what else is worth knowing
    List,
    /// Save sectors to a file, as they are, with a note beside it
    Save {
        /// A disk (d1), a partition (d1p2), or what lies between a disk's first sector and its first partition (d1-gap)
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
        /// A disk (d1), a partition (d1p2), or what lies behind a disk's first sector (d1-gap)
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
            save(app, (&machine, &look), &[(what.clone(), file.clone())])
        }
        What::Save { all: Some(folder), .. } => {
            let gaps = look.survey.boot_sectors.first.iter().filter(|first| first.gap_used > 0);
            let gaps = gaps.map(|first| Which::Gap(first.disk).name(&look));
            let names = bios::held(&look).into_iter().map(|held| held.name).chain(gaps);
            let all: Vec<_> = names.map(|name| (name.clone(), folder.join(format!("{name}.bin")))).collect();
            std::fs::create_dir_all(folder)?;
            save(app, (&machine, &look), &all)
        }
        What::Save { .. } => Err(Failure::Usage("save takes a sector and a file, or --all DIR".into())),
        What::Restore { file, what, table } => {
            let bytes = read(file)?;
            let note = files::read_text(&note_of(file), MAX_NOTE).ok().flatten();
            let note = note.and_then(|text| Note::parse(&text)).map(|note| (note, bytes.clone()));
            let wanted = match bios::which(&look, what)? {
                gap @ Which::Gap(_) => {
                    let before = now(&machine, &look, &gap, bytes.len())?;
                    Wanted::Gap { bytes, before }
                }
                _ => Wanted::Restore { bytes, with_table: *table },
            };
            change(app, &mut machine, args, what, (&wanted, note))
        }
        What::Backup { what } => change(app, &mut machine, args, what, (&Wanted::Backup, None)),
        What::Active { what } => change(app, &mut machine, args, what, (&Wanted::Active, None)),
        What::Standard { what } => change(app, &mut machine, args, what, (&Wanted::Standard, None)),
    }
}

fn read(file: &Path) -> Result<Vec<u8>, Failure> {
    let bytes = files::read(file, MAX_FILE).and_then(|bytes| {
        bytes.ok_or_else(|| std::io::Error::new(std::io::ErrorKind::NotFound, "there is no such file"))
    });
    bytes.map_err(|error| Failure::Other(format!("{}: {error}", file.display())))
}

/// The note beside a file of sectors.
fn note_of(file: &Path) -> PathBuf {
    file.with_extension("toml")
}

/// What stands now where a sector stands, so many bytes of it.
fn now(machine: &Machine, look: &Look, which: &Which, length: usize) -> Result<Vec<u8>, Failure> {
    let place = which.place(look);
    let identity = place.and_then(|(disk, offset)| Some((look.survey.disk(disk)?.identity()?, offset)));
    let none = || Failure::Other(format!("nothing tells the disk of {} from other disks", which.name(look)));
    let (identity, offset) = identity.ok_or_else(none)?;
    Ok(machine.read_sectors(identity, offset, length)?)
}

/// The bytes of a sector; of what lies behind a disk's first one, as far as something is used.
fn held(machine: &Machine, look: &Look, which: &Which) -> Result<Vec<u8>, Failure> {
    if let Some(bytes) = which.bytes(look) {
        return Ok(bytes.to_vec());
    }
    let mut bytes = now(machine, look, which, usize::try_from(which.length(look)).unwrap_or_default())?;
    let used = bytes.chunks(SECTOR).rposition(|sector| sector.iter().any(|byte| *byte != 0));
    bytes.truncate(used.map_or(0, |last| (last + 1) * SECTOR));
    Ok(bytes)
}

/// Saves sectors, each with a note, none over a file that is there.
fn save(app: &App<'_>, (machine, look): (&Machine, &Look), wanted: &[(String, PathBuf)]) -> Outcome {
    let mut files = Vec::new();
    let taken = wanted.iter().flat_map(|(_, file)| [file.clone(), note_of(file)]).find(|file| file.exists());
    if let Some(file) = taken {
        return Err(Failure::Other(format!("{} is there already; nothing was saved", file.display())));
    }
    for (what, file) in wanted {
        let which = bios::which(look, what)?;
        let bytes = held(machine, look, &which)?;
        if bytes.is_empty() {
            return Err(Failure::Other(format!("{what} is empty; there is nothing to save")));
        }
        write_durably(file, &bytes)?;
        if let Some(note) = Note::of(look, &which, &bytes, time()) {
            write_durably(&note_of(file), note.text().as_bytes())?;
        }
        files.push(file.display().to_string());
    }
    let saved = Saved { files };
    app.report(&saved, || saved.files.iter().map(|file| format!("{file} saved\n")).collect());
    Ok(Exit::Done)
}

fn change(
    app: &App<'_>,
    machine: &mut Machine,
    args: &SectorArgs,
    what: &str,
    (wanted, note): (&Wanted, Option<(Note, Vec<u8>)>),
) -> Outcome {
    let (mut records, plan): (_, SectorPlan) = app.plan(machine, |look, _| {
        let which = bios::which(look, what)?;
        let mut plan = bios::plan(look, &which, wanted)?;
        let foreign = note.as_ref().and_then(|(note, bytes)| note.refusal(look, &which, bytes));
        if plan.refusals.iter().all(|refusal| refusal.code != Code::SectorForeign) {
            plan.refusals.extend(foreign);
        }
        Ok(plan)
    })?;
    let how = How {
        is_trial: args.dry_run,
        text: &|| render::sector::planned(&plan),
        question: Some("Write this?"),
        is_overridden: &|refusal| args.despite.has(refusal),
    };
    if app.carry_through((machine, &mut records), (Action::Sector, &plan), &how)?.is_some() {
        app.report(&plan, || render::sector::done(&plan));
    }
    Ok(Exit::Done)
}
