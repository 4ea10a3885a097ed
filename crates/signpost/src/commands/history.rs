use clap::Args;
use serde::Serialize;
use signpost_core::history::{Action, Record};

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render;

/// List what was put in force and taken back
#[derive(Args)]
pub struct HistoryArgs {}

#[derive(Serialize)]
struct Listing<'a> {
    schema: u32,
    records: &'a [Record],
}

pub fn run(app: &App<'_>, _: &HistoryArgs) -> Outcome {
    let machine = app.uefi_machine()?;
    let history = app.history(&machine)?;
    let listing = Listing { schema: signpost_core::SCHEMA, records: history.records() };
    app.show(&listing, || {
        if history.records().is_empty() {
            return "Nothing was put in force yet.\n".into();
        }
        let mut table = render::table::Table::new(&["record", "when", "what", "writes"]);
        for record in history.records() {
            let since = if history.is_undone(record.serial) { ", taken back since" } else { "" };
            let what = match record.action {
                Action::Apply => format!("menu put in force{since}"),
                Action::Firmware => format!("firmware's entries changed{since}"),
                Action::Hold => "put right again".into(),
                Action::Undo { of } => format!("record {of} taken back"),
            };
            table.row([
                record.serial.to_string(),
                record.time.clone(),
                what,
                record.writes.len().to_string(),
            ]);
        }
        table.text()
    });
    Ok(Exit::Done)
}
