use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use signpost_core::history::Action;
use signpost_core::hold::{MAX_SAME, hold};
use signpost_core::plan::pass;
use signpost_facts::{Code, Refusal};
use signpost_machine::durable::write_durably;
use signpost_machine::files;
use signpost_upkeep::{kept, now};

use super::shared::{found_beside_us, guard_codes};
use crate::app::{App, How, Outcome};
use crate::failure::{Exit, Failure};
use crate::render;

/// Put right again what was put in force: the boot order, our entries, the boot program, the menu
///
/// Another system's update often puts itself first, or removes what it does not know. Run at each start, by the units that
/// --units writes, this keeps what was decided. Nothing is written that is as it should be; a menu that was changed and not
/// applied, or changed at boot, is left alone.
#[derive(Args)]
pub struct HoldArgs {
    /// Show what would be put right, and write nothing
    #[arg(long)]
    show: bool,
    /// Show what had to be put right, and when
    #[arg(long, conflicts_with = "show")]
    log: bool,
    /// Write systemd units into this folder, which run it at each start, after updates, and once a day
    #[arg(long, value_name = "DIR", conflicts_with_all = ["show", "log"])]
    units: Option<PathBuf>,
    /// Override these guards, by their codes
    #[arg(long, value_name = "CODE", value_delimiter = ',', value_parser = guard_codes())]
    despite: Vec<Code>,
}

/// The units, by their names.
const UNITS: [(&str, &str); 3] = [
    ("signpost-hold.service", include_str!("../../units/signpost-hold.service")),
    ("signpost-hold.path", include_str!("../../units/signpost-hold.path")),
    ("signpost-hold.timer", include_str!("../../units/signpost-hold.timer")),
];

pub fn run(app: &App<'_>, args: &HoldArgs) -> Outcome {
    if let Some(folder) = &args.units {
        return units(app, folder);
    }
    let (mut machine, _lock) = app.machine_to_change_unless(args.show || args.log)?;
    let mut log = kept::log(&machine)?;
    if args.log {
        app.show(&log, || render::hold::log(&log));
        return Ok(Exit::Done);
    }
    let (mut records, plan) = app.plan(&machine, |look, history| {
        let held = kept::held(&machine, history)?;
        Ok(hold(look, history, held.as_ref(), found_beside_us())?)
    })?;
    let what: Vec<String> = plan.writes.iter().map(|change| change.what().to_string()).collect();
    if args.show {
        app.show(&plan, || render::hold::plan(&plan, log.is_in_vain(&what)));
        return Ok(Exit::Done);
    }
    if log.is_in_vain(&what) {
        return Err(Failure::Problem(format!(
            "the same was put right {MAX_SAME} times in a row and did not last: {}; nothing more is written. This firmware, \
             or a system at each start, writes it anew. What else helps: `tune spare-path=true` and `apply`, so that the \
             firmware's own way leads to the menu too; the boot order in the firmware's own screen; the other system's \
             setting that puts it first. `apply` starts counting anew",
            what.join(", ")
        )));
    }
    let is_overridden = |refusal: &Refusal| args.despite.contains(&refusal.code);
    pass(&plan.refusals, is_overridden)?;
    // Noted before it is tried: a firmware that refuses is not written to at every start for ever.
    if log.note(now(), machine.boot_id(), &plan.found, what) {
        kept::keep_log(&machine, &log)?;
    }
    let how = How { is_trial: false, text: &String::new, question: None, is_overridden: &is_overridden };
    app.carry_through((&mut machine, &mut records), (Action::Hold, &plan), &how)?;
    app.report(&plan, || render::hold::done(&plan));
    Ok(Exit::Done)
}

fn units(app: &App<'_>, folder: &Path) -> Outcome {
    let failed = |path: &Path, error: std::io::Error| Failure::Other(format!("{}: {error}", path.display()));
    std::fs::create_dir_all(folder).map_err(|error| failed(folder, error))?;
    let (mut written, mut left) = (Vec::new(), Vec::new());
    let program = std::env::current_exe()?;
    let mut words = vec![program.display().to_string()];
    if let Some(menu) = app.named_menu() {
        words.extend(["--menu".to_string(), std::path::absolute(menu)?.display().to_string()]);
    }
    let command = words.iter().map(|word| unit_word(word)).collect::<Vec<_>>().join(" ");
    for (name, text) in UNITS {
        let path = folder.join(name);
        let text = text.replace(INSTALLED, &command);
        match owner(&path).map_err(|error| failed(&path, error))? {
            Owner::Us => {
                write_durably(&path, marked(&text).as_bytes())?;
                written.push(name);
            }
            Owner::Somebody(why) => left.push(Left { name, why }),
        }
    }
    app.report(&UnitsWritten { written: &written, left: &left }, || {
        let mut said = String::new();
        if !written.is_empty() {
            said = format!(
                "{} in {}; `systemctl enable --now {}` turns them on.\n",
                written.join(", "),
                folder.display(),
                written.join(" ")
            );
        }
        for Left { name, why } in &left {
            said.push_str(&format!("{name} {why}, and stays as it is.\n"));
        }
        said
    });
    Ok(Exit::Done)
}

/// What came of writing units.
#[derive(Serialize)]
struct UnitsWritten<'a> {
    written: &'a [&'static str],
    left: &'a [Left],
}

/// A unit that was left alone.
#[derive(Serialize)]
struct Left {
    name: &'static str,
    why: &'static str,
}

/// Whose a unit's file is.
enum Owner {
    /// There is none, or it is as we wrote it.
    Us,
    /// Somebody has made it another: what it is.
    Somebody(&'static str),
}

fn owner(path: &Path) -> std::io::Result<Owner> {
    /// No unit is longer, in bytes.
    const MAX_UNIT: u64 = 1 << 20;
    match std::fs::symlink_metadata(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Owner::Us),
        Err(error) => return Err(error),
        Ok(found) if found.is_symlink() => {
            let masked = std::fs::read_link(path)? == Path::new("/dev/null");
            return Ok(Owner::Somebody(if masked { "is masked" } else { "is a link" }));
        }
        Ok(_) => {}
    }
    let held = files::read_text(path, MAX_UNIT)?.unwrap_or_default();
    let (_, text) = held.split_once('\n').unwrap_or_default();
    Ok(if marked(text) == held { Owner::Us } else { Owner::Somebody("was edited") })
}

/// A unit's text under a line that tells whether it is as we wrote it.
fn marked(text: &str) -> String {
    format!(
        "# Written by `signpost hold --units`, checksum {:08x}; a file that is edited is left alone.\n{text}",
        crc32fast::hash(text.as_bytes())
    )
}

/// The program as the packaged units name it.
const INSTALLED: &str = "/usr/bin/signpost";

/// A word of a unit's command line (systemd.service(5), "Command lines"): quoted where it has to be, `%` and `$` for
/// themselves.
fn unit_word(word: &str) -> String {
    let plain = word.replace('%', "%%").replace('$', "$$");
    if plain.chars().all(|c| c.is_ascii_alphanumeric() || "/._-+:@%$=,".contains(c)) {
        return plain;
    }
    format!("\"{}\"", plain.replace('\\', "\\\\").replace('"', "\\\""))
}
