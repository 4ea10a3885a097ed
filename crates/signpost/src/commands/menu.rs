use clap::Args;
use serde::Serialize;
use signpost_core::menu_file;
use signpost_core::resolve::{MenuRow, rows};

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render;

/// Show the menu: its entries, what each would start, and whether that is there
#[derive(Args)]
pub struct MenuArgs {}

#[derive(Serialize)]
struct Menu {
    schema: u32,
    file: String,
    entries: Vec<MenuRow>,
}

pub fn run(app: &App<'_>, _: &MenuArgs) -> Outcome {
    let machine = app.machine()?;
    let path = app.menu_file(&machine);
    let document = menu_file::load(&path)?.document;
    let look = app.look(&machine)?;
    let menu = Menu {
        schema: signpost_core::SCHEMA,
        file: path.display().to_string(),
        entries: rows(&look, &document),
    };
    app.show(&menu, || render::menu::text(&menu.file, &document, &menu.entries));
    Ok(Exit::Done)
}
