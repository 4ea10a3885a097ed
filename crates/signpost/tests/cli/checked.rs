//! What a menu says is checked: volumes in arguments, keys that are edited, names, titles; what is asked for twice is done once.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{Content, StoreKind};
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;

use crate::harness::{LARK, MERIDIAN, TestMachine, file, lark_disk, menu, small};

fn linux(args: &str) -> String {
    format!(
        "id = \"direct\"\ntitle = \"Direct\"\nstarts = \"linux\"\nvolume = \"uuid:0a0a-0001\"\n\
         kernel = \"/EFI/larkspur/vmlinuz-6.10.2\"\nargs = \"{args}\""
    )
}

#[test]
fn volumes_that_arguments_name_and_that_are_not_there_are_found() {
    for (args, expected) in [
        ("root=UUID=7c0e4b1a ro", "root=UUID=7c0e4b1a names no volume of this machine"),
        (
            "root=PARTUUID=aaaaaaaa-0002-4000-8000-000000000003",
            "names no volume of this machine; there is partuuid:",
        ),
        ("root=LABEL=TIDE resume=UUID=1", "resume=UUID=1 names no volume of this machine"),
        ("root=/dev/disk/by-label/NONE", "names no volume of this machine"),
        ("rd.luks.uuid=luks-ab12", "rd.luks.uuid=luks-ab12 names no volume of this machine"),
        ("root=/dev/mapper/tide-root", "names a device as the running system does"),
        ("root=/dev/sda2", "names a device as the running system does"),
    ] {
        let machine = TestMachine::small();
        machine.write("menu.toml", &menu("", &[&linux(args)]));
        let rows = machine.json(&["menu"])["entries"][0]["notes"].to_string();
        assert!(rows.contains(expected), "{args}: {rows}");
        let plan = machine.json(&["plan"])["notes"].to_string();
        assert!(plan.contains(expected), "{args}: {plan}");
    }
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[&linux("root=PARTUUID=AAAAAAAA-0002-4000-8000-000000000002 ro")]));
    assert_eq!(machine.json(&["menu"])["entries"][0]["notes"].to_string(), "[]");
}

#[test]
fn a_root_without_any_identity_is_an_error_of_the_entry() {
    // A whole disk, without a table and without a file system that has a UUID.
    let mut entry = linux("root={root} ro");
    entry.push_str("\nroot = \"lv:tide/root\"");
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[&entry]));
    let row = machine.json(&["menu"])["entries"][0].clone();
    assert_eq!(row["is_there"], false);
    assert!(row["starts"].as_str().unwrap().contains("no volume is lv:tide/root"), "{row}");
}

#[test]
fn single_words_of_arguments_are_added_and_dropped() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[&linux("root=UUID=1 ro quiet"), LARK]));
    machine.ok(&["entry", "edit", "direct", "args=+single", "-quiet"]);
    assert!(machine.read("menu.toml").contains("args = \"root=UUID=1 ro single\""));
    machine.ok(&["entry", "edit", "direct", "args=+single"]);
    assert!(machine.read("menu.toml").contains("args = \"root=UUID=1 ro single\""), "said twice, done once");
    let error = machine.fails(2, &["entry", "edit", "direct", "args=-splash"]);
    assert!(error.contains("the arguments do not contain splash"), "{error}");
}

#[test]
fn what_an_edited_entry_names_must_be_there() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[&linux("ro"), LARK]));
    let before = machine.read("menu.toml");
    let error = machine.fails(2, &["entry", "edit", "direct", "kernel=/EFI/larkspur/vmlinuz-7"]);
    assert!(error.contains("direct would not start") && error.contains("--unchecked"), "{error}");
    assert_eq!(machine.read("menu.toml"), before);
    machine.ok(&["entry", "edit", "direct", "kernel=/EFI/larkspur/vmlinuz-7", "--unchecked"]);
    // What was broken before may be called otherwise.
    machine.ok(&["entry", "edit", "direct", "title=Not yet"]);
}

#[test]
fn the_menu_says_what_its_host_cannot_start() {
    let machine = TestMachine::small();
    let group = "id = \"more\"\nstarts = \"group\"";
    let on_xfs = "id = \"off\"\ntitle = \"Off\"\nstarts = \"power-off\"";
    machine.write("menu.toml", &menu("", &[LARK, group, on_xfs]));
    let rows = machine.json(&["menu"])["entries"].clone();
    assert!(rows[0]["host_cannot"].is_null() && rows[1]["host_cannot"].is_null());
    assert!(
        rows[2]["host_cannot"].as_str().unwrap().contains("the firmware's list cannot hold it"),
        "{rows}"
    );
    assert!(machine.ok(&["menu"]).contains("NOT IN THIS MENU"));
}

#[test]
fn a_default_that_is_the_files_error_can_be_set_right() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("default = \"nobody\"", &[LARK, MERIDIAN]));
    assert_eq!(machine.run(&["menu"]).code, 1);
    machine.ok(&["tune", "default=lark"]);
    assert!(machine.read("menu.toml").contains("default = \"lark\""));
    machine.write("menu.toml", &menu("default = \"nobody\"\ntimeout = \"soon\"", &[LARK, MERIDIAN]));
    let error = machine.fails(1, &["tune", "default=lark"]);
    assert!(error.contains("timeout"), "what else is wrong is named: {error}");
}

#[test]
fn an_id_names_its_entry_whatever_others_are_called() {
    let machine = TestMachine::small();
    let other = "id = \"other\"\ntitle = \"lark\"\nstarts = \"restart\"";
    machine.write("menu.toml", &menu("", &[other, LARK]));
    machine.ok(&["entry", "rename", "lark", "Larkspur, renamed"]);
    let rows = machine.json(&["menu"])["entries"].clone();
    assert_eq!(
        (rows[0]["title"].as_str(), rows[1]["title"].as_str()),
        (Some("lark"), Some("Larkspur, renamed"))
    );
}

#[test]
fn what_is_said_twice_is_done_once() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[LARK, MERIDIAN]));
    let group = ["entry", "add", "group", "More"];
    machine.ok(&group);
    let once = machine.read("menu.toml");
    assert!(machine.ok(&group).contains("more is as it was"));
    assert_eq!(machine.read("menu.toml"), once);
    for what in ["label:MERIDIAN", "more", "d2p1:/EFI/*/fb*.efi"] {
        machine.ok(&["entry", "hide", what]);
        let once = machine.read("menu.toml");
        machine.ok(&["entry", "hide", what]);
        assert_eq!(machine.read("menu.toml"), once, "{what}");
    }
    machine.ok(&["tune", "timeout=9"]);
    let once = machine.everything();
    machine.ok(&["tune", "timeout=9"]);
    assert_eq!(machine.everything(), once);
}

#[test]
fn one_entry_is_put_back_and_the_file_of_before_is_brought_back() {
    let machine = TestMachine::small();
    machine.ok(&["draft"]);
    let drafted = machine.read("menu.toml");
    assert!(machine.fails(4, &["undo", "--menu"]).contains("was not changed by a command yet"));
    machine.ok(&["entry", "edit", "meridian", "title=My own", "program=d2p1:/EFI/BOOT/BOOTX64.EFI"]);
    let edited = machine.read("menu.toml");
    machine.ok(&["entry", "reset", "meridian"]);
    assert_eq!(machine.read("menu.toml"), drafted);
    machine.ok(&["undo", "--menu"]);
    assert_eq!(machine.read("menu.toml"), edited);
    machine.ok(&["undo", "--menu"]);
    assert_eq!(machine.read("menu.toml"), drafted);
    machine.ok(&["entry", "add", "group", "By hand"]);
    assert!(machine.fails(2, &["entry", "reset", "by-hand"]).contains("draft offers nothing for by-hand"));
}

#[test]
fn no_two_entries_have_one_title_on_the_screen() {
    let mut spec = small(StoreKind::Folder);
    let files = vec![
        file("/EFI/larkspur/lkload.efi", Program::new("Larkspur").build()),
        file("/loader/entries/a.conf", b"title Larkspur\nversion 6.9\nlinux /vmlinuz-6.9\n".to_vec()),
        file("/vmlinuz-6.9", Kernel::new("6.9").build("Larkspur")),
    ];
    spec.disks[0].partitions[0].content = Content::Fat { label: "LARK-ESP", serial: 0x0a0a_0001, files };
    let machine = crate::one_answer::applied(&spec, "timeout = 3", &[LARK, MERIDIAN]);
    let screen = machine.ok(&["preview"]);
    assert!(screen.contains("1  Larkspur  ") && screen.contains("3  Larkspur, 6.9"), "{screen}");
}

#[test]
fn what_undo_puts_back_is_not_made_by_us_and_one_program_may_stand_twice_with_other_arguments() {
    let mut spec = small(StoreKind::Folder);
    let lark = lark_disk(vec![]).path_to(1, "\\EFI\\larkspur\\lkload.efi");
    spec.variables.push(boot_option(2, &LoadOption::new("Larkspur", lark, vec![])));
    spec.variables.retain(|variable| variable.name.name != "BootOrder");
    spec.variables.push(boot_order(&[1, 2]));
    let machine = TestMachine::new(&spec);
    machine.ok(&["firmware", "add", "Larkspur, single", "d1p1:/EFI/larkspur/lkload.efi", "--args", "single"]);
    machine.ok(&["firmware", "remove", "2", "--yes"]);
    machine.ok(&["undo", "--yes"]);
    let list = machine.json(&["firmware", "list"])["entries"].clone();
    let made_by = |number: &str| {
        let entry = list.as_array().unwrap().iter().find(|entry| entry["number"] == number).unwrap();
        entry["made_by"].as_str().unwrap().to_string()
    };
    assert_eq!((made_by("0002").as_str(), made_by("0000").as_str()), ("a system", "us"));
}

#[test]
fn an_entry_that_starts_nothing_is_not_sent_to() {
    let mut spec = small(StoreKind::Folder);
    let gone = lark_disk(vec![]).path_to(1, "\\EFI\\none.efi");
    spec.variables.push(boot_option(2, &LoadOption::new("Gone", gone, vec![])));
    let machine = TestMachine::new(&spec);
    for command in [["firmware", "next", "2"], ["firmware", "order", "2"]] {
        let error = machine.fails(2, &command);
        assert!(error.contains("entry 0002 \"Gone\" starts nothing: d1p1 has no file"), "{error}");
    }
    assert!(!machine.ok(&["firmware", "list"]).contains("formatted again"), "only its file is gone");
}

#[test]
fn all_errors_come_at_once_a_doubled_id_among_them() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[LARK, "id = \"lark\"\nstarts = \"efi\"\nprogram = \"nowhere\""]));
    let error = machine.fails(1, &["menu"]);
    assert!(error.contains("the id \"lark\" is used twice") && error.contains("names no volume"), "{error}");
}

#[test]
fn units_run_the_program_that_wrote_them_with_its_menu() {
    let machine = TestMachine::small();
    let menu = machine.path("my menu.toml");
    machine.ok(&[
        "--menu",
        menu.to_str().unwrap(),
        "hold",
        "--units",
        machine.path("units").to_str().unwrap(),
    ]);
    let unit = machine.read("units/signpost-hold.service");
    let program = env!("CARGO_BIN_EXE_signpost");
    assert!(
        unit.contains(&format!("ExecStart={program} --menu \"{}\" --color never hold", menu.display())),
        "{unit}"
    );
}
