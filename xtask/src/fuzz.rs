//! Fuzzing: every target of `fuzz/` in turn.

use std::fs;

use crate::run::{Result, at, command, run, workspace};

/// Bytes of what a target is fed, at most: small volumes fit.
const MAX_LENGTH: usize = 128 << 10;

/// Runs every target for so many minutes; what is found stays in `fuzz/artifacts`. It takes a nightly compiler and
/// `cargo fuzz`, which `cargo install cargo-fuzz` installs.
pub fn run_all(minutes: u64) -> Result<()> {
    let fuzz = workspace().join("fuzz");
    let folder = fuzz.join("fuzz_targets");
    let entries = fs::read_dir(&folder).map_err(at(&folder))?;
    let mut targets: Vec<String> =
        entries.filter_map(|entry| Some(entry.ok()?.path().file_stem()?.to_str()?.to_string())).collect();
    targets.sort();
    for target in targets {
        // What is learned goes into a folder of its own, so that the seeds stay few.
        let learned = fuzz.join("target/learned").join(&target);
        fs::create_dir_all(&learned).map_err(at(&learned))?;
        run(command("cargo")
            .current_dir(&fuzz)
            .env_remove("RUSTUP_TOOLCHAIN")
            .args(["+nightly", "fuzz", "run", &target])
            .arg(&learned)
            .arg(format!("corpus/{target}"))
            .arg("--")
            .arg(format!("-max_total_time={}", minutes.saturating_mul(60)))
            .arg(format!("-max_len={MAX_LENGTH}")))?;
    }
    Ok(())
}
