//! All tests, those with real tools and real firmware among them.

use crate::run::{Result, command, run, workspace};
use crate::{boot, dist, packages};

/// The comparison of rehearsal and firmware alone, on these seeds.
pub fn agreement(seeds: &str) -> Result<()> {
    packages::need(&packages::FOR_TESTS)?;
    boot::build(true)?;
    run(command(env!("CARGO"))
        .current_dir(workspace())
        .env("SIGNPOST_SEEDS", seeds)
        .args([
            "test",
            "--package",
            "signpost",
            "--all-features",
            "--test",
            "firmware",
            "rehearsal_and_firmware_agree",
        ])
        .args(["--", "--nocapture"]))
}

/// Sets up and runs them.
pub fn run_all(args: &[String]) -> Result<()> {
    packages::need(&packages::FOR_TESTS)?;
    boot::build(true)?;
    dist::make(dist::Build::Quick)?;
    run(command(env!("CARGO"))
        .current_dir(workspace())
        .args(["test", "--workspace", "--all-features", "--no-fail-fast"])
        .args(args))
}
