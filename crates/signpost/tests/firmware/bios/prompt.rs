//! The prompt on the open-source BIOS: the same answers as at the desk, by the same code over other drivers.

use signpost_demo::gauge;
use signpost_vm::{Spec, Vm};

use super::{type_line, wait_shown};
use crate::harness::TestMachine;
use crate::prompt::{Screen, answers, packed};

/// Every word of the language, most of them in more than one way; a keyboard last, since keys of a serial line are taken for its.
const SCRIPT: [&str; 42] = [
    "volumes",
    "who d1p1",
    "who d1p2",
    "who d1p5",
    "who d1p9",
    "look d1p1:/",
    "look d1p5:/",
    "look d1p6:/",
    "look d1p2a:/",
    "look d1p6:/nothing",
    "show d1p5:/etc/fstab",
    "show d1p5:/etc/os-release",
    "show d1p6:/vmlinuz-4.19.8-larkspur",
    "show d1p1:/GAUGE/LOGGER.EXE",
    "find vmlinuz",
    "find gdos",
    "find nothing-of-it",
    "review",
    "compose linux on d1p1",
    "compose linux on d1p5",
    "kernel /vmlinuz-4.19.8-larkspur",
    "kernel /gone",
    "initrd none",
    "initrd /initrd-4.19.8-larkspur",
    "args +single",
    "args -nothing",
    "review",
    "compose linux d1p6:/vmlinuz-4.19.8-larkspur",
    "compose sector d1p1",
    "compose sector d1p5",
    "compose efi d1p1:/GDOS.SYS",
    "compose image d1p5:/etc",
    "args +quiet",
    "compose entry gaugedos",
    "entries",
    "entries 99",
    "firmware",
    "firmware setup",
    "once nothing",
    "once gaugedos",
    "help compose",
    "keyboard de",
];

#[test]
fn the_same_lines_have_the_same_answers_at_the_desk_and_on_bios() {
    let machine = TestMachine::small();
    std::fs::remove_dir_all(machine.folder()).unwrap();
    gauge::write_lathe(machine.folder()).unwrap();
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["tune", "timeout=never"]);
    machine.ok(&["apply", "--yes"]);
    // What the desk writes is not what the machine in front of us is started from.
    let desk = machine.copy();
    let answers = answers(&desk, &SCRIPT);
    let mut vm = Vm::start(&Spec::of_bios([machine.path("gauge.img")]), None).unwrap();
    wait_shown(&mut vm, "? help").unwrap();
    vm.type_keys(":").unwrap();
    wait_shown(&mut vm, "Enter runs the line").unwrap();
    let mut screen = Screen::new();
    for (line, answer) in &answers {
        // Where the test fails, this says how far it came.
        println!("> {line}\n{answer}");
        type_line(&mut vm, line);
        // A screen of 25 lines shows the end of what is longer.
        let answer: Vec<&str> = answer.lines().collect();
        let shown = answer[answer.len().saturating_sub(14)..].join("\n");
        let wanted = if answer.len() > 14 { packed(&shown) } else { packed(&format!("> {line}{shown}")) };
        vm.wait_until(|serial| screen.shown(serial).contains(&wanted)).unwrap();
    }
}
