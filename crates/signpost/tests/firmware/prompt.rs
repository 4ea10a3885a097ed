//! The prompt on real firmware: machines that do not start as they should, brought up by hand and left mended; and the
//! same answers as at the desk.

use std::num::NonZero;
use std::process::Command;

use signpost_demo::StoreKind;
use signpost_firmware::boot_variables::{boot_next, boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;

use crate::harness::{TestMachine, menu};
use crate::menu::{GONE, LOADER, slot, with_slots};
use crate::vm::Vm;

const IMAGES: [&str; 2] = ["lark.img", "meridian.img"];
const NEWEST: &str = "STARTED Larkspur Linux 14, kernel 6.9.4-2-larkspur";

/// Brings the machine up by these lines at the prompt, and then lets it start by itself.
fn mended(machine: &TestMachine, before: impl FnOnce(&mut Vm), lines: &[&str]) {
    let mut vm = Vm::start(machine.folder(), &IMAGES);
    before(&mut vm);
    assert!(lines.len() <= 4, "somebody without notes");
    for line in lines {
        vm.type_keys(&format!("{line}\r"));
        if line.starts_with("save") {
            vm.wait_for("is in the menu");
        }
    }
    let serial = vm.until_it_ends();
    assert!(serial.contains(NEWEST), "{serial}");
    let serial = Vm::start(machine.folder(), &IMAGES).until_it_ends();
    assert!(serial.contains(NEWEST), "by itself: {serial}");
}

const LINES: [&str; 3] = ["compose linux on d1p2", "save --default Larkspur by hand", "start"];

#[test]
fn without_any_menu() {
    let machine = TestMachine::new(&with_slots([vec![b'\n'; 65536], vec![b'\n'; 65536]]));
    mended(&machine, |vm| vm.wait_for("No menu was found here."), &LINES);
}

#[test]
fn with_a_default_that_is_gone() {
    let text = menu("default = \"gone\"\ntimeout = 1", &[GONE]);
    let machine = TestMachine::new(&with_slots([slot(4, &text), slot(3, "format = 1\n")]));
    let open = |vm: &mut Vm| {
        vm.wait_for("Gone cannot start");
        vm.type_keys(":");
        vm.wait_for("Enter runs the line");
    };
    mended(&machine, open, &LINES);
    // What was saved at boot is news to the desk, and is not lost there.
    machine.write("menu.toml", &text.replace("\"firmware\"", "\"signpost\""));
    let refused = machine.fails(3, &["apply", "--yes"]);
    assert!(refused.contains("other-system"), "slots without a machine-id are nobody's: {refused}");
    assert!(refused.contains("changed-at-boot") && refused.contains("larkspur-by-hand"), "{refused}");
    let drafted = machine.ok(&["draft", "--take-saved"]);
    assert!(drafted.contains("was saved at the prompt, at boot"), "{drafted}");
    assert!(machine.read("menu.toml").contains("= \"larkspur-by-hand\"\ntitle"));
    machine.ok(&["tune", "default=larkspur-by-hand"]);
    machine.ok(&["apply", "--yes", "--take-over"]);
    assert!(Vm::start(machine.folder(), &IMAGES).until_it_ends().contains(NEWEST));
}

#[test]
fn with_both_slots_broken() {
    let machine =
        TestMachine::new(&with_slots([vec![0x55; 65536], b"# signpost menu slot, format=1".to_vec()]));
    mended(&machine, |vm| vm.wait_for("The menu on this disk is damaged"), &LINES);
}

#[test]
fn where_another_system_took_the_first_place() {
    let text = menu("default = \"gone\"\ntimeout = 1", &[GONE]);
    let mut spec = with_slots([slot(4, &text), vec![]]);
    let ours = LoadOption::new("Signpost", spec.disks[0].path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"), vec![]);
    let theirs = LoadOption::new("Meridian", spec.disks[1].path_to(1, "\\EFI\\meridian\\start.efi"), vec![]);
    spec.variables = vec![boot_option(0, &ours), boot_option(6, &theirs), boot_order(&[6, 0])];
    let machine = TestMachine::new(&spec);
    assert!(Vm::start(machine.folder(), &IMAGES).until_it_ends().contains("STARTED Meridian"));
    // Somebody picks our entry in the firmware's own list, once.
    let path = machine.path("variables.fd");
    let mut store = signpost_firmware::store::fd::FdImage::decode(std::fs::read(&path).unwrap()).unwrap();
    store.write(&boot_next(0)).unwrap();
    std::fs::write(&path, store.bytes()).unwrap();
    let open = |vm: &mut Vm| {
        vm.wait_for("Gone cannot start");
        vm.type_keys(":");
        vm.wait_for("Enter runs the line");
    };
    mended(&machine, open, &[&["firmware first 0000"], &LINES[..]].concat());
    assert_eq!(machine.boot().order[..2], [0, 6]);
}

/// A keyboard of Germany, pressed key by key as the emulator names keys, which is by what stands on one of the United
/// States; and the serial line, where letters come as they are.
#[test]
fn keys_are_read_as_what_stands_on_them() {
    let text = menu("timeout = \"never\"\nkeyboard = \"de\"", &[LOADER]);
    let machine = TestMachine::new(&with_slots([slot(4, &text), vec![]]));
    let work = tempfile::tempdir().unwrap();
    let (mut vm, mut monitor) = Vm::with_monitor(machine.folder(), &IMAGES, work.path());
    let mut press = |keys: &str| {
        for key in keys.split_whitespace() {
            monitor.say(&format!("sendkey {key}")).unwrap();
        }
    };
    vm.wait_for("? help");
    // `:` lies on Shift and the point there; `z` and `y` are swapped.
    press("shift-dot");
    vm.wait_for("Enter runs the line");
    press("l o o k spc d 1 p 2 shift-dot shift-7 b o o t ret");
    vm.wait_for("vmlinuz-6.9.4-2-larkspur");
    press("f i n d spc alt_r-q y slash ret");
    vm.wait_for("no file in the usual places has @z- in its name");
    vm.type_keys("find y/:\r");
    vm.wait_for("no file in the usual places has y/: in its name");
    vm.type_keys("keyboard us\r");
    vm.wait_for("those of us (United States)");
    press("f i n d spc y slash shift-semicolon ret");
    vm.wait_for("no file in the usual places has y/: in its name");
    vm.type_keys("power-off\r");
    vm.until_it_ends();
}

#[test]
fn leaving_without_a_menu_goes_on_to_the_firmwares_next_entry() {
    let mut spec = with_slots([vec![b'\n'; 65536], vec![]]);
    let ours = LoadOption::new("Signpost", spec.disks[0].path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"), vec![]);
    let theirs = LoadOption::new("Meridian", spec.disks[1].path_to(1, "\\EFI\\meridian\\start.efi"), vec![]);
    spec.variables = vec![boot_option(0, &ours), boot_option(6, &theirs), boot_order(&[0, 6])];
    let machine = TestMachine::new(&spec);
    let mut vm = Vm::start(machine.folder(), &IMAGES);
    vm.wait_for("No menu was found here.");
    vm.type_keys("leave\r");
    assert!(vm.until_it_ends().contains("STARTED Meridian"));
}

/// Every word of the language, most of them in more than one way.
const SCRIPT: [&str; 42] = [
    "volumes",
    "who d1p2",
    "who d2p1",
    "who d1p1",
    "who kestrel/tidewater",
    "look d1p1:/EFI",
    "look d1p2:/boot",
    "look d3p2:/systems",
    "look d1p2:/boot/nothing",
    "show d1p2:/etc/os-release",
    "show d1p1:/EFI/larkspur/lkload.efi",
    "show d1p2:/boot/vmlinuz-6.9.4-2-larkspur",
    "find lantern",
    "find vmlinuz",
    "find nothing-of-it",
    "review",
    "compose linux on d1p1",
    "compose linux on d1p2",
    "kernel /boot/vmlinuz-6.9.1-1-larkspur",
    "kernel /boot/gone",
    "initrd none",
    "initrd /boot/initrd-6.9.4-2-larkspur",
    "args +single",
    "args -nothing",
    "review",
    "compose efi d2p1:/EFI/meridian/start.efi",
    "compose efi d2p1:/EFI/meridian/stop.efi",
    "compose image d3p2:/systems/lantern.img",
    "compose image d3p2:/systems",
    "args +quiet",
    "compose entry larkspur",
    "entries",
    "entries 99",
    "firmware",
    "firmware 0F0F",
    "once nothing",
    "once larkspur",
    "once",
    "keyboard",
    "keyboard de",
    "help compose",
    "volumse",
];

/// The words that write; behind what the language says of each, the carrier says what becomes of it.
const WRITING: [&str; 3] = ["compose linux on d1p2", "save By hand", "save --default By hand"];

/// What the screen shows, without blanks: how lines are wrapped differs from the desk.
pub struct Screen {
    parser: vt100::Parser,
    fed: usize,
}

impl Screen {
    pub fn new() -> Self {
        let size = |cells: u16| NonZero::new(cells).unwrap();
        Self { parser: vt100::Parser::new(size(60), size(240), 0), fed: 0 }
    }

    /// Takes in what has come since.
    pub fn shown(&mut self, serial: &[u8]) -> String {
        packed(&self.contents(serial))
    }

    /// The same; of what is shown, the last line that begins so.
    pub fn last_line_behind(&mut self, serial: &[u8], mark: &str) -> Option<String> {
        let contents = self.contents(serial);
        contents.lines().rev().find(|line| line.trim_start().starts_with(mark.trim_end())).map(packed)
    }

    fn contents(&mut self, serial: &[u8]) -> String {
        self.parser.process(&serial[self.fed..]);
        self.fed = serial.len();
        self.parser.screen().contents()
    }
}

pub fn packed(text: &str) -> String {
    text.chars().filter(|c| !c.is_whitespace()).collect()
}

#[test]
fn the_same_lines_have_the_same_answers_at_the_desk_and_at_boot() {
    let machine = TestMachine::new(&signpost_demo::tide::bench(StoreKind::Fd));
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["tune", "timeout=never"]);
    machine.ok(&["apply", "--yes"]);
    // The firmware adds entries of its own at its first start.
    opened(&machine, "power-off").until_it_ends();
    // What the desk writes is not what the machine in front of us is started from.
    let desk = copy_of(&machine);
    let answers = answers(&desk, &[&SCRIPT[..], &WRITING].concat());
    let mut vm = opened(&machine, "review");
    let mut screen = Screen::new();
    for (line, answer) in &answers {
        // Where the test fails, this says how far it came.
        println!("> {line}\n{answer}");
        vm.type_keys(&format!("{line}\r"));
        // Firmware knows its own paths of whole disks, which nothing tells at the desk: there a line may say more, and a drive
        // that the desk does not find is there.
        let wanted: Vec<String> = match line.starts_with("firmware") {
            true => {
                answer.lines().map(|line| packed(line.trim_end_matches("its disk is not there"))).collect()
            }
            false => vec![packed(&format!("> {line}{answer}"))],
        };
        vm.wait_until(|serial| {
            let shown = screen.shown(serial);
            wanted.iter().all(|line| shown.contains(line))
        });
    }
    vm.type_keys("start\r");
    assert!(vm.until_it_ends().contains(NEWEST));
    // The words that end it.
    let ended = desk.run(&["prompt", "--do", "leave", "--do", "volumes"]).stdout;
    assert_eq!(ended, "> leave\n");
    let mut vm = opened(&machine, "leave");
    vm.wait_for("? help");
    vm.type_keys(":");
    vm.wait_for("Enter runs the line");
    vm.type_keys("restart\r");
    assert!(!vm.until_it_ends().contains("STARTED"));
}

fn copy_of(machine: &TestMachine) -> TestMachine {
    let copy = TestMachine::small();
    let files = machine.path(".");
    let copied = Command::new("cp").args(["-r", "--sparse=always"]).arg(files).arg(copy.folder()).status();
    assert!(copied.unwrap().success());
    copy
}

/// The prompt at boot, with one line carried out.
fn opened(machine: &TestMachine, line: &str) -> Vm {
    // In another order than the desk has them: disks keep their numbers.
    let mut vm = Vm::start(machine.folder(), &["disk3.img", "disk1.img", "disk2.img"]);
    vm.wait_for("Power off");
    vm.type_keys(":");
    vm.wait_for("Enter runs the line");
    vm.type_keys(&format!("{line}\r"));
    vm
}

/// What the language answers at the desk, without what the desk adds of its own behind words that write.
pub fn answers(desk: &TestMachine, script: &[&str]) -> Vec<(String, String)> {
    desk.write("script", &script.join("\n"));
    let said = desk.run(&["prompt", "--yes", "--script", desk.path("script").to_str().unwrap()]).stdout;
    let parts = said.split("\n> ").map(|part| part.trim_start_matches("> "));
    let answers: Vec<(String, String)> = parts
        .map(|part| part.split_once('\n').unwrap_or((part, "")))
        .map(|(line, answer)| {
            let own = answer.trim_end().rsplit_once('\n').map_or("", |(before, _)| before);
            (line.trim().to_string(), if line.starts_with("save") { own } else { answer }.to_string())
        })
        .collect();
    assert_eq!(answers.len(), script.len(), "{said}");
    answers
}
