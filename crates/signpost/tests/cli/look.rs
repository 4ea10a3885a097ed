//! How the menu looks: what is set, what is refused, what the picture shows.

use std::path::Path;

use signpost_demo::{StoreKind, tide};

use crate::harness::TestMachine;

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
    signpost_demo::gauge::write_lathe(machine.folder()).unwrap();
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["entry", "rename", "gaugedos", "Gauge — Ω"]);
    let file = machine.path("menu.png");
    let notes = || machine.json(&["preview", "--png", file.to_str().unwrap()])["notes"].to_string();
    let letters = notes();
    assert!(letters.contains("show these signs: Ω —") && letters.contains("look.screen=native"), "{letters}");
    machine.ok(&["tune", "look.screen=1280x800"]);
    assert_eq!(notes(), "[]");
}
