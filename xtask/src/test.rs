//! All tests, those with real tools and real firmware among them.

use crate::run::{Result, command, run, workspace};
use crate::{boot, figures, packages};

/// Sets up and runs them.
pub fn run_all(args: &[String]) -> Result<()> {
    packages::need(&packages::FOR_TESTS)?;
    boot::build(true)?;
    figures::print()?;
    run(command(env!("CARGO"))
        .current_dir(workspace())
        .args(["test", "--workspace", "--all-features", "--no-fail-fast"])
        .args(args))
}
