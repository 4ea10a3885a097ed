//! All tests, those with real tools and real firmware among them.

use crate::run::{Result, run, side_by_side, tests};
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
    run(tests().env(variable, seeds).args(["--test", "firmware", test, "--", "--nocapture"]))
}

/// Many hosts with ssh servers, in a test of their own: what they do is mostly waiting.
const HOSTS: (&str, &str) = ("fleet", "eight_hosts_follow_one_policy_and_each_fails_alone");

/// Sets up and runs them; where all are asked for, what takes long by itself goes on beside the others.
pub fn run_all(args: &[String]) -> Result<()> {
    // Packages come from afar, and a boot program ends in a long step that takes one processor.
    side_by_side(
        || boot::build(true).map(drop),
        || {
            side_by_side(
                || run(tests().arg("--no-run")),
                || {
                    packages::need(&packages::FOR_TESTS)?;
                    fleet::need()?;
                    if args.is_empty() { living::prepare().map(drop) } else { Ok(()) }
                },
            )
        },
    )?;
    dist::make(dist::Build::Tested)?;
    if !args.is_empty() {
        return run(tests().arg("--no-fail-fast").args(args));
    }
    side_by_side(
        || run(tests().args(["--no-fail-fast", "--", "--skip", HOSTS.1])),
        || {
            side_by_side(
                || living::live(living::Life::Short).map_err(|why| format!("the living machine: {why}")),
                || run(tests().args(["--test", HOSTS.0, HOSTS.1])),
            )
        },
    )
}
