//! Boot program and menu on two disks: one of them can be lost, damaged or away for a while.

use std::sync::Arc;

use signpost_demo::program::Program;
use signpost_demo::{StoreKind, change_fat};
use signpost_disk::block::SharedDevice;
use signpost_disk::fat::FatVolume;
use signpost_disk::file_system::FileSystem;
use signpost_firmware::bios::area::Area;
use signpost_firmware::bios::{SECTOR, plain};
use signpost_menu::disk_number::DiskNumbers;
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, SLOT_SIZE, Slot, Writer, newest};

use crate::bios::disk;
use crate::bios_menu::{apply as put_in_sectors, lathe_bench};
use crate::harness::{LARK, MERIDIAN, TestMachine, flat, menu, result_of, small};

/// Either disk's ESP, in bytes.
const ESP: std::ops::Range<usize> = 1 << 20..5 << 20;
const DISKS: [&str; 2] = ["lark.img", "meridian.img"];

fn text(title: &str, homes: u8) -> String {
    let lark = format!("{LARK}\nfallback = \"meridian\"");
    let head = format!("heading = \"{title}\"\ndefault = \"lark\"\ntimeout = 3\nhomes = {homes}");
    menu(&head, &[&lark, MERIDIAN]).replace("\"firmware\"\nheading", "\"signpost\"\nheading")
}

/// A machine with an ESP on each of its two disks, and the menu on both.
fn applied() -> TestMachine {
    let machine = TestMachine::new(&small(StoreKind::Folder));
    machine.write("menu.toml", &text("Both", 2));
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    apply(&machine);
    machine
}

fn apply(machine: &TestMachine) -> String {
    let program = machine.path("program.efi").display().to_string();
    machine.ok(&["apply", "--yes", "--boot-program", &program])
}

/// The newest slot on a disk.
fn slot(machine: &TestMachine, disk: &str) -> Option<Slot> {
    newest(&signpost_place::slots::read(&esp(machine, disk))).map(|(_, slot)| slot.clone())
}

fn esp(machine: &TestMachine, disk: &str) -> FatVolume {
    let image = std::fs::read(machine.path(disk)).unwrap();
    let esp: SharedDevice = Arc::new(image[ESP].to_vec());
    FatVolume::open(esp).unwrap()
}

/// The same machine while one of its disks, the first or the second, is not attached; its text as it was.
fn detach(machine: &TestMachine, disk: usize) -> String {
    let text = machine.read("machine.toml");
    let starts: Vec<usize> = text.match_indices("[[disk]]").map(|(at, _)| at).collect();
    let end = starts.get(disk + 1).copied().unwrap_or(text.len());
    machine.write("machine.toml", &format!("{}{}", &text[..starts[disk]], &text[end..]));
    text
}

#[test]
fn boot_program_and_menu_are_put_on_two_disks_in_step() {
    let machine = applied();
    let [first, second] = DISKS.map(|disk| slot(&machine, disk).unwrap());
    assert_eq!(first, second);
    assert_eq!(first.homes.len(), 2, "each names both");
    let steps = DISKS.map(|disk| esp(&machine, disk).read("/EFI/signpost/STEPS.JSN", 1 << 20).unwrap());
    assert_eq!(steps[0], steps[1], "a rescue medium finds the history on either");
    assert_eq!(machine.boot().order, [0, 2, 1]);
    let list = machine.ok(&["firmware", "list"]);
    assert!(list.contains("Signpost 2"), "{list}");
    assert!(apply(&machine).contains("nothing"), "nothing is to be written a second time");
    let check = machine.ok(&["check"]);
    assert!(!check.contains("homes") && !check.contains("hold"), "{check}");
    // Another menu goes to both; one home alone is left as if there had never been two.
    machine.write("menu.toml", &text("Another", 2));
    apply(&machine);
    assert_eq!(DISKS.map(|disk| slot(&machine, disk).unwrap().serial), [2, 2]);
    machine.write("menu.toml", &text("Alone", 1));
    assert!(apply(&machine).contains("remove entry 0002"));
    assert_eq!(slot(&machine, DISKS[1]), None);
    assert_eq!(slot(&machine, DISKS[0]).unwrap().homes.len(), 0);
    machine.ok(&["undo", "--yes"]);
    assert_eq!(slot(&machine, DISKS[1]).unwrap().serial, 2, "what an undo brings back is on both");
    machine.ok(&["apply", "--remove", "--yes", "--despite", "last-way"]);
    assert_eq!(DISKS.map(|disk| slot(&machine, disk)), [None, None]);
    assert_eq!(machine.boot().order, [1]);
}

#[test]
fn the_menu_starts_from_the_other_disk_while_one_is_away_and_is_brought_up_to_date() {
    let machine = applied();
    let before = machine.boot().order;
    let whole = detach(&machine, 0);
    let start = machine.ok(&["rehearse"]);
    assert!(start.contains("Ends with  Meridian, from d2p1"), "{start}");
    let check = machine.run(&["check"]);
    let said = flat(&check.stdout);
    assert!(said.contains("One of the two homes is not attached"), "{said}");
    assert!(said.contains("the menu starts from the other one"), "{said}");
    let hold = flat(&machine.ok(&["hold", "--dry-run"]));
    assert!(hold.contains("is not attached or cannot be read, and stays as it is"), "{hold}");
    // The menu is changed meanwhile: what leads to the disk that is away stays first.
    machine.write("menu.toml", &text("Changed meanwhile", 2));
    assert!(flat(&apply(&machine)).contains("stays as it is"));
    assert_eq!(machine.boot().order, before);
    machine.write("machine.toml", &whole);
    assert_eq!(DISKS.map(|disk| slot(&machine, disk).unwrap().serial), [1, 2]);
    let preview = machine.ok(&["preview"]);
    assert!(preview.contains("Changed meanwhile"), "the newest counts: {preview}");
    let check = flat(&machine.run(&["check"]).stdout);
    assert!(check.contains("The other home, d1p1, is not up to date"), "{check}");
    machine.ok(&["hold", "--yes"]);
    assert_eq!(DISKS.map(|disk| slot(&machine, disk).unwrap().serial), [2, 2]);
    assert!(!machine.ok(&["check"]).contains("homes-disagree"));
}

#[test]
fn a_home_that_was_hurt_costs_nothing() {
    let machine = applied();
    let path = |name: &str| format!("{HOME_FOLDER}/{name}");
    let hurt = SLOT_NAMES.map(|name| (path(name), b"format = 1\n".to_vec()));
    change_fat(&machine.path(DISKS[0]), ESP, &hurt, &[]).unwrap();
    let start = machine.ok(&["rehearse"]);
    assert!(start.contains("Ends with  Larkspur, from d1p1"), "{start}");
    let check = machine.run(&["check"]);
    assert!(check.stdout.contains("d1p1"), "{}", check.stdout);
    machine.ok(&["hold", "--yes"]);
    assert_eq!(slot(&machine, DISKS[0]), slot(&machine, DISKS[1]));
    // The ESP of one is wiped: the firmware goes on to the other, and mend puts it back.
    let files: Vec<String> = SLOT_NAMES.map(path).into();
    let names: Vec<&str> = files.iter().map(String::as_str).collect();
    change_fat(&machine.path(DISKS[1]), ESP, &[], &names).unwrap();
    let check = flat(&machine.run(&["check"]).stdout);
    assert!(check.contains("The other home, d2p1, is not up to date"), "{check}");
    machine.ok(&["mend", "homes-disagree", "--yes"]);
    assert_eq!(slot(&machine, DISKS[0]), slot(&machine, DISKS[1]));
}

#[test]
fn what_was_saved_by_a_start_from_the_second_home_is_news() {
    let machine = applied();
    let held = slot(&machine, DISKS[1]).unwrap();
    let saved = format!(
        "{}\n[[entry]]\nid = \"by-hand\"\nstarts = \"efi\"\nprogram = \"uuid:0a0a-0001/EFI/larkspur/lkload.efi\"\n",
        held.text
    );
    let slot = Slot { serial: 2, writer: Writer::Boot, text: saved, disks: DiskNumbers::default(), ..held };
    let path = format!("{HOME_FOLDER}/{}", SLOT_NAMES[1]);
    change_fat(&machine.path(DISKS[1]), ESP, &[(path, slot.encode().unwrap())], &[]).unwrap();
    let program = machine.path("program.efi").display().to_string();
    let refused = machine.fails(3, &["apply", "--yes", "--boot-program", &program]);
    assert!(refused.contains("by-hand was saved at boot"), "{refused}");
    machine.ok(&["draft", "--take-saved"]);
    apply(&machine);
    let slots = DISKS.map(|disk| self::slot(&machine, disk).unwrap());
    assert!(slots.iter().all(|slot| slot.text.contains("by-hand") && slot.serial == 3));
}

#[test]
fn a_machine_with_one_disk_says_what_it_lacks() {
    let machine = TestMachine::new(&small(StoreKind::Folder));
    machine.write("menu.toml", &text("Both", 2));
    detach(&machine, 1);
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    let said = flat(&apply(&machine));
    assert!(said.contains("no other disk has an ESP that could be the second home"), "{said}");
    for homes in ["0", "3", "two"] {
        machine.fails(2, &["tune", &format!("homes={homes}")]);
    }
    machine.write("menu.toml", &text("Both", 2).replace("host = \"signpost\"", "host = \"firmware\""));
    let said = flat(&machine.ok(&["plan"]));
    assert!(said.contains("the firmware keeps its own list itself"), "{said}");
    machine.write("menu.toml", &text("Both", 7));
    let wrong = machine.fails(1, &["plan"]);
    assert!(wrong.contains("homes is 7; it takes 1 or 2"), "{wrong}");
}

/// The bench with BIOS firmware, and an empty disk beside.
pub fn with_sectors() -> TestMachine {
    let machine = lathe_bench();
    let mut other = disk(&machine);
    other[..plain::CODE.len()].copy_from_slice(&plain::CODE);
    other[440..444].copy_from_slice(&0x5157_2001u32.to_le_bytes());
    std::fs::write(machine.path("other.img"), other).unwrap();
    let text = machine.read("machine.toml") + "\n[[disk]]\nimage = \"other.img\"\nserial = \"S-2\"\n";
    machine.write("machine.toml", &text);
    machine.write("menu.toml", &machine.read("menu.toml").replace("timeout = 3", "timeout = 3\nhomes = 2"));
    machine
}

/// The first sector of a disk is ours, and goes to this menu.
fn slot_in(machine: &TestMachine, image: &str) -> Option<Slot> {
    let disk = std::fs::read(machine.path(image)).unwrap();
    let area = Area::of_first(disk[..SECTOR].try_into().unwrap())?;
    let slot = |index: u32| Slot::decode(&disk[area.slot(index) as usize * SECTOR..][..SLOT_SIZE]);
    let slots = [slot(0), slot(1)];
    newest(&slots).map(|(_, slot)| slot.clone())
}

#[test]
fn a_bios_machine_has_its_menu_on_two_disks_too() {
    let images = ["gauge.img", "other.img"];
    let machine = with_sectors();
    let before = std::fs::read(machine.path("other.img")).unwrap();
    let program = machine.path("program.img").display().to_string();
    let with = |words: &[&str]| {
        let run = machine.run(&[words, &["--boot-program", &program]].concat());
        assert!(run.code < 2, "{words:?}: {}", run.stderr);
        run.stdout
    };
    put_in_sectors(&machine);
    let [first, second] = images.map(|image| slot_in(&machine, image).unwrap());
    assert_eq!((&first, first.homes.len()), (&second, 2));
    let said = with(&["check"]);
    assert!(!said.contains("homes-disagree"), "{said}");

    // The other one's first sector is written over, as another system's installer does.
    let mut disk = std::fs::read(machine.path("other.img")).unwrap();
    disk[..plain::CODE.len()].copy_from_slice(&plain::CODE);
    disk[plain::CODE.len()..440].fill(0);
    std::fs::write(machine.path("other.img"), disk).unwrap();
    let check = flat(&with(&["check"]));
    assert!(check.contains("The other home, d2, is not up to date"), "{check}");
    with(&["mend", "homes-disagree", "--yes"]);
    assert_eq!(slot_in(&machine, "other.img"), Some(first));

    // It is away for a while, and the menu is changed.
    let whole = detach(&machine, 1);
    let check = flat(&with(&["check"]));
    assert!(check.contains("One of the two homes is not attached"), "{check}");
    machine.write("menu.toml", &machine.read("menu.toml").replace("The second", "The second one"));
    assert!(flat(&put_in_sectors(&machine)).contains("the disk of the second home is not attached"));
    machine.write("machine.toml", &whole);
    assert_eq!(images.map(|image| slot_in(&machine, image).unwrap().serial), [2, 1]);
    with(&["mend", "homes-disagree", "--yes"]);
    assert_eq!(images.map(|image| slot_in(&machine, image).unwrap().serial), [2, 2]);

    // One home alone: the other disk is as it was before.
    machine.write("menu.toml", &machine.read("menu.toml").replace("homes = 2", "homes = 1"));
    put_in_sectors(&machine);
    assert_eq!(slot_in(&machine, "gauge.img").unwrap().homes.len(), 0);
    assert!(std::fs::read(machine.path("other.img")).unwrap() == before);
}

#[test]
fn no_disk_whose_first_sector_somebody_uses_becomes_a_second_home_by_itself() {
    let machine = with_sectors();
    let mut disk = std::fs::read(machine.path("other.img")).unwrap();
    disk[..440].fill(0x90);
    std::fs::write(machine.path("other.img"), &disk).unwrap();
    let said = flat(&put_in_sectors(&machine));
    assert!(
        said.contains("no other disk has room for the second home and plain code in its first sector"),
        "{said}"
    );
    assert!(std::fs::read(machine.path("other.img")).unwrap() == disk);
    // Somebody who names it gets it, and what was there is in the record.
    let program = machine.path("program.img").display().to_string();
    let wrong = machine.fails(4, &["plan", "--second-home", "d7", "--boot-program", &program]);
    assert!(
        wrong.contains("--second-home: there is no disk d7 that can be read; there are d1, d2"),
        "{wrong}"
    );
    machine.ok(&["apply", "--yes", "--second-home", "d2", "--boot-program", &program]);
    assert_eq!(slot_in(&machine, "other.img"), slot_in(&machine, "gauge.img"));
    machine.ok(&["undo", "--yes"]);
    assert!(std::fs::read(machine.path("other.img")).unwrap() == disk);
}

#[test]
fn a_second_home_is_another_volume_than_the_first() {
    let machine = applied();
    let program = machine.path("program.efi").display().to_string();
    let plan = |more: &[&str]| {
        let words = [&["plan", "--json", "--boot-program", &program], more].concat();
        let plan = result_of(&machine.ok(&words));
        [plan["home"].to_string(), plan["second_home"].to_string()]
    };
    let [first, second] = plan(&["--second-home", "d1p1"]);
    assert!(first.contains("d1p1") && second.contains("d2p1"), "{first} {second}");
    // The other way round: what leads to either stays what it is, in the other order.
    let [first, second] = plan(&["--home", "d2p1", "--second-home", "d1p1"]);
    assert!(first.contains("d2p1") && second.contains("d1p1"), "{first} {second}");
    machine.ok(&["apply", "--yes", "--home", "d2p1", "--second-home", "d1p1", "--boot-program", &program]);
    assert_eq!(machine.boot().order, [2, 0, 1]);
    assert!(apply(&machine).contains("nothing was written"), "and so it stays");
    let wrong = machine.fails(4, &["plan", "--second-home", "d9p9", "--boot-program", &program]);
    assert!(wrong.contains("--second-home: no volume is called d9p9"), "{wrong}");
}
