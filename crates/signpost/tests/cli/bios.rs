//! Machines that start by BIOS: what starts, told; sectors saved, changed, put back, undone.

use proptest::prelude::*;
use signpost_demo::gauge;
use signpost_firmware::bios::{CODE_LEN, SECTOR, plain};

use crate::bad_input::poke;
use crate::harness::{TestMachine, flat};

pub fn gauge_bench() -> TestMachine {
    let machine = TestMachine::small();
    std::fs::remove_dir_all(machine.folder()).unwrap();
    gauge::write(machine.folder()).unwrap();
    machine
}

pub fn disk(machine: &TestMachine) -> Vec<u8> {
    std::fs::read(machine.path("gauge.img")).unwrap()
}

/// Overwrites bytes of the disk, as another system's installer or a mishap does.
pub fn hurt(machine: &TestMachine, at: usize, bytes: &[u8]) {
    poke(machine, "gauge.img", at as u64, bytes);
}

pub fn outcome(machine: &TestMachine) -> (String, String) {
    let outcome = machine.json(&["rehearse"])["outcome"].clone();
    (outcome["kind"].as_str().unwrap().into(), outcome["text"].as_str().unwrap().into())
}

#[test]
fn what_starts_is_followed_by_the_rules_of_bios() {
    let machine = gauge_bench();
    assert_eq!(outcome(&machine), ("starts".into(), "GaugeDOS 7, from d1p1, which is active".into()));
    let said = machine.ok(&["rehearse"]);
    assert!(said.contains("plain code, which starts the active partition"), "{said}");
    assert!(machine.ok(&["survey"]).contains("Next start    GaugeDOS 7, from d1p1, which is active"));
    for (at, byte, kind, words) in [
        (446, 0, "nothing", "no partition of d1 is active"),
        (462, 0x80, "nothing", "several partitions of d1 are active"),
        (510, 0, "nothing", "the first sector of d1 lacks the mark 55AA"),
        (63 * SECTOR + 510, 0, "nothing", "d1p1 is active, and has no boot sector"),
    ] {
        let machine = gauge_bench();
        hurt(&machine, at, &[byte]);
        let (found, text) = outcome(&machine);
        assert_eq!((found.as_str(), text.contains(words)), (kind, true), "{words}: {text}");
        assert_eq!(machine.run(&["rehearse"]).code, 1, "{words}");
    }
    let machine = gauge_bench();
    hurt(&machine, 0, &[0; CODE_LEN]);
    assert_eq!(outcome(&machine).0, "hangs");
    hurt(&machine, 0, &[0xfa; CODE_LEN]);
    let (kind, text) = outcome(&machine);
    assert_eq!(kind, "may-start", "{text}");
    assert!(machine.fails(2, &["rehearse", "--secure-boot", "on"]).contains("no Secure Boot"));
    assert!(machine.fails(2, &["rehearse", "--order", "d7"]).contains("there is no disk d7; there are d1"));
    assert_eq!(machine.run(&["rehearse", "--without", "1"]).code, 1);
}

#[test]
fn code_that_was_overwritten_is_put_back_and_the_table_stays() {
    let machine = gauge_bench();
    let before = disk(&machine);
    let saved = machine.path("first.bin").display().to_string();
    machine.ok(&["sector", "save", "d1", &saved]);
    assert_eq!(std::fs::read(&saved).unwrap(), before[..SECTOR]);
    assert!(machine.fails(4, &["sector", "save", "d1", &saved]).contains("is there already"));
    // Another system's installer writes its own code, and a tool makes another table.
    hurt(&machine, 0, &[0xfa; CODE_LEN]);
    hurt(&machine, 450 + 16, &[0xa6]);
    let hurt_disk = disk(&machine);
    machine.fails(3, &["sector", "restore", &saved, "d1"]);
    assert_eq!(disk(&machine), hurt_disk, "nobody was asked, so nothing was written");
    machine.ok(&["sector", "restore", &saved, "d1", "--dry-run"]);
    assert_eq!(disk(&machine), hurt_disk);
    let said = machine.ok(&["sector", "restore", &saved, "d1", "--yes"]);
    assert!(said.contains("Next start  GaugeDOS 7, from d1p1"), "{said}");
    let now = disk(&machine);
    assert_eq!(now[..CODE_LEN], before[..CODE_LEN]);
    assert_eq!(now[CODE_LEN..], hurt_disk[CODE_LEN..], "only the code went back");
    machine.ok(&["sector", "restore", &saved, "d1", "--table", "--yes"]);
    assert_eq!(disk(&machine), before);
    assert!(machine.ok(&["sector", "restore", &saved, "d1", "--yes"]).contains("nothing would change"));
    machine.ok(&["undo", "1", "--yes"]);
    assert_eq!(disk(&machine), hurt_disk);
}

#[test]
fn a_menu_makes_its_default_the_active_partition_and_starts_one_system_at_a_time() {
    let machine = gauge_bench();
    let drafted = flat(&machine.ok(&["draft"]));
    assert!(drafted.contains("skerry Skerry BSD 9 the boot sector of d1p2"), "{drafted}");
    assert!(drafted.contains("Larkspur Linux 10: it has no boot sector that starts it"), "{drafted}");
    let before = disk(&machine);
    assert!(machine.ok(&["plan"]).contains("Nothing to write"), "GaugeDOS starts already");
    machine.ok(&["tune", "default=skerry"]);
    let planned = flat(&machine.ok(&["plan"]));
    assert!(planned.contains("1. make d1p2 the active partition of d1"), "{planned}");
    assert!(planned.contains("the others once they are made the default"), "{planned}");
    assert_eq!(disk(&machine), before, "a plan writes nothing");
    machine.fails(3, &["apply"]);
    assert!(machine.ok(&["apply", "--yes"]).contains("Next start  Skerry BSD 9, from d1p2"));
    assert!(machine.ok(&["apply", "--yes"]).contains("nothing was written"));
    let said = machine.ok(&["apply", "--remove", "--yes"]);
    assert!(said.contains("Nothing of ours is on the machine") && said.contains("`signpost undo`"), "{said}");
    let what_if = machine.ok(&["rehearse", "--choose", "gaugedos"]);
    assert!(what_if.contains("Ends with  GaugeDOS 7, from d1p1"), "{what_if}");
    assert!(machine.fails(2, &["rehearse", "--choose", "gaugedso"]).contains("did you mean gaugedos?"));
    machine.ok(&["undo", "--yes"]);
    assert_eq!(disk(&machine), before);
    // What such firmware does not have, each with what serves instead.
    assert!(machine.fails(2, &["once", "skerry"]).contains("`signpost sector active PARTITION`"));
    machine.ok(&["tune", "host=signpost"]);
    assert!(machine.fails(4, &["plan"]).contains("`signpost tune host=firmware`"));
}

#[test]
fn entries_for_boot_sectors_are_checked_and_named_by_the_system_that_starts() {
    let machine = gauge_bench();
    machine.ok(&["draft"]);
    machine.ok(&["entry", "remove", "skerry", "--despite", "last-way"]);
    // The partition is no volume by itself; the slice in it is what its boot sector starts.
    let said = machine.ok(&["entry", "add", "sector", "d1p2"]);
    assert!(said.contains("skerry-bsd-9 is added, \"Skerry BSD 9\": the boot sector of d1p2"), "{said}");
    let error = machine.fails(2, &["entry", "add", "sector", "d1p5"]);
    assert!(error.contains("d1p5 has no boot sector; --unchecked adds it anyway"), "{error}");
    machine.ok(&["entry", "add", "sector", "d1p5", "--unchecked", "--title", "Lost"]);
    let menu = flat(&machine.ok(&["menu"]));
    assert!(menu.contains("sector NOT THERE: d1p5 has no boot sector"), "{menu}");
    machine.ok(&["tune", "default=lost"]);
    assert!(machine.fails(3, &["apply", "--yes"]).contains("refused (default-gone)"));
    // A boot sector in a file is the boot program's to start, and where there is none it is not there.
    let text = machine.read("menu.toml").replace("default = \"lost\"", "default = \"gaugedos\"")
        + "\n[[entry]]\nid = \"old\"\nstarts = \"sector\"\nsector = \"uuid:0719-2204/OLD.BIN\"\n";
    machine.write("menu.toml", &text);
    let menu = flat(&machine.ok(&["menu"]));
    assert!(menu.contains("NOT THERE: d1p1 has no file /OLD.BIN"), "{menu}");
    machine.write("menu.toml", &text.replace("sector = ", "volume = \"uuid:0719-2204\"\nsector = "));
    assert!(
        machine
            .fails(1, &["menu", "--check", &machine.path("menu.toml").display().to_string()])
            .contains("names a volume and a sector")
    );
    // With UEFI firmware no boot sector starts.
    let uefi = TestMachine::small();
    uefi.write(
        "menu.toml",
        &crate::harness::menu("", &["id = \"x\"\nstarts = \"sector\"\nvolume = \"uuid:0A0A-0001\""]),
    );
    assert!(flat(&uefi.ok(&["menu"])).contains("UEFI firmware starts none"));
}

/// A disk with a GPT and two partitions, of which the second has a boot sector that would start.
fn gpt_bench() -> TestMachine {
    let machine = TestMachine::small();
    let mut image = std::fs::read(machine.path("lark.img")).unwrap();
    let second = 5 << 20;
    signpost_demo::boot_sector::stand_in(
        (&mut image[second..second + SECTOR]).try_into().unwrap(),
        "Larkspur",
    );
    std::fs::write(machine.path("lark.img"), image).unwrap();
    let text = "format = 1\nname = \"Hybrid\"\nfirmware = \"bios\"\n\n[[disk]]\nimage = \"lark.img\"\nserial = \"PTR-1\"\n";
    machine.write("machine.toml", text);
    machine
}

#[test]
fn a_gpt_starts_by_another_boot_managers_code_alone() {
    let machine = gpt_bench();
    let set = |at: usize, bytes: &[u8]| {
        let mut image = std::fs::read(machine.path("lark.img")).unwrap();
        image[at..at + bytes.len()].copy_from_slice(bytes);
        std::fs::write(machine.path("lark.img"), image).unwrap();
    };
    assert_eq!(outcome(&machine).0, "hangs", "a GPT as it is made has no code");
    let check = flat(&machine.run(&["check"]).stdout);
    assert!(
        check.contains("first-sector-lost") && check.contains("starts by a system's own boot manager"),
        "{check}"
    );
    set(0, &plain::CODE);
    assert!(outcome(&machine).1.contains("no partition of d1 is active"));
    // Some firmware wants an active entry; on such a disk that is the protective one, which leads to the GPT's own header.
    set(446, &[0x80]);
    let (kind, text) = outcome(&machine);
    assert_eq!(
        (kind.as_str(), text.as_str()),
        ("nothing", "nothing: the protective entry of d1 is active, and has no boot sector")
    );
    let check = flat(&machine.run(&["check"]).stdout);
    assert!(check.contains("no partition of a GPT can be active"), "{check}");
    let listed = machine.json(&["sector", "list"])["sectors"][0]["notes"].to_string();
    assert!(listed.contains("the protective entry is active"), "{listed}");
    assert!(machine.fails(2, &["sector", "active", "d1p2"]).contains("has no entry in the table itself"));
    // The GPT itself lies behind the first sector: an old one is not put over it.
    let saved = machine.path("gap.bin").display().to_string();
    machine.ok(&["sector", "save", "d1-gap", &saved]);
    let error = machine.fails(2, &["sector", "restore", &saved, "d1-gap", "--yes"]);
    assert!(error.contains("an old one is not put over it"), "{error}");
    set(0, &[0xfa; CODE_LEN]);
    assert_eq!(outcome(&machine).0, "may-start");
    // A hybrid table names a partition of the GPT beside the protective entry: that one can be active.
    let entry = [0x80, 0, 2, 0, 0x83, 0, 2, 0];
    set(446, &[0]);
    set(462, &entry);
    set(470, &((5u32 << 20) / 512).to_le_bytes());
    set(474, &8192u32.to_le_bytes());
    set(0, &plain::CODE);
    let (kind, text) = outcome(&machine);
    assert!(kind == "starts" && text.contains("from d1p2, which is active"), "{kind}: {text}");
    let check = machine.run(&["check"]).stdout;
    assert!(check.contains("partition-misplaced") && !check.contains("none-active"), "{check}");
}

#[test]
fn code_that_another_installer_put_there_is_named_by_what_was_there_before() {
    let machine = gauge_bench();
    hurt(&machine, 0, &[0xfa; CODE_LEN]);
    assert!(!machine.run(&["check"]).stdout.contains("not-first"), "nobody knows what was there");
    let machine = gauge_bench();
    machine.ok(&["survey"]);
    hurt(&machine, 0, &[0xfa; CODE_LEN]);
    let run = machine.run(&["check"]);
    assert_eq!(run.code, 1);
    let said = flat(&run.stdout);
    assert!(
        said.contains("not-first The first sector of d1 holds other code, which may start something else"),
        "{said}"
    );
    assert!(machine.ok(&["mend", "--yes"]).contains("Next start  GaugeDOS 7, from d1p1"));
}

#[test]
fn undoing_leaves_what_somebody_changed_since() {
    let machine = gauge_bench();
    let before = disk(&machine);
    machine.ok(&["sector", "standard", "d1", "--yes"]);
    assert_eq!(disk(&machine)[..plain::CODE.len()], plain::CODE);
    // A partition is made since, by another tool.
    hurt(&machine, 494, &[0, 1, 1, 0, 0x83, 2, 2, 0, 0, 0xe8, 2, 0, 0, 8, 0, 0]);
    machine.ok(&["undo", "--yes"]);
    let now = disk(&machine);
    assert_eq!(now[..494], before[..494]);
    assert_eq!(now[498], 0x83, "the new partition stays");
    // Code that somebody wrote since stays too.
    machine.ok(&["sector", "standard", "d1", "--yes"]);
    hurt(&machine, 0, &[0xcc; 64]);
    let said = flat(&machine.ok(&["undo", "--yes"]));
    assert!(said.contains("changed since by somebody else; it stays as it is"), "{said}");
    assert_eq!(disk(&machine)[..64], [0xcc; 64]);
}

#[test]
fn the_active_partition_is_moved_and_only_that() {
    let machine = gauge_bench();
    let before = disk(&machine);
    let said = machine.ok(&["sector", "active", "d1p2", "--yes"]);
    assert!(said.contains("Next start  Skerry BSD 9, from d1p2, which is active"), "{said}");
    let now = disk(&machine);
    let differ: Vec<usize> = (0..before.len()).filter(|at| now[*at] != before[*at]).collect();
    assert_eq!(differ, [446, 462]);
    assert!(machine.ok(&["sector", "active", "d1p2", "--yes"]).contains("nothing would change"));
    let error = machine.fails(2, &["sector", "active", "d1p5", "--yes"]);
    assert!(error.contains("one of the four first can be active"), "{error}");
    // What starts nothing is refused while something starts.
    hurt(&machine, 63 * SECTOR + 510, &[0]);
    let error = machine.fails(3, &["sector", "active", "d1p1", "--yes"]);
    assert!(error.contains("refused (nothing-starts)"), "{error}");
    machine.ok(&["sector", "active", "d1p1", "--yes", "--despite", "nothing-starts"]);
}

#[test]
fn the_order_of_the_disks_is_the_machines_own() {
    let machine = gauge_bench();
    let mut second = disk(&machine);
    second.truncate(1 << 20);
    second[446] = 0;
    second[440] ^= 0xff;
    std::fs::write(machine.path("second.img"), &second).unwrap();
    let text = machine.read("machine.toml") + "\n[[disk]]\nimage = \"second.img\"\nserial = \"GLM-2\"\n";
    machine.write("machine.toml", &text);
    let notes = machine.json(&["rehearse"])["outcome"]["notes"].to_string();
    assert!(notes.contains("d1 is taken for it"), "{notes}");
    machine.write("machine.toml", &text.replace("[running]", "order = [2, 1]\n\n[running]"));
    assert!(outcome(&machine).1.contains("no partition of d2 is active"));
    let run = machine.run(&["rehearse", "--order", "d1", "d2"]);
    assert_eq!(run.code, 0, "{}", run.stdout);
    for (order, words) in
        [("[3]", "there is no disk 3 in this file; it has 2"), ("[1, 1]", "disk 1 is named twice")]
    {
        machine.write("machine.toml", &text.replace("[running]", &format!("order = {order}\n\n[running]")));
        assert!(machine.fails(4, &["survey"]).contains(words), "{words}");
    }
}

/// What was done to a machine, where with which bytes, and the codes of what keeps it from starting then.
type Case = (&'static str, &'static [(usize, &'static [u8])], &'static [&'static str]);

/// The codes of what keeps the machine from starting, and what mends all of it.
#[test]
fn what_keeps_it_from_starting_is_named_and_mended() {
    let cases: [Case; 5] = [
        ("no partition is active", &[(446, &[0])], &["none-active"]),
        ("two are", &[(462, &[0x80])], &["several-active"]),
        ("the code is gone", &[(0, &[0; CODE_LEN])], &["first-sector-lost"]),
        ("all of the first sector's start is gone", &[(0, &[0; 447])], &["first-sector-lost", "none-active"]),
        ("the boot sector is gone", &[(63 * SECTOR + 510, &[0, 0])], &["boot-sector-lost"]),
    ];
    for (what, hurts, codes) in cases {
        let machine = gauge_bench();
        assert_eq!(
            machine.json(&["check"])["causes"].as_array().unwrap().len(),
            0,
            "nothing is wrong before"
        );
        hurts.iter().for_each(|(at, bytes)| hurt(&machine, *at, bytes));
        let hurt_disk = disk(&machine);
        let found = machine.json(&["check"]);
        let causes = found["causes"].as_array().unwrap();
        let of_starting = causes.iter().filter(|cause| cause["effect"] == "nothing-starts");
        let named: Vec<&str> = of_starting.map(|cause| cause["code"].as_str().unwrap()).collect();
        assert_eq!(named, codes, "{what}");
        assert_eq!(machine.run(&["check"]).code, 1, "{what}");
        assert_eq!(disk(&machine), hurt_disk, "a check reads only");
        // A FAT without its mark is a problem still, though another system starts.
        let run = machine.run(&["mend", "--yes"]);
        assert!(run.code < 2, "{what}: {}", run.stderr);
        assert_eq!(outcome(&machine).0, "starts", "{what}");
        machine.ok(&["undo", "--yes"]);
        assert_eq!(disk(&machine), hurt_disk, "{what}: undone");
    }
    // Without its mark the sector holds no table either.
    let machine = gauge_bench();
    machine.ok(&["sector", "save", "d1", &machine.path("d1.bin").display().to_string()]);
    let before = disk(&machine);
    hurt(&machine, 0, &[0; SECTOR]);
    let said = flat(&machine.run(&["check"]).stdout);
    assert!(
        said.contains("first-sector-lost") && said.contains("`signpost sector restore FILE d1 --table`"),
        "{said}"
    );
    machine.ok(&[
        "sector",
        "restore",
        &machine.path("d1.bin").display().to_string(),
        "d1",
        "--table",
        "--yes",
    ]);
    assert!(disk(&machine) == before);
    let machine = gauge_bench();
    hurt(&machine, 63 * SECTOR + 28, &[7]);
    let said = flat(&machine.run(&["check"]).stdout);
    assert!(
        said.contains("boot-sector-moved") && said.contains("says that 7 sectors lie before it"),
        "{said}"
    );
}

#[test]
fn heads_that_differ_from_the_tables_are_told() {
    let machine = gauge_bench();
    let whole = machine.run(&["check"]);
    assert!(whole.code == 0 && !whole.stdout.contains("boot-sector-moved"), "{}", whole.stdout);
    hurt(&machine, 63 * SECTOR + 26, &[16, 0]);
    let check = machine.run(&["check"]);
    let said = flat(&check.stdout);
    assert!(check.code == 0 && said.contains("boot-sector-moved"), "it is untidy, no more: {said}");
    assert!(said.contains("counts with 16 heads and 63 sectors a track"), "{said}");
    assert!(
        flat(&machine.run(&["sector", "list"]).stdout).contains("counts with 16 heads"),
        "in the list too"
    );
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// Whatever stands in the first sectors: a word for it, and nothing is written by looking.
    #[test]
    fn spoiled_sectors_cost_a_word(at in 0..64 * SECTOR, bytes in proptest::collection::vec(any::<u8>(), 1..700)) {
        let machine = gauge_bench();
        hurt(&machine, at, &bytes);
        let before = disk(&machine);
        for words in [&["survey"][..], &["rehearse"], &["check"], &["sector", "list"]] {
            let run = machine.run(words);
            prop_assert!(run.code < 2 && !run.stdout.is_empty(), "{:?}: {} {}", words, run.code, run.stderr);
        }
        prop_assert!(disk(&machine) == before);
    }
}
