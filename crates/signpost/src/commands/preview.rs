use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use serde::Serialize;
use signpost_core::edit;
use signpost_core::preview::{Screen, preview};
use signpost_upkeep::menu_file;

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::{complete, render};

/// Show the boot screen as the boot program would draw it
#[derive(Args)]
pub struct PreviewArgs {
    /// Columns and rows of the screen
    #[arg(long, value_name = "COLUMNSxROWS", default_value = "80x25", value_parser = size)]
    size: (usize, usize),
    /// Show the help instead of the list
    #[arg(long)]
    keys: bool,
    /// Show this group, opened
    #[arg(long, value_name = "GROUP", conflicts_with = "keys", add = ArgValueCompleter::new(complete::ids))]
    open: Option<String>,
}

/// Largest screen in either direction.
const MAX_SIZE: usize = 500;

fn size(text: &str) -> Result<(usize, usize), String> {
    let numbers =
        text.split_once('x').and_then(|(columns, rows)| Some((columns.parse().ok()?, rows.parse().ok()?)));
    numbers
        .filter(|(columns, rows)| (1..=MAX_SIZE).contains(columns) && (1..=MAX_SIZE).contains(rows))
        .ok_or_else(|| format!("two whole numbers up to {MAX_SIZE} joined by a small x, such as 80x25"))
}

#[derive(Serialize)]
struct Rows {
    rows: Vec<String>,
    notes: Vec<String>,
}

pub fn run(app: &App<'_>, args: &PreviewArgs) -> Outcome {
    let machine = app.uefi_or_bios_machine()?;
    let menu = menu_file::load(&app.menu_file(&machine))?;
    let look = app.look(&machine)?;
    let view = match &args.open {
        Some(group) => Screen::Group(edit::find_group(&menu.document, group)?),
        None if args.keys => Screen::Help,
        None => Screen::List,
    };
    let preview = preview(&look, &menu.document, args.size, view);
    let rows = (0..args.size.1).map(|row| preview.grid.row_text(row)).collect();
    let text = || render::preview::text(&preview.grid) + &render::plan::notes(&preview.notes);
    app.show(&Rows { rows, notes: preview.notes.clone() }, text);
    Ok(Exit::Done)
}
