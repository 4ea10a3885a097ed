//! How long the whole program takes, beside one that does nothing. Printed, never asserted.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use signpost_demo::{StoreKind, tide};

use crate::run::{Result, build_release};

const RUNS: usize = 21;

/// Prints them.
pub fn print() -> Result<()> {
    let program = build_release()?;
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    tide::bench(StoreKind::Fd).write(work.path()).map_err(|error| error.to_string())?;
    let bench = work.path().to_string_lossy().into_owned();
    let nothing = median(Path::new("/bin/true"), &[])?;
    println!("median of {RUNS} runs of the whole process:");
    for (name, args) in
        [("--help", &["--help"][..]), ("survey of the demo bench", &["--machine", &bench, "survey"])]
    {
        let time = median(&program, args)?;
        let ratio = time.as_secs_f64() / nothing.as_secs_f64();
        println!("  signpost {name:<26} {:7.2} ms   {ratio:.1} times /bin/true", time.as_secs_f64() * 1e3);
    }
    println!("  /bin/true {:25} {:7.2} ms", "", nothing.as_secs_f64() * 1e3);
    Ok(())
}

fn median(program: &Path, args: &[&str]) -> Result<Duration> {
    let mut times = Vec::new();
    for _ in 0..RUNS {
        let start = Instant::now();
        let status = Command::new(program).args(args).stdout(Stdio::null()).status();
        times.push(start.elapsed());
        if !status.as_ref().is_ok_and(std::process::ExitStatus::success) {
            return Err(format!("{} {args:?}: {status:?}", program.display()));
        }
    }
    times.sort();
    Ok(times[RUNS / 2])
}
