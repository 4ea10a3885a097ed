use clap::Args;
use serde::Serialize;
use signpost_core::history::{Action, History, Progress, Record};
use signpost_facts::change::Change;
use signpost_upkeep::Records;

use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::render::style;
use crate::render::table::Table;

/// List what was done, or show one step in full
#[derive(Args)]
pub struct HistoryArgs {
    /// The number of a step, to see everything that it wrote
    #[arg(value_name = "NUMBER")]
    number: Option<u32>,
}

#[derive(Serialize)]
struct Listing<'a> {
    records: &'a [Record],
    /// Records that cannot be read, each with why.
    unreadable: Vec<&'a str>,
}

pub fn run(app: &App<'_>, args: &HistoryArgs) -> Outcome {
    let machine = app.uefi_or_bios_machine()?;
    let records = Records::of(&machine, &app.look(&machine)?)?;
    let history = records.history();
    if let Some(number) = args.number {
        let record = history.record(number).ok_or_else(|| {
            Failure::Usage(format!("there is no record {number}; `signpost history` lists them"))
        })?;
        app.show(record, || one(history, record));
        return Ok(Exit::Done);
    }
    let unreadable: Vec<&str> = history.faults().collect();
    let listing = Listing { records: history.records(), unreadable };
    app.show(&listing, || all(history, &listing.unreadable));
    Ok(Exit::Done)
}

fn all(history: &History, unreadable: &[&str]) -> String {
    let notes: String = unreadable
        .iter()
        .map(|fault| format!("  {} a record cannot be read: {fault}\n", style::problem("note:")))
        .collect();
    if history.records().is_empty() {
        return notes + "Nothing was done yet.\n";
    }
    let mut table = Table::new(&["record", "when", "what", "writes"]);
    for record in history.records() {
        let writes = record.writes.len();
        table.row([
            record.serial.to_string(),
            record.time.clone(),
            what(history, record),
            writes.to_string(),
        ]);
    }
    table.text() + &notes
}

fn what(history: &History, record: &Record) -> String {
    let what = match record.action {
        Action::Apply => "menu applied".to_string(),
        Action::Remove => "removed from the machine".into(),
        Action::Firmware => "firmware's entries changed".into(),
        Action::Once => "next start set".into(),
        Action::Mend => "mended what was wrong".into(),
        Action::Sector => "boot sectors changed".into(),
        Action::Hold => "corrected by hold".into(),
        Action::Undo { of } => format!("undone back to before record {of}"),
    };
    let progress = match record.progress {
        Progress::Done => String::new(),
        Progress::Begun => ", not finished".into(),
        Progress::Failed { after } => format!(", stopped after {after} of {} writes", record.writes.len()),
    };
    let since = if history.is_undone(record.serial) { ", undone since" } else { "" };
    format!("{what}{progress}{since}")
}

fn one(history: &History, record: &Record) -> String {
    let mut text = format!("Record {} of {}: {}\n\n", record.serial, record.time, what(history, record));
    for (number, write) in (1..).zip(record.writes.iter().map(Change::what)) {
        text.push_str(&format!("  {number}. {write}\n"));
    }
    text + &format!("\n`signpost undo {}` goes back to before it.\n", record.serial)
}
