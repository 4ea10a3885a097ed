//! What the usual checker of FAT says of a volume in an image.

use std::ops::Range;
use std::path::Path;
use std::process::Command;

/// What it may find behind a cut, since the next write of that file cures it: clusters that belong to no file, copies of the table
/// that differ, a wrong count of free clusters, the mark of a volume that is being written to.
const HARMLESS: [&str; 12] = [
    "fsck.fat ",
    "Reclaimed ",
    "Reclaiming ",
    "FATs differ",
    "Using first FAT",
    "Free cluster summary wrong",
    "Dirty bit is set",
    "Automatically removing dirty bit",
    "1) Use first FAT",
    "Leaving filesystem unchanged",
    "esp: ",
    "Auto-correcting",
];

/// Fails where more than that is wrong with the volume at these bytes of an image.
pub fn finds_nothing_worse(image: &Path, range: Range<usize>, what: &str) {
    let work = tempfile::tempdir().unwrap();
    std::fs::write(work.path().join("esp"), &std::fs::read(image).unwrap()[range]).unwrap();
    let output = Command::new("fsck.fat")
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .args(["-n", "esp"])
        .current_dir(work.path())
        .output()
        .expect("fsck.fat is there; `cargo xtask test` installs it");
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    for line in said.lines() {
        let is_harmless =
            line.is_empty() || HARMLESS.iter().any(|start| line.trim_start().starts_with(start));
        assert!(is_harmless, "{what}: {}: {line}\n{said}", image.display());
    }
}
