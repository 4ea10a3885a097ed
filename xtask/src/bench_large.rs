//! Volumes that are larger than most: a survey's time grows with them as they do, and its memory does not.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::run::{Result, at, command, run};

/// Times that the larger volume's survey may take of the smaller one's, for each time that it is larger.
const MOST_GROWTH: f64 = 1.0;
/// Memory of a survey, in KiB.
const MOST_MEMORY: u64 = 64 << 10;
const RUNS: usize = 5;

/// Measures and prints; as root, since volumes are filled while they are mounted.
pub fn run_all(program: &Path) -> Result<()> {
    for (what, few, many) in [("subvolumes", 100, 1_000), ("files in /boot", 10_000, 100_000)] {
        let work = tempfile::tempdir().map_err(|error| error.to_string())?;
        let make = |count| match what {
            "subvolumes" => subvolumes(work.path(), count),
            _ => files(work.path(), count),
        };
        let (small, large) = (measured(program, &make(few)?)?, measured(program, &make(many)?)?);
        grown(&format!("{many} {what} / {few}"), small, large, many as f64 / few as f64);
    }
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    let (small, large) = (sparse(work.path(), 8 << 10)?, sparse(work.path(), 8 << 20)?);
    grown("8 TiB / 8 GiB", measured(program, &small)?, measured(program, &large)?, 1024.0);
    Ok(())
}

fn grown(what: &str, (small, _): (Duration, u64), (large, memory): (Duration, u64), larger: f64) {
    let growth = large.as_secs_f64() / small.as_secs_f64() / larger;
    let verdict = if growth <= MOST_GROWTH && memory <= MOST_MEMORY { "" } else { "  MORE THAN IT MAY BE" };
    println!(
        "{what}: time per item {growth:.2} (at most {MOST_GROWTH}), {large:.1?}, {} MiB (at most {}){verdict}",
        memory >> 10,
        MOST_MEMORY >> 10
    );
}

/// The median time of a survey, and the most memory that one took, in KiB.
fn measured(program: &Path, image: &Path) -> Result<(Duration, u64)> {
    let (mut times, mut most) = (Vec::new(), 0);
    for _ in 0..RUNS {
        let begun = Instant::now();
        let mut survey = Command::new("/usr/bin/time");
        survey.args(["--format", "%M"]).arg(program).arg("--disk").arg(image).arg("survey");
        let output = survey.stdout(Stdio::null()).output().map_err(|error| error.to_string())?;
        times.push(begun.elapsed());
        let said = String::from_utf8_lossy(&output.stderr);
        let memory = said.lines().last().and_then(|line| line.trim().parse().ok());
        most = most.max(memory.ok_or_else(|| format!("time said: {said}"))?);
    }
    times.sort();
    Ok((times[RUNS / 2], most))
}

/// Every one holds a system.
fn subvolumes(work: &Path, count: u32) -> Result<PathBuf> {
    let image = sized(work, &format!("subvolumes-{count}.img"), 1 << 10)?;
    run(command("mkfs.btrfs").arg("-q").arg(&image))?;
    let fill = "cd \"$1\"; for number in $(seq \"$2\"); do btrfs -q subvolume create s$number && mkdir s$number/etc && \
                printf 'ID=larkspur\\nPRETTY_NAME=\"Larkspur Linux 14\"\\n' > s$number/etc/os-release || exit 1; done";
    filled(work, &image, fill, count)
}

/// One in a hundred is called as a kernel is.
fn files(work: &Path, count: u32) -> Result<PathBuf> {
    let image = sized(work, &format!("files-{count}.img"), 1 << 10)?;
    run(command("mke2fs").args(["-q", "-t", "ext4", "-i", "4096"]).arg(&image))?;
    let fill = "cd \"$1\" && mkdir boot etc && printf 'ID=larkspur\\nPRETTY_NAME=\"Larkspur Linux 14\"\\n' > etc/os-release && \
                cd boot && seq \"$2\" | sed 's/.*00$/vmlinuz-&/' | xargs touch";
    filled(work, &image, fill, count)
}

fn filled(work: &Path, image: &Path, script: &str, count: u32) -> Result<PathBuf> {
    let root = work.join("mounted");
    fs::create_dir_all(&root).map_err(at(&root))?;
    run(command("mount").args(["-o", "loop"]).arg(image).arg(&root))?;
    let filled = run(command("sh").args(["-c", script, "sh"]).arg(&root).arg(count.to_string()));
    run(command("umount").arg(&root))?;
    filled.map(|()| image.to_path_buf())
}

/// A volume that is almost empty.
fn sparse(work: &Path, mebibytes: u64) -> Result<PathBuf> {
    let image = sized(work, &format!("sparse-{mebibytes}.img"), mebibytes)?;
    run(command("mkfs.xfs").args(["-q", "-f"]).arg(&image))?;
    Ok(image)
}

fn sized(work: &Path, name: &str, mebibytes: u64) -> Result<PathBuf> {
    let path = work.join(name);
    File::create(&path).and_then(|file| file.set_len(mebibytes << 20)).map_err(at(&path))?;
    Ok(path)
}
