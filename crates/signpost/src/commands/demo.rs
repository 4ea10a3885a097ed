use std::path::{Path, PathBuf};
use std::process::Command;

use clap::{Args, ValueEnum};
use signpost_demo::{StoreKind, gauge, tide};
use signpost_facts::FirmwareKind;

use super::shared::found_beside_us;
use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::render::{out, style};

/// Make a machine to try things on, and walk through the job
///
/// The machine is a bench: a folder with disk images and firmware variables of made-up systems. Nothing
/// else is touched.
#[derive(Args)]
pub struct DemoArgs {
    /// Folder for the bench; it must be empty or not there [default: a new temporary folder]
    dir: Option<PathBuf>,
    /// Which machine
    #[arg(long, value_enum, default_value_t = Kind::Tide)]
    kind: Kind,
    /// Only make the bench
    #[arg(long)]
    bench_only: bool,
}

/// The machines that there are.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Kind {
    /// A PC with UEFI, three disks and four systems
    Tide,
    /// An older one with BIOS
    Gauge,
    /// One with BIOS that has room for a menu
    Lathe,
}

type Walk = &'static [(&'static str, &'static [&'static str])];

/// The walk with the boot program: what is explained, and what is typed.
const WITH_BOOT_PROGRAM: Walk = &[
    LOOK,
    REHEARSE,
    (
        "Make a menu file of what was found, for our boot program to show. It is yours to edit.",
        &["draft", "--host", "signpost"],
    ),
    MENU,
    ("The boot screen, as the boot program will draw it.", &["preview", "--size", "72x16"]),
    PLAN,
    APPLY,
    UNDO,
    AGAIN,
    ("What will the next start do?", &["rehearse"]),
    ("And what if somebody chose the other system?", &["rehearse", "--choose", "meridian"]),
    ("Send the next start there, once; then clear that.", &["once", "meridian"]),
    ("", &["once", "--clear", "--quiet"]),
    ("So the next start goes where the menu says:", &["rehearse"]),
];

/// The walk without it.
const WITH_FIRMWARE: Walk = &[
    LOOK,
    REHEARSE,
    ("Make a menu file of what was found. It is yours to edit.", &["draft"]),
    MENU,
    PLAN,
    APPLY,
    UNDO,
    AGAIN,
    ("What will the next start do?", &["rehearse"]),
];

type Stop = (&'static str, &'static [&'static str]);
const LOOK: Stop =
    ("Tide bench PC 2 stands in an observatory. Look at it first: nothing is changed by that.", &["survey"]);
const REHEARSE: Stop =
    ("An update of Meridian Desktop has put itself first. Follow a start, without one:", &["rehearse"]);
const MENU: Stop = ("The menu: what each entry would start, and whether that is there.", &["menu"]);
const PLAN: Stop = ("What would be written to make it active? Nothing is written yet.", &["plan"]);
const APPLY: Stop = ("Make it active.", &["apply", "--yes"]);
const UNDO: Stop = ("A change of mind: undo it. The machine is as it was.", &["undo", "--yes"]);
const AGAIN: Stop = ("And active again.", &["apply", "--yes", "--quiet"]);

/// Commands to try next.
const NEXT: [&str; 6] =
    ["history", "undo --dry-run", "survey --json", "rehearse --without 2", "explain entry-stale", "apply"];

/// On a bench that nothing was done to.
const NEXT_AT_FIRST: [&str; 5] = ["", "survey", "check", "draft", "rehearse"];

const NEXT_BIOS: [&str; 5] = ["survey d1", "survey d1p5", "sector active d1p2 --dry-run", "draft", "history"];

/// The walk on a machine of before UEFI, as far as a mishap.
const BIOS: Walk = &[
    ("Gauge logger stands at the pier, and is older than UEFI. What is on it?", &["survey"]),
    ("It starts by the first sector of its disk. Follow a start, without one:", &["rehearse"]),
    ("Whose code stands where, before anything is dared:", &["sector", "list"]),
    ("Save all of it, each sector to a file that any tool takes.", &["sector", "save", "--all"]),
];

/// And from there on.
const BIOS_HURT: Walk = &[
    ("Another system's installer has put code of its own into the first sector. What is wrong?", &["check"]),
    ("Cure it. Only the code goes back; the table stays as it is.", &["mend", "--yes"]),
    ("It was a mistake? Undo it, byte by byte.", &["undo", "--yes"]),
    ("And once more, now by what was saved.", &["sector", "restore", "d1.bin", "d1", "--yes"]),
];
/// The walk on one with room for a menu.
const BIOS_MENU: Walk = &[
    ("Lathe PC stands in the workshop, and is older than UEFI too. What is on it?", &["survey"]),
    (
        "Make a menu file of what was found, for our boot program to show. It is yours to edit.",
        &["draft", "--host", "signpost"],
    ),
    PLAN,
    APPLY,
    ("Follow a start, from the first sector of the disk on:", &["rehearse"]),
    ("And what if somebody chose the old system?", &["rehearse", "--choose", "gaugedos"]),
    UNDO,
];

/// Where the demo keeps saved sectors, in the bench.
const SAVED: &str = "sectors";

pub fn run(app: &App<'_>, args: &DemoArgs) -> Outcome {
    let folder = match &args.dir {
        Some(folder) => empty(folder)?,
        None => tempfile::Builder::new().prefix("signpost-bench-").tempdir()?.keep(),
    };
    match args.kind {
        Kind::Tide => tide::bench(StoreKind::Fd).write(&folder)?,
        Kind::Gauge => gauge::write(&folder)?,
        Kind::Lathe => gauge::write_lathe(&folder)?,
    }
    let folder = folder.canonicalize().unwrap_or(folder);
    if !args.bench_only && args.kind == Kind::Gauge {
        walk(&folder, BIOS)?;
        gauge::overwrite_first_sector(&folder)?;
        walk(&folder, BIOS_HURT)?;
    } else if !args.bench_only && args.kind == Kind::Lathe {
        let has_program = found_beside_us(FirmwareKind::Bios).is_some();
        walk(&folder, if has_program { BIOS_MENU } else { BIOS })?;
    } else if !args.bench_only {
        if found_beside_us(FirmwareKind::Uefi).is_some() {
            walk(&folder, WITH_BOOT_PROGRAM)?;
        } else {
            walk(&folder, WITH_FIRMWARE)?;
            out::text(
                "There is more to see with the boot program, which shows the menu by itself: `cargo xtask boot` \
                 builds it, then run the demo again.\n\n",
            );
        }
    }
    if app.is_quiet() {
        return Ok(Exit::Done);
    }
    out::text(&style::heading(&format!("The bench is in {}\n", folder.display())));
    let (lead, next): (&str, &[&str]) = match (args.kind, args.bench_only) {
        (Kind::Gauge | Kind::Lathe, _) => ("Try next:", &NEXT_BIOS),
        (Kind::Tide, true) => ("Try:", &NEXT_AT_FIRST),
        (Kind::Tide, false) => ("Try next, or edit its menu.toml and look at the menu again:", &NEXT),
    };
    let mut text = format!("{lead}\n\n");
    for command in next {
        text.push_str(format!("  signpost --machine {} {command}", folder.display()).trim_end());
        text.push('\n');
    }
    out::text(&text);
    Ok(Exit::Done)
}

fn empty(folder: &Path) -> Result<PathBuf, Failure> {
    let is_free = match std::fs::read_dir(folder) {
        Ok(mut entries) => entries.next().is_none(),
        Err(error) => error.kind() == std::io::ErrorKind::NotFound,
    };
    if is_free {
        Ok(folder.to_path_buf())
    } else {
        Err(Failure::Other(format!(
            "{} is not an empty folder; the demo writes into a new one",
            folder.display()
        )))
    }
}

/// Runs the real commands, one after the other, each as one would type it.
fn walk(folder: &Path, walk: Walk) -> Result<(), Failure> {
    let program = std::env::current_exe()?;
    let saved = folder.join(SAVED);
    for (said, typed) in walk {
        let said = if said.is_empty() { String::new() } else { style::heading(said) + "\n" };
        let mut words: Vec<String> = typed.iter().map(ToString::to_string).collect();
        if *typed == ["sector", "save", "--all"] {
            words.push(saved.display().to_string());
        }
        for word in words.iter_mut().filter(|word| word.ends_with(".bin")) {
            *word = saved.join(&*word).display().to_string();
        }
        out::text(&format!(
            "{said}{}\n\n",
            style::faint(&format!("$ signpost --machine {} {}", folder.display(), words.join(" ")))
        ));
        let status = Command::new(&program).arg("--machine").arg(folder).args(&words).status()?;
        // A check that finds problems ends with 1.
        if !matches!(status.code(), Some(0 | 1)) {
            return Err(Failure::Other(format!("signpost {} ended with {status}", typed.join(" "))));
        }
        out::text("\n");
    }
    Ok(())
}
