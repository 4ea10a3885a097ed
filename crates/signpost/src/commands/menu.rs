use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use signpost_core::menu_rows::{MenuRow, left_out, rows};
use signpost_upkeep::menu_file;

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render;

/// Show the menu: what each entry would start, and if it is there
#[derive(Args)]
pub struct MenuArgs {
    /// Only check this file, without a machine: for editors and hooks
    #[arg(long, value_name = "FILE")]
    check: Option<PathBuf>,
    /// Show the members of groups too
    #[arg(long)]
    all: bool,
}

#[derive(Serialize)]
struct Checked {
    file: String,
    entries: usize,
}

#[derive(Serialize)]
struct Menu {
    file: String,
    entries: Vec<MenuRow>,
    /// Systems of the machine that no entry starts.
    left_out: Vec<String>,
}

pub fn run(app: &App<'_>, args: &MenuArgs) -> Outcome {
    if let Some(path) = &args.check {
        return check(app, path);
    }
    let machine = app.machine()?;
    let path = app.menu_file(&machine);
    let document = menu_file::load(&path)?.document;
    let look = app.look(&machine)?;
    let (entries, left_out) = (rows(&look, &document), left_out(&look, &document));
    let menu = Menu { file: path.display().to_string(), entries, left_out };
    app.show(&menu, || {
        render::menu::text(&menu.file, &document, &menu.entries, machine.firmware, args.all)
            + &render::menu::left_out("Not in the menu", &menu.left_out)
    });
    Ok(Exit::Done)
}

fn check(app: &App<'_>, path: &Path) -> Outcome {
    let document = menu_file::load(path)?.document;
    let entries = document.entries.len();
    let checked = Checked { file: path.display().to_string(), entries };
    app.report(&checked, || {
        format!("{} is valid: {entries} entr{}.\n", checked.file, if entries == 1 { "y" } else { "ies" })
    });
    Ok(Exit::Done)
}
