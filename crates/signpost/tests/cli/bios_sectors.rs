//! Sectors that BIOS machines start by, saved with notes and put back; what does not belong there is refused.

use signpost_firmware::bios::{CODE_LEN, SECTOR};

use crate::bios::{disk, gauge_bench, hurt, outcome};
use crate::harness::{TestMachine, flat};

#[test]
fn what_lies_before_the_first_partition_is_saved_with_a_note_and_put_back() {
    let machine = gauge_bench();
    let folder = machine.path("sectors").display().to_string();
    // Another program's code, in the third and the fifth sector.
    hurt(&machine, 2 * SECTOR, b"another's code");
    hurt(&machine, 4 * SECTOR, &[0xc3; SECTOR]);
    let before = disk(&machine);
    machine.ok(&["sector", "save", "--all", &folder]);
    let saved = format!("{folder}/d1-gap.bin");
    assert_eq!(std::fs::read(&saved).unwrap(), before[SECTOR..5 * SECTOR], "as far as something is used");
    let note: toml_edit::DocumentMut = machine.read("sectors/d1-gap.toml").parse().unwrap();
    assert_eq!(note["what"].as_str(), Some("d1-gap"));
    assert_eq!((note["first-sector"].as_integer(), note["sectors"].as_integer()), (Some(1), Some(4)));
    assert_eq!(note["disk"].as_str(), Some("GLM-4410"));
    hurt(&machine, SECTOR, &[0; 6 * SECTOR]);
    let hurt_disk = disk(&machine);
    machine.ok(&["sector", "restore", &saved, "d1-gap", "--yes"]);
    assert_eq!(disk(&machine), before);
    machine.ok(&["undo", "--yes"]);
    assert_eq!(disk(&machine), hurt_disk);
    assert!(
        machine
            .fails(2, &["sector", "standard", "d1-gap"])
            .contains("is saved and put back, and nothing else")
    );
    machine.write("long.bin", &"x".repeat(63 * SECTOR));
    let long = machine.path("long.bin").display().to_string();
    assert!(machine.fails(2, &["sector", "restore", &long, "d1-gap"]).contains("31744 bytes at most"));
}

#[test]
fn a_note_tells_whose_sectors_a_file_holds() {
    let machine = gauge_bench();
    let folder = machine.path("sectors").display().to_string();
    machine.ok(&["sector", "save", "--all", &folder]);
    let file = format!("{folder}/d1p1.bin");
    hurt(&machine, 63 * SECTOR + 200, &[1, 2, 3]);
    let refused = |why: &str| {
        let error = flat(&machine.fails(3, &["sector", "restore", &file, "d1p1", "--yes"]));
        assert!(error.contains("refused (sector-foreign)") && error.contains(why), "{error}");
    };
    let note = machine.read("sectors/d1p1.toml");
    machine.write("sectors/d1p1.toml", &note.replace("GLM-4410", "GLM-9999"));
    refused("was saved from disk GLM-9999 of Gauge logger");
    machine.write("sectors/d1p1.toml", &note);
    let bytes = std::fs::read(&file).unwrap();
    let mut altered = bytes.clone();
    altered[300] ^= 1;
    std::fs::write(&file, altered).unwrap();
    refused("the file is not what was saved");
    // A note that is none says nothing, and the file counts by itself.
    std::fs::write(&file, bytes).unwrap();
    machine.write("sectors/d1p1.toml", "\u{1}not a note");
    machine.ok(&["sector", "restore", &file, "d1p1", "--yes"]);
}

#[test]
fn whose_code_it_is_the_catalogue_knows() {
    let machine = gauge_bench();
    hurt(&machine, 0, &[0xfa; CODE_LEN]);
    hurt(&machine, 100, b"Invalid partition table\0Error loading operating system\0Missing operating system");
    let listed = machine.json(&["sector", "list"])["sectors"][0]["what"].clone();
    assert_eq!(listed, "plain code of the DOS and Windows family, which starts the active partition");
    assert_eq!(outcome(&machine).0, "starts");
    // Code that nobody knows is plain where a row of one's own says so.
    hurt(&machine, 0, &[0xfa; CODE_LEN]);
    hurt(&machine, 100, b"Kestrel says: no system here");
    assert_eq!(outcome(&machine).0, "may-start");
    let row = "\n[[sector]]\nof = \"disk\"\ntitle = \"plain code of Kestrel Point\"\nis-plain = true\ntexts = [\"kestrel says\"]\n";
    machine.write("catalogue/kestrel.toml", &(machine.read("catalogue/kestrel.toml") + row));
    assert_eq!(outcome(&machine), ("starts".into(), "GaugeDOS 7, from d1p1, which is active".into()));
    let said = flat(&machine.ok(&["rehearse"]));
    assert!(said.contains("plain code of Kestrel Point, which starts the active partition"), "{said}");
}

#[test]
fn what_is_no_boot_sector_or_another_ones_is_refused() {
    let machine = gauge_bench();
    let before = disk(&machine);
    let all = machine.path("sectors").display().to_string();
    machine.ok(&["sector", "save", "--all", &all]);
    let file = |name: &str| format!("{all}/{name}.bin");
    assert_eq!(std::fs::read(file("d1p1")).unwrap(), before[63 * SECTOR..64 * SECTOR]);
    let fails = |code: i32, file: &str, what: &str, words: &str| {
        let error = machine.fails(code, &["sector", "restore", file, what, "--yes"]);
        assert!(error.contains(words), "{file} {what}: {error}");
    };
    fails(2, &file("d1p1"), "d1", "the file is a partition's boot sector");
    fails(2, &file("d1p1"), "d1p3", "d1p3 holds the table of the logical partitions");
    fails(2, &file("d1"), "d1p1", "it may be a disk's first sector");
    fails(2, &file("d1p5"), "d1p1", "it lacks the mark 55AA");
    fails(4, &file("d9"), "d1", "there is no such file");
    fails(2, &file("d1"), "d1p9", "has no boot sector; there are d1, d1p1");
    machine.write("short.bin", "too short");
    fails(
        2,
        &machine.path("short.bin").display().to_string(),
        "d1",
        "the file has 9 bytes; a sector has 512",
    );
    let mut theirs = before[..SECTOR].to_vec();
    theirs[440..444].copy_from_slice(&[1, 2, 3, 4]);
    std::fs::write(machine.path("theirs.bin"), &theirs).unwrap();
    fails(3, &machine.path("theirs.bin").display().to_string(), "d1", "refused (sector-foreign)");
    assert_eq!(disk(&machine), before);
    // UEFI firmware starts no sectors.
    let error = TestMachine::small().fails(2, &["sector", "list"]);
    assert!(error.contains("this machine starts by UEFI"), "{error}");
}

#[test]
fn boot_sectors_come_back_from_the_copy_that_its_file_system_keeps() {
    let machine = gauge_bench();
    // A FAT32 in the third entry's place would be longer than this test; NTFS keeps its copy in the last sector.
    let (start, sectors) = (63 * SECTOR, 16 * 2048);
    let mut ntfs = disk(&machine)[start..start + SECTOR].to_vec();
    ntfs[3..7].copy_from_slice(b"NTFS");
    hurt(&machine, start, &ntfs);
    hurt(&machine, start + (sectors - 1) * SECTOR, &ntfs);
    let whole = disk(&machine);
    hurt(&machine, start, &[0; SECTOR]);
    assert_eq!(outcome(&machine).0, "nothing");
    let listed = flat(&machine.ok(&["sector", "list"]));
    assert!(listed.contains("its copy in sector 32767 is another"), "{listed}");
    machine.ok(&["sector", "backup", "d1p1", "--yes"]);
    assert_eq!(disk(&machine), whole);
    let error = machine.fails(2, &["sector", "backup", "d1p2", "--yes"]);
    assert!(error.contains("keeps no copy of its boot sector"), "{error}");
}
