//! Ratios of what the benchmarks measured: our time over that of plain reads, and of the usual tools.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::{Guid, partition_type};

use crate::run::{Result, at, build_release, command, run, target_folder, workspace};
use crate::{bench_large, packages};

/// Upper bounds, from the requirements.
const MOST_SURVEY: f64 = 1.5;
const MOST_EXPONENT: f64 = 1.0;
const MOST_FILE: f64 = 1.3;
const MOST_COMPLETION: f64 = 2.0;
const MOST_TOOLS: f64 = 0.2;
const RUNS: usize = 3;
/// How often the benchmarks measure what is compared, in turns.
const TURNS: usize = 7;

/// What an administrator types today, on each image: the table, then what every partition is.
const TOOLS: &str = "for disk in \"$1\"/*.img; do sfdisk --dump \"$disk\" | sed -n 's/.*start= *\\([0-9]*\\), size= *\\([0-9]*\\).*/\\1 \\2/p' | \
                     while read start size; do blkid -p -O $((start*512)) -S $((size*512)) \"$disk\"; done; done; true";

/// Measures and prints.
pub fn run_all() -> Result<()> {
    packages::need(&["btrfs-progs", "e2fsprogs", "fdisk", "time", "util-linux", "xfsprogs"])?;
    // Each by itself, as surveys are made: after one of 64 disks, memory lies scattered for the next.
    bench("survey", "survey/(disks|plain-reads)/16/")?;
    bench("survey", "survey/disks/1/")?;
    bench("survey", "survey/disks/64/")?;
    bench("survey", "large-file")?;
    bench("prompt", "")?;
    print(
        "survey of 16 disks with 64 partitions / plain reads of the same blocks",
        in_turns(|turn| ratio(&format!("survey/disks_16/{turn}"), &format!("survey/plain-reads_16/{turn}")))?,
        MOST_SURVEY,
    );
    let grows = |turn| ratio(&format!("survey/disks_64/{turn}"), &format!("survey/disks_1/{turn}"));
    print("exponent from 1 to 64 disks", in_turns(grows)?.ln() / 64f64.ln(), MOST_EXPONENT);
    for kind in ["ext4", "xfs", "btrfs"] {
        print(
            &format!("a file of 64 MiB from {kind} / plain"),
            in_turns(|turn| {
                ratio(&format!("large-file/{kind}/{turn}"), &format!("large-file/plain/{turn}"))
            })?,
            MOST_FILE,
        );
    }
    print(
        "completing a path in a folder of 5,000 files / listing it",
        in_turns(|turn| ratio(&format!("completion/complete/{turn}"), &format!("completion/list/{turn}")))?,
        MOST_COMPLETION,
    );
    against_tools()
}

/// Runs the benchmarks of a file that a pattern fits.
fn bench(file: &str, pattern: &str) -> Result<()> {
    let mut cargo = command(env!("CARGO"));
    cargo.current_dir(workspace()).env("SIGNPOST_BENCH_TURNS", TURNS.to_string());
    run(cargo.args(["bench", "--package", "signpost-upkeep", "--bench", file, "--", pattern]))
}

/// The median of a ratio over all turns; prints them all.
fn in_turns(ratio: impl Fn(usize) -> Result<f64>) -> Result<f64> {
    let mut ratios = (0..TURNS).map(ratio).collect::<Result<Vec<f64>>>()?;
    ratios.sort_by(f64::total_cmp);
    println!("  in {TURNS} turns, by size: {ratios:.2?}");
    Ok(ratios[TURNS / 2])
}

fn ratio(ours: &str, other: &str) -> Result<f64> {
    Ok(median_of(ours)? / median_of(other)?)
}

fn print(what: &str, ratio: f64, most: f64) {
    let verdict = if ratio <= most { "" } else { "  MORE THAN IT MAY BE" };
    println!("{what}: {ratio:.2} (at most {most}){verdict}");
}

/// The median that a benchmark left, in nanoseconds.
fn median_of(name: &str) -> Result<f64> {
    let path = target_folder().join("criterion").join(name).join("new/estimates.json");
    let text = fs::read_to_string(&path).map_err(at(&path))?;
    let estimates: serde_json::Value = serde_json::from_str(&text).map_err(|error| error.to_string())?;
    estimates["median"]["point_estimate"].as_f64().ok_or_else(|| format!("{}: no median", path.display()))
}

/// The whole program beside the tools, on 16 disks with 64 partitions.
fn against_tools() -> Result<()> {
    let program = build_release()?;
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    let spec = BenchSpec {
        name: "Bench".into(),
        disks: (0..16).map(disk).collect(),
        variables: Vec::new(),
        store: StoreKind::Folder,
        more: String::new(),
        catalogue: "",
        recipes: "",
    };
    spec.write(work.path()).map_err(|error| error.to_string())?;
    let ours = median(|| {
        let mut survey = Command::new(&program);
        survey.arg("--machine").arg(work.path()).arg("survey");
        survey
    })?;
    let tools = median(|| shell(work.path()))?;
    println!("  medians: {ours:.1?} and {tools:.1?}");
    let ratio = ours.as_secs_f64() / tools.as_secs_f64();
    print("survey of 16 disks with 64 partitions / sfdisk and blkid on their images", ratio, MOST_TOOLS);
    bench_large::run_all(&program)
}

fn disk(index: u8) -> DiskSpec {
    let guid = |number: u8| {
        let mut bytes = [0xbe; 16];
        bytes[14..].copy_from_slice(&[index, number]);
        Guid::from_bytes(bytes)
    };
    let partition = |number: u8| {
        let serial = u32::from(index) << 8 | u32::from(number);
        let fat = Content::Fat { label: "DATA", serial, files: Vec::new() };
        let swap = Content::Bytes([vec![0; 0xff6], b"SWAPSPACE2".to_vec()].concat());
        PartitionSpec {
            guid: guid(number),
            type_guid: partition_type::LINUX_DATA,
            name: "data",
            mebibytes: 2,
            content: if number.is_multiple_of(2) { fat } else { swap },
        }
    };
    DiskSpec {
        image: format!("disk{index}.img").leak(),
        bus: "sata",
        model: "Petrel",
        serial: format!("BENCH-{index}").leak(),
        guid: guid(0),
        partitions: (1..=64).map(partition).collect(),
    }
}

fn shell(folder: &Path) -> Command {
    let mut shell = command("sh");
    shell.args(["-c", TOOLS, "sh"]).arg(folder).stderr(Stdio::null());
    shell
}

fn median(make: impl Fn() -> Command) -> Result<Duration> {
    let mut times = Vec::new();
    for _ in 0..RUNS {
        let begun = Instant::now();
        run(make().stdout(Stdio::null()))?;
        times.push(begun.elapsed());
    }
    times.sort();
    Ok(times[RUNS / 2])
}
