//! Entries whose starts are counted: tried so often, then their fallback, until their system says that it came up.

use signpost_demo::StoreKind;
use signpost_demo::program::Program;
use signpost_disk::Guid;
use signpost_facts::ours::OurVariables;
use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::area::Area;
use signpost_firmware::variable::{Attributes, Variable, VariableName};
use signpost_menu::ours;
use signpost_menu::state::{self, State};

use crate::bios_menu::{apply as put_lathe, lathe_bench};
use crate::check::causes;
use crate::harness::{
    LARK, MERIDIAN, TestMachine, file, flat, lark_disk, lark_files, menu, result_of, small,
};

fn tried() -> String {
    format!("{LARK}\ntries = 2\nfallback = \"meridian\"")
}

/// A machine whose default is tried twice; what its system's root holds beside.
fn with_root(more: Vec<(String, Vec<u8>)>) -> TestMachine {
    let mut spec = small(StoreKind::Folder);
    let release = b"ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n".to_vec();
    let mut files = vec![file("/etc/os-release", release)];
    files.extend(more);
    spec.disks[0] = lark_disk(lark_files());
    spec.disks[0].partitions[1].content =
        signpost_demo::PartitionSpec::esp(Guid::from_bytes([9; 16]), "root", 0x00fa_0002, 4, files).content;
    let machine = TestMachine::new(&spec);
    let text = menu("default = \"lark\"\ntimeout = 3", &[&tried(), MERIDIAN]);
    machine.write("menu.toml", &text.replace("\"firmware\"\ndefault", "\"signpost\"\ndefault"));
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    machine
}

/// Makes the menu active; what was said of it, the same before and after.
fn apply(machine: &TestMachine) -> String {
    let program = machine.path("program.efi").display().to_string();
    let notes = |said: String| -> String {
        let (_, notes) = said.split_once("note:").unwrap_or_default();
        flat(notes.split("\n\n").next().unwrap_or_default())
    };
    let planned = notes(machine.ok(&["plan", "--boot-program", &program]));
    let said = notes(machine.ok(&["apply", "--yes", "--boot-program", &program]));
    assert!(said.starts_with(&planned), "{said}");
    planned
}

/// What the boot program remembers after so many starts.
fn remember(machine: &TestMachine, name: &str, text: &str) {
    let name = OurVariables::name(name);
    machine.put(&Variable { name, attributes: Attributes::BOOT, data: text.into() });
}

/// The firmware says what it started.
fn started_by(machine: &TestMachine, option: u16) {
    let name = VariableName::global("BootCurrent");
    machine.put(&Variable { name, attributes: Attributes::BOOT, data: option.to_le_bytes().to_vec() });
}

fn outcome(machine: &TestMachine) -> serde_json::Value {
    machine.json(&["rehearse"])["outcome"]["text"].clone()
}

#[test]
fn a_system_that_does_not_come_up_is_left_for_its_fallback_until_it_is_to_be_tried_again() {
    let machine = with_root(Vec::new());
    let said = apply(&machine);
    assert!(said.contains("lark counts its starts, and nothing in it says that it has come up"), "{said}");
    let records = machine.json(&["history"]);
    assert_eq!(causes(&machine), []);
    remember(&machine, ours::TRIES, "lark=1");
    assert_eq!(outcome(&machine), "Larkspur, from d1p1:/EFI/larkspur/lkload.efi");
    remember(&machine, ours::TRIES, "lark=2 gone=7");

    assert_eq!(outcome(&machine), "Meridian, from d2p1:/EFI/meridian/start.efi");
    let said = machine.ok(&["rehearse"]);
    assert!(
        said.contains("Larkspur was started 2 times and did not come up; Meridian starts instead"),
        "{said}"
    );
    assert_eq!(causes(&machine), [("tries-used-up".to_string(), "starts-other".to_string())]);
    let said = flat(&machine.run(&["survey"]).stdout);
    assert!(
        said.contains("Unconfirmed lark was started 2 times, and has not said that it came up"),
        "{said}"
    );
    let survey = machine.run(&["--json", "survey"]);
    let counted = result_of(&survey.stdout)["firmware"]["unconfirmed"][0].clone();
    assert_eq!(counted, serde_json::json!({"entry": "lark", "starts": 2}));
    // What holds the menu leaves it alone: it is as it was applied.
    machine.ok(&["hold", "--check"]);

    let untouched = machine.everything();
    machine.ok(&["confirm", "lark", "--dry-run"]);
    assert_eq!(machine.everything(), untouched);
    assert_eq!(machine.ok(&["confirm", "Larks"]), "lark is tried again.\n");
    assert_eq!(outcome(&machine), "Larkspur, from d1p1:/EFI/larkspur/lkload.efi");
    assert!(machine.ok(&["confirm", "lark"]).contains("Nothing to confirm: lark has no starts"));
    assert!(machine.fails(2, &["confirm", "larkk"]).contains("did you mean lark?"));
    assert_eq!(machine.json(&["history"]), records, "a count is no step that could be undone");
    // What the menu that was removed counted goes with it.
    machine.ok(&["apply", "--remove", "--yes", "--despite", "last-way"]);
    assert!(machine.variables().get(&OurVariables::name(ours::TRIES)).is_none());
}

#[test]
fn the_running_system_confirms_its_own_start_and_no_others() {
    let unit =
        file("/etc/systemd/system/multi-user.target.wants/signpost-confirm.service", b"[Unit]\n".to_vec());
    let machine = with_root(vec![unit]);
    let said = apply(&machine);
    assert!(!said.contains("counts its starts"), "{said}");
    assert!(machine.ok(&["confirm"]).contains("no entry of the menu has starts to confirm"));
    remember(&machine, ours::TRIES, "lark=1 meridian=1");
    remember(&machine, ours::LAST, "lark");
    // Started from the firmware's own list, past the menu.
    started_by(&machine, 1);
    assert!(machine.ok(&["confirm"]).contains("the running system was not started by the menu"));
    started_by(&machine, machine.boot().order[0]);
    let planned = machine.json(&["confirm", "--dry-run"]);
    assert_eq!((&planned["entry"], &planned["starts"]), (&"lark".into(), &1.into()));
    // The firmware has numbered its entries anew since.
    started_by(&machine, 0x77);
    assert_eq!(machine.ok(&["confirm"]), "lark has come up.\n");
    let left = machine.variables();
    let left = left.get(&OurVariables::name(ours::TRIES)).unwrap();
    assert_eq!(left.data, b"meridian=1");
}

#[test]
fn a_fallback_serves_where_the_default_cannot_start_and_is_not_removed_from_under_it() {
    let machine = with_root(Vec::new());
    machine.ok(&[
        "entry",
        "edit",
        "lark",
        "--unchecked",
        "--despite",
        "last-way",
        "program=uuid:0a0a-0001/EFI/gone.efi",
    ]);
    let said = apply(&machine);
    assert!(said.contains("Larkspur cannot start: d1p1 has no file"), "{said}");
    assert!(said.contains("Meridian starts instead"), "{said}");
    assert_eq!(outcome(&machine), "Meridian, from d2p1:/EFI/meridian/start.efi");
    let why = machine.fails(2, &["entry", "remove", "meridian"]);
    assert!(why.contains("meridian is the fallback of lark"), "{why}");
    machine.ok(&["entry", "edit", "lark", "--despite", "last-way", "tries=5"]);
    assert!(machine.read("menu.toml").contains("tries = 5"), "{}", machine.read("menu.toml"));
    let said = flat(&machine.run(&["menu"]).stdout);
    assert!(said.contains("tried 5 times, then meridian"), "{said}");
    let why = machine.fails(2, &["entry", "edit", "lark", "tries=ten"]);
    assert!(why.contains("tries") && why.contains("a whole number"), "{why}");
}

#[test]
fn with_bios_firmware_the_count_stands_beside_the_menu() {
    let machine = lathe_bench();
    let text = machine.read("menu.toml").replace(
        "volume = \"partuuid:51572000-02\"",
        "volume = \"partuuid:51572000-02\"\ntries = 3\nfallback = \"one\"",
    );
    machine.write("menu.toml", &text);
    put_lathe(&machine);
    let disk = machine.path("gauge.img");
    let area = Area::of_first(std::fs::read(&disk).unwrap()[..SECTOR].try_into().unwrap()).unwrap();
    let sectors = || {
        let disk = std::fs::read(&disk).unwrap();
        [0, 1].map(|index| {
            let at = area.state(index) as usize * SECTOR;
            disk[at..at + SECTOR].to_vec()
        })
    };
    let counted =
        State::default().with(ours::TRIES, Some("two=3")).unwrap().with(ours::LAST, Some("two")).unwrap();
    let mut image = std::fs::read(&disk).unwrap();
    let at = area.state(1) as usize * SECTOR;
    image[at..at + SECTOR].copy_from_slice(&counted.encode().unwrap());
    std::fs::write(&disk, image).unwrap();
    assert!(outcome(&machine).as_str().unwrap().starts_with("The first"));
    let found = result_of(&machine.run(&["--json", "check"]).stdout)["causes"].clone();
    let used_up = found.as_array().unwrap().iter().find(|cause| cause["code"] == "tries-used-up");
    assert_eq!(used_up.unwrap()["effect"], "starts-other", "{found}");
    assert_eq!(machine.ok(&["confirm"]), "two has come up.\n");
    assert!(outcome(&machine).as_str().unwrap().starts_with("The second"));
    let [first, second] = sectors();
    let (index, state) = state::newest([&first, &second]);
    assert_eq!((index, state.text(ours::TRIES), state.text(ours::LAST)), (0, None, Some("two")));
}
