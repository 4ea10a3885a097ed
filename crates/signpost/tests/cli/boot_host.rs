//! Host "signpost": boot program and menu on the home volume.

use std::sync::Arc;

use signpost_demo::program::Program;
use signpost_demo::{BenchSpec, StoreKind};
use signpost_disk::block::SharedDevice;
use signpost_disk::fat::FatVolume;
use signpost_disk::file_system::FileSystem;
use signpost_menu::slot::{SLOT_NAMES, SLOT_SIZE, Slot};

use crate::harness::{
    LARK, MERIDIAN, TestMachine, copy_program, file, flat, lark_disk, lark_files, menu, slot_of, small,
};

const WEAK: &str = "id = \"weak\"\nstarts = \"efi\"\nprogram = \"uuid:0a0a-0001/EFI/gone.efi\"";

/// A bench whose menu the boot program is to show, and a program that stands in for it.
struct Host {
    machine: TestMachine,
    program: String,
}

impl Host {
    fn new(spec: &BenchSpec) -> Self {
        let machine = TestMachine::new(spec);
        let program = machine.path("program.efi");
        std::fs::write(&program, Program::new("Signpost").boot_program().build()).unwrap();
        let host = Self { program: program.display().to_string(), machine };
        host.menu("timeout = 3", &[LARK, MERIDIAN]);
        host
    }

    fn small() -> Self {
        Self::new(&small(StoreKind::Fd))
    }

    fn menu(&self, head: &str, entries: &[&str]) {
        self.machine.write("menu.toml", &menu(head, entries).replace("\"firmware\"", "\"signpost\""));
    }

    fn with<'a>(&'a self, args: &[&'a str]) -> Vec<&'a str> {
        [args, &["--boot-program", &self.program]].concat()
    }

    fn apply(&self) -> String {
        self.machine.ok(&self.with(&["apply", "--yes"]))
    }

    /// A file on Larkspur's ESP.
    fn file(&self, path: &str) -> Option<Vec<u8>> {
        let image = std::fs::read(self.machine.path("lark.img")).unwrap();
        let esp: SharedDevice = Arc::new(image[1 << 20..5 << 20].to_vec());
        FatVolume::open(esp).unwrap().read(path, 1 << 20).ok()
    }

    fn file_of_program(&self) -> Option<Vec<u8>> {
        std::fs::read(&self.program).ok()
    }

    fn slot(&self, index: usize) -> Option<Slot> {
        Slot::decode(&self.file(&format!("/EFI/signpost/{}", SLOT_NAMES[index]))?).ok()
    }
}

#[test]
fn a_menu_is_put_active_changed_and_taken_back() {
    let host = Host::small();
    let before = host.machine.variables();
    insta::assert_snapshot!(host.machine.ok(&host.with(&["plan"])));
    host.apply();
    assert_eq!(host.slot(0).unwrap().text, host.machine.read("menu.toml"));
    assert_eq!(host.file("/EFI/signpost/MENU-B.TML").unwrap().len(), SLOT_SIZE);
    assert_eq!(host.machine.boot().order, [0, 1]);
    let rehearsed = host.machine.ok(&["rehearse"]);
    assert!(rehearsed.ends_with("Larkspur, from d1p1:/EFI/larkspur/lkload.efi\n"), "{rehearsed}");
    let untouched = host.machine.everything();
    assert!(host.apply().starts_with("The machine is as the menu says"));
    assert_eq!(host.machine.everything(), untouched);

    host.menu("timeout = 4", &[MERIDIAN, LARK]);
    let said = host.apply();
    assert!(said.contains("write the menu into MENU-B.TML") && said.contains("1 write,"), "{said}");
    assert_eq!((host.slot(0).unwrap().serial, host.slot(1).unwrap().serial), (1, 2));
    host.machine.ok(&["undo", "--yes"]);
    assert_eq!(host.slot(1), None, "the slot holds again what it held: nothing");
    assert_eq!(host.slot(0).unwrap().serial, 1);
    host.machine.ok(&["undo", "--yes"]);
    let sorted = |mut contents: signpost_firmware::variable::Contents| {
        contents.variables.sort_by(|a, b| a.name.cmp(&b.name));
        contents
    };
    assert_eq!(sorted(host.machine.variables()), sorted(before));
    assert_eq!((host.slot(0), host.file("/EFI/signpost/MENU-A.TML")), (None, None));
    assert_eq!(host.file("/EFI/larkspur/lkload.efi"), Some(lark_files()[0].1.clone()));
}

#[test]
fn what_if_another_entry_were_chosen_a_disk_gone_or_the_order_another() {
    let host = Host::small();
    host.menu("timeout = 3", &[LARK, MERIDIAN, WEAK]);
    host.apply();
    let last = |args: &[&str]| host.machine.run(args).stdout.lines().last().unwrap().to_string();
    assert_eq!(
        last(&["rehearse", "--choose", "meridian"]),
        "Ends with  Meridian, from d2p1:/EFI/meridian/start.efi"
    );
    assert!(last(&["rehearse", "--choose", "weak"]).contains("weak cannot start: d1p1 has no file"));
    let error = host.machine.fails(2, &["rehearse", "--choose", "meridien"]);
    assert!(error.contains("the active menu has no entry meridien; did you mean meridian?"), "{error}");
    assert_eq!(host.machine.run(&["rehearse", "--choose", "weak"]).code, 1, "it starts nothing");
    let without = last(&["rehearse", "--choose", "meridian", "--without", "2"]);
    assert!(without.contains("Meridian cannot start: no volume is uuid:0b0b-0001"), "{without}");
    let order = last(&["rehearse", "--order", "0001", "0000"]);
    assert_eq!(order, "Ends with  Meridian Desktop 4, from d2p1:/EFI/meridian/start.efi");
    assert_eq!(host.machine.run(&["rehearse", "--without", "9"]).code, 4);
    assert_eq!(host.machine.run(&["rehearse", "--order", "xyz"]).code, 2);
}

#[test]
fn once_goes_to_an_entry_or_the_menu_and_is_taken_back() {
    let host = Host::small();
    host.apply();
    assert!(host.machine.ok(&["once", "meridian"]).contains("Next start  Meridian, from"));
    assert_eq!(host.machine.json(&["rehearse"])["steps"][1]["reason"], "menu, once");
    assert!(host.machine.ok(&["once", "menu"]).contains("the menu, which waits for a key"));
    assert!(host.machine.ok(&["once", "--clear"]).contains("Next start  Larkspur, from"));
    host.machine.ok(&["once", "merid"]);
    let survey = host.machine.ok(&["survey"]);
    assert!(survey.contains("the next start of our menu goes to meridian"), "{survey}");
    let error = host.machine.fails(2, &["once", "meridien"]);
    assert!(error.contains("there is no entry meridien; did you mean meridian?"), "{error}");
}

#[test]
fn broken_slots_are_passed_over_and_mended_by_the_next_apply() {
    let mut spec = small(StoreKind::Fd);
    let mut files = lark_files();
    for name in SLOT_NAMES {
        files.push(file(&format!("/EFI/signpost/{name}"), b"random bytes".repeat(5000)));
    }
    spec.disks[0] = lark_disk(files);
    let host = Host::new(&spec);
    let said = host.apply();
    assert!(said.contains("write the menu into MENU-A.TML"), "{said}");
    assert_eq!(host.slot(0).unwrap().serial, 1);
}

#[test]
fn another_systems_menu_is_only_replaced_on_request() {
    let mut spec = small(StoreKind::Fd);
    let text = menu("", &[LARK]);
    let theirs = slot_of("0123abcd", 7, &text);
    let mut files = lark_files();
    files.push(file("/EFI/signpost/MENU-A.TML", theirs));
    spec.disks[0] = lark_disk(files);
    let host = Host::new(&spec);
    let error = host.machine.fails(3, &host.with(&["apply", "--yes"]));
    assert!(error.contains("refused (other-system)") && error.contains("--take-over"), "{error}");
    host.machine.ok(&host.with(&["apply", "--yes", "--take-over"]));
    assert_eq!((host.slot(0).unwrap().serial, host.slot(1).unwrap().serial), (7, 8));
}

/// A second system that drafts for the first time begins with what was decided of the machine; the first one's hold leaves the
/// menu that takes the place of its own.
#[test]
fn a_second_system_takes_over_what_the_first_one_decided() {
    let host = Host::small();
    host.menu(
        "heading = \"Two of us\"\ntimeout = 17\ndefault = \"meridian\"",
        &[&LARK.replace("title = \"Larkspur\"", "title = \"My own title\""), MERIDIAN],
    );
    host.apply();
    let image = host.machine.path("lark.img");
    let path = format!("/EFI/signpost/{}", SLOT_NAMES[0]);
    let text = host.slot(0).unwrap().text;
    signpost_demo::change_fat(&image, 1 << 20..5 << 20, &[], &[&path]).unwrap();
    signpost_demo::change_fat(&image, 1 << 20..5 << 20, &[(path, slot_of("0123abcd", 9, &text))], &[])
        .unwrap();
    std::fs::remove_file(host.machine.path("menu.toml")).unwrap();
    let said = host.machine.ok(&["draft"]);
    assert!(said.contains("which another system of this PC put there"), "{said}");
    let file = host.machine.read("menu.toml");
    for kept in ["Two of us", "timeout = 17", "default = \"meridian\"", "My own title", "host = \"signpost\""]
    {
        assert!(file.contains(kept), "{kept}: {file}");
    }
    let held = host.machine.ok(&["hold"]);
    assert!(held.contains("put there by another system") && held.contains("hold leaves that"), "{held}");
    // The other system's records count by now, and nothing of this one's is kept for them.
    std::fs::remove_file(host.machine.path("held.json")).unwrap();
    let held = host.machine.ok(&["hold"]);
    assert!(held.contains("put there by another system") && held.contains("hold leaves that"), "{held}");
    host.machine.ok(&host.with(&["apply", "--yes", "--take-over"]));
    assert!(host.machine.ok(&["rehearse"]).contains("Meridian"));
}

#[test]
fn another_systems_menu_is_guarded_whoever_shows_the_new_one_and_wherever_it_goes() {
    for theirs in ["0123abcd", ""] {
        let host = Host::small();
        host.apply();
        // Another system has put its menu there since, into the slot that counts.
        let slot = slot_of(theirs, 9, &menu("", &[MERIDIAN]));
        let path = format!("/EFI/signpost/{}", SLOT_NAMES[1]);
        let image = host.machine.path("lark.img");
        signpost_demo::change_fat(&image, 1 << 20..5 << 20, &[], &[&path]).unwrap();
        signpost_demo::change_fat(&image, 1 << 20..5 << 20, &[(path, slot)], &[]).unwrap();
        std::fs::remove_dir_all(host.machine.path("history")).unwrap();
        let refused = |args: &[&str]| host.machine.fails(3, &host.with(args));
        assert!(refused(&["apply", "--yes"]).contains("other-system"), "{theirs}");
        assert!(
            refused(&["apply", "--yes", "--home", "label:MERIDIAN"]).contains("other-system"),
            "{theirs}"
        );
        assert!(host.machine.fails(3, &["apply", "--remove", "--yes"]).contains("other-system"), "{theirs}");
        host.machine.write("menu.toml", &menu("", &[LARK, MERIDIAN]));
        assert!(
            host.machine.fails(3, &["apply", "--yes"]).contains("other-system"),
            "{theirs}: by the firmware"
        );
        host.machine.ok(&["apply", "--yes", "--take-over"]);
    }
}

#[test]
fn the_home_that_was_applied_to_is_found_again_when_the_firmware_has_forgotten_it() {
    let host = Host::small();
    host.machine.ok(&host.with(&["apply", "--yes", "--home", "label:MERIDIAN"]));
    let mut spec = small(StoreKind::Fd);
    spec.variables.clear();
    let reset = TestMachine::new(&spec);
    std::fs::copy(reset.path("variables.fd"), host.machine.path("variables.fd")).unwrap();
    let plan = host.machine.json(&host.with(&["plan"]));
    assert_eq!(plan["home"], "d2p1, this system's menu was put there");
}

#[test]
fn the_fallback_path_is_taken_only_where_it_is_free_or_ours() {
    let host = Host::small();
    host.menu("fallback-path = true", &[LARK]);
    let said = host.apply();
    assert!(
        said.contains("copy the boot program to the fallback path, d1p1:/EFI/BOOT/BOOTX64.EFI"),
        "{said}"
    );
    assert_eq!(host.file("/EFI/BOOT/BOOTX64.EFI"), host.file_of_program());
    assert!(host.apply().contains("nothing was written"));
    let other = host.machine.ok(&host.with(&["plan", "--home", "label:MERIDIAN"]));
    assert!(
        other.contains("fallback-path: /EFI/BOOT/BOOTX64.EFI is another program's, and stays"),
        "{other}"
    );
    host.machine.ok(&["undo", "--yes"]);
    assert_eq!(host.file("/EFI/BOOT/BOOTX64.EFI"), None);
}

#[test]
fn a_home_volume_without_room_or_of_another_kind_is_refused() {
    let host = Host::small();
    let mut large = Program::new("Signpost").boot_program().build();
    large.resize(5 << 20, 0);
    std::fs::write(&host.program, large).unwrap();
    let before = host.machine.everything();
    let error = host.machine.fails(3, &host.with(&["apply", "--yes"]));
    assert!(error.contains("refused (no-room)") && !error.contains("--despite"), "{error}");
    let error = host.machine.fails(4, &host.with(&["plan", "--home", "d1p2"]));
    assert!(error.contains("d1p2 is XFS, which firmware does not read"), "{error}");
    assert_eq!(host.machine.everything(), before);
}

#[test]
fn the_home_volume_can_be_named_and_stays_home() {
    let host = Host::small();
    let plan = host.machine.json(&host.with(&["plan", "--home", "label:MERIDIAN"]));
    assert_eq!(plan["home"], "d2p1, as asked for");
    host.machine.ok(&host.with(&["apply", "--yes", "--home", "label:MERIDIAN"]));
    let plan = host.machine.json(&host.with(&["plan"]));
    assert_eq!(plan["home"], "d2p1, it is home already", "numbers stay as they are");
}

/// A copy of the program in a folder of its own finds no boot program beside it.
#[test]
fn where_the_boot_program_is_missing_it_says_how_to_get_one() {
    let host = Host::small();
    let alone = host.machine.path("alone/signpost");
    std::fs::create_dir(alone.parent().unwrap()).unwrap();
    copy_program(&alone);
    let output =
        std::process::Command::new(&alone).arg("--machine").arg(host.machine.folder()).arg("plan").output();
    let output = output.unwrap();
    let error = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(4));
    assert!(error.contains("cargo xtask boot") && error.contains("host = \"firmware\""), "{error}");
}

#[test]
fn the_boot_screen_is_shown_at_any_size() {
    let host = Host::small();
    host.menu("timeout = 3\nheading = \"Gezeiten\"", &[LARK, MERIDIAN, WEAK]);
    insta::assert_snapshot!(
        host.machine.ok(&["preview"]) + &host.machine.ok(&["preview", "--size", "40x10"])
    );
    assert!(host.machine.ok(&["preview", "--keys"]).contains("make the selected entry the default"));
    assert_eq!(host.machine.run(&["preview", "--size", "80,25"]).code, 2);
}

#[test]
fn no_boot_program_of_another_kind_is_put_there() {
    const ARM_64: u16 = 0xaa64;
    let host = Host::small();
    std::fs::write(&host.program, Program::new("Signpost").boot_program().machine(ARM_64).build()).unwrap();
    let error = host.machine.fails(4, &host.with(&["apply", "--yes"]));
    assert!(error.contains("is built for") && error.contains("host = \"firmware\""), "{error}");
    std::fs::write(&host.program, b"no program").unwrap();
    let error = host.machine.fails(4, &host.with(&["apply", "--yes"]));
    assert!(error.contains("not a program"), "{error}");
    assert_eq!(host.slot(0), None);
}

/// What the first apply made is gone once it is undone: files, and the folder that held them.
#[test]
fn the_first_apply_is_taken_back_without_a_trace_and_without_lifting_a_guard() {
    let host = Host::small();
    host.apply();
    assert!(host.file("/EFI/signpost/MENU-A.TML").is_some());
    host.machine.ok(&["undo", "--yes"]);
    let image = std::fs::read(host.machine.path("lark.img")).unwrap();
    let esp: SharedDevice = Arc::new(image[1 << 20..5 << 20].to_vec());
    let names = FatVolume::open(esp).unwrap().list("/EFI").unwrap();
    assert!(names.iter().all(|item| !item.name.eq_ignore_ascii_case("signpost")), "{names:?}");
}

#[test]
fn a_home_that_is_not_attached_is_waited_for_and_not_replaced() {
    let host = Host::small();
    host.apply();
    let (disk, aside) = (host.machine.path("lark.img"), host.machine.path("aside"));
    std::fs::rename(&disk, &aside).unwrap();
    let before = host.machine.everything();
    for command in [&["plan"][..], &["apply", "--yes"]] {
        let error = host.machine.fails(4, &host.with(command));
        assert!(error.contains("where the menu was applied, is not attached"), "{error}");
    }
    let held = host.machine.ok(&["hold"]);
    assert!(flat(&held).contains("There is nothing for hold to correct"), "{held}");
    assert!(flat(&held).contains("is not attached or cannot be read: hold leaves all as it is"), "{held}");
    let check = host.machine.run(&host.with(&["check", "--json"]));
    let check: serde_json::Value = serde_json::from_str(&check.stdout).unwrap();
    let causes = check["result"]["causes"].as_array().unwrap();
    let codes: Vec<&str> = causes.iter().map(|cause| cause["code"].as_str().unwrap()).collect();
    assert_eq!((codes[0], causes[0]["effect"].as_str()), ("disk-missing", Some("starts-other")), "{codes:?}");
    assert!(!codes.contains(&"boot-program-gone") && !codes.contains(&"esp-new"), "{codes:?}");
    assert!(host.machine.everything() == before);
    // Somebody who knows that it does not come back names another.
    let planned =
        host.machine.ok(&host.with(&["plan", "--home", "d2p1", "--despite", "default-gone,last-way"]));
    assert!(planned.starts_with("Home  d2p1"), "{planned}");
    std::fs::rename(&aside, &disk).unwrap();
    assert_eq!(host.machine.run(&host.with(&["plan", "--check"])).code, 0);
}
