//! Boot sectors that real tools make, on real firmware.

use std::process::Command;
use std::time::Duration;

use signpost_demo::boot_sector::{said, stand_in};
use signpost_firmware::bios::{SECTOR, plain};
use signpost_vm::{Spec, Vm};

use crate::harness::{result_of, run_bare};

pub const FIRST: usize = 2048;
const SECOND: usize = 40_960;
const DISK: usize = 32 << 20;

/// A disk with a FAT of `mkfs.fat`, active, and a system beside it.
pub fn bench() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let fat = folder.path().join("fat.img");
    std::fs::write(&fat, vec![0; 16 << 20]).unwrap();
    let made = Command::new("mkfs.fat").args(["-F", "16", "-h", "2048"]).arg(&fat).output();
    let made = made.expect("mkfs.fat is not there; `cargo xtask test` installs it (package dosfstools)");
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let fat = std::fs::read(&fat).unwrap();
    let mut disk = vec![0; DISK];
    disk[..plain::CODE.len()].copy_from_slice(&plain::CODE);
    disk[440..444].copy_from_slice(&0x5157_0001u32.to_le_bytes());
    for (index, (flag, kind, first)) in [(0x80, 0x06, FIRST), (0, 0x83, SECOND)].into_iter().enumerate() {
        let at = 446 + index * 16;
        disk[at] = flag;
        disk[at + 4] = kind;
        disk[at + 8..at + 12].copy_from_slice(&(first as u32).to_le_bytes());
        disk[at + 12..at + 16].copy_from_slice(&16_384u32.to_le_bytes());
    }
    disk[510..512].copy_from_slice(&[0x55, 0xaa]);
    let length = fat.len().min(16_384 * SECTOR);
    disk[FIRST * SECTOR..FIRST * SECTOR + length].copy_from_slice(&fat[..length]);
    let mut sector = [0; SECTOR];
    stand_in(&mut sector, "Beside it");
    disk[SECOND * SECTOR..SECOND * SECTOR + SECTOR].copy_from_slice(&sector);
    std::fs::write(folder.path().join("disk.img"), disk).unwrap();
    let text = "format = 1\nname = \"Real\"\nfirmware = \"bios\"\n\n[[disk]]\nimage = \"disk.img\"\nserial = \"S-1\"\n";
    std::fs::write(folder.path().join("machine.toml"), text).unwrap();
    folder
}

pub fn started(folder: &std::path::Path) -> Vm {
    let mut vm = Vm::start(&Spec::of_bios([folder.join("disk.img")]), None).unwrap();
    vm = vm.with_patience(Duration::from_secs(20));
    vm.wait_for("Booting from Hard Disk").unwrap();
    vm
}

/// A fresh FAT's boot sector only says that it starts nothing; `mend` makes the other partition active, and that starts.
#[test]
fn a_fresh_fat_says_that_it_starts_nothing_and_mending_starts_the_other() {
    let folder = bench();
    let at = folder.path().to_str().unwrap();
    let typed = |words: &[&str]| run_bare(&[&["--machine", at], words].concat());
    let outcome = |words: &[&str]| result_of(&typed(words).stdout)["outcome"].clone();
    let before = outcome(&["--json", "rehearse"]);
    assert_eq!(before["kind"], "nothing", "{before}");
    assert!(before["text"].as_str().unwrap().contains("only says that nothing starts"), "{before}");
    started(folder.path()).wait_for("not a bootable disk").unwrap();
    let mended = typed(&["mend", "--yes"]);
    assert!(mended.code < 2, "{}", mended.stderr);
    let after = outcome(&["--json", "rehearse"]);
    assert!(after["text"].as_str().unwrap().contains("from d1p2, which is active"), "{after}");
    started(folder.path()).wait_for(&said("Beside it", 0x80, 0x83)).unwrap();
}
