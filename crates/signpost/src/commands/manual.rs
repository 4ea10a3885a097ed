use std::path::PathBuf;

use clap::{Args, Command};
use serde::Serialize;
use signpost_machine::os_words;

use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::help;

/// Write the manual pages into a folder
#[derive(Args)]
pub struct ManualArgs {
    /// The folder; its `man1` and `man5` are made where they are not there
    folder: PathBuf,
}

#[derive(Serialize)]
struct Written {
    pages: Vec<String>,
}

pub fn run(app: &App<'_>, args: &ManualArgs, line: Command) -> Outcome {
    let failed = |error: std::io::Error| {
        Failure::Other(format!("{}: {}", args.folder.display(), os_words::words(&error)))
    };
    let written = Written { pages: help::manual::write(line, &args.folder).map_err(failed)? };
    let text =
        || format!("{} pages in {}; `man -l FILE` shows one\n", written.pages.len(), args.folder.display());
    app.report(&written, text);
    Ok(Exit::Done)
}
