//! What `preview --png` writes, held against the screen of a machine: equal to the pixel.

use std::path::Path;

use signpost_demo::{StoreKind, tide};
use signpost_vm::{Monitor, Spec};

use crate::harness::TestMachine;
use crate::vm::Vm;

/// More entries than any screen has lines, one of which starts nothing.
fn long_menu() -> String {
    let gone = |number: usize| {
        format!(
            "\n[[entry]]\nid = \"pier-{number}\"\ntitle = \"Pier {number}, Größe Ж Ω 東\"\nstarts = \"efi\"\n\
             symbol = [\"line 3 20 21 20\", \"ring 12 9 {}\"]\nprogram = \"uuid:4F2A-11C9/EFI/pier{number}.efi\"\n",
            number % 7
        )
    };
    (10..60).map(gone).collect()
}

/// The screen as it is, and as the desk foretells it with these arguments.
struct Compared<'a> {
    machine: &'a TestMachine,
    vm: Vm,
    monitor: Monitor,
    size: &'a str,
}

impl Compared<'_> {
    /// Types keys, waits for what the serial line shows of them, which is written behind the screen, and compares.
    fn after(&mut self, keys: &str, shown: &str, arguments: &[&str]) {
        self.vm.type_keys(keys);
        self.vm.wait_for(shown);
        let (dump, picture) = (self.machine.path("screen.ppm"), self.machine.path("foretold.png"));
        self.monitor.say(&format!("screendump {}", dump.display())).unwrap();
        let arguments =
            [&["preview", "--size", self.size, "--png", picture.to_str().unwrap()], arguments].concat();
        self.machine.ok(&arguments);
        let (real, foretold) = (screen(&dump), picture_of(&picture));
        assert_eq!((real.0, real.1), (foretold.0, foretold.1), "{shown}");
        if real.2 == foretold.2 {
            return;
        }
        let width = real.0;
        let differs =
            real.2.chunks(3).zip(foretold.2.chunks(3)).position(|(real, foretold)| real != foretold);
        let place = differs.map(|pixel| (pixel % width, pixel / width));
        panic!("the first pixel that differs is {place:?}, {arguments:?}");
    }
}

/// Width, height and bytes of the emulator's picture: `P6`, width and height, 255, and a byte each of red, green and blue.
pub fn screen(file: &Path) -> (usize, usize, Vec<u8>) {
    let bytes = std::fs::read(file).unwrap();
    let mut lines = bytes.splitn(4, |byte| *byte == b'\n');
    assert_eq!(lines.next(), Some(&b"P6"[..]));
    let size = String::from_utf8(lines.next().unwrap().to_vec()).unwrap();
    assert_eq!(lines.next(), Some(&b"255"[..]));
    let (width, height) = size.split_once(' ').unwrap();
    (width.parse().unwrap(), height.parse().unwrap(), lines.next().unwrap().to_vec())
}

pub fn picture_of(file: &Path) -> (usize, usize, Vec<u8>) {
    let mut reader =
        png::Decoder::new(std::io::Cursor::new(std::fs::read(file).unwrap())).read_info().unwrap();
    let mut bytes = vec![0; reader.output_buffer_size().unwrap()];
    let info = reader.next_frame(&mut bytes).unwrap();
    (info.width as usize, info.height as usize, bytes)
}

/// Which states of the menu are compared.
#[derive(Clone, Copy, PartialEq, Eq)]
enum States {
    All,
    /// The list, a row far down it, and the prompt: what looks and sizes differ in.
    Few,
}

/// States of the menu in a look on a screen.
fn states_are_as_foretold(look: &[&str], size: &str, states: States) {
    let machine = TestMachine::new(&tide::bench(StoreKind::Fd));
    machine.ok(&["draft", "--host", "signpost"]);
    harbour(&machine);
    let screen = format!("look.screen={size}");
    machine.ok(&[&["tune", "timeout=never", "heading=Tide bench PC 2", &screen], look].concat());
    machine.write("menu.toml", &(machine.read("menu.toml") + &long_menu()));
    machine.ok(&["apply", "--yes"]);
    let spec = Spec {
        devices: ["-vga", "none", "-device", "VGA,vgamem_mb=64"].map(String::from).to_vec(),
        ..Spec::of_bench(machine.folder(), &["disk1.img", "disk2.img", "disk3.img"])
    };
    let (vm, monitor) = Vm::with_monitor_spec(&spec, machine.folder());
    let mut compared = Compared { machine: &machine, vm, monitor, size };
    compared.after("", "? help", &[]);
    if states == States::All {
        compared.after("?", "Any key goes back", &["--keys"]);
        compared.vm.type_keys("x");
        compared.vm.wait_for("? help");
        compared.after("=", "for this start only:", &["--arguments"]);
        compared.vm.type_keys("\u{1b}");
        compared.vm.wait_for("? help");
    }
    // The thirtieth row; its title stands in a line of its own below the list.
    compared.after("30", "pier33.efi", &["--choose", "pier-33"]);
    if states == States::All {
        compared.after("\r", "cannot start", &["--choose", "pier-33", "--error"]);
        compared.vm.type_keys("4");
        compared.vm.wait_for("4 of 59");
        compared.after("\r", "Escape back", &["--open", "larkspur-older"]);
    }
    compared.after(":volumes\r", "d3p2", &["--prompt", "volumes"]);
}

#[test]
fn the_dark_look_on_a_small_screen() {
    states_are_as_foretold(
        &["look=dusk", "look.closing=Help: Wendel Okoro, extension 12"],
        "800x600",
        States::All,
    );
}

#[test]
fn the_light_look_on_a_usual_screen() {
    states_are_as_foretold(&["look=chalk"], "1280x800", States::Few);
}

#[test]
fn the_look_of_strong_contrast_on_a_wide_screen() {
    states_are_as_foretold(&["look=contrast", "look.detail=full"], "1920x1080", States::All);
}

#[test]
fn own_colours_without_symbols_on_a_large_screen() {
    states_are_as_foretold(
        &["look.ground=navy", "look.accent=aqua", "look.symbols=false"],
        "3840x2160",
        States::Few,
    );
}

/// A made-up picture beside the menu file, for looks that have one.
pub fn harbour(machine: &TestMachine) {
    let picture = image::RgbImage::from_fn(300, 200, |x, y| image::Rgb([(x / 2) as u8, y as u8, 0x60]));
    picture.save(machine.path("harbour.png")).unwrap();
}

#[test]
fn a_picture_covers_the_screen_beside_a_narrow_menu() {
    states_are_as_foretold(
        &["look.picture=harbour.png", "look.align=left", "look.width=narrow"],
        "1280x800",
        States::All,
    );
}

#[test]
fn a_picture_is_repeated_and_one_that_is_damaged_is_left_out() {
    let machine = TestMachine::new(&tide::bench(StoreKind::Fd));
    machine.ok(&["draft", "--host", "signpost"]);
    harbour(&machine);
    machine.ok(&[
        "tune",
        "timeout=never",
        "look.picture=harbour.png",
        "look.picture-fit=tile",
        "look.align=right",
    ]);
    machine.ok(&["apply", "--yes"]);
    let spec = Spec::of_bench(machine.folder(), &["disk1.img", "disk2.img", "disk3.img"]);
    let (vm, monitor) = Vm::with_monitor_spec(&spec, machine.folder());
    let mut compared = Compared { machine: &machine, vm, monitor, size: "1280x800" };
    compared.after("", "? help", &[]);
    compared.after("3", "> 3", &["--choose", "tidewater"]);
    drop(compared);
    // The file's head; its mark alone is in the boot program too.
    let mut disk = std::fs::read(machine.path("disk1.img")).unwrap();
    let head = [&b"SIGNPIC1"[..], &300_u16.to_le_bytes(), &200_u16.to_le_bytes()].concat();
    let at = disk.windows(head.len()).position(|bytes| bytes == head).unwrap();
    disk[at + 100] ^= 1;
    std::fs::write(machine.path("disk1.img"), disk).unwrap();
    let (vm, monitor) = Vm::with_monitor_spec(&spec, machine.folder());
    let mut compared = Compared { machine: &machine, vm, monitor, size: "1280x800" };
    machine.ok(&["tune", "--reset", "look.picture"]);
    compared.after("", "? help", &[]);
}

/// The picture is turned for a panel that is built in sideways: read back, it is what is foretold.
#[test]
fn a_turned_menu_is_as_foretold_once_it_is_turned_back() {
    let machine = TestMachine::new(&tide::bench(StoreKind::Fd));
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["tune", "timeout=never", "look.turn=90", "look.screen=1024x768"]);
    machine.ok(&["apply", "--yes"]);
    let spec = Spec::of_bench(machine.folder(), &["disk1.img", "disk2.img", "disk3.img"]);
    let (mut vm, mut monitor) = Vm::with_monitor_spec(&spec, machine.folder());
    vm.wait_for("? help");
    // What changes is painted in bands.
    vm.type_keys("3");
    vm.wait_for("> 3");
    let (dump, picture) = (machine.path("screen.ppm"), machine.path("foretold.png"));
    monitor.say(&format!("screendump {}", dump.display())).unwrap();
    let file = picture.to_str().unwrap();
    machine.ok(&["preview", "--size", "1024x768", "--choose", "tidewater", "--png", file]);
    let (real, foretold) = (screen(&dump), picture_of(&picture));
    assert_eq!(((real.0, real.1), (foretold.0, foretold.1)), ((1024, 768), (768, 1024)));
    let pixel = |picture: &(usize, usize, Vec<u8>), x: usize, y: usize| {
        let at = 3 * (y * picture.0 + x);
        [picture.2[at], picture.2[at + 1], picture.2[at + 2]]
    };
    let differs = (0..768)
        .flat_map(|x| (0..1024).map(move |y| (x, y)))
        .find(|(x, y)| pixel(&foretold, *x, *y) != pixel(&real, 1023 - y, *x));
    assert_eq!(differs, None);
}

/// Firmware's own letters: where there is no screen of pixels, and where the look asks for them.
#[test]
fn without_a_screen_of_pixels_the_menu_stands_in_letters() {
    let machine = TestMachine::new(&tide::bench(StoreKind::Fd));
    machine.ok(&["draft", "--host", "signpost"]);
    for (value, devices) in [("look.screen=keep", &["-vga", "none"][..]), ("look.screen=text", &[])] {
        machine.ok(&["tune", "timeout=never", "look=chalk", value]);
        machine.ok(&["apply", "--yes"]);
        let spec = Spec {
            devices: devices.iter().map(ToString::to_string).collect(),
            ..Spec::of_bench(machine.folder(), &["disk1.img", "disk2.img", "disk3.img"])
        };
        let mut vm = Vm::start_spec(&spec);
        vm.wait_for("? help");
        vm.type_keys("2");
        vm.wait_for("> 2  Meridian Desktop 4");
        vm.type_keys("9\r");
        let serial = vm.until_it_ends();
        let ours = serial.rsplit_once("BdsDxe: starting").unwrap().1;
        // Black on light grey comes nearest to the light look.
        assert!(ours.contains("\u{1b}[30m\u{1b}[47m"), "{ours:?}");
    }
}

#[test]
fn a_serial_line_is_told_each_thing_once() {
    let machine = TestMachine::new(&tide::bench(StoreKind::Fd));
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&[
        "tune",
        "timeout=30",
        "look.announce=true",
        "look.closing=Help: Wendel Okoro, extension 12",
    ]);
    machine.ok(&["apply", "--yes"]);
    let foretold = machine.ok(&["preview", "--spoken"]);
    let mut vm = Vm::start(machine.folder(), &["disk1.img", "disk2.img", "disk3.img"]);
    vm.wait_for("Starts in 30 s. Press any key to stop.");
    vm.type_keys("2");
    vm.wait_for("d2p1:/EFI/meridian/start.efi");
    vm.type_keys("=");
    vm.wait_for("only a Linux entry has arguments to change");
    vm.type_keys(":");
    vm.wait_for("> ");
    vm.type_keys("who d1p1\r");
    vm.wait_for("boot file: /EFI/signpost/");
    vm.wait_for("\r\n> ");
    vm.type_keys("power-off\r");
    let serial = vm.until_it_ends();
    let ours = serial.rsplit_once("BdsDxe: starting").unwrap().1;
    for line in foretold.lines().chain(["2 of 9: Meridian Desktop 4", "> who d1p1\r\n"]) {
        assert_eq!(ours.matches(line).count(), 1, "{line}: {ours}");
    }
    // Nothing is painted: no cursor is moved to a row.
    assert!(!ours.contains(";03H"), "{ours}");
}
