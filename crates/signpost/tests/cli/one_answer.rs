//! One answer to each question: the default, the newest kernel, the home volume, numbers, what firmware skips.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, Content, DiskSpec, StoreKind};
use signpost_disk::{Guid, guid};
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::device_path::{DevicePath, Node};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::variable::{Attributes, Variable, VariableName};
use signpost_menu::slot::SLOT_NAMES;

use crate::harness::{
    LARK, MERIDIAN, TestMachine, file, lark_disk, lark_files, menu, meridian_disk, meridian_files, slot_of,
    small,
};

const RESTART: &str = "id = \"again\"\ntitle = \"Start again\"\nstarts = \"restart\"";
const GROUP: &str = "id = \"more\"\ntitle = \"More\"\nstarts = \"group\"";

/// A bench whose menu the boot program is to show, applied.
pub fn applied(spec: &BenchSpec, head: &str, entries: &[&str]) -> TestMachine {
    let machine = TestMachine::new(spec);
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    machine.write("menu.toml", &menu(head, entries).replace("\"firmware\"", "\"signpost\""));
    machine.ok(&apply_words(&machine).iter().map(String::as_str).collect::<Vec<_>>());
    machine
}

/// `apply` with the program that stands in for the boot program.
pub fn apply_words(machine: &TestMachine) -> [String; 4] {
    let program = machine.path("program.efi").display().to_string();
    ["apply".into(), "--yes".into(), "--boot-program".into(), program]
}

fn ours(name: &str, value: &str) -> Variable {
    let vendor = Guid::from_bytes(signpost_menu::ours::VENDOR);
    let name = VariableName { name: name.into(), vendor };
    Variable { name, attributes: Attributes::BOOT, data: value.as_bytes().to_vec() }
}

fn outcome(machine: &TestMachine) -> (String, String) {
    let outcome = machine.json(&["rehearse"])["outcome"].clone();
    (outcome["kind"].as_str().unwrap().into(), outcome["text"].as_str().unwrap().into())
}

#[test]
fn what_starts_no_system_never_starts_by_itself_whoever_names_it() {
    for (name, id) in [("SignpostDefault", "more"), ("SignpostOnce", "again"), ("SignpostDefault", "again")] {
        let machine = applied(&small(StoreKind::Folder), "timeout = 0", &[LARK, MERIDIAN, GROUP, RESTART]);
        machine.put(&ours(name, id));
        let (kind, text) = outcome(&machine);
        assert_eq!(kind, "waits", "{name} {id}");
        assert!(text.contains("starts no system"), "{text}");
        assert_eq!(machine.run(&["rehearse"]).code, 1);
        // The screen marks the row that was named, and counts nothing down.
        let screen = machine.ok(&["preview"]);
        let title = if id == "more" { "More" } else { "Start again" };
        assert!(screen.lines().any(|line| line.contains('>') && line.contains(title)), "{screen}");
        assert!(!screen.contains("Starts in"), "{screen}");
    }
}

#[test]
fn what_was_kept_is_the_default_for_menu_plan_and_rehearsal_alike() {
    let machine = applied(&small(StoreKind::Folder), "timeout = 0", &[LARK, MERIDIAN]);
    machine.put(&ours("SignpostDefault", "meridian"));
    let menu = machine.json(&["menu"])["entries"].clone();
    let marked: Vec<bool> = (0..2).map(|index| menu[index]["is_default"].as_bool().unwrap()).collect();
    assert_eq!(marked, [false, true]);
    assert!(outcome(&machine).1.starts_with("Meridian, from"));
    // It is a decision: apply does not pass over it, draft takes it in, and then the file says it.
    let words = apply_words(&machine);
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    assert!(machine.fails(3, &words).contains("meridian was kept as the default at boot"));
    assert!(machine.ok(&["draft", "--yes"]).contains("meridian was kept as the default"));
    assert!(!machine.read("menu.toml").contains("default = \"meridian\""), "--yes is no answer to this");
    machine.ok(&["draft", "--take-saved"]);
    assert!(machine.read("menu.toml").contains("default = \"meridian\""));
    machine.ok(&words);
    assert!(outcome(&machine).1.starts_with("Meridian, from"));
    machine.ok(&["tune", "default=lark"]);
    machine.ok(&words);
    assert!(outcome(&machine).1.starts_with("Larkspur, from"), "the file counts again");
}

#[test]
fn the_newest_kernel_is_the_newest_by_its_header_everywhere() {
    let files = vec![
        file("/etc/os-release", b"ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n".to_vec()),
        file("/boot/vmlinuz-linux", Kernel::new("6.9.4").build("Larkspur")),
        file("/boot/initramfs-linux.img", b"initrd".to_vec()),
        file("/boot/vmlinuz-linux-lts", Kernel::new("6.6.31").build("Larkspur")),
        file("/boot/initramfs-linux-lts.img", b"initrd".to_vec()),
    ];
    let mut spec = small(StoreKind::Folder);
    spec.disks[0].partitions[1].content = Content::Fat { label: "ROOT", serial: 0x0f0f_0001, files };
    let machine = TestMachine::new(&spec);
    machine.ok(&["draft", "--host", "signpost"]);
    let text = machine.read("menu.toml");
    assert!(text.contains("kernel  = \"newest:/boot/vmlinuz-*\""), "{text}");
    let rows = machine.json(&["menu"])["entries"].to_string();
    assert!(rows.contains("/boot/vmlinuz-linux\""), "6.9.4 starts: {rows}");
    assert!(rows.contains("Larkspur Linux 14, kernel 6.6.31"), "the other one is an older kernel: {rows}");
    let prompt = machine.ok(&["prompt", "--do", "compose linux on d1p2"]);
    assert!(prompt.contains("kernel: /boot/vmlinuz-linux, ") && prompt.contains("version 6.9.4"), "{prompt}");
}

#[test]
fn a_menu_on_a_stick_or_of_another_pc_makes_no_home() {
    let text = menu("", &[MERIDIAN]);
    let theirs = slot_of("0123abcd", 7, &text);
    let slot = file(&format!("/EFI/signpost/{}", SLOT_NAMES[0]), theirs);
    let stick = DiskSpec {
        image: "stick.img",
        bus: "usb",
        serial: "STK-1",
        guid: guid!("00000000-0000-4000-8000-00000000000a"),
        ..meridian_disk(vec![slot])
    };
    let mut spec = small(StoreKind::Folder);
    spec.disks.insert(0, stick);
    spec.disks[0].partitions[0].guid = guid!("00000000-0001-4000-8000-00000000000a");
    let machine = TestMachine::new(&spec);
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    machine.write("menu.toml", &menu("", &[LARK]).replace("\"firmware\"", "\"signpost\""));
    let words = apply_words(&machine);
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let plan = machine.json(&[&["plan"], &words[2..]].concat());
    assert_eq!(plan["home"], "d2p1, the first ESP");
    machine.ok(&words);
    assert_eq!(machine.json(&[&["plan"], &words[2..]].concat())["home"], "d2p1, it is home already");
}

#[test]
fn numbers_are_those_of_the_screen() {
    let member = "id = \"old\"\ntitle = \"Old\"\nstarts = \"efi\"\nprogram = \"uuid:0a0a-0001/EFI/larkspur/lkload.efi\"\nargs = \"old\"\nin = \"more\"";
    let machine = applied(&small(StoreKind::Folder), "default = \"lark\"", &[GROUP, member, LARK, MERIDIAN]);
    let rows = machine.json(&["menu"])["entries"].clone();
    let numbers: Vec<u64> = (0..4).map(|index| rows[index]["number"].as_u64().unwrap()).collect();
    assert_eq!(numbers, [1, 1, 2, 3]);
    let screen = machine.ok(&["preview"]);
    assert!(screen.contains("2  Larkspur") && screen.contains("3  Meridian"), "{screen}");
    let prompt = machine.ok(&["prompt", "--do", "entries", "--do", "entries more", "--do", "entries 2"]);
    for line in ["  1  More  a group", "  2  Larkspur  ", "  3  Meridian  ", "  1  Old  "] {
        assert!(prompt.contains(line), "{line}: {prompt}");
    }
    assert!(prompt.ends_with("`start entry 2` starts it\n"), "{prompt}");
}

#[test]
fn what_the_firmware_does_not_see_or_skips_is_said_to_be_that() {
    let mut spec = small(StoreKind::Folder);
    let mut other =
        LoadOption::new("Other", lark_disk(vec![]).path_to(1, "\\EFI\\larkspur\\lkload.efi"), vec![]);
    other.attributes |= LoadOptionAttributes::from_bits_retain(0x0300);
    spec.variables = vec![
        boot_option(0, &other),
        boot_option(
            1,
            &LoadOption::new(
                "Meridian",
                meridian_disk(vec![]).path_to(1, "\\EFI\\meridian\\start.efi"),
                vec![],
            ),
        ),
        boot_order(&[0, 1]),
    ];
    let machine = TestMachine::new(&spec);
    let steps = machine.json(&["rehearse"])["steps"].clone();
    assert_eq!(
        (steps[0]["verdict"].as_str(), steps[1]["verdict"].as_str()),
        (Some("application"), Some("starts"))
    );
    // A GPT without the MBR that protects it.
    let image = machine.path("meridian.img");
    let mut disk = std::fs::read(&image).unwrap();
    disk[446..512].fill(0);
    std::fs::write(&image, disk).unwrap();
    let survey = machine.json(&["survey"]);
    let codes: Vec<&str> = survey["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|finding| finding["code"].as_str().unwrap())
        .collect();
    assert!(codes.contains(&"table-unprotected"), "{codes:?}");
    assert_eq!(outcome(&machine).0, "nothing");
}

/// The boot program follows device paths by the same code; that it does is compared on real firmware.
#[test]
fn a_firmware_entry_that_starts_nothing_cannot_start_from_the_menu() {
    let mut spec = small(StoreKind::Folder);
    let whole_disk = DevicePath::new(vec![Node::file_path("\\EFI\\meridian\\start.efi")]);
    let gone = meridian_disk(vec![]).path_to(1, "\\EFI\\none.efi");
    spec.variables = vec![
        boot_option(1, &LoadOption::new("Short", whole_disk, vec![])),
        boot_option(2, &LoadOption::new("Gone", gone, vec![])),
        boot_order(&[1, 2]),
    ];
    spec.disks[1] = meridian_disk(meridian_files());
    spec.disks[0] = lark_disk(lark_files());
    let machine = TestMachine::new(&spec);
    let entry = |label: &str| {
        format!("id = \"{}\"\nstarts = \"firmware-entry\"\nlabel = \"{label}\"", label.to_lowercase())
    };
    machine.write("menu.toml", &menu("", &[&entry("Short"), &entry("Gone")]));
    let rows = machine.json(&["menu"])["entries"].clone();
    assert_eq!((rows[0]["is_there"].as_bool(), rows[1]["is_there"].as_bool()), (Some(true), Some(false)));
    assert!(
        rows[1]["starts"].as_str().unwrap().contains("firmware entry 0002 starts nothing: d2p1 has no file")
    );
}
