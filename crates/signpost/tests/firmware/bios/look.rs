//! The menu drawn on BIOS, held against what `preview --png` foretells.

use signpost_demo::gauge;
use signpost_vm::{Monitor, Spec, Vm};

use super::{type_line, wait_shown};
use crate::harness::TestMachine;
use crate::look::{harbour, picture_of, screen};

/// The bench of the workshop's PC.
pub fn lathe() -> TestMachine {
    let machine = TestMachine::small();
    std::fs::remove_dir_all(machine.folder()).unwrap();
    gauge::write_lathe(machine.folder()).unwrap();
    machine
}

/// How often the screen is looked at before it is taken for what it will stay.
const LOOKS: usize = 2000;

/// Waits until the screen is what is foretold. Firmware that draws says nothing on a serial line, so the screen is what is awaited.
fn stands(machine: &TestMachine, monitor: &mut Monitor, arguments: &[&str]) {
    let (dump, picture) = (machine.path("screen.ppm"), machine.path("foretold.png"));
    machine.ok(&[&["preview", "--png", picture.to_str().unwrap()], arguments].concat());
    let foretold = picture_of(&picture);
    let mut real = (0, 0, Vec::new());
    for _ in 0..LOOKS {
        monitor.say(&format!("screendump {}", dump.display())).unwrap();
        real = screen(&dump);
        if real == foretold {
            return;
        }
    }
    let differs = real.2.iter().zip(&foretold.2).filter(|(real, foretold)| real != foretold).count();
    panic!("{arguments:?}: {} by {}, {differs} bytes differ", real.0, real.1);
}

#[test]
fn the_menu_is_drawn_as_foretold() {
    let machine = lathe();
    machine.ok(&["draft", "--host", "signpost"]);
    // The emulator's firmware has this mode, and not that size.
    machine.ok(&["tune", "timeout=never", "look=chalk", "look.screen=1300x790", "look.detail=full"]);
    machine.ok(&["apply", "--yes"]);
    let mut spec = Spec::of_bios([machine.path("gauge.img")]);
    spec.devices = ["-machine", "graphics=on"].map(String::from).to_vec();
    let socket = machine.path("monitor");
    let _vm = Vm::start(&spec, Some(&socket)).unwrap();
    let mut monitor = connect(&socket);
    let size = ["--size", "1280x768"];
    stands(&machine, &mut monitor, &size);
    monitor.say("sendkey shift-slash").unwrap();
    stands(&machine, &mut monitor, &[&size[..], &["--keys"]].concat());
    monitor.say("sendkey x").unwrap();
    monitor.say("sendkey f2").unwrap();
    stands(&machine, &mut monitor, &[&size[..], &["--arguments"]].concat());
    monitor.say("sendkey esc").unwrap();
    monitor.say("sendkey f4").unwrap();
    stands(&machine, &mut monitor, &[&size[..], &["--prompt", ""]].concat());
    // Back to the menu; GaugeDOS starts, and what became of the screen is noted.
    monitor.say("sendkey esc").unwrap();
    stands(&machine, &mut monitor, &size);
    monitor.say("sendkey g").unwrap();
    stands(&machine, &mut monitor, &[&size[..], &["--choose", "gaugedos"]].concat());
    monitor.say("sendkey ret").unwrap();
    let noted = "gaugedos: started; the screen has no mode of 1300x790; the menu was drawn at 1280x768";
    let last = || machine.json(&["survey"])["firmware"]["last_start"].clone();
    assert!((0..LOOKS).any(|_| last() == noted), "{}", last());
}

/// The machine, started and looked at; its screen becomes what is foretold.
pub fn is_drawn_as_foretold(machine: &TestMachine, arguments: &[&str]) {
    let mut spec = Spec::of_bios([machine.path("gauge.img")]);
    spec.devices = ["-machine", "graphics=on"].map(String::from).to_vec();
    let socket = machine.path("monitor");
    let vm = Vm::start(&spec, Some(&socket)).unwrap();
    let mut monitor = connect(&socket);
    stands(machine, &mut monitor, arguments);
    monitor.say("sendkey g").unwrap();
    stands(machine, &mut monitor, &[arguments, &["--choose", "gaugedos"]].concat());
    drop(vm);
    std::fs::remove_file(&socket).unwrap();
}

#[test]
fn a_picture_on_another_volume_lies_behind_the_menu() {
    let machine = lathe();
    machine.ok(&["draft", "--host", "signpost"]);
    harbour(&machine);
    machine.ok(&["tune", "timeout=never", "look.screen=1024x768", "look.align=left", "look.width=narrow"]);
    machine.ok(&["tune", "look.picture=harbour.png", "look.picture-fit=cover"]);
    machine.ok(&["apply", "--yes"]);
    let size = ["--size", "1024x768"];
    is_drawn_as_foretold(&machine, &size);
    let damage = || {
        let mut disk = std::fs::read(machine.path("gauge.img")).unwrap();
        let head = [&b"SIGNPIC1"[..], &300_u16.to_le_bytes(), &200_u16.to_le_bytes()].concat();
        let at = disk.windows(head.len()).position(|bytes| bytes == head).unwrap();
        disk[at + 100] ^= 1;
        std::fs::write(machine.path("gauge.img"), disk).unwrap();
    };
    // It is named, and written again by either.
    for cure in [&["hold"][..], &["mend", "picture-gone", "--yes"]] {
        damage();
        let found = machine.run(&["check"]).stdout;
        assert!(found.contains("PICTURE.PIC") && found.contains("gone or damaged"), "{found}");
        machine.ok(cure);
        assert!(machine.ok(&["check"]).contains("No problems"));
    }
    // One that is damaged is left out, and the menu stands.
    damage();
    let menu = machine.read("menu.toml");
    machine.ok(&["tune", "--reset", "look.picture"]);
    is_drawn_as_foretold(&machine, &size);
    // It goes with the menu.
    machine.write("menu.toml", &menu);
    machine.ok(&["apply", "--remove", "--yes", "--despite", "last-way"]);
    assert!(!machine.run(&["prompt", "--do", "look d1p1/EFI"]).stdout.contains("signpost"));
}

/// The emulator makes the socket before it runs anything.
fn connect(socket: &std::path::Path) -> Monitor {
    loop {
        if let Ok(monitor) = Monitor::connect(socket) {
            return monitor;
        }
        std::thread::yield_now();
    }
}

/// Firmware that sends nothing to a serial line, on a machine that has one.
#[test]
fn a_serial_port_of_our_own_shows_the_menu_and_takes_keys() {
    let machine = lathe();
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&[
        "tune",
        "timeout=never",
        "serial-port=com1",
        "look.screen=1024x768",
        "heading=Two terminals",
    ]);
    machine.ok(&["apply", "--yes"]);
    let mut spec = Spec::of_bios([machine.path("gauge.img")]);
    spec.devices = ["-machine", "graphics=on"].map(String::from).to_vec();
    let socket = machine.path("monitor");
    let mut vm = Vm::start(&spec, Some(&socket)).unwrap().with_patience(std::time::Duration::from_secs(40));
    let mut monitor = connect(&socket);
    wait_shown(&mut vm, "Two terminals").unwrap();
    wait_shown(&mut vm, "? help").unwrap();
    let (screen, size) = (machine.ok(&["preview", "--size", "80x24"]), ["--size", "1024x768"]);
    assert!(screen.contains("Two terminals"), "{screen}");
    // A key of the terminal moves on the screen too, and one of the keyboard on the terminal.
    vm.type_keys("\x1b[B").unwrap();
    let entries = machine.json(&["menu"])["entries"].clone();
    let second = entries[1]["id"].as_str().unwrap().to_string();
    stands(&machine, &mut monitor, &[&size[..], &["--choose", &second]].concat());
    monitor.say("sendkey f4").unwrap();
    type_line(&mut vm, "volumes");
    wait_shown(&mut vm, "d1p1").unwrap();
    // Escape by itself is told from the beginning of another key.
    vm.type_keys("\x1b").unwrap();
    wait_shown(&mut vm, "? help").unwrap();
    vm.type_keys("\r").unwrap();
    vm.wait_for("Starting ").unwrap();
}
