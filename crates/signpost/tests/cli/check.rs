//! Causes: each is named once, with its effect and its cure; what can be mended is, the machine starts by rehearsal then, and an undo
//! brings back what was.

use std::os::unix::fs::FileExt;

use serde_json::Value;
use signpost_demo::program::Program;
use signpost_demo::tide;
use signpost_demo::{BenchSpec, PartitionSpec, StoreKind, change_fat};
use signpost_disk::Guid;
use signpost_disk::gpt::{Layout, NewPartition, encode};
use signpost_disk::partition_type;
use signpost_firmware::boot_variables::{boot_next, boot_option, boot_order};
use signpost_firmware::load_option::LoadOptionAttributes;
use signpost_firmware::variable::{Attributes, Variable};

use crate::harness::{LARK, LARK_ESP, MERIDIAN, TestMachine, file, lark_disk, menu, meridian_disk, small};

/// Bytes of the ESPs on their disks.
pub const ESP: std::ops::Range<usize> = 1 << 20..5 << 20;
const MERIDIAN_LOADER: &str = "/EFI/meridian/start.efi";

/// Two systems, a menu of ours that is active on Larkspur's ESP, nothing wrong.
pub fn whole() -> TestMachine {
    let machine = TestMachine::new(&small(StoreKind::Folder));
    apply(&machine);
    machine
}

pub fn apply(machine: &TestMachine) {
    std::fs::write(machine.path("program.efi"), program()).unwrap();
    let text = menu("timeout = 3", &[LARK, MERIDIAN]).replace("\"firmware\"", "\"signpost\"");
    machine.write("menu.toml", &text);
    let program = machine.path("program.efi").display().to_string();
    machine.ok(&["apply", "--yes", "--boot-program", &program, "--home", "uuid:0A0A-0001"]);
    machine.ok(&["survey"]);
}

pub fn program() -> Vec<u8> {
    Program::new("Signpost").boot_program().build()
}

pub fn check(machine: &TestMachine) -> Value {
    let program = machine.path("program.efi").display().to_string();
    machine.json(&["check", "--boot-program", &program])
}

/// The codes and effects of what is wrong.
pub fn causes(machine: &TestMachine) -> Vec<(String, String)> {
    let found = check(machine);
    let word = |cause: &Value, key: &str| cause[key].as_str().unwrap().to_string();
    let causes = found["causes"].as_array().unwrap();
    causes.iter().map(|cause| (word(cause, "code"), word(cause, "effect"))).collect()
}

pub fn mend(machine: &TestMachine, args: &[&str]) -> crate::harness::Run {
    let program = machine.path("program.efi").display().to_string();
    machine.run(&[&["mend"], args, &["--yes", "--boot-program", &program]].concat())
}

/// Whether a system starts by itself, by rehearsal.
pub fn starts(machine: &TestMachine) -> Option<String> {
    let rehearsed = machine.json(&["rehearse"]);
    (rehearsed["outcome"]["kind"] == "starts").then(|| rehearsed["outcome"]["text"].to_string())
}

/// Hurts a whole machine, and holds what is named against what should be; then mends that by its code and looks again.
#[track_caller]
pub fn mended(machine: &TestMachine, code: &str, effect: &str, cure: &str) {
    let found = check(machine);
    let of_code: Vec<&Value> =
        found["causes"].as_array().unwrap().iter().filter(|cause| cause["code"] == code).collect();
    let [cause] = of_code[..] else { panic!("{code} is to be named once: {found:#}") };
    assert_eq!(cause["effect"], effect, "{found:#}");
    assert_eq!(cause["cures"][0]["name"], cure, "{found:#}");
    let before = machine.everything();
    let trial = machine.path("program.efi").display().to_string();
    machine.ok(&["mend", code, "--dry-run", "--boot-program", &trial]);
    assert!(machine.everything() == before, "a trial writes nothing");
    let run = mend(machine, &[code]);
    assert!(run.code < 2, "{code}: {}{}", run.stdout, run.stderr);
    let left = causes(machine);
    assert!(!left.iter().any(|(left, _)| left == code), "{code} is cured: {left:?}");
    assert!(starts(machine).is_some());
}

/// The same, and an undo brings the cause back.
#[track_caller]
pub fn mended_and_undone(machine: &TestMachine, code: &str, effect: &str, cure: &str) {
    mended(machine, code, effect, cure);
    // What is gone back to may start nothing; whoever asks for that says so.
    machine.ok(&["undo", "--yes", "--despite", "nothing-starts"]);
    assert!(causes(machine).iter().any(|(back, _)| back == code), "{code} is back after an undo");
    assert!(mend(machine, &[code]).code < 2);
}

/// Takes files off a disk, as another system would.
pub fn take(machine: &TestMachine, image: &str, files: &[&str]) {
    change_fat(&machine.path(image), ESP, &[], files).unwrap();
}

pub fn put(machine: &TestMachine, image: &str, path: &str, bytes: &[u8]) {
    change_fat(&machine.path(image), ESP, &[file(path, bytes.to_vec())], &[]).unwrap();
}

fn remove_variable(machine: &TestMachine, start: &str) {
    let folder = machine.path("variables");
    let names = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let mut fitting = names.filter(|path| path.file_name().unwrap().to_string_lossy().starts_with(start));
    std::fs::remove_file(fitting.next().expect("there is such a variable")).unwrap();
}

pub fn ours(machine: &TestMachine) -> u16 {
    machine.boot().order[0]
}

#[test]
fn a_whole_machine_has_nothing_wrong() {
    let machine = whole();
    let before = machine.everything();
    assert_eq!(causes(&machine), []);
    assert!(machine.everything() == before, "a check reads only");
    let said = machine.ok(&["check", "--boot-program", &machine.path("program.efi").display().to_string()]);
    assert!(said.starts_with("Next start") && said.contains("No problems."), "{said}");
    let none = mend(&machine, &[]);
    assert_eq!(none.code, 0, "{}", none.stderr);
    let refused = machine.fails(2, &["mend", "loader-gone", "--yes"]);
    assert!(refused.contains("is not wrong with this machine"), "{refused}");
}

#[test]
fn another_system_that_put_itself_first_stands_back_again() {
    let machine = whole();
    machine.put(&boot_order(&[1, ours(&machine)]));
    mended_and_undone(&machine, "not-first", "starts-other", "hold");
    assert_eq!(machine.boot().order[1], 1);
}

#[test]
fn an_entry_of_ours_that_the_firmware_lost_is_made_again() {
    let machine = whole();
    remove_variable(&machine, &format!("Boot{:04X}", ours(&machine)));
    machine.put(&boot_order(&[1]));
    mended_and_undone(&machine, "entry-lost", "starts-other", "hold");
    let codes = causes(&machine);
    assert!(codes.is_empty(), "one cause, and no second one for the order: {codes:?}");
}

#[test]
fn an_entry_of_ours_that_was_disabled_is_used_again() {
    let machine = whole();
    let number = ours(&machine);
    let mut option = machine.boot().options[&number].decoded.clone().unwrap();
    option.attributes.remove(LoadOptionAttributes::ACTIVE);
    machine.put(&boot_option(number, &option));
    mended_and_undone(&machine, "entry-lost", "starts-other", "hold");
}

#[test]
fn a_next_boot_that_nobody_asked_for_is_taken_back_and_one_that_was_is_none_of_it() {
    let machine = whole();
    machine.put(&boot_next(1));
    mended_and_undone(&machine, "next-boot-set", "starts-other", "clear-next");
    let machine = whole();
    machine.ok(&["firmware", "next", "1"]);
    assert_eq!(causes(&machine), [("next-boot-set".to_string(), "untidy".to_string())]);
    machine.ok(&["check"]);
}

#[test]
fn an_untidy_order_is_no_problem_and_is_cleaned_where_that_is_asked_for() {
    let machine = whole();
    let own = ours(&machine);
    machine.put(&boot_order(&[own, 1, 7, 1]));
    let codes: Vec<String> = causes(&machine).into_iter().map(|(code, _)| code).collect();
    assert_eq!(codes, ["order-dangling", "order-twice"]);
    machine.ok(&["check"]);
    let untouched = mend(&machine, &[]);
    assert!(untouched.stdout.contains("Nothing was written"), "{}", untouched.stdout);
    assert_eq!(mend(&machine, &["order-dangling", "order-twice"]).code, 0);
    assert_eq!(machine.boot().order, [own, 1]);
}

#[test]
fn a_lost_loader_is_copied_back_from_where_the_same_stands() {
    let machine = whole();
    take(&machine, "meridian.img", &[MERIDIAN_LOADER]);
    let found = check(&machine);
    let evidence = found["causes"][0]["evidence"].to_string();
    assert!(
        evidence.contains("it was there on 20") && evidence.contains("has the same content"),
        "{found:#}"
    );
    assert_eq!(found["causes"].as_array().unwrap().len(), 1, "entry and menu tell of one cause: {found:#}");
    // An entry of the firmware's names it, so it stays at an undo.
    mended(&machine, "loader-gone", "system-lost", "copy-back");
    assert_eq!(causes(&machine), []);
}

#[test]
fn what_is_copied_back_is_there_for_the_menu_in_the_forecast_too() {
    let machine = whole();
    let menu = machine.read("menu.toml").replace("timeout = 3", "timeout = 3\ndefault = \"meridian\"");
    machine.write("menu.toml", &menu);
    let program = machine.path("program.efi").display().to_string();
    machine.ok(&["apply", "--yes", "--boot-program", &program]);
    take(&machine, "meridian.img", &[MERIDIAN_LOADER]);
    assert_eq!(starts(&machine), None);
    let run = mend(&machine, &["loader-gone"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    assert!(starts(&machine).unwrap().contains("Meridian"), "{}", run.stdout);
}

#[test]
fn a_damaged_loader_is_replaced_by_what_is_known_to_be_the_same() {
    let machine = whole();
    put(&machine, "meridian.img", MERIDIAN_LOADER, b"not a program");
    mended_and_undone(&machine, "loader-gone", "system-lost", "copy-back");
}

#[test]
fn without_a_twin_the_kernel_is_started_directly() {
    let machine = TestMachine::new(&tide::bench(StoreKind::Folder));
    std::fs::write(machine.path("program.efi"), program()).unwrap();
    machine.ok(&["firmware", "add", "Larkspur", "d1p1:/EFI/larkspur/lkload.efi", "--first"]);
    machine.ok(&["survey"]);
    let esp = 1 << 20..65 << 20;
    let both = ["/EFI/larkspur/lkload.efi", "/EFI/BOOT/BOOTX64.EFI"];
    change_fat(&machine.path("disk1.img"), esp, &[], &both).unwrap();
    let found = check(&machine);
    let cause = found["causes"].as_array().unwrap().iter().find(|cause| cause["code"] == "loader-gone");
    let cause = cause.unwrap_or_else(|| panic!("{found:#}"));
    assert_eq!(cause["effect"], "system-lost", "{found:#}");
    assert_eq!(cause["cures"][0]["name"], "start-kernel", "{found:#}");
    assert!(mend(&machine, &["loader-gone"]).code < 2);
    let rehearsed = machine.json(&["rehearse"]);
    assert!(
        rehearsed["outcome"]["text"].as_str().unwrap().contains("vmlinuz-6.9.4-2-larkspur"),
        "{rehearsed:#}"
    );
}

/// The same files in a partition of another identity: the ESP was formatted again.
#[test]
fn an_esp_that_was_formatted_again_is_what_entries_lead_to_again() {
    let machine = whole();
    rewrite_table(&machine, "meridian.img", |partitions| {
        partitions[0].guid = signpost_disk::guid!("cccccccc-0001-4000-8000-000000000001");
    });
    mended_and_undone(&machine, "esp-new", "will-break", "point-entry");
}

#[test]
fn the_menus_own_esp_formatted_again_gets_the_menu_again() {
    let machine = whole();
    let files = vec![file("/EFI/larkspur/lkload.efi", Program::new("Larkspur").build())];
    let mut disk = lark_disk(vec![]);
    disk.partitions[0] = PartitionSpec::esp(LARK_ESP, "LARK-NEW", 0x0a0a_0009, 4, files);
    write_disk(&machine, disk);
    mended(&machine, "esp-new", "starts-other", "apply-anew");
}

fn write_disk(machine: &TestMachine, disk: signpost_demo::DiskSpec) {
    let work = tempfile::tempdir().unwrap();
    let image = disk.image;
    let spec = BenchSpec { disks: vec![disk], ..small(StoreKind::Folder) };
    spec.write(work.path()).unwrap();
    std::fs::copy(work.path().join(image), machine.path(image)).unwrap();
}

/// Writes a disk's table anew, changed by this.
fn rewrite_table(machine: &TestMachine, image: &str, change: impl FnOnce(&mut Vec<NewPartition>)) {
    let disk = if image == "lark.img" { lark_disk(vec![]) } else { meridian_disk(vec![]) };
    let mut first_lba = 2048;
    let mut partitions: Vec<NewPartition> = disk
        .partitions
        .iter()
        .map(|spec| {
            let first = first_lba;
            first_lba += spec.mebibytes * 2048;
            NewPartition {
                type_guid: spec.type_guid,
                guid: spec.guid,
                first_lba: first,
                last_lba: first_lba - 1,
                name: spec.name,
            }
        })
        .collect();
    change(&mut partitions);
    let file = std::fs::OpenOptions::new().write(true).open(machine.path(image)).unwrap();
    let sectors = file.metadata().unwrap().len() / 512;
    for (offset, bytes) in encode(&Layout { disk_guid: disk.guid, sectors, partitions }) {
        file.write_all_at(&bytes, offset).unwrap();
    }
}

#[test]
fn a_partition_with_another_number_is_followed() {
    let machine = whole();
    rewrite_table(&machine, "meridian.img", |partitions| {
        let unused = NewPartition {
            type_guid: partition_type::LINUX_DATA,
            guid: Guid::from_bytes([7; 16]),
            first_lba: 40,
            last_lba: 50,
            name: "more",
        };
        partitions.insert(0, unused);
    });
    mended_and_undone(&machine, "partition-moved", "will-break", "point-entry");
}

#[test]
fn our_boot_program_is_written_again_where_it_is_gone_or_damaged() {
    for is_gone in [true, false] {
        let machine = whole();
        let path = format!(
            "/EFI/signpost/{}.EFI",
            &signpost_place::boot_program::sha256(&program())[..8].to_uppercase()
        );
        if is_gone {
            take(&machine, "lark.img", &[&path]);
        } else {
            put(&machine, "lark.img", &path, &program()[..100]);
        }
        // What the firmware's entry names stays at an undo.
        mended(&machine, "boot-program-gone", "starts-other", "hold");
    }
}

#[test]
fn slots_that_were_written_over_are_written_again() {
    for (slots, effect, cure) in [
        (&["MENU-A.TML", "MENU-B.TML"][..], "nothing-starts", "hold"),
        (&["MENU-A.TML"], "nothing-starts", "hold"),
        (&["MENU-B.TML"], "will-break", "apply-anew"),
    ] {
        let machine = whole();
        for slot in slots {
            put(&machine, "lark.img", &format!("/EFI/signpost/{slot}"), &[0x55; 65536]);
        }
        mended_and_undone(&machine, "menu-damaged", effect, cure);
        assert_eq!(causes(&machine), [], "{slots:?}");
    }
}

#[test]
fn a_lost_boot_program_of_another_version_is_replaced_by_the_installed_one() {
    let machine = whole();
    let applied = signpost_place::boot_program::sha256(&program())[..8].to_uppercase();
    take(&machine, "lark.img", &[&format!("/EFI/signpost/{applied}.EFI")]);
    std::fs::write(machine.path("program.efi"), Program::new("Signpost, newer").boot_program().build())
        .unwrap();
    // What the menu starts is not lost by itself: it comes back with the menu.
    assert_eq!(causes(&machine), [("boot-program-gone".into(), "starts-other".into())]);
    mended_and_undone(&machine, "boot-program-gone", "starts-other", "apply-anew");
    assert_eq!(causes(&machine), []);
    assert!(machine.boot().options.len() == 2, "no entry was made beside the menu's");
}

/// A menu with one entry for a kernel by its own path, which is the default.
fn with_kernel_entry(kernel: &str) -> TestMachine {
    let machine = TestMachine::new(&small(StoreKind::Folder));
    std::fs::write(machine.path("program.efi"), program()).unwrap();
    let linux = format!(
        "id = \"lark\"\ntitle = \"Larkspur\"\nstarts = \"linux\"\nvolume = \"uuid:0A0A-0001\"\nkernel = \"{kernel}\"\n\
         initrd = \"/EFI/larkspur/initrd-{{version}}\""
    );
    let text = menu("timeout = 3", &[&linux, MERIDIAN]).replace("\"firmware\"", "\"signpost\"");
    machine.write("menu.toml", &text);
    let program = machine.path("program.efi").display().to_string();
    machine.ok(&["apply", "--yes", "--boot-program", &program, "--home", "uuid:0A0A-0001"]);
    machine.ok(&["survey"]);
    machine
}

#[test]
fn where_the_defaults_kernel_is_gone_another_default_starts() {
    let machine = with_kernel_entry("/EFI/larkspur/vmlinuz-6.9.1");
    take(&machine, "lark.img", &["/EFI/larkspur/vmlinuz-6.9.1"]);
    let found = check(&machine);
    assert_eq!(
        (&found["starts"], &found["causes"][0]["code"]),
        (&false.into(), &"kernel-gone".into()),
        "{found:#}"
    );
    assert_eq!(found["causes"][0]["effect"], "nothing-starts");
    let said = mend(&machine, &["--by", "other-default"]);
    assert!(said.code < 2, "{}{}", said.stdout, said.stderr);
    assert!(starts(&machine).unwrap().contains("Meridian"), "{}", said.stdout);
}

#[test]
fn a_default_that_starts_no_system_is_replaced_by_the_first_that_starts() {
    let machine = whole();
    let off = "\n[[entry]]\nid = \"off\"\nstarts = \"power-off\"\n";
    machine.write("menu.toml", &(machine.read("menu.toml") + off));
    machine.ok(&["apply", "--yes", "--boot-program", &machine.path("program.efi").display().to_string()]);
    let name = signpost_facts::ours::OurVariables::name(signpost_menu::ours::KEPT);
    machine.put(&Variable { name, attributes: Attributes::BOOT, data: b"off".to_vec() });
    mended_and_undone(&machine, "default-gone", "nothing-starts", "forget");
}

#[test]
fn a_menu_file_with_errors_is_named_line_by_line_and_what_is_active_goes_on() {
    let machine = whole();
    machine.write("menu.toml", "format = 1\n[menu]\nhots = \"signpost\"\n");
    let found = check(&machine);
    assert_eq!(found["causes"][0]["code"], "menu-file-broken", "{found:#}");
    assert!(found["causes"][0]["evidence"].to_string().contains("line 3"), "{found:#}");
    assert_eq!((&found["causes"][0]["effect"], &found["starts"]), (&"will-break".into(), &true.into()));
}

#[test]
fn a_menu_that_is_never_shown_is_untidy_and_shown_where_that_is_asked_for() {
    let machine = whole();
    machine.write(
        "menu.toml",
        &machine.read("menu.toml").replace("timeout = 3", "timeout = 3\nshow = \"never\""),
    );
    let program = machine.path("program.efi").display().to_string();
    machine.ok(&["apply", "--yes", "--boot-program", &program]);
    mended_and_undone(&machine, "menu-unseen", "untidy", "show");
}

#[test]
fn arguments_that_name_a_root_which_is_not_there_are_wrong() {
    let machine = with_kernel_entry("newest:/EFI/larkspur/vmlinuz-*");
    let text = machine
        .read("menu.toml")
        .replace("initrd = ", "args = \"root=UUID=11111111-2222-4333-8444-555555555555 ro\"\ninitrd = ");
    machine.write("menu.toml", &text);
    let program = machine.path("program.efi").display().to_string();
    machine.ok(&["apply", "--yes", "--boot-program", &program]);
    let found = check(&machine);
    let cause = &found["causes"][0];
    assert_eq!(
        (&cause["code"], &cause["effect"]),
        (&"argument-wrong".into(), &"nothing-starts".into()),
        "{found:#}"
    );
    assert!(cause["message"].as_str().unwrap().contains("root=UUID=11111111"), "{found:#}");
}

#[test]
fn a_disabled_entry_that_alone_starts_a_system_is_enabled() {
    let machine = TestMachine::new(&small(StoreKind::Folder));
    std::fs::write(machine.path("program.efi"), program()).unwrap();
    take(&machine, "meridian.img", &["/EFI/BOOT/BOOTX64.EFI"]);
    let mut option = machine.boot().options[&1].decoded.clone().unwrap();
    option.attributes.remove(LoadOptionAttributes::ACTIVE);
    machine.put(&boot_option(1, &option));
    mended_and_undone(&machine, "entry-disabled", "nothing-starts", "enable");
}
