use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use serde::Serialize;
use signpost_core::edit;
use signpost_core::preview::{Screen, screen};
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
struct Preview {
    rows: Vec<String>,
}

pub fn run(app: &App<'_>, args: &PreviewArgs) -> Outcome {
    let machine = app.uefi_machine()?;
    let menu = menu_file::load(&app.menu_file(&machine))?;
    let look = app.look(&machine)?;
    let view = match &args.open {
        Some(group) => Screen::Group(edit::find_group(&menu.document, group)?),
        None if args.keys => Screen::Help,
        None => Screen::List,
    };
    let grid = screen(&look, &menu.document, args.size, view);
    let rows = (0..args.size.1).map(|row| grid.row_text(row)).collect();
    app.show(&Preview { rows }, || render::preview::text(&grid));
    Ok(Exit::Done)
}
