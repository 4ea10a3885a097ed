//! The firmware's own entries: listed, ordered, made, removed, tidied, held.

use signpost_demo::{BenchSpec, StoreKind};
use signpost_facts::ours::OurVariables;
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::device_path::{DevicePath, HardDrive, Node, PartitionSignature};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::store::kernel_file;
use signpost_firmware::{Guid, guid};
use signpost_menu::ours;

use crate::harness::{
    LARK, MERIDIAN, MERIDIAN_ESP, TestMachine, lark_disk, lark_files, menu, meridian_disk, meridian_files,
    program, small,
};

const LARK_FILE: &str = "\\EFI\\larkspur\\lkload.efi";
const MERIDIAN_FILE: &str = "\\EFI\\meridian\\start.efi";
const MADE_BY_FIRMWARE: Guid = guid!("8108ac4e-9f11-4d59-850e-e21a522c59b2");

fn option(label: &str, path: DevicePath) -> LoadOption {
    LoadOption::new(label, path, vec![])
}

fn lark(file: &str) -> DevicePath {
    lark_disk(vec![]).path_to(1, file)
}

fn meridian(file: &str) -> DevicePath {
    meridian_disk(vec![]).path_to(1, file)
}

fn on_partition(number: u32, start: u64, guid: Guid, file: &str) -> DevicePath {
    let drive = HardDrive { number, start, size: 8192, signature: PartitionSignature::Guid(guid) };
    DevicePath::new(vec![Node::hard_drive(&drive), Node::file_path(file)])
}

/// A list as years leave it behind.
fn years_old() -> TestMachine {
    let gone = guid!("dddddddd-0001-4000-8000-000000000001");
    let mut unused = option("Larkspur again", lark(LARK_FILE));
    unused.attributes -= LoadOptionAttributes::ACTIVE;
    let mut own = option("UEFI Cormorant CRM-1", DevicePath::new(meridian("").nodes()[..1].to_vec()));
    own.optional_data = MADE_BY_FIRMWARE.to_bytes().to_vec();
    let mut other_data = option("Meridian, safe", meridian(MERIDIAN_FILE));
    other_data.optional_data = b"safe".to_vec();
    let options = [
        (0x1, option("Larkspur", lark(LARK_FILE))),
        (0x2, unused),
        (0x3, option("Meridian", meridian(MERIDIAN_FILE))),
        (0x4, other_data),
        (0x5, option("Old Larkspur", on_partition(1, 4096, gone, "\\EFI\\old\\a.efi"))),
        (0x6, option("Remade", on_partition(1, 2048, gone, LARK_FILE))),
        (0x7, option("Field", lark("\\EFI\\field\\start.efi"))),
        (0x8, option("Meridian by its copy", meridian("\\EFI\\BOOT\\BOOTX64.EFI"))),
        (0x9, own),
        (0x10, option("Larkspur's kernel", lark("\\EFI\\larkspur\\vmlinuz-6.9.1"))),
    ];
    let mut variables: Vec<_> = options.iter().map(|(number, option)| boot_option(*number, option)).collect();
    variables.push(boot_order(&[0x3, 0x2, 0x1, 0x4, 0x3, 0x99, 0x5, 0x6, 0x7, 0x8, 0x9]));
    TestMachine::new(&BenchSpec {
        variables,
        more: "secure-boot = false\n\n[running]\nentry = \"0003\"\n".into(),
        ..small(StoreKind::Folder)
    })
}

#[test]
fn the_list_says_what_each_entry_is_and_what_is_odd() {
    let machine = years_old();
    insta::assert_snapshot!(machine.ok(&["firmware", "list", "--paths"]));
}

#[test]
fn tidying_leaves_what_it_does_not_understand_and_says_so() {
    let machine = years_old();
    insta::assert_snapshot!(machine.ok(&["firmware", "tidy", "--dry-run"]));
    machine.fails(3, &["firmware", "tidy"]);
    assert!(machine.boot().options.contains_key(&2), "nothing goes without a yes");
    machine.ok(&["firmware", "tidy", "--yes"]);
    assert_eq!(machine.boot().order, [0x3, 0x1, 0x4, 0x8, 0x9, 0x10]);
    let again = machine.ok(&["firmware", "tidy", "--yes"]);
    assert!(again.contains("There is nothing to tidy."), "{again}");
    machine.ok(&["undo", "--yes"]);
    assert_eq!(machine.boot().options.len(), 10);
}

#[test]
fn entries_are_ordered_by_number_or_name_and_the_rest_stays_behind() {
    let machine = years_old();
    machine.ok(&["firmware", "order", "Boot0008", "old", "1"]);
    assert_eq!(machine.boot().order, [0x8, 0x5, 0x1, 0x3, 0x2, 0x4, 0x99, 0x6, 0x7, 0x9, 0x10]);
    machine.ok(&["undo", "--yes"]);
    assert_eq!(machine.boot().order[0], 0x3);
    machine.ok(&["firmware", "next", "kernel"]);
    assert_eq!(machine.boot().next, Some(0x10));
    machine.ok(&["firmware", "next", "--clear"]);
    assert_eq!(machine.boot().next, None);
    machine.ok(&["firmware", "rename", "field", "Field station"]);
    machine.ok(&["firmware", "disable", "field st"]);
    let field = machine.boot().options[&7].decoded.clone().unwrap();
    assert_eq!((field.description.to_string().as_str(), field.is_active()), ("Field station", false));
    let before = machine.everything();
    machine.ok(&["firmware", "disable", "7"]);
    machine.ok(&["firmware", "order", "1", "--dry-run"]);
    assert_eq!(machine.everything(), before, "nothing is written that is so already");
}

#[test]
fn a_survey_tells_what_became_of_the_entries_and_not_of_those_they_were_put_before() {
    let machine = TestMachine::small();
    machine.ok(&["survey"]);
    machine.ok(&["firmware", "add", "Larkspur", "d1p1:/EFI/larkspur/lkload.efi", "--first"]);
    machine.ok(&["firmware", "disable", "1", "--despite", "last-way"]);
    let changes = &machine.json(&["survey"])["changes"];
    let told = |kind: &str| changes[kind].as_array().unwrap().clone();
    assert_eq!(told("new"), ["firmware entry 0000: \"Larkspur\", to /EFI/larkspur/lkload.efi on 0A0A-0001"]);
    assert_eq!(
        told("changed"),
        [
            "boot order: 0000, 0001; it was 0001",
            "firmware entry 0001: \"Meridian\", disabled, to /EFI/meridian/start.efi on 0B0B-0001; it was \"Meridian\", to /EFI/meridian/start.efi on 0B0B-0001"
        ]
    );
    assert_eq!(told("gone"), [""; 0]);
}

#[test]
fn names_that_fit_nothing_or_too_much_and_changes_that_must_not_be_are_answered() {
    let machine = years_old();
    let mut said = String::new();
    for (code, args) in [
        (2, &["order", "16"][..]),
        (2, &["order", "eridian"]),
        (2, &["order", "Larkspu"]),
        (2, &["order", "mreidian"]),
        (2, &["enable", "99"]),
        (2, &["add", "Meridian 2", "d2p1:/EFI/meridian/start.efi"]),
        (2, &["add", "None", "d2p1:/EFI/meridian/stop.efi"]),
        (2, &["add", "Text", "d1p1:/EFI/larkspur/initrd-6.9.1"]),
        (3, &["remove", "3", "--yes"]),
        (2, &["remove", "16", "--yes"]),
    ] {
        let run = machine.run(&[&["firmware"], args].concat());
        said.push_str(&format!("$ {}\n{}", args.join(" "), run.stderr));
        assert_eq!(run.code, code, "{args:?}: {}", run.stderr);
    }
    insta::assert_snapshot!(said);
}

#[test]
fn the_last_way_to_a_system_and_to_anything_stays() {
    let machine = TestMachine::small();
    let error = machine.fails(3, &["firmware", "remove", "1", "--yes"]);
    assert!(error.contains("last-way") && error.contains("Meridian Desktop 4"), "{error}");
    for despite in [&[][..], &["--despite", "last-way"]] {
        let error = machine.fails(3, &[&["firmware", "disable", "1"], despite].concat());
        let code = if despite.is_empty() { "last-way" } else { "nothing-starts" };
        assert!(error.contains(code), "{error}");
    }
    machine.ok(&[
        "firmware",
        "add",
        "Larkspur",
        "d1p1:/EFI/larkspur/lkload.efi",
        "--first",
        "--args",
        "quiet",
    ]);
    assert_eq!(machine.boot().order, [0, 1]);
    machine.ok(&["firmware", "add", "Copy", "d2p1:/EFI/BOOT/BOOTX64.EFI", "--disabled"]);
    assert_eq!(machine.boot().order, [0, 1, 2]);
    assert!(!machine.boot().options[&2].decoded.clone().unwrap().is_active());
    let list = machine.json(&["firmware", "list"]);
    assert_eq!(list["entries"][0]["made_by"], "us");
    assert_eq!(list["entries"][2]["findings"][0], "same file content as 0001: two names of one loader");
}

/// Another system's installer: it puts its entry first, and forgets ours where it has no room for it.
fn installer(machine: &TestMachine, order: &[u16]) {
    machine.put(&boot_order(order));
}

fn held() -> TestMachine {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("default = \"lark\"", &[LARK, MERIDIAN]));
    machine.ok(&["apply", "--yes"]);
    assert_eq!(machine.boot().order, [0, 1]);
    machine
}

#[test]
fn an_installer_that_puts_itself_first_is_corrected_once_and_then_nothing_is_written() {
    let machine = held();
    let before = machine.everything();
    machine.ok(&["hold"]);
    assert_eq!(machine.everything(), before, "all is as it was");
    for _ in 0..2 {
        installer(&machine, &[1, 0]);
        let shown = machine.ok(&["hold", "--dry-run"]);
        assert!(
            shown.starts_with("Next start now  Meridian Desktop 4, from")
                && shown.contains("boot order 0000 0001"),
            "{shown}"
        );
        machine.ok(&["hold", "--quiet"]);
        assert_eq!(machine.boot().order, [0, 1]);
        let right = machine.everything();
        assert_eq!(machine.ok(&["hold", "--quiet"]), "");
        assert_eq!(machine.everything(), right);
    }
    let log = machine.ok(&["hold", "--log"]);
    assert_eq!(log.matches("boot order 0000 0001").count(), 2, "{log}");
    assert!(log.contains("Meridian Desktop 4, from"), "{log}");
}

/// systemd reads a line's priority from its start, and says nothing where nothing was done.
#[test]
fn the_journal_gets_a_line_for_each_correction() {
    let machine = held();
    let hold = || {
        let bench = machine.folder().to_str().unwrap();
        let mut command = program();
        command.args(["--machine", bench, "--color", "never", "hold"]).env("JOURNAL_STREAM", "8:4711");
        String::from_utf8(command.output().unwrap().stdout).unwrap()
    };
    assert_eq!(hold(), "");
    installer(&machine, &[1, 0]);
    let said = hold();
    let lines: Vec<&str> = said.lines().collect();
    assert_eq!(lines[0], "<5>corrected: boot order 0000 0001");
    assert!(lines[1].starts_with("<5>as it was found, next start: Meridian Desktop 4, from"), "{said}");
    assert!(lines[2].starts_with("<5>next start now: Larkspur, from") && lines.len() == 3, "{said}");
}

#[test]
fn hold_makes_what_was_removed_and_leaves_what_was_changed_since() {
    let machine = held();
    let variables = machine.path("variables");
    let ours = std::fs::read_dir(&variables).unwrap().map(|entry| entry.unwrap().path());
    let ours = ours
        .into_iter()
        .find(|path| path.file_name().unwrap().to_str().unwrap().starts_with("Boot0000"))
        .unwrap();
    std::fs::remove_file(ours).unwrap();
    installer(&machine, &[1]);
    machine.ok(&["hold"]);
    assert_eq!(machine.boot().order, [0, 1]);
    // A menu that was changed and not applied, and an order that somebody has decided since.
    machine.ok(&["entry", "rename", "lark", "Larkspur, the field station's"]);
    machine.ok(&["firmware", "order", "1"]);
    let before = machine.everything();
    machine.ok(&["hold"]);
    assert_eq!(machine.everything(), before);
    // What was undone is held no longer.
    machine.ok(&["undo", "--yes"]);
    machine.ok(&["undo", "--yes"]);
    installer(&machine, &[1]);
    let said = machine.ok(&["hold"]);
    assert!(said.contains("no menu is active, so there is nothing to hold"), "{said}");
}

#[test]
fn a_firmware_that_never_keeps_the_order_is_left_after_three_times() {
    let machine = held();
    for _ in 0..3 {
        installer(&machine, &[1, 0]);
        machine.ok(&["hold"]);
    }
    installer(&machine, &[1, 0]);
    let error = machine.fails(1, &["hold"]);
    assert!(error.contains("3 times in a row") && error.contains("fallback-path=true"), "{error}");
    assert_eq!(machine.boot().order, [1, 0]);
    machine.ok(&["apply", "--yes"]);
    installer(&machine, &[1, 0]);
    machine.ok(&["hold"]);
    assert_eq!(machine.boot().order, [0, 1], "apply starts counting anew");
}

#[test]
fn units_run_hold_at_each_start_and_after_updates() {
    let machine = TestMachine::small();
    let folder = machine.path("units");
    machine.ok(&["hold", "--units", folder.to_str().unwrap()]);
    let read = |name: &str| std::fs::read_to_string(folder.join(name)).unwrap();
    let program = env!("CARGO_BIN_EXE_signpost");
    assert!(read("signpost-hold.service").contains(&format!("ExecStart={program} --color never hold\n")));
    assert!(
        read("signpost-confirm.service").contains(&format!("ExecStart={program} --color never confirm\n"))
    );
    // It starts nothing where nothing was counted.
    let counted = kernel_file::file_name(&OurVariables::name(ours::TRIES));
    assert!(read("signpost-confirm.service").contains(&format!("=|/sys/firmware/efi/efivars/{counted}\n")));
    assert!(read("signpost-hold.path").contains("PathChanged=/boot\n"));
    assert!(read("signpost-hold.timer").contains("OnUnitActiveSec=1d\n"));
    // What somebody has made of them stays, and is named.
    let edited = read("signpost-hold.timer").replace("1d", "2d");
    std::fs::write(folder.join("signpost-hold.timer"), &edited).unwrap();
    std::fs::remove_file(folder.join("signpost-hold.path")).unwrap();
    std::os::unix::fs::symlink("/dev/null", folder.join("signpost-hold.path")).unwrap();
    let said = machine.ok(&["hold", "--units", folder.to_str().unwrap()]);
    assert!(
        said.contains("signpost-hold.path is masked") && said.contains("signpost-hold.timer was edited"),
        "{said}"
    );
    assert!(said.starts_with("signpost-hold.service, signpost-confirm.service in"), "{said}");
    assert_eq!(read("signpost-hold.timer"), edited);
}

#[test]
fn an_entry_of_another_disk_with_the_same_identity_is_no_twin() {
    let mut clone = meridian_disk(meridian_files());
    (clone.image, clone.serial) = ("clone.img", "CRM-2");
    let spec = BenchSpec {
        disks: vec![lark_disk(lark_files()), meridian_disk(meridian_files()), clone],
        variables: vec![
            boot_option(1, &option("Meridian", on_partition(1, 2048, MERIDIAN_ESP, MERIDIAN_FILE))),
            boot_option(2, &option("Larkspur", lark(LARK_FILE))),
            boot_order(&[1, 2]),
        ],
        ..small(StoreKind::Folder)
    };
    let machine = TestMachine::new(&spec);
    let tidy = machine.json(&["firmware", "tidy", "--dry-run"]);
    assert_eq!(tidy["goes"], serde_json::json!([]), "{tidy}");
}
