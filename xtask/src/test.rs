//! All tests, those with real tools and real firmware among them.

use crate::run::{Result, command, run, workspace};
use crate::{boot, dist, fleet, living, packages};

/// The comparison of rehearsal and firmware alone, on these seeds.
pub fn agreement(seeds: &str) -> Result<()> {
    on_seeds("rehearsal_and_firmware_agree", ("SIGNPOST_SEEDS", seeds))
}

/// The fault laboratory alone, on these seeds.
pub fn faults(seeds: &str) -> Result<()> {
    on_seeds("what_is_injected_is_named_mended_and_starts", ("SIGNPOST_FAULT_SEEDS", seeds))
}

/// One test on real firmware, on machines of these seeds.
fn on_seeds(test: &str, (variable, seeds): (&str, &str)) -> Result<()> {
    packages::need(&packages::FOR_TESTS)?;
    boot::build(true)?;
    run(command(env!("CARGO"))
        .current_dir(workspace())
        .env(variable, seeds)
        .args(["test", "--package", "signpost", "--all-features", "--test", "firmware", test])
        .args(["--", "--nocapture"]))
}

/// Sets up and runs them; the living machine beside the others, where all are asked for.
pub fn run_all(args: &[String]) -> Result<()> {
    packages::need(&packages::FOR_TESTS)?;
    boot::build(true)?;
    dist::make(dist::Build::Quick)?;
    fleet::need()?;
    let living = args.is_empty().then(|| std::thread::spawn(|| living::live(living::Life::Short)));
    let tests = run(command(env!("CARGO"))
        .current_dir(workspace())
        .args(["test", "--workspace", "--all-features", "--no-fail-fast"])
        .args(args));
    let lived =
        living.map_or(Ok(()), |living| living.join().map_err(|_| "the living machine: it panicked")?);
    // What each of them said stands above, the one amid the other.
    match (tests, lived) {
        (Err(tests), Err(lived)) => Err(format!("{tests}; the living machine: {lived}")),
        (tests, lived) => tests.and(lived.map_err(|why| format!("the living machine: {why}"))),
    }
}
