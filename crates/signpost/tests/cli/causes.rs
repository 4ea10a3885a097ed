//! What check names and a person has to see to, or that lies with disks, firmware and volumes as a whole.

use std::os::unix::fs::FileExt;

use serde_json::Value;
use signpost_demo::{PartitionSpec, StoreKind};
use signpost_disk::Guid;
use signpost_firmware::variable::{Attributes, Variable};

use crate::check::{apply, causes, check, mend, mended, mended_and_undone, ours, program, put, take, whole};
use crate::harness::{TestMachine, file, small};

#[test]
fn a_disk_that_is_not_attached_is_named_and_nothing_of_it_is_removed() {
    let machine = whole();
    let text = machine.read("machine.toml");
    let at = text.find("\n[[disk]]\nimage = \"meridian.img\"").unwrap();
    machine.write("machine.toml", &text[..at]);
    let found = check(&machine);
    let missing: Vec<&Value> =
        found["causes"].as_array().unwrap().iter().filter(|cause| cause["code"] == "disk-missing").collect();
    assert!(
        !missing.is_empty() && missing.iter().all(|cause| cause["cures"] == serde_json::json!([])),
        "{found:#}"
    );
    let run = mend(&machine, &[]);
    assert!(run.stdout.contains("Nothing was written"), "{}", run.stdout);
    assert_eq!(machine.boot().order.len(), 2);
}

#[test]
fn a_broken_first_gpt_and_a_lost_protective_mbr_are_written_from_what_the_disk_holds() {
    for (wiped, code, effect) in [(512, "table-broken", "will-break"), (0, "table-unprotected", "will-break")]
    {
        let machine = whole();
        let image = machine.path("meridian.img");
        let whole = std::fs::read(&image).unwrap();
        let file = std::fs::OpenOptions::new().write(true).open(&image).unwrap();
        file.write_all_at(&[0; 512], wiped).unwrap();
        let effect = if code == "table-unprotected" { "system-lost" } else { effect };
        mended_and_undone(&machine, code, effect, "write-table");
        assert!(std::fs::read(&image).unwrap() == whole, "{code}: the table is as it was, to the byte");
    }
}

#[test]
fn what_cannot_be_read_makes_the_check_say_what_it_does_not_know() {
    let machine = whole();
    let own = format!("Boot{:04X}", ours(&machine));
    let path = std::fs::read_dir(machine.path("variables")).unwrap().map(|entry| entry.unwrap().path());
    let path =
        path.into_iter().find(|path| path.file_name().unwrap().to_string_lossy().starts_with(&own)).unwrap();
    std::fs::write(path, b"x").unwrap();
    let found = check(&machine);
    assert!(found.to_string().contains("variables-broken"), "{found:#}");
    std::fs::remove_dir_all(machine.path("variables")).unwrap();
    std::fs::write(machine.path("variables"), b"no store").unwrap();
    let run = machine.run(&["check"]);
    assert!(run.code == 4 || run.stdout.contains("cannot be told"), "{}{}", run.stdout, run.stderr);
}

/// Loose images have no variables: what can be known of them is shown, with what cannot.
#[test]
fn loose_images_are_checked_as_far_as_that_goes() {
    let machine = whole();
    let image = machine.path("lark.img").display().to_string();
    let run = crate::harness::run_bare(&["--disk", &image, "check"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    assert!(run.stdout.contains("Not looked at") && run.stdout.contains("variables"), "{}", run.stdout);
}

#[test]
fn a_full_home_volume_is_told_before_an_update_needs_the_room() {
    let machine = whole();
    put(&machine, "lark.img", "/fill.bin", &vec![1; 3 << 20]);
    let big = machine.path("big.efi");
    std::fs::write(&big, [program(), vec![0; 1 << 20]].concat()).unwrap();
    let found = machine.json(&["check", "--boot-program", big.to_str().unwrap()]);
    let codes: Vec<&str> =
        found["causes"].as_array().unwrap().iter().map(|cause| cause["code"].as_str().unwrap()).collect();
    assert!(codes.contains(&"esp-full"), "{found:#}");
}

/// A disk of another PC: its firmware is not here, so what starts by itself does by the fallback path.
#[test]
fn a_disk_of_another_machine_is_checked_and_mended_on_a_bench_of_its_own() {
    let machine = whole();
    take(&machine, "meridian.img", &["/EFI/BOOT/BOOTX64.EFI"]);
    let bench = machine.path("other");
    let (image, bench) = (machine.path("meridian.img").display().to_string(), bench.display().to_string());
    let made = crate::harness::run_bare(&["bench", &bench, "--disk", &image]);
    assert_eq!(made.code, 0, "{}", made.stderr);
    let run = |args: &[&str]| crate::harness::run_bare(&[&["--machine", &bench], args].concat());
    let said = run(&["check"]);
    assert!(said.code == 1 && said.stdout.contains("no-way"), "{}{}", said.stdout, said.stderr);
    let mended = run(&["mend", "--yes"]);
    assert_eq!(mended.code, 0, "{}{}", mended.stdout, mended.stderr);
    assert!(run(&["rehearse"]).stdout.contains("Meridian"), "{}", mended.stdout);
    let again = crate::harness::run_bare(&["bench", &bench, "--disk", &image]);
    assert!(again.code == 4 && again.stderr.contains("it is not empty"), "{}", again.stderr);
    let none = crate::harness::run_bare(&["bench", &format!("{bench}2")]);
    assert!(none.code == 2 && none.stderr.contains("--disk"), "{}", none.stderr);
}

/// What the survey finds and no cause of its own accounts for is a cause by itself, with what it does.
#[test]
fn what_is_found_by_the_survey_is_a_cause_with_its_effect() {
    let machine = whole();
    // Larkspur's ESP was in use when the machine went down: the dirty mark of a FAT16 (bit 15 of the second entry).
    let mut spec = small(StoreKind::Folder);
    spec.disks[0].partitions[0].mebibytes = 16;
    let dirty = TestMachine::new(&spec);
    apply(&dirty);
    let image = std::fs::read(dirty.path("lark.img")).unwrap();
    let reserved = usize::from(u16::from_le_bytes([image[(1 << 20) + 14], image[(1 << 20) + 15]])) * 512;
    let file = std::fs::OpenOptions::new().write(true).open(dirty.path("lark.img")).unwrap();
    let at = (1 << 20) + reserved + 3;
    file.write_all_at(&[image[at] & 0x7f], at as u64).unwrap();
    assert_eq!(causes(&dirty), [("unclean".to_string(), "untidy".to_string())]);
    // A copy of Meridian's disk is plugged in.
    std::fs::copy(machine.path("meridian.img"), machine.path("copy.img")).unwrap();
    let text = machine.read("machine.toml");
    machine.write("machine.toml", &format!("{text}\n[[disk]]\nimage = \"copy.img\"\nserial = \"CRM-2\"\n"));
    // Which of the two the menu means is not known: both are disks of the machine's own.
    assert_eq!(causes(&machine), [("clone".to_string(), "system-lost".to_string())]);
    machine
        .write("machine.toml", &machine.read("machine.toml").replace("serial = \"CRM-2\"", "bus = \"usb\""));
    assert_eq!(causes(&machine), [("clone".to_string(), "will-break".to_string())]);
}

#[test]
fn what_was_saved_at_boot_is_taken_in_where_that_is_asked_for() {
    let machine = whole();
    let name = signpost_facts::ours::OurVariables::name(signpost_menu::ours::KEPT);
    machine.put(&Variable { name, attributes: Attributes::BOOT, data: b"meridian".to_vec() });
    mended(&machine, "changed-at-boot", "untidy", "take-saved");
    assert!(machine.read("menu.toml").contains("default = \"meridian\""), "{}", machine.read("menu.toml"));
}

/// A machine whose running system has this id.
fn with_machine_id(id: &str) -> TestMachine {
    let mut spec = small(StoreKind::Folder);
    let release =
        ("/etc/os-release".to_string(), b"ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n".to_vec());
    let files = vec![release, file("/etc/machine-id", format!("{id}\n").into_bytes())];
    spec.disks[0].partitions[1].content =
        PartitionSpec::esp(Guid::from_bytes([9; 16]), "root", 0x00fa_0002, 4, files).content;
    spec.more.push_str("\n[running]\nroot = \"uuid:00FA-0002\"\n");
    let machine = TestMachine::new(&spec);
    apply(&machine);
    machine
}

#[test]
fn a_second_menu_of_this_machine_that_differs_is_named() {
    let id = "0123456789abcdef0123456789abcdef";
    let other = "format = 1\n[menu]\nhost = \"signpost\"\n";
    for (whose, is_named) in [(id, true), ("ffffffffffffffffffffffffffffffff", false)] {
        let machine = with_machine_id(id);
        put(&machine, "meridian.img", "/EFI/signpost/MENU-A.TML", &crate::harness::slot_of(whose, 90, other));
        let found = check(&machine);
        assert_eq!(found.to_string().contains("homes-disagree"), is_named, "{found:#}");
    }
}

#[test]
fn a_system_started_the_bios_way_beside_systems_of_uefi_is_told_first_of_all() {
    let machine = TestMachine::small();
    std::fs::write(machine.path("program.efi"), program()).unwrap();
    let text = machine.read("machine.toml").replace("firmware = \"uefi\"", "firmware = \"bios\"");
    let lines: Vec<&str> = text.lines().filter(|line| !line.starts_with("variables")).collect();
    let text =
        lines.join("\n").replacen("\n[[disk]]", "\n[running]\ncommand-line = \"quiet\"\n\n[[disk]]", 1);
    machine.write("machine.toml", &text);
    let found = check(&machine);
    let first = &found["causes"][0];
    assert_eq!(
        (&first["code"], &first["effect"]),
        (&"started-in-bios".into(), &"cannot-tell".into()),
        "{found:#}"
    );
    assert!(first["by_hand"].as_str().unwrap().contains("UEFI"));
}

#[test]
fn a_store_that_is_full_is_told_before_a_change_needs_the_room() {
    let mut spec = small(StoreKind::Fd);
    let name = signpost_firmware::variable::VariableName::global("Big");
    spec.variables.push(Variable { name, attributes: Attributes::BOOT, data: vec![0; 261_600] });
    let machine = TestMachine::new(&spec);
    std::fs::write(machine.path("program.efi"), program()).unwrap();
    assert!(check(&machine).to_string().contains("variables-full"));
}

#[test]
fn secure_boot_that_refuses_the_boot_program_is_named_before_the_restart() {
    let machine = whole();
    machine.write(
        "machine.toml",
        &machine.read("machine.toml").replace("secure-boot = false", "secure-boot = true"),
    );
    let found = check(&machine);
    assert!(found.to_string().contains("secure-boot-refuses"), "{found:#}");
}
