use std::path::PathBuf;

use clap::Args;
use signpost_machine::Machine;

use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};

/// Make a bench of another PC's disks, to check and mend them here
///
/// The disks are named by --disk: images, or devices such as /dev/sdb. They are not touched by this; what is done with
/// --machine DIR then is done to them. Firmware entries live in a PC and not on its disks, so the bench begins with none.
#[derive(Args)]
pub struct BenchArgs {
    /// Folder for the bench; it must be empty or not there
    dir: PathBuf,
}

pub fn run(app: &App<'_>, args: &BenchArgs) -> Outcome {
    let disks = app.disks();
    if disks.is_empty() {
        return Err(Failure::Usage(
            "name the disks: --disk /dev/sdb, or --disk IMAGE; several can be named".into(),
        ));
    }
    Machine::make_bench(&args.dir, disks)?;
    let dir = args.dir.display().to_string();
    app.report(&dir, || {
        let count = disks.len();
        let disks = if count == 1 { "disk" } else { "disks" };
        format!("{dir} is a bench of {count} {disks}; look with `signpost --machine {dir} check`.\n")
    });
    Ok(Exit::Done)
}
