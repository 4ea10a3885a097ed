//! Broken disks, stores and descriptions: named, with the rest of the machine still shown.

use std::fs::{self, OpenOptions};
use std::os::unix::fs::FileExt;

use proptest::prelude::*;
use signpost_demo::{Content, StoreKind};
use signpost_firmware::boot_variables::boot_order;
use signpost_firmware::variable::{Attributes, Variable, VariableName};

use crate::harness::{LARK, TestMachine, menu, small};

const ESP: u64 = 1 << 20;

pub fn poke(machine: &TestMachine, image: &str, offset: u64, bytes: &[u8]) {
    OpenOptions::new().write(true).open(machine.path(image)).unwrap().write_all_at(bytes, offset).unwrap();
}

/// The survey of a machine with something broken: it must say this, and still show the other disk.
fn survey_says(machine: &TestMachine, code: &str, words: &str) {
    // What is kept to compare the next survey with is all that it writes.
    let machine_itself = || {
        let mut all = machine.everything();
        all.retain(|(path, _)| !path.ends_with("last-survey.json") && !path.ends_with("known-disks.json"));
        all
    };
    let before = machine_itself();
    let survey = machine.json(&["survey"]);
    let findings = survey["findings"].as_array().unwrap();
    let said = |finding: &serde_json::Value| {
        finding["code"] == code && finding["message"].as_str().unwrap().contains(words)
    };
    assert!(findings.iter().any(said), "{code}, {words}: {findings:#?}");
    let checked = machine.run(&["--json", "check"]);
    assert!(
        checked.code < 2 && checked.stdout.contains(&format!("\"{code}\"")),
        "{code}: {}",
        checked.stdout
    );
    let systems = survey["systems"].as_array().unwrap();
    assert!(systems.iter().any(|system| system["title"] == "Meridian Desktop 4"), "{systems:?}");
    assert!(machine_itself() == before, "a survey changes nothing");
}

#[test]
fn images_that_are_missing_empty_or_cut() {
    let machine = TestMachine::small();
    fs::remove_file(machine.path("lark.img")).unwrap();
    survey_says(&machine, "disk-unreadable", "disk 1 (lark.img): it is not there");
    fs::write(machine.path("lark.img"), b"").unwrap();
    survey_says(&machine, "table-broken", "disk 1 (lark.img): it is empty");
    let machine = TestMachine::small();
    let cut = |length| {
        OpenOptions::new().write(true).open(machine.path("lark.img")).unwrap().set_len(length).unwrap();
    };
    cut(ESP + 4096);
    survey_says(&machine, "volume-broken", "the disk ends 4190208 bytes before the partition does");
    cut(ESP);
    survey_says(&machine, "volume-broken", "the disk ends 4194304 bytes before the partition does");
    cut(1500);
    survey_says(
        &machine,
        "table-broken",
        "they reach to byte 17408, the disk ends after 1500; was it cut short?",
    );
}

#[test]
fn partition_tables_that_lie() {
    let machine = TestMachine::small();
    poke(&machine, "lark.img", 1024 + 32, &[9]);
    survey_says(&machine, "table-broken", "GPT partition entries: the CRC-32 is");
    poke(&machine, "lark.img", 512 + 80, &[0xff; 4]);
    survey_says(&machine, "table-broken", "GPT header: the CRC-32 is");
    poke(&machine, "lark.img", 512, b"NO TABLE");
    survey_says(
        &machine,
        "table-broken",
        "the first GPT: no GPT header; its backup at the disk's end was read",
    );
    let last = fs::metadata(machine.path("lark.img")).unwrap().len() - 512;
    poke(&machine, "lark.img", last, b"NO TABLE");
    survey_says(&machine, "table-broken", "neither copy of that can be read: no GPT header");
}

#[test]
fn file_systems_that_lie() {
    let machine = TestMachine::small();
    poke(&machine, "lark.img", ESP + 13, &[3]);
    survey_says(&machine, "volume-broken", "d1p1: broken: FAT boot sector: BPB_SecPerClus is 3");
    let mut spec = small(StoreKind::Folder);
    let mut root = signpost_demo::tide::larkspur_root();
    root.truncate(64 << 20);
    root[1024 + 4..1024 + 8].copy_from_slice(&u32::MAX.to_le_bytes());
    spec.disks[0].partitions[1].content = Content::Bytes(root);
    spec.disks[0].partitions[1].mebibytes = 64;
    let machine = TestMachine::new(&spec);
    survey_says(&machine, "volume-broken", "ext superblock, offset 1024: s_blocks_count is");
}

#[test]
fn variables_that_lie() {
    let machine = TestMachine::small();
    let odd = |name: VariableName, data: Vec<u8>| Variable { name, attributes: Attributes::BOOT, data };
    machine.put(&odd(VariableName::boot_option(2), vec![1, 0, 0, 0, 9, 0, b'x', 0, 0, 0]));
    survey_says(
        &machine,
        "entry-broken",
        "entry 0002 \"\": broken: the device path from offset 10 claims 9 bytes, 0 are there",
    );
    machine.put(&odd(VariableName::boot_option(2), vec![1, 0, 0, 0, 4, 0, b'x', 0, 0, 0, 4, 1, 0, 0]));
    survey_says(&machine, "entry-broken", "device path from offset 10: node at offset 0 claims 0 bytes");
    machine.put(&odd(VariableName::global("BootOrder"), vec![1, 0, 1, 0, 9, 0, 7]));
    survey_says(&machine, "variables-broken", "BootOrder is 7 bytes long, expected an even number");
    survey_says(&machine, "order-twice", "names 0001 twice");
    survey_says(&machine, "order-dangling", "names 0009, and there is no such entry");
    fs::write(machine.path("variables/Timeout-8be4df61-93ca-11d2-aa0d-00e098032b8c"), b"x").unwrap();
    survey_says(&machine, "variables-broken", "shorter than the 4 bytes of its attributes");
    machine.write("menu.toml", &menu("", &[LARK]));
    let error = machine.fails(4, &["apply", "--yes"]);
    assert!(error.contains("nothing is planned on variables that cannot all be read"), "{error}");
}

/// What is left of a run that was killed between opening a new variable's file and writing it.
#[test]
fn a_variable_whose_file_was_never_written_is_none() {
    let machine = TestMachine::small();
    let file = "variables/Boot0000-8be4df61-93ca-11d2-aa0d-00e098032b8c";
    fs::write(machine.path(file), b"").unwrap();
    assert!(!machine.ok(&["survey"]).contains("variables-broken"));
    machine.write("menu.toml", &menu("", &[LARK]));
    machine.ok(&["apply", "--yes"]);
    assert!(fs::metadata(machine.path(file)).unwrap().len() > 4, "its number is free");
}

#[test]
fn a_store_without_space_is_an_error_and_nothing_is_half_done() {
    let mut spec = small(StoreKind::Fd);
    let big =
        Variable { name: VariableName::global("Big"), attributes: Attributes::BOOT, data: vec![0; 261_600] };
    spec.variables.push(big);
    let machine = TestMachine::new(&spec);
    machine.write("menu.toml", &menu("", &[LARK]));
    let before = machine.variables();
    let error = machine.fails(4, &["apply", "--yes"]);
    assert!(error.contains("and to undo it, and the firmware has room for 92"), "{error}");
    assert_eq!(machine.variables(), before);
}

#[test]
fn stores_that_are_none() {
    let machine = TestMachine::new(&small(StoreKind::Fd));
    let fd = machine.path("variables.fd");
    let good = fs::read(&fd).unwrap();
    fs::write(&fd, &good[..70_000]).unwrap();
    let error = machine.fails(4, &["survey"]);
    assert!(error.contains("a store that ends within the image; was it cut short?"), "{error}");
    fs::write(&fd, b"text").unwrap();
    assert!(machine.fails(4, &["survey"]).contains("a firmware volume with a variable store"));
    fs::remove_file(&fd).unwrap();
    assert!(machine.fails(4, &["survey"]).contains("variables.fd: it is not there"));
}

#[test]
fn descriptions_that_do_not_hold() {
    let machine = TestMachine::small();
    let good = machine.read("machine.toml");
    let cases = [
        ("format = 1", "format = 2", "format is 2; this program reads format 1"),
        ("firmware = \"uefi\"", "firmware = \"ufei\"", "machine.toml, line 3"),
        ("bus = \"nvme\"", "buss = \"nvme\"", "unknown field `buss`"),
        ("sector-size = 512", "sector-size = 520", "sector-size is 520; disks have 512 or 4096"),
        ("firmware = \"uefi\"", "firmware = \"bios\"", "BIOS firmware has none"),
        ("secure-boot = false", "[running]\nentry = \"x\"", "[running] entry is \"x\""),
        ("secure-boot = false", "[running]\nroot = \"sda1\"", "[running] root: \"sda1\" names no volume"),
    ];
    for (from, to, words) in cases {
        assert!(good.contains(from), "{from}");
        machine.write("machine.toml", &good.replacen(from, to, 1));
        let error = machine.fails(4, &["survey"]);
        assert!(error.contains(words), "{to}: {error}");
    }
    fs::remove_file(machine.path("machine.toml")).unwrap();
    let error = machine.fails(4, &["survey"]);
    assert!(error.contains("not a bench: it has no machine.toml"), "{error}");
}

#[test]
fn a_disk_that_is_all_one_byte_and_an_order_that_is_empty() {
    let mut spec = small(StoreKind::Folder);
    spec.variables = vec![boot_order(&[])];
    let machine = TestMachine::new(&spec);
    for byte in [0u8, 0xff, 0xaa] {
        fs::write(machine.path("lark.img"), vec![byte; 1 << 20]).unwrap();
        survey_says(&machine, "table-broken", "no partition table and no file system");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    /// Random bytes over the metadata of a real root volume and an ESP, through the whole program.
    #[test]
    fn spoiled_metadata_never_stops_the_survey(
        seed in prop::collection::vec((0u64..600_000, prop::collection::vec(any::<u8>(), 1..16)), 1..40)
    ) {
        let mut spec = small(StoreKind::Folder);
        spec.disks[0].partitions[1].content = Content::Bytes(signpost_demo::tide::larkspur_root());
        spec.disks[0].partitions[1].mebibytes = 96;
        let machine = TestMachine::new(&spec);
        for (at, bytes) in seed {
            // Half of it into the ESP, half into the root volume behind it.
            poke(&machine, "lark.img", ESP + at, &bytes);
            poke(&machine, "lark.img", ESP + (4 << 20) + at, &bytes);
        }
        let survey = machine.json(&["survey"]);
        prop_assert!(survey["systems"].to_string().contains("Meridian Desktop 4"));
    }
}
