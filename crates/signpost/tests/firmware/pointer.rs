//! A pointer and a small display on real firmware: the virtual machine's tablet, and a screen of seven inches, which drivers of the
//! tests' own show it.

use signpost_look::Painter;
use signpost_menu::appearance::Appearance;
use signpost_menu::slot::SLOT_NAMES;
use signpost_vm::{Monitor, Spec, Tablet};

use crate::harness::{TestMachine, file, lark_disk, menu};
use crate::look::{picture_of, screen};
use crate::menu::{GONE, LOADER, OTHER_DISK, boot_program, built, slot, with_slots};
use crate::vm::Vm;

/// What firmware leaves the screen at.
const SCREEN: (usize, usize) = (1280, 800);
/// How high the display says it is.
const MILLIMETRES: usize = 90;
/// The line of the first row: a line is free at the top of the screen, and three are the heading's.
const FIRST: usize = 4;

struct Pointed {
    vm: Vm,
    monitor: Monitor,
    tablet: Tablet,
    painter: Painter,
    machine: TestMachine,
    /// What came on the serial console before the menu stood.
    said: String,
}

impl Pointed {
    fn new(settings: &str, entries: &[&str]) -> Self {
        let mut spec = with_slots([vec![], vec![]]);
        let files = vec![
            file("/EFI/BOOT/BOOTX64.EFI", built("made-up-devices-x64.efi")),
            file("/EFI/BOOT/SIGNPOST.EFI", boot_program()),
            file("/EFI/larkspur/lkload.efi", signpost_demo::program::Program::new("Larkspur loader").build()),
            file(&format!("/EFI/signpost/{}", SLOT_NAMES[0]), slot(1, &menu(settings, entries))),
        ];
        let content = lark_disk(files).partitions.swap_remove(0).content;
        spec.disks[0].partitions[0].content = content;
        let machine = TestMachine::new(&spec);
        let socket = machine.path("tablet");
        let spec = Spec {
            devices: Tablet::arguments(&socket).to_vec(),
            ..Spec::of_bench(machine.folder(), &["lark.img", "meridian.img"])
        };
        let (mut vm, monitor) = Vm::with_monitor_spec(&spec, machine.folder());
        let mut said = String::new();
        vm.wait_until(|serial| {
            said = String::from_utf8_lossy(serial).into_owned();
            said.contains("? help")
        });
        vm.wait_for("? help");
        let tablet = Tablet::connect(&socket).unwrap();
        let painter = Painter::new(SCREEN, Some(MILLIMETRES), &Appearance::default());
        Self { vm, monitor, tablet, painter, machine, said }
    }

    /// Points at a row of the list, by its place there.
    fn point(&mut self, place: usize) {
        let metrics = &self.painter.metrics;
        let y = metrics.y(FIRST + place) + metrics.line / 2;
        self.tablet.point((SCREEN.0 / 2, y), SCREEN).unwrap();
    }

    fn press(&mut self) {
        self.tablet.press(true).unwrap();
        self.tablet.press(false).unwrap();
    }
}

/// On a small screen letters are larger than a thirtieth of its height, so that they can be read.
#[test]
fn a_display_that_says_how_small_it_is_has_larger_letters_as_foretold() {
    let entries = [LOADER, OTHER_DISK];
    let mut pointed = Pointed::new("timeout = \"never\"", &entries);
    let machine = &pointed.machine;
    let text = menu("timeout = \"never\"", &entries).replace("\"firmware\"", "\"signpost\"");
    machine.write("menu.toml", &text);
    let (dump, picture) = (machine.path("screen.ppm"), machine.path("foretold.png"));
    pointed.monitor.say(&format!("screendump {}", dump.display())).unwrap();
    let foretell = |arguments: &[&str]| {
        machine.ok(&[&["preview", "--png", picture.to_str().unwrap()], arguments].concat());
        picture_of(&picture)
    };
    let real = screen(&dump);
    assert!(real != foretell(&[]), "they would be too small");
    let foretold = foretell(&["--millimetres", &MILLIMETRES.to_string()]);
    let differs = real.2.iter().zip(&foretold.2).position(|(real, foretold)| real != foretold);
    assert_eq!((real.0, real.1, differs), (foretold.0, foretold.1, None));
}

/// Where firmware can protect memory, the program that was unpacked is no memory that is both written and run.
#[test]
fn what_was_unpacked_is_either_written_or_run_where_firmware_can_tell_them_apart() {
    const READ_ONLY: u64 = 0x2_0000;
    const NOT_RUN: u64 = 0x4000;
    let pointed = Pointed::new("timeout = \"never\"", &[LOADER]);
    let asked = pointed.said.lines().filter_map(|line| line.trim().strip_prefix("MEMORY "));
    let mut parts = std::collections::BTreeMap::<u64, (u64, u64)>::new();
    for line in asked {
        let (what, numbers) = line.split_once(' ').unwrap();
        let numbers: Vec<u64> =
            numbers.split(' ').map(|number| u64::from_str_radix(number, 16).unwrap()).collect();
        let part = parts.entry(numbers[0]).or_insert((numbers[1], 0));
        assert_eq!(part.0, numbers[1], "{line}");
        part.1 = match what {
            "set" => part.1 | numbers[2],
            "clear" => part.1 & !numbers[2],
            _ => panic!("{line}"),
        };
    }
    let starts: Vec<u64> = parts.keys().copied().collect();
    let ends: Vec<u64> = parts.iter().map(|(start, (length, _))| start + length).collect();
    assert_eq!(starts[1..], ends[..ends.len() - 1], "one behind the other: {}", pointed.said);
    assert_eq!(
        parts.values().map(|(_, attributes)| *attributes).collect::<Vec<_>>(),
        [NOT_RUN, READ_ONLY, NOT_RUN]
    );
    // The code is the most of it.
    assert!(parts[&starts[1]].0 > 500_000, "{}", pointed.said);
}

const GROUP: &str = "id = \"more\"\ntitle = \"More\"\nstarts = \"group\"";

#[test]
fn a_pointer_chooses_and_starts() {
    let inner = format!("{GONE}\nin = \"more\"");
    let mut pointed = Pointed::new("timeout = 30", &[LOADER, OTHER_DISK, GROUP, &inner]);
    pointed.point(1);
    pointed.vm.wait_for("> 2");
    // A group opens, and a press beside its rows leaves it.
    pointed.point(2);
    pointed.vm.wait_for("> 3");
    pointed.press();
    pointed.vm.wait_for("/ More");
    pointed.point(12);
    pointed.press();
    pointed.vm.wait_for("> 3");
    pointed.point(1);
    pointed.vm.wait_for("> 2");
    pointed.press();
    pointed.vm.wait_for("STARTED Meridian");
}

#[test]
fn a_touch_starts_what_it_touches_whatever_the_countdown() {
    let mut pointed = Pointed::new("timeout = 30\ndefault = \"meridian\"", &[LOADER, OTHER_DISK]);
    // A finger comes and presses at once.
    pointed.point(0);
    pointed.press();
    pointed.vm.wait_for("STARTED Larkspur loader");
}
