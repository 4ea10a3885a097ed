use std::path::PathBuf;

use clap::Args;
use serde::Serialize;

use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};

/// Write the manual pages, one per command, into a folder
#[derive(Args)]
pub struct ManualArgs {
    /// The folder; it is made where it is not there
    folder: PathBuf,
}

#[derive(Serialize)]
struct Written {
    pages: Vec<String>,
}

pub fn run(app: &App<'_>, args: &ManualArgs, command: clap::Command) -> Outcome {
    let failed = |error: std::io::Error| Failure::Other(format!("{}: {error}", args.folder.display()));
    std::fs::create_dir_all(&args.folder).map_err(failed)?;
    clap_mangen::generate_to(command, &args.folder).map_err(failed)?;
    let mut pages: Vec<String> = std::fs::read_dir(&args.folder)
        .map_err(failed)?
        .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
        .filter(|name| name.starts_with("signpost") && name.ends_with(".1"))
        .collect();
    pages.sort();
    let written = Written { pages };
    let text =
        || format!("{} pages in {}; `man -l FILE` shows one\n", written.pages.len(), args.folder.display());
    app.report(&written, text);
    Ok(Exit::Done)
}
