use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use signpost_core::report::Report;
use signpost_machine::durable::write_durably;
use signpost_machine::files;

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render;

/// Put many machines on one page, from what `survey --json` or `check --json` printed on each
///
/// The machines with the worst problems come first. Files that tell of no machine are named, and the others reported all the same.
#[derive(Args)]
pub struct ReportArgs {
    /// Saved documents
    #[arg(value_name = "FILE", required = true)]
    files: Vec<PathBuf>,
    /// Write the report as a page for a browser too, which needs nothing beside it
    #[arg(long, value_name = "FILE")]
    html: Option<PathBuf>,
}

/// Bytes of a document: a machine with thousands of files to tell of has some hundreds of KiB.
const MAX_DOCUMENT: u64 = 64 << 20;

#[derive(Serialize)]
struct Made<'a> {
    #[serde(flatten)]
    report: &'a Report,
    #[serde(skip_serializing_if = "Option::is_none")]
    html: Option<&'a Path>,
}

pub fn run(app: &App<'_>, args: &ReportArgs) -> Outcome {
    let documents = args.files.iter().map(|path| (path.display().to_string(), text(path)));
    let report = Report::of(documents);
    if let Some(file) = &args.html {
        write_durably(file, render::report::html(&report).as_bytes())?;
    }
    let made = Made { report: &report, html: args.html.as_deref() };
    app.show(&made, || render::report::text(&report, args.html.as_deref()));
    Ok(if report.faults.is_empty() { Exit::Done } else { Exit::Problems })
}

fn text(path: &Path) -> Result<String, String> {
    let text = files::read_text(path, MAX_DOCUMENT).map_err(|error| error.to_string())?;
    text.ok_or_else(|| "there is no such file".into())
}
