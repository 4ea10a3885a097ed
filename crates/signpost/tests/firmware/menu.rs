//! The boot program on real firmware: its menu read, shown and obeyed.

use signpost_demo::program::{Ending, Kernel, Program};
use signpost_demo::{BenchSpec, Content, StoreKind};
use signpost_facts::ours::OurVariables;
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::variable::VariableName;
use signpost_menu::slot::SLOT_NAMES;

use crate::harness::{TestMachine, file, lark_disk, menu, meridian_disk, meridian_files, slot_of, small};
use crate::vm::{self, Vm};

/// The boot program that `cargo xtask boot` built.
pub fn boot_program() -> Vec<u8> {
    built("signpost-x64.efi")
}

/// A program of its.
pub fn built(name: &str) -> Vec<u8> {
    let folder = std::path::Path::new(env!("CARGO_BIN_EXE_signpost")).parent().unwrap().join("../boot");
    vm::read(folder.join(name).to_str().unwrap())
}

pub fn slot(serial: u64, text: &str) -> Vec<u8> {
    slot_of("", serial, text)
}

/// Two disks; the boot program in the fallback path of the first, with these slots, Larkspur's root behind it.
pub fn with_slots(slots: [Vec<u8>; 2]) -> BenchSpec {
    let [first, second] = slots;
    let mut spec = small(StoreKind::Fd);
    let files = vec![
        file("/EFI/BOOT/BOOTX64.EFI", boot_program()),
        file("/EFI/larkspur/lkload.efi", Program::new("Larkspur loader").build()),
        file("/EFI/larkspur/gives-up.efi", Program::new("Larkspur").ending(Ending::GiveUp).build()),
        file(&format!("/EFI/signpost/{}", SLOT_NAMES[0]), first),
        file(&format!("/EFI/signpost/{}", SLOT_NAMES[1]), second),
    ];
    let mut disk = lark_disk(files);
    disk.partitions[1].content = Content::Bytes(signpost_demo::tide::larkspur_root());
    disk.partitions[1].mebibytes = 96;
    spec.disks = vec![disk, meridian_disk(meridian_files())];
    spec.variables.clear();
    spec
}

const KERNEL: &str = "id = \"lark\"\ntitle = \"Larkspur\"\nstarts = \"linux\"\n\
    volume = \"uuid:7c0e4b1a-52d3-4f86-9a1e-0d3b6c8f2e14\"\nkernel = \"newest:/boot/vmlinuz-*\"\n\
    initrd = \"/boot/initrd-{version}\"";
pub const LOADER: &str = "id = \"loader\"\ntitle = \"Loader\"\nstarts = \"efi\"\nprogram = \"uuid:0a0a-0001/EFI/larkspur/lkload.efi\"";
const GIVES_UP: &str = "id = \"weak\"\ntitle = \"Weak\"\nstarts = \"efi\"\nprogram = \"uuid:0a0a-0001/EFI/larkspur/gives-up.efi\"";
pub const GONE: &str =
    "id = \"gone\"\ntitle = \"Gone\"\nstarts = \"efi\"\nprogram = \"uuid:0a0a-0001/EFI/gone.efi\"";
pub const OTHER_DISK: &str = "id = \"meridian\"\ntitle = \"Meridian\"\nstarts = \"efi\"\nprogram = \"uuid:0b0b-0001/EFI/meridian/start.efi\"";

fn run(slots: [Vec<u8>; 2]) -> (TestMachine, Vm) {
    let machine = TestMachine::new(&with_slots(slots));
    let vm = Vm::start(machine.folder(), &["lark.img", "meridian.img"]);
    (machine, vm)
}

/// Larkspur's menu beside a firmware entry for Meridian.
fn with_firmware_entry(body: &str) -> TestMachine {
    let entry = format!("id = \"fw\"\nstarts = \"firmware-entry\"\nlabel = \"Meridian Start\"\n{body}");
    let mut spec = with_slots([slot(1, &menu("timeout = 0", &[&entry, LOADER])), vec![]]);
    let ours = LoadOption::new("Signpost", spec.disks[0].path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"), vec![]);
    let theirs =
        LoadOption::new("Meridian Start", spec.disks[1].path_to(1, "\\EFI\\meridian\\start.efi"), vec![]);
    spec.variables = vec![boot_option(0, &ours), boot_option(6, &theirs), boot_order(&[0, 6])];
    TestMachine::new(&spec)
}

#[test]
fn a_firmware_entry_goes_by_next_boot_and_restart() {
    let machine = with_firmware_entry("");
    let images = ["lark.img", "meridian.img"];
    let serial = Vm::start(machine.folder(), &images).until_it_ends();
    assert!(!serial.contains(IMAGES_SAY), "it restarts first: {serial}");
    assert_eq!(machine.boot().next, Some(6));
    assert!(Vm::start(machine.folder(), &images).until_it_ends().contains("STARTED Meridian"));
}

#[test]
fn a_firmware_entry_is_handed_over_directly_where_the_menu_says_so() {
    let machine = with_firmware_entry("handover = true");
    let serial = Vm::start(machine.folder(), &["lark.img", "meridian.img"]).until_it_ends();
    assert!(serial.contains("STARTED Meridian"), "{serial}");
    assert_eq!(machine.boot().next, None);
}

#[test]
fn the_firmwares_screen_is_asked_for_by_its_variable() {
    let (machine, mut vm) = run([slot(1, &menu("timeout = \"never\"", &[LOADER])), vec![]]);
    vm.wait_for("? help");
    vm.type_keys("f\r");
    vm.until_it_ends();
    let variables = machine.variables();
    let asked = variables.get(&VariableName::global("OsIndications")).expect("it is set before the restart");
    assert_eq!(asked.data[0] & 1, 1);
}

#[test]
fn a_disk_that_has_grown_starts_as_before() {
    let machine = TestMachine::new(&with_slots([slot(1, &menu("timeout = 0", &[LOADER])), vec![]]));
    let image = std::fs::OpenOptions::new().write(true).open(machine.path("lark.img")).unwrap();
    image.set_len(image.metadata().unwrap().len() + (8 << 20)).unwrap();
    let serial = Vm::start(machine.folder(), &["lark.img", "meridian.img"]).until_it_ends();
    assert!(serial.contains("STARTED Larkspur loader"), "{serial}");
}

#[test]
fn a_volume_that_lies_costs_its_own_entries_alone() {
    let mut spec = with_slots([slot(1, &menu("default = \"lark\"\ntimeout = 0", &[KERNEL, LOADER])), vec![]]);
    let Content::Bytes(root) = &mut spec.disks[0].partitions[1].content else { panic!("bytes") };
    root[1024 + 32..1024 + 36].copy_from_slice(&1u32.to_le_bytes());
    let machine = TestMachine::new(&spec);
    let mut vm = Vm::start(machine.folder(), &["lark.img", "meridian.img"]);
    vm.wait_for("Larkspur cannot start: no volume is uuid:7c0e4b1a");
    vm.type_keys("2\r");
    assert!(vm.until_it_ends().contains("STARTED Larkspur loader"));
}

/// The demo's bench, applied by the commands that a person types, on real firmware.
#[test]
fn the_demos_bench_starts_as_rehearsed() {
    let machine = TestMachine::new(&signpost_demo::tide::bench(StoreKind::Fd));
    machine.ok(&["draft", "--host", "signpost"]);
    machine.write("menu.toml", &machine.read("menu.toml").replace("timeout = 5 ", "timeout = 1 "));
    machine.ok(&["apply", "--yes"]);
    let rehearsed = machine.json(&["rehearse"]);
    let place = "d1p2:/boot/vmlinuz-6.9.4-2-larkspur";
    assert!(rehearsed["outcome"]["text"].as_str().unwrap().ends_with(place), "{rehearsed}");
    let serial = Vm::start(machine.folder(), &["disk1.img", "disk2.img", "disk3.img"]).until_it_ends();
    assert!(serial.contains("STARTED Larkspur Linux 14, kernel 6.9.4-2-larkspur"), "{serial}");
    let menu_shown = serial.contains("Tide bench PC 2") && serial.contains("Meridian Desktop 4");
    assert!(menu_shown, "{serial}");
}

#[test]
fn what_the_firmware_would_refuse_is_named_in_words() {
    let mut spec = with_slots([vec![], vec![]]);
    let linux = |id: &str, kernel: &str| {
        format!(
            "id = \"{id}\"\nstarts = \"linux\"\nvolume = \"uuid:0a0a-0001\"\nkernel = \"/EFI/x/{kernel}\"\ninitrd = \"/EFI/x/empty\""
        )
    };
    let entries =
        [linux("empty", "empty"), linux("script", "script"), linux("arm", "arm"), linux("old", "old")];
    let text = menu("timeout = \"never\"", &entries.iter().map(String::as_str).collect::<Vec<_>>());
    let old = Kernel { version: "3.0".into(), stub_version: (0, 9) }.build("old");
    let Content::Fat { files, .. } = &mut spec.disks[0].partitions[0].content else {
        panic!("an ESP is FAT")
    };
    files.extend([
        file("/EFI/x/empty", vec![]),
        file("/EFI/x/script", b"#!/bin/sh".to_vec()),
        file("/EFI/x/arm", Program::new("x").machine(0xaa64).build()),
        file("/EFI/x/old", old),
    ]);
    files.retain(|(path, _)| !path.ends_with(".TML"));
    files.push(file("/EFI/signpost/MENU-A.TML", slot(1, &text)));
    let machine = TestMachine::new(&spec);
    let mut vm = Vm::start(machine.folder(), &["lark.img", "meridian.img"]);
    vm.wait_for("? help");
    for (key, words) in [
        ("e\r", "empty: /EFI/x/empty: the file is empty"),
        ("s\r", "script: /EFI/x/script: not a program: it does not start with MZ"),
        ("a\r", "arm: /EFI/x/arm: it is built for aarch64, this machine is x86_64"),
        ("o\r", "old: /EFI/x/old has an EFI stub of version 0.9, which cannot take an initrd from here"),
    ] {
        vm.type_keys(key);
        vm.wait_for(words);
    }
    vm.type_keys("p\r");
    vm.until_it_ends();
    let survey = machine.ok(&["survey"]);
    assert!(survey.contains("Last start    old: /EFI/x/old has an EFI stub"), "{survey}");
}

const IMAGES_SAY: &str = "STARTED ";

#[test]
fn the_newest_kernel_is_started_from_ext4_and_remembered() {
    let text = menu("default = \"lark\"\ntimeout = 0", &[LOADER, KERNEL]);
    let (machine, vm) = run([slot(4, &text), slot(3, "format = 1\n")]);
    let serial = vm.until_it_ends();
    assert!(serial.contains("STARTED Larkspur Linux 14, kernel 6.9.4-2-larkspur"), "{serial}");
    let last =
        machine.variables().variables.into_iter().find(|variable| variable.name.name == "SignpostLast");
    assert_eq!(last.unwrap().data, b"lark");
}

#[test]
fn a_slot_that_was_altered_is_passed_over_and_the_older_one_counts() {
    let mut altered = slot(9, &menu("timeout = 0", &[LOADER]));
    altered[200] ^= 1;
    let (_machine, mut vm) = run([slot(8, &menu("timeout = 9", &[OTHER_DISK])), altered]);
    vm.wait_for("MENU-B.TML is skipped: it was altered");
    vm.wait_for("Press any key to stop.");
    vm.type_keys("\r");
    assert!(vm.until_it_ends().contains("STARTED Meridian"));
}

#[test]
fn a_start_that_fails_comes_back_with_its_reason_and_keys_go_on() {
    let (_machine, mut vm) = run([slot(1, &menu("timeout = 0", &[GIVES_UP, LOADER])), vec![0; 65536]]);
    vm.wait_for("Weak: it gave up");
    vm.type_keys("l\r");
    let serial = vm.until_it_ends();
    assert!(serial.contains("STARTED Larkspur loader"), "{serial}");
    assert!(!serial.contains("Starts in"), "no countdown behind a failure: {serial}");
}

#[test]
fn a_default_that_is_gone_waits_with_the_reason() {
    let (_machine, mut vm) =
        run([slot(1, &menu("default = \"gone\"\ntimeout = 0", &[LOADER, GONE])), vec![]]);
    vm.wait_for("Gone cannot start: d1p1 has no file /EFI/gone.efi");
    vm.type_keys("1\r");
    assert!(vm.until_it_ends().contains("STARTED Larkspur loader"));
}

#[test]
fn without_a_menu_what_is_found_is_offered() {
    let (_machine, mut vm) = run([b"random bytes, no slot\n".repeat(9), vec![]]);
    vm.wait_for("The menu on this disk is damaged");
    vm.type_keys("\u{1b}");
    vm.wait_for("No menu was found. These programs are here:");
    vm.wait_for("d2p1:/EFI/meridian/start.efi");
    vm.type_keys("\u{1b}[F");
    vm.wait_for("turns this machine off");
    vm.type_keys("\r");
    assert!(!vm.until_it_ends().contains(IMAGES_SAY));
}

#[test]
fn an_entry_kept_as_the_default_is_the_default_at_the_next_start() {
    let text = menu("default = \"loader\"\ntimeout = 5", &[LOADER, OTHER_DISK]);
    let (machine, mut vm) = run([slot(1, &text), vec![]]);
    vm.wait_for("Press any key to stop.");
    vm.type_keys("2*");
    vm.wait_for("Meridian is now the default");
    vm.type_keys("p\r");
    vm.until_it_ends();
    let vm = Vm::start(machine.folder(), &["lark.img", "meridian.img"]);
    assert!(vm.until_it_ends().contains("STARTED Meridian"));
}

/// Each start is counted before it is handed over; what has used up its tries is left for its fallback until somebody confirms.
#[test]
fn a_system_that_never_comes_up_is_left_for_its_fallback_on_real_firmware_as_rehearsed() {
    let tried = format!("{LOADER}\ntries = 2\nfallback = \"meridian\"");
    let text = menu("default = \"loader\"\ntimeout = 0", &[&tried, OTHER_DISK]);
    let mut spec = with_slots([slot(1, &text), vec![]]);
    let ours = LoadOption::new("Signpost", spec.disks[0].path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"), vec![]);
    spec.variables = vec![boot_option(0, &ours), boot_order(&[0])];
    let machine = TestMachine::new(&spec);
    let start = |expected: &str| {
        let rehearsed = machine.json(&["rehearse"])["outcome"]["text"].to_string();
        assert!(rehearsed.starts_with(&format!("\"{expected}, from")), "{rehearsed}");
        let serial = Vm::start(machine.folder(), &["lark.img", "meridian.img"]).until_it_ends();
        let says = if expected == "Loader" { "STARTED Larkspur loader" } else { "STARTED Meridian" };
        assert!(serial.contains(says), "{serial}");
    };
    start("Loader");
    start("Loader");
    start("Meridian");
    machine.ok(&["confirm", "loader"]);
    start("Loader");
    let counted = OurVariables::read(&machine.variables()).unconfirmed;
    assert_eq!(counted.of("loader"), 1);
}

/// The system inside the image file, added and applied by the commands that a person types.
#[test]
fn a_system_in_an_image_file_starts_as_rehearsed() {
    let machine = TestMachine::new(&signpost_demo::tide::bench(StoreKind::Fd));
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["entry", "add", "image", "d3p2:/systems/lantern.img"]);
    machine.ok(&["tune", "default=lantern-live-3", "timeout=0"]);
    machine.ok(&["apply", "--yes"]);
    let rehearsed = machine.json(&["rehearse"])["outcome"]["text"].to_string();
    assert!(rehearsed.contains("/boot/vmlinuz-6.8.2-lantern in d3p2:/systems/lantern.img"), "{rehearsed}");
    let serial = Vm::start(machine.folder(), &["disk1.img", "disk2.img", "disk3.img"]).until_it_ends();
    assert!(serial.contains("STARTED Lantern Live 3, kernel 6.8.2-lantern"), "{serial}");
}

/// Entry files and a unified image beside the menu's own entry: what the rehearsal says, the firmware does.
#[test]
fn entry_files_and_unified_images_are_found_at_boot() {
    let mut spec = with_slots([vec![], vec![]]);
    let Content::Fat { files, .. } = &mut spec.disks[0].partitions[0].content else { panic!("FAT") };
    let image = Program::new("Tidewater image")
        .section(".linux", b"kernel")
        .section(".osrel", b"PRETTY_NAME=\"Tidewater RT 5\"\n");
    files.retain(|(path, _)| path.contains("larkspur"));
    let entry = |title: &str, file: &str| format!("title {title}\nefi /EFI/larkspur/{file}\n").into_bytes();
    files.extend([
        file("/loader/entries/own.conf", entry("Loader", "lkload.efi")),
        file("/loader/entries/field+3.conf", entry("Field by file", "field.efi")),
        file("/loader/entries/worn+0-3.conf", entry("Worn", "gives-up.efi")),
        file("/EFI/larkspur/field.efi", Program::new("Field").build()),
        file("/EFI/Linux/tidewater.efi", image.build()),
    ]);
    let machine = TestMachine::new(&spec);
    machine.write("menu.toml", &menu("timeout = \"never\"", &[LOADER]).replace("firmware\"", "signpost\""));
    // The other disk's system, which started by its fallback path so far, is left out of this menu.
    machine.ok(&["apply", "--yes", "--despite", "last-way"]);
    let rehearsed = machine.json(&["rehearse", "--choose", "field"])["outcome"]["text"].to_string();
    assert!(rehearsed.contains("Field by file, from"), "{rehearsed}");
    let mut vm = Vm::start(machine.folder(), &["lark.img", "meridian.img"]);
    for title in ["1  Loader", "2  Tidewater RT 5", "3  Field by file", "4  Worn, failed before"] {
        vm.wait_for(title);
    }
    vm.type_keys("3\r");
    let serial = vm.until_it_ends();
    let (_, behind) = serial.split_once("Starting Field by file ...").expect("what is started is printed");
    assert!(behind.contains("STARTED Field"), "{serial}");
}

#[test]
fn two_hundred_entries_are_gone_through_by_keys() {
    let mut entries: Vec<String> = (0..200)
        .map(|number| {
            format!("id = \"e{number}\"\ntitle = \"\u{6f6e}\u{4f4d} {number}\"\nstarts = \"group\"")
        })
        .collect();
    entries.push(LOADER.into());
    let entries: Vec<&str> = entries.iter().map(String::as_str).collect();
    let (_machine, mut vm) =
        run([slot(1, &menu("default = \"loader\"\ntimeout = \"never\"", &entries)), vec![]]);
    vm.wait_for("201 of 204");
    vm.type_keys("\u{1b}[H");
    vm.wait_for("1 of 204");
    vm.type_keys("l\r");
    assert!(vm.until_it_ends().contains("STARTED Larkspur loader"));
}

/// What clears a terminal.
const CLEARED: &str = "\x1b[2J";

#[test]
fn a_menu_that_waits_unseen_for_a_key_touches_no_screen() {
    let text = menu("show = \"on-key\"\ntimeout = 1\nheading = \"Unseen\"", &[LOADER]);
    let (_machine, vm) = run([slot(1, &text), vec![]]);
    let serial = vm.until_it_ends();
    let (_, ours) = serial.rsplit_once("starting Boot").unwrap();
    assert!(ours.contains("STARTED Larkspur loader"), "{serial}");
    assert!(!ours.contains(CLEARED) && !ours.contains("Unseen"), "{ours:?}");
    let (_machine, mut vm) = run([slot(1, &text.replace("timeout = 1", "timeout = 9")), vec![]]);
    vm.wait_for("starting Boot");
    vm.type_keys(" ");
    vm.wait_for("Unseen");
}
