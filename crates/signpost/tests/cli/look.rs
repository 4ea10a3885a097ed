//! How the menu looks: what is set, what is refused, what the picture shows.

use std::path::Path;

use signpost_demo::{StoreKind, gauge, tide};

use image::{ImageFormat, RgbImage};

use crate::bios_menu::{bios_program, lathe_bench};
use crate::harness::{TestMachine, flat, result_of};

fn machine() -> TestMachine {
    let machine = TestMachine::new(&tide::bench(StoreKind::Folder));
    machine.ok(&["draft", "--host", "signpost"]);
    machine
}

/// A picture's width, height and the colours in it, the most frequent first.
fn picture(file: &Path) -> (u32, u32, Vec<[u8; 3]>) {
    let mut reader =
        png::Decoder::new(std::io::Cursor::new(std::fs::read(file).unwrap())).read_info().unwrap();
    let mut bytes = vec![0; reader.output_buffer_size().unwrap()];
    let info = reader.next_frame(&mut bytes).unwrap();
    let mut counts = std::collections::BTreeMap::<[u8; 3], usize>::new();
    for pixel in bytes.as_chunks().0 {
        *counts.entry(*pixel).or_default() += 1;
    }
    let mut colours: Vec<_> = counts.into_iter().collect();
    colours.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    (info.width, info.height, colours.into_iter().map(|(colour, _)| colour).collect())
}

#[test]
fn a_picture_has_the_size_and_the_colours_that_were_set() {
    let machine = machine();
    let file = machine.path("menu.png");
    let drawn = |arguments: &[&str]| {
        machine.ok(&[&["preview", "--png", file.to_str().unwrap()], arguments].concat());
        picture(&file)
    };
    let (width, height, colours) = drawn(&[]);
    assert_eq!((width, height, colours[0], colours[1]), (1280, 800, [0x16, 0x1e, 0x26], [0x9f, 0xd3, 0xc7]));
    machine.ok(&["tune", "look=chalk", "look.chosen=#204060"]);
    let (width, height, colours) = drawn(&["--size", "640x480"]);
    assert_eq!((width, height, colours[0], colours[1]), (640, 480, [0xf6, 0xf4, 0xef], [0x20, 0x40, 0x60]));
    let (width, height, _) = drawn(&["--size", "7680x4320", "--keys"]);
    assert_eq!((width, height), (7680, 4320));
    let wrong = machine.fails(2, &["preview", "--png", file.to_str().unwrap(), "--size", "7681x4320"]);
    assert!(wrong.contains("1280x800"), "{wrong}");
    let wrong = machine.fails(4, &["preview", "--png", "/no/such/folder/menu.png"]);
    assert!(wrong.contains("/no/such/folder/menu.png"), "{wrong}");
}

#[test]
fn every_state_is_shown() {
    let machine = machine();
    machine.write(
        "menu.toml",
        &(machine.read("menu.toml")
            + "\n[[entry]]\nid = \"gone\"\nstarts = \"efi\"\nprogram = \"uuid:4F2A-11C9/EFI/gone.efi\"\n"),
    );
    let shown = |arguments: &[&str]| machine.ok(&[&["preview"], arguments].concat());
    assert!(shown(&["--arguments"]).contains("Arguments of Larkspur Linux 14, for this start only:"));
    assert!(shown(&["--choose", "tidewater", "--arguments"]).contains("Arguments of Tidewater RT 5"));
    assert!(shown(&["--choose", "gone", "--error"]).contains("gone cannot start"));
    assert!(shown(&["--error"]).contains("Larkspur Linux 14: it ended and came back"));
    assert!(shown(&["--prompt", "who d1p1"]).contains("> who d1p1"));
    assert!(shown(&["--prompt", ""]).contains("Enter runs the line"));
    assert!(shown(&["--choose", "meridian"]).contains(">  2  Meridian Desktop 4"));
    machine.ok(&["tune", "look.clock=true", "look.countdown=bar"]);
    let text = shown(&[]);
    let has_time =
        |line: &str| line.contains("Tide bench PC 2") && line.trim_end_matches(['|', ' ']).ends_with("12:00");
    assert!(text.lines().any(has_time) && text.contains(&"=".repeat(40)), "{text}");
    let none = machine.fails(2, &["preview", "--choose", "meridian", "--arguments"]);
    assert!(none.contains("only a Linux entry has arguments"), "{none}");
    assert_eq!(machine.run(&["preview", "--keys", "--error"]).code, 2);
}

#[test]
fn what_cannot_be_read_or_is_no_look_is_refused_and_changes_nothing() {
    let machine = machine();
    let before = machine.read("menu.toml");
    for (value, right) in [
        ("look.text=#333333", "contrast of 1.33; text can be read from 4.50 on, text = \"#858585\" would do"),
        ("look.ground=whit", "did you mean white?"),
        ("look.accent=#12", "#rrggbb"),
        ("look.screen=1280,800", "did you mean 1280x800?"),
        ("look.screen=0x0", "320x200"),
        ("look.scale=5", "auto, 1, 1.5, 2, 3 or 4"),
        ("look.turn=45", "0, 90, 180 or 270"),
        ("look=dawn", "dusk, chalk or contrast"),
    ] {
        let wrong = machine.fails(2, &["tune", value]);
        assert!(wrong.contains(right), "{value}: {wrong}");
    }
    assert_eq!(machine.read("menu.toml"), before);
    // In a file, each with its place.
    machine.write(
        "menu.toml",
        &before.replace("[menu]", "[look]\ntext = \"#333333\"\nscale = 7\nfont = \"x\"\n\n[menu]"),
    );
    let wrong = machine.fails(1, &["menu"]);
    for right in [
        "line 5, column 8: text #333333",
        "line 6, column 9: scale is 7",
        "line 7, column 1: unknown key font",
    ] {
        assert!(wrong.contains(right), "{wrong}");
    }
}

#[test]
fn a_look_is_handed_on_as_one_file() {
    let (one, other) = (machine(), machine());
    one.ok(&["tune", "look=chalk", "look.scale=1.5", "look.symbols=false", "look.accent=teal", "timeout=9"]);
    let file = one.path("harbour.toml");
    one.ok(&["tune", "--save-look", file.to_str().unwrap()]);
    other.ok(&["tune", "look.detail=full"]);
    let file_name = format!("look={}", file.display());
    other.ok(&["tune", &file_name]);
    let settings = |machine: &TestMachine| {
        let all = machine.json(&["tune"])["settings"].as_array().unwrap().clone();
        let look = all.into_iter().filter(|key| key["name"].as_str().unwrap().starts_with("look"));
        look.map(|key| key["value"].clone()).collect::<Vec<_>>()
    };
    assert_eq!(settings(&one), settings(&other));
    assert!(!other.read("menu.toml").contains("timeout = 9"));
    let before = other.read("menu.toml");
    for (text, right) in [
        ("[look]\nground = \"x\"\n\n[menu]\ntimeout = 3\n", "menu.timeout is no key of a look"),
        ("", "has no [look]"),
        ("\u{1}\u{7f}[[[", "line 1"),
    ] {
        other.write("harbour.toml", text);
        let wrong = other.run(&["tune", &format!("look={}", other.path("harbour.toml").display())]);
        assert_ne!(wrong.code, 0);
        assert!(wrong.stderr.contains(right), "{}", wrong.stderr);
    }
    assert_eq!(other.read("menu.toml"), before);
}

/// BIOS firmware leaves a screen of letters; the menu is drawn there once a size is named.
#[test]
fn on_bios_what_letters_lack_goes_by_how_the_menu_is_shown() {
    let machine = TestMachine::small();
    std::fs::remove_dir_all(machine.folder()).unwrap();
    gauge::write_lathe(machine.folder()).unwrap();
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["entry", "rename", "gaugedos", "Gauge — Ω"]);
    let file = machine.path("menu.png");
    let notes = || machine.json(&["preview", "--png", file.to_str().unwrap()])["notes"].to_string();
    let letters = notes();
    assert!(letters.contains("show these signs: Ω —") && letters.contains("look.screen=native"), "{letters}");
    machine.ok(&["tune", "look.screen=1280x800"]);
    assert_eq!(notes(), "[]");
}

#[test]
fn a_terminal_that_shows_pictures_gets_the_same_one() {
    let machine = machine();
    let shown = machine.ok(&["preview", "--picture", "--size", "640x480", "--open", "larkspur-older"]);
    // One picture of that size, in the look's ground: 16 1e 26, in hundredths.
    assert!(shown.starts_with("\x1bP0;1;0q\"1;1;640;480#"), "{:?}", &shown[..40]);
    assert!(shown.contains(";2;9;12;15") && shown.trim_end().ends_with("\x1b\\"));
    assert_eq!(machine.json(&["preview", "--picture"])["rows"], serde_json::json!([]));
    machine.fails(2, &["preview", "--picture", "--spoken"]);
}

#[test]
fn a_serial_line_is_shown_as_it_gets_the_menu() {
    let machine = machine();
    let rows = |words: &[&str]| machine.json(words)["rows"].clone();
    // Letters, whatever the screen is: 25 rows by this firmware's console.
    machine.ok(&["tune", "look.screen=1280x800"]);
    assert_eq!(rows(&["preview", "--serial"]), rows(&["preview", "--size", "80x25"]));
    machine.ok(&["tune", "look.announce=true"]);
    assert_eq!(rows(&["preview", "--serial"]), rows(&["preview", "--spoken"]));
    machine.fails(2, &["preview", "--serial", "--png", "menu.png"]);
}

#[test]
fn a_system_has_its_familys_symbol_whatever_starts_it() {
    let machine = TestMachine::small();
    std::fs::remove_dir_all(machine.folder()).unwrap();
    gauge::write_lathe(machine.folder()).unwrap();
    machine.ok(&["draft", "--host", "signpost"]);
    let menu = machine.read("menu.toml");
    let skerry = menu.split("[[entry]]").find(|entry| entry.contains("\"skerry\"")).unwrap();
    assert!(skerry.contains("symbol  = \"terminal\""), "{menu}");
    assert_eq!(menu.matches("symbol").count(), 1, "{menu}");
    assert!(machine.ok(&["draft"]).contains("nothing new"));
}

#[test]
fn an_entry_has_a_symbol_of_its_owners_own() {
    let machine = machine();
    let file = machine.path("menu.png");
    let accent = || {
        machine.ok(&["preview", "--png", file.to_str().unwrap()]);
        let picture = image::open(&file).unwrap().to_rgb8();
        picture.pixels().filter(|pixel| pixel.0 == [0x4c, 0x9a, 0x8b]).count()
    };
    let before = accent();
    machine.ok(&["entry", "edit", "tidewater", "symbol=dot 12 12 12"]);
    assert!(
        machine.read("menu.toml").contains("symbol = [\"dot 12 12 12\"]"),
        "{}",
        machine.read("menu.toml")
    );
    assert!(accent() > before + 200, "{before}, {}", accent());
    for (wrong, why) in [("symbol=dott", "none of: terminal, window"), ("symbol=dot 1 2", "dot X Y RADIUS")] {
        let said = machine.fails(2, &["entry", "edit", "tidewater", wrong]);
        assert!(said.contains(why), "{said}");
    }
}

/// A made-up picture: from dark blue at the top to light at the bottom.
pub fn harbour(width: u32, height: u32) -> RgbImage {
    RgbImage::from_fn(width, height, |x, y| {
        let part = |at: u32, of: u32| u8::try_from(at * 255 / of).unwrap();
        image::Rgb([part(x, width), part(y, height), 0x60])
    })
}

/// The picture's pixel at a place of the screen, as foretold.
fn foretold(machine: &TestMachine, at: (u32, u32)) -> [u8; 3] {
    let file = machine.path("menu.png");
    machine.ok(&["preview", "--png", file.to_str().unwrap()]);
    image::open(file).unwrap().to_rgb8().get_pixel(at.0, at.1).0
}

#[test]
fn a_picture_lies_behind_the_menu_and_goes_when_nobody_wants_it() {
    let machine = machine();
    harbour(640, 400).save(machine.path("harbour.png")).unwrap();
    machine.ok(&["tune", "look.picture=harbour.png", "look.align=left", "look.width=narrow"]);
    // Twice as large on this screen; under the text lies the ground.
    assert_eq!(foretold(&machine, (1278, 798)), [254, 254, 0x60]);
    assert_eq!(foretold(&machine, (400, 780)), [0x16, 0x1e, 0x26]);
    machine.ok(&["tune", "look.picture-fit=centre"]);
    assert_eq!(foretold(&machine, (1278, 798)), [0x16, 0x1e, 0x26]);
    let planned = machine.ok(&["plan"]);
    let (picture, menu) =
        (planned.find("write the picture, d1p1:/EFI/signpost/PICTURE.PIC"), planned.find("MENU-A"));
    assert!(picture.is_some() && picture < menu, "{planned}");
    machine.ok(&["apply", "--yes"]);
    assert_eq!(machine.run(&["plan", "--check"]).code, 0);
    // One that was taken by a camera, too large, and in the other format.
    harbour(3000, 2000).save_with_format(machine.path("harbour.png"), ImageFormat::Jpeg).unwrap();
    assert!(machine.ok(&["plan"]).contains("write the picture"));
    machine.ok(&["apply", "--yes"]);
    machine.ok(&["tune", "--reset", "look.picture"]);
    assert!(machine.ok(&["plan"]).contains("remove the picture d1p1:/EFI/signpost/PICTURE.PIC"));
    machine.ok(&["apply", "--yes"]);
    machine.ok(&["undo", "--yes"]);
    assert!(
        machine
            .ok(&["apply", "--remove", "--dry-run", "--despite", "last-way"])
            .contains("remove the picture")
    );
}

/// With BIOS firmware it is a file on another volume, which the menu's slots name.
#[test]
fn with_bios_the_picture_lies_on_a_volume_that_can_be_written_to() {
    let machine = TestMachine::small();
    std::fs::remove_dir_all(machine.folder()).unwrap();
    gauge::write_lathe(machine.folder()).unwrap();
    std::fs::write(machine.path("program.img"), bios_program(60_000)).unwrap();
    let program = machine.path("program.img").display().to_string();
    let program = ["--boot-program", &program];
    let (picture, before) = (machine.path("harbour.png"), std::fs::read(machine.path("gauge.img")).unwrap());
    harbour(64, 48).save(picture).unwrap();
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["tune", "look.picture=harbour.png"]);
    let plan = flat(&machine.ok(&[&["plan"][..], &program].concat()));
    assert!(plan.contains("in firmware's own letters, without a picture; look.screen=native"), "{plan}");
    assert!(!plan.contains("PICTURE.PIC"), "{plan}");
    machine.ok(&["tune", "look.screen=1024x768"]);
    let writes = |words: &[&str]| machine.json(&[words, &program].concat())["writes"].clone();
    let planned = writes(&["plan"]);
    assert_eq!(planned[0]["what"], "write the picture, d1p1:/EFI/signpost/PICTURE.PIC");
    machine.ok(&[&["apply", "--yes"][..], &program].concat());
    assert_eq!(writes(&["plan"]), serde_json::json!([]));
    // A larger one goes where the first one lies; a menu without one takes it away.
    harbour(80, 60).save(machine.path("harbour.png")).unwrap();
    let planned = writes(&["plan"]);
    assert_eq!(planned.as_array().unwrap().len(), 1, "{planned}");
    machine.ok(&["tune", "--reset", "look.picture"]);
    let last = writes(&["plan"]).as_array().unwrap().last().unwrap()["what"].clone();
    assert_eq!(last, "remove the picture d1p1:/EFI/signpost/PICTURE.PIC");
    machine.ok(&["undo", "--yes"]);
    assert!(!machine.run(&["prompt", "--do", "look d1p1/EFI"]).stdout.contains("signpost"));
    assert!(std::fs::read(machine.path("gauge.img")).unwrap()[..1 << 20] == before[..1 << 20]);
}

#[test]
fn with_bios_and_no_volume_for_it_no_picture_is_foretold() {
    let machine = lathe_bench();
    harbour(640, 400).save(machine.path("harbour.png")).unwrap();
    machine.ok(&["tune", "look.picture=harbour.png", "look.screen=1280x800"]);
    let program = machine.path("program.img").display().to_string();
    let plan = flat(&machine.ok(&["plan", "--boot-program", &program]));
    assert!(plan.contains("look.picture: the menu is shown without it"), "{plan}");
    assert_eq!(foretold(&machine, (1278, 798)), [0x16, 0x1e, 0x26]);
    let said = flat(&machine.ok(&["preview", "--png", machine.path("menu.png").to_str().unwrap()]));
    assert!(said.contains("look.picture: the menu is shown without it"), "{said}");
}

/// A byte of the picture on the home volume is another one by now.
fn damage_picture(machine: &TestMachine, size: [u16; 2]) {
    let mut disk = std::fs::read(machine.path("disk1.img")).unwrap();
    let head = [&b"SIGNPIC1"[..], &size[0].to_le_bytes(), &size[1].to_le_bytes()].concat();
    let at = disk.windows(head.len()).position(|bytes| bytes == head).unwrap();
    disk[at + 100] ^= 1;
    std::fs::write(machine.path("disk1.img"), disk).unwrap();
}

#[test]
fn a_picture_that_was_damaged_is_written_again_unless_it_is_another_by_now() {
    let machine = machine();
    harbour(64, 40).save(machine.path("harbour.png")).unwrap();
    machine.ok(&["tune", "look.picture=harbour.png"]);
    machine.ok(&["apply", "--yes"]);
    let of_the_picture = || {
        let found = result_of(&machine.run(&["--json", "check"]).stdout)["causes"].clone();
        let found = found.as_array().unwrap().iter().filter(|cause| cause["code"] == "picture-gone");
        found.map(|cause| cause["effect"].as_str().unwrap().to_string()).collect::<Vec<_>>()
    };
    assert_eq!((of_the_picture(), machine.run(&["hold", "--check"]).code), (vec![], 0));
    damage_picture(&machine, [64, 40]);
    assert_eq!((of_the_picture(), machine.run(&["hold", "--check"]).code), (vec!["untidy".into()], 1));
    let said = machine.ok(&["hold"]);
    assert!(said.contains("write the picture, d1p1:/EFI/signpost/PICTURE.PIC"), "{said}");
    assert_eq!((of_the_picture(), machine.run(&["hold", "--check"]).code), (vec![], 0));
    damage_picture(&machine, [64, 40]);
    machine.ok(&["mend", "picture-gone", "--yes"]);
    assert_eq!(of_the_picture(), [""; 0]);
    // What nobody has applied is not put there by hold.
    damage_picture(&machine, [64, 40]);
    harbour(48, 40).save(machine.path("harbour.png")).unwrap();
    let said = flat(&machine.ok(&["hold"]));
    assert!(said.contains("the one that was applied is not to be had: `signpost apply` writes"), "{said}");
    let said = flat(&machine.run(&["check"]).stdout);
    assert!(said.contains("`signpost apply` writes the one that the menu file names"), "{said}");
}

#[test]
fn what_is_no_picture_is_refused_with_its_name_and_changes_nothing() {
    let machine = machine();
    machine.ok(&["tune", "look.picture=harbour.png"]);
    let file = machine.path("harbour.png");
    harbour(64, 48).save(&file).unwrap();
    let good = std::fs::read(&file).unwrap();
    // Width and height, in the first chunk of the file, with the checksum that goes with them.
    let saying = |side: u32| {
        let mut bytes = good.clone();
        bytes[16..24].copy_from_slice(&[side.to_be_bytes(), side.to_be_bytes()].concat());
        let sum = crc32fast::hash(&bytes[12..29]);
        bytes[29..33].copy_from_slice(&sum.to_be_bytes());
        bytes
    };
    let spoiled = [
        None,
        Some(b"no picture at all".to_vec()),
        Some(good[..good.len() / 2].to_vec()),
        Some(saying(65_536)),
        Some(saying(19_000)),
    ];
    for bytes in spoiled {
        let _ = std::fs::remove_file(&file);
        if let Some(bytes) = &bytes {
            std::fs::write(&file, bytes).unwrap();
        }
        let before = machine.everything();
        for command in [&["plan"][..], &["apply", "--yes"], &["preview", "--png", "menu.png"]] {
            assert!(machine.fails(4, command).contains("harbour.png: "));
        }
        assert!(machine.everything() == before);
    }
    // A home volume without room for it.
    let small = TestMachine::small();
    small.ok(&["draft", "--host", "signpost"]);
    small.ok(&["tune", "look.picture=harbour.png"]);
    harbour(1600, 1000).save(small.path("harbour.png")).unwrap();
    let refused = small.fails(3, &["apply", "--yes"]);
    assert!(refused.contains("no-room"), "{refused}");
}
