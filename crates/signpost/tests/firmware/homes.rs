//! A menu on two disks, on real firmware: with one of them lost, with its menu damaged, with an older one.

use signpost_demo::{StoreKind, change_fat};
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES};

use crate::harness::{LARK, MERIDIAN, TestMachine, menu, small};
use crate::vm::Vm;

/// Either disk's ESP, in bytes.
const ESP: std::ops::Range<usize> = 1 << 20..5 << 20;
const DISKS: [&str; 2] = ["lark.img", "meridian.img"];

fn write_menu(machine: &TestMachine, heading: &str) {
    let lark = format!("{LARK}\nfallback = \"meridian\"");
    let head = format!("heading = \"{heading}\"\ndefault = \"lark\"\ntimeout = 1\nhomes = 2");
    let text = menu(&head, &[&lark, MERIDIAN]);
    machine.write("menu.toml", &text.replace("\"firmware\"\nheading", "\"signpost\"\nheading"));
}

#[test]
fn a_menu_on_two_disks_survives_the_loss_of_either() {
    let machine = TestMachine::new(&small(StoreKind::Fd));
    write_menu(&machine, "On both");
    machine.ok(&["apply", "--yes"]);
    let whole = machine.read("machine.toml");
    let (first, second) = (whole.find("[[disk]]").unwrap(), whole.rfind("[[disk]]").unwrap());

    // The first disk is lost: the menu comes from the other one, and says why its default does not start.
    machine.write("machine.toml", &format!("{}{}", &whole[..first], &whole[second..]));
    let rehearsed = machine.ok(&["rehearse"]);
    assert!(rehearsed.contains("Ends with  Meridian, from d2p1"), "{rehearsed}");
    let serial = Vm::start(machine.folder(), &DISKS[1..]).until_it_ends();
    assert!(serial.contains("On both") && serial.contains("STARTED Meridian"), "{serial}");

    // Changed meanwhile, and the first disk is back: it starts the menu, in the newer form of the other.
    write_menu(&machine, "Changed meanwhile");
    machine.ok(&["apply", "--yes"]);
    machine.write("machine.toml", &whole);
    let serial = Vm::start(machine.folder(), &DISKS).until_it_ends();
    assert!(serial.contains("the menu on d2p1 is newer than the one here"), "{serial}");
    assert!(serial.contains("Changed meanwhile") && !serial.contains("On both"), "{serial}");
    assert!(serial.contains("STARTED Larkspur"), "{serial}");

    // Both slots there are spoiled.
    let spoiled = SLOT_NAMES.map(|name| (format!("{HOME_FOLDER}/{name}"), b"format = 1\n".to_vec()));
    change_fat(&machine.path(DISKS[0]), ESP, &spoiled, &[]).unwrap();
    let serial = Vm::start(machine.folder(), &DISKS).until_it_ends();
    assert!(serial.contains("the menu on d2p1 counts: none here can be read"), "{serial}");
    assert!(serial.contains("STARTED Larkspur"), "{serial}");
}
