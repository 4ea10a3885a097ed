use std::path::{Path, PathBuf};
use std::process::Command;

use clap::Args;
use signpost_demo::{StoreKind, tide};

use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::render::{out, style};

/// Make a machine to try things on, and walk through the whole job on it
///
/// The machine is a bench: a folder with disk images and firmware variables of made-up systems. Nothing
/// else is touched.
#[derive(Args)]
pub struct DemoArgs {
    /// Folder for the bench; it must be empty or not there [default: a new temporary folder]
    dir: Option<PathBuf>,
    /// Only make the bench
    #[arg(long)]
    bench_only: bool,
}

/// The walk: what is said, and what is typed.
const WALK: [(&str, &[&str]); 9] = [
    ("Tide bench PC 2 stands in an observatory. Look at it first: nothing is changed by that.", &["survey"]),
    ("An update of Meridian Desktop has put itself first. Follow a start, without one:", &["rehearse"]),
    ("Make a menu file of what was found. It is yours to edit.", &["draft"]),
    ("The menu: what each entry would start, and whether that is there.", &["menu"]),
    ("What would put it in force? Nothing is written yet.", &["plan"]),
    ("Put it in force.", &["apply", "--yes"]),
    ("A change of mind: take it back. The machine is as it was.", &["undo", "--yes"]),
    ("And in force again.", &["apply", "--yes", "--quiet"]),
    ("What will the next start do?", &["rehearse"]),
];

/// Commands to try next.
const NEXT: [&str; 5] = ["history", "undo --dry-run", "survey --json", "explain entry-stale", "apply"];

pub fn run(_: &App<'_>, args: &DemoArgs) -> Outcome {
    let folder = match &args.dir {
        Some(folder) => empty(folder)?,
        None => tempfile::Builder::new().prefix("tide-bench-").tempdir()?.keep(),
    };
    tide::bench(StoreKind::Fd).write(&folder)?;
    let folder = folder.canonicalize().unwrap_or(folder);
    if !args.bench_only {
        walk(&folder)?;
    }
    out::text(&style::heading(&format!("The bench is in {}\n", folder.display())));
    let mut text = String::from("Try next, or edit its menu.toml and look at the menu again:\n\n");
    for command in NEXT {
        text.push_str(&format!("  signpost --machine {} {command}\n", folder.display()));
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
            "{} is no empty folder; the demo writes into a new one",
            folder.display()
        )))
    }
}

/// Runs the real commands, one after the other, each as one would type it.
fn walk(folder: &Path) -> Result<(), Failure> {
    let program = std::env::current_exe()?;
    for (said, typed) in WALK {
        out::text(&format!(
            "{}\n{}\n\n",
            style::heading(said),
            style::faint(&format!("$ signpost --machine {} {}", folder.display(), typed.join(" ")))
        ));
        let status = Command::new(&program).arg("--machine").arg(folder).args(typed).status()?;
        if !status.success() {
            return Err(Failure::Other(format!("signpost {} ended with {status}", typed.join(" "))));
        }
        out::text("\n");
    }
    Ok(())
}
