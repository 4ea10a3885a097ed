//! Our menu on BIOS machines: where it is put, what guards that, what holds it, and how it is taken away.

use signpost_demo::boot_sector::stand_in;
use signpost_demo::gauge;
use signpost_disk::gpt::{Layout, NewPartition, encode};
use signpost_disk::{Guid, partition_type};
use signpost_firmware::bios::area::{self, Area};
use signpost_firmware::bios::{CODE_LEN, SECTOR, plain};
use signpost_menu::disk_number::DiskNumbers;
use signpost_menu::slot::{SLOT_SIZE, Slot, Writer};

use crate::bios::{disk, gauge_bench, hurt, outcome};
use crate::harness::{TestMachine, flat};

const SIZE: usize = 8 << 20;
const FIRST: [u32; 2] = [2048, 6144];
const MENU: &str = "format = 1\n[menu]\nhost = \"signpost\"\ndefault = \"two\"\ntimeout = 3\n\n\
    [[entry]]\nid = \"one\"\ntitle = \"The first\"\nstarts = \"sector\"\nvolume = \"partuuid:51572000-01\"\n\n\
    [[entry]]\nid = \"two\"\ntitle = \"The second\"\nstarts = \"sector\"\nvolume = \"partuuid:51572000-02\"\n";

/// A boot program as it is built, of so many bytes of nothing.
pub fn bios_program(length: usize) -> Vec<u8> {
    let mut first = vec![0x90; SECTOR];
    first[424..432].copy_from_slice(area::MARKER);
    first[510..].copy_from_slice(&[0x55, 0xaa]);
    let packed: Vec<u8> = (0..length).map(|at| (at % 251) as u8).collect();
    first.extend(area::make_copy(&[0x11; 700], &packed, 1000).unwrap());
    first
}

/// A disk with two systems and a menu that lies ready; the first partition at 1 MiB.
pub fn lathe_bench() -> TestMachine {
    let machine = gauge_bench();
    let mut image = vec![0; SIZE];
    image[..plain::CODE.len()].copy_from_slice(&plain::CODE);
    image[440..444].copy_from_slice(&0x5157_2000u32.to_le_bytes());
    for (index, first) in FIRST.into_iter().enumerate() {
        let entry = &mut image[446 + index * 16..462 + index * 16];
        entry[0] = if index == 0 { 0x80 } else { 0 };
        entry[4] = 0x06;
        entry[8..12].copy_from_slice(&first.to_le_bytes());
        entry[12..16].copy_from_slice(&4096u32.to_le_bytes());
        let at = first as usize * SECTOR;
        stand_in((&mut image[at..at + SECTOR]).try_into().unwrap(), ["One", "Two"][index]);
    }
    image[510..512].copy_from_slice(&[0x55, 0xaa]);
    std::fs::write(machine.path("gauge.img"), image).unwrap();
    machine.write(
        "machine.toml",
        "format = 1\nname = \"Lathe\"\nfirmware = \"bios\"\n\n[[disk]]\nimage = \"gauge.img\"\nserial = \"S-1\"\n",
    );
    machine.write("menu.toml", MENU);
    std::fs::write(machine.path("program.img"), bios_program(60_000)).unwrap();
    machine
}

fn named(machine: &TestMachine) -> String {
    machine.path("program.img").display().to_string()
}

/// A command with the bench's own boot program.
fn with_program<'a>(words: &[&'a str], program: &'a str) -> Vec<&'a str> {
    [words, &["--boot-program", program]].concat()
}

pub fn apply(machine: &TestMachine) -> String {
    let program = named(machine);
    machine.ok(&with_program(&["apply", "--yes"], &program))
}

fn area_of(machine: &TestMachine) -> Area {
    Area::of_first(disk(machine)[..SECTOR].try_into().unwrap()).unwrap()
}

#[test]
fn an_apply_puts_the_menu_there_and_its_undo_takes_all_of_it_back() {
    let machine = lathe_bench();
    let before = disk(&machine);
    let program = named(&machine);
    let plan = flat(&machine.ok(&with_program(&["plan"], &program)));
    assert!(plan.contains("Home d1, behind its first sector"), "{plan}");
    assert!(
        plan.contains("4. write our code into the first sector of d1"),
        "the first sector is last: {plan}"
    );
    apply(&machine);
    let after = disk(&machine);
    assert_eq!(after[CODE_LEN..SECTOR], before[CODE_LEN..SECTOR], "signature and table stay");
    assert!(after[2048 * SECTOR..] == before[2048 * SECTOR..], "nothing behind the gap is touched");
    assert_eq!(outcome(&machine), ("starts".into(), "The second, from the boot sector of d1p2".into()));
    assert!(flat(&machine.ok(&["rehearse"])).contains("ours, which starts the menu"));
    assert_eq!(machine.json(&with_program(&["plan"], &program))["writes"], serde_json::json!([]));
    assert!(machine.ok(&with_program(&["check"], &program)).contains("No problems"));
    let chosen = machine.json(&["rehearse", "--choose", "one"])["outcome"]["text"].clone();
    assert_eq!(chosen, "The first, from the boot sector of d1p1");
    machine.ok(&["undo", "--yes"]);
    assert!(disk(&machine) == before, "to the byte");
}

#[test]
fn what_somebody_keeps_there_is_guarded_and_comes_back() {
    let machine = lathe_bench();
    hurt(&machine, 3 * SECTOR, b"another's code");
    let before = disk(&machine);
    let program = named(&machine);
    let error = flat(&machine.fails(3, &with_program(&["apply", "--yes"], &program)));
    assert!(error.contains("refused (gap-in-use): 1 sectors of d1"), "{error}");
    machine.ok(&with_program(&["apply", "--yes", "--despite", "gap-in-use"], &program));
    assert_eq!(outcome(&machine).0, "starts");
    machine.ok(&["undo", "--yes"]);
    assert!(disk(&machine) == before);
}

#[test]
fn a_place_that_is_too_small_or_not_there_is_refused_in_words() {
    let gauge = gauge_bench();
    gauge.write("menu.toml", &MENU.replace("partuuid:51572000", "partuuid:7a51900b"));
    std::fs::write(gauge.path("program.img"), bios_program(60_000)).unwrap();
    let program = named(&gauge);
    let error = flat(&gauge.fails(4, &with_program(&["plan"], &program)));
    assert!(error.contains("62 free sectors behind its first sector"), "{error}");
    assert!(error.contains("a first partition that starts at 1 MiB leaves them"), "{error}");
    let lathe = lathe_bench();
    let error = lathe.fails(4, &with_program(&["plan", "--home", "d1p1"], &program));
    assert!(error.contains("there is no disk d1p1"), "{error}");
    std::fs::write(lathe.path("program.img"), b"no program").unwrap();
    let program = named(&lathe);
    let error = flat(&lathe.fails(4, &with_program(&["plan"], &program)));
    assert!(error.contains("it is none for BIOS firmware"), "{error}");
}

/// A GPT has no free sectors behind the first; a BIOS boot partition is for that.
#[test]
fn on_a_gpt_the_menu_goes_into_a_bios_boot_partition() {
    let machine = lathe_bench();
    let program = named(&machine);
    let bios_boot = "21686148-6449-6e6f-744e-656564454649".parse().unwrap();
    let partition = |index: usize, type_guid, first_lba, last_lba| NewPartition {
        type_guid,
        guid: Guid::from_bytes([index as u8 + 1; 16]),
        first_lba,
        last_lba,
        name: "stand-in",
    };
    let make = |own_type| {
        let partitions = vec![
            partition(0, own_type, 2048, 4095),
            partition(1, partition_type::LINUX_DATA, u64::from(FIRST[1]), 10_239),
        ];
        let disk_guid = Guid::from_bytes([7; 16]);
        let mut image = disk(&machine);
        image[2048 * SECTOR..4096 * SECTOR].fill(0);
        for (offset, bytes) in encode(&Layout { disk_guid, sectors: (SIZE / SECTOR) as u64, partitions }) {
            image[offset as usize..offset as usize + bytes.len()].copy_from_slice(&bytes);
        }
        image[..plain::CODE.len()].copy_from_slice(&plain::CODE);
        std::fs::write(machine.path("gauge.img"), image).unwrap();
    };
    let guid = Guid::from_bytes([2; 16]);
    machine.write("menu.toml", &MENU.replace("partuuid:51572000-02", &format!("partuuid:{guid}")));
    make(partition_type::LINUX_DATA);
    let error = flat(&machine.fails(4, &with_program(&["plan"], &program)));
    assert!(error.contains("it has a GPT and no BIOS boot partition"), "{error}");
    make(bios_boot);
    let before = disk(&machine);
    let said = flat(&machine.ok(&with_program(&["plan"], &program)));
    assert!(said.contains("in its BIOS boot partition, d1p1"), "{said}");
    apply(&machine);
    assert_eq!(outcome(&machine), ("starts".into(), "The second, from the boot sector of d1p2".into()));
    let after = disk(&machine);
    assert!(after[SECTOR..2048 * SECTOR] == before[SECTOR..2048 * SECTOR], "the table stays");
    machine.ok(&["undo", "--yes"]);
    assert!(disk(&machine) == before);
}

#[test]
fn what_another_installer_breaks_is_named_held_and_mended() {
    let whole = lathe_bench();
    apply(&whole);
    whole.ok(&["survey"]);
    let area = area_of(&whole);
    let sector = |number: u32| number as usize * SECTOR;
    for (at, bytes, code, effect) in [
        (0, vec![0xfa; CODE_LEN], "not-first", "starts-other"),
        (0, vec![0; CODE_LEN], "not-first", "nothing-starts"),
        (sector(area.copy(0)) + 900, vec![0xff; 8], "boot-program-gone", "will-break"),
        (sector(area.copy(1)) + 900, vec![0xff; 8], "boot-program-gone", "will-break"),
        (sector(area.slot(0)) + 40, vec![b'x'; 8], "menu-damaged", ""),
    ] {
        let machine = whole.copy();
        let program = named(&machine);
        hurt(&machine, at, &bytes);
        let found = machine.json(&with_program(&["check"], &program));
        let codes: Vec<&str> =
            found["causes"].as_array().unwrap().iter().map(|cause| cause["code"].as_str().unwrap()).collect();
        assert_eq!(codes, [code], "{at}: {found}");
        if !effect.is_empty() {
            assert_eq!(found["causes"][0]["effect"], effect, "{at}");
        }
        machine.ok(&with_program(&["mend", code, "--yes"], &program));
        assert!(disk(&machine) == disk(&whole), "{code} at {at}: mended");
        machine.ok(&["undo", "--yes"]);
        assert_eq!(machine.run(&with_program(&["check"], &program)).code, 1, "{code}: undone");
    }
}

#[test]
fn a_hurt_copy_of_the_program_is_no_harm_and_without_both_the_active_partition_starts() {
    let machine = lathe_bench();
    apply(&machine);
    let area = area_of(&machine);
    hurt(&machine, area.copy(0) as usize * SECTOR + 100, &[1, 2, 3]);
    assert_eq!(outcome(&machine).1, "The second, from the boot sector of d1p2");
    hurt(&machine, area.copy(1) as usize * SECTOR + 100, &[1, 2, 3]);
    let (kind, text) = outcome(&machine);
    assert_eq!((kind.as_str(), text.contains("from d1p1, which is active")), ("starts", true), "{text}");
}

#[test]
fn damage_to_what_is_remembered_is_told_and_keeps_nothing_from_starting() {
    let machine = lathe_bench();
    apply(&machine);
    machine.ok(&["once", "one"]);
    let (area, starts) = (area_of(&machine), outcome(&machine));
    hurt(&machine, area.state(1) as usize * SECTOR + 20, b"hurt");
    let check = machine.run(&["check"]);
    let said = flat(&check.stdout);
    assert!(check.code == 0 && said.contains("one of the two sectors of what is remembered"), "{said}");
    assert_eq!(outcome(&machine), starts, "the other says what starts once");
    hurt(&machine, area.state(0) as usize * SECTOR + 20, b"hurt");
    let said = flat(&machine.run(&["check"]).stdout);
    assert!(said.contains("what is remembered from start to start is damaged"), "{said}");
    assert!(outcome(&machine).1.contains("The second"), "the menu's default, as it says");
    machine.ok(&["once", "one"]);
    assert_eq!(outcome(&machine), starts, "it is written anew");
}

#[test]
fn the_next_start_alone_goes_elsewhere() {
    let machine = lathe_bench();
    let error = flat(&machine.fails(2, &["once", "one"]));
    assert!(error.contains("no menu of ours is active"), "{error}");
    apply(&machine);
    let before = disk(&machine);
    let said = machine.ok(&["once", "one"]);
    assert!(said.contains("The first, from the boot sector of d1p1"), "{said}");
    machine.ok(&["once", "--clear"]);
    assert_eq!(outcome(&machine).1, "The second, from the boot sector of d1p2");
    machine.ok(&["once", "menu"]);
    assert_eq!(outcome(&machine).0, "waits-as-asked");
    assert!(machine.fails(2, &["once", "four"]).contains("four"));
    let area = area_of(&machine);
    let state = sector_range(area.state(0), 2);
    let now = disk(&machine);
    let changed: Vec<usize> = (0..before.len()).filter(|at| before[*at] != now[*at]).collect();
    assert!(changed.iter().all(|at| state.contains(at)), "nothing but the state is written");
}

fn sector_range(first: u32, count: usize) -> std::ops::Range<usize> {
    first as usize * SECTOR..(first as usize + count) * SECTOR
}

#[test]
fn taking_ours_away_brings_back_what_started_before() {
    let machine = lathe_bench();
    let before = disk(&machine);
    apply(&machine);
    let said = machine.ok(&["apply", "--remove", "--yes"]);
    assert!(said.contains("from d1p1, which is active"), "{said}");
    assert!(disk(&machine) == before);
    machine.ok(&["undo", "--yes"]);
    assert_eq!(outcome(&machine).1, "The second, from the boot sector of d1p2");
    // Without the record of what was there, plain code takes its place.
    let machine = lathe_bench();
    apply(&machine);
    std::fs::remove_dir_all(machine.path("history")).unwrap();
    let remove = ["apply", "--remove", "--despite", "other-system"];
    let said = flat(&machine.ok(&[&remove[..], &["--dry-run"]].concat()));
    assert!(said.contains("plain code starts its active partition"), "{said}");
    machine.ok(&[&remove[..], &["--yes"]].concat());
    assert!(disk(&machine)[..plain::CODE.len()] == plain::CODE[..]);
    let said = machine.ok(&["apply", "--remove", "--yes"]);
    assert!(said.contains("Nothing of ours is on the machine"), "what is gone already is no fault: {said}");
}

/// The demo's systems, each of which our menu starts.
#[test]
fn what_leaves_a_system_without_a_way_is_refused() {
    let machine = TestMachine::small();
    std::fs::remove_dir_all(machine.folder()).unwrap();
    gauge::write_lathe(machine.folder()).unwrap();
    std::fs::write(machine.path("program.img"), bios_program(60_000)).unwrap();
    let ways = |machine: &TestMachine| -> Vec<(String, String)> {
        let systems = machine.json(&["survey"])["systems"].clone();
        let of = |system: &serde_json::Value| {
            (system["id"].as_str().unwrap().to_string(), system["ways"].to_string())
        };
        systems.as_array().unwrap().iter().map(of).collect()
    };
    let by_active = vec![
        ("larkspur".to_string(), "[]".to_string()),
        ("gaugedos".to_string(), r#"[{"active-partition":1}]"#.to_string()),
        ("skerry".to_string(), "[]".to_string()),
    ];
    assert_eq!(ways(&machine), by_active);
    machine.ok(&["draft", "--host", "signpost"]);
    apply(&machine);
    let by_menu = ways(&machine);
    let has_own = |(id, ways): &(String, String)| ways.contains(&format!(r#"{{"menu":"{id}"}}"#));
    assert!(by_menu.iter().all(has_own), "{by_menu:?}");
    assert!(!by_menu.iter().any(|(_, ways)| ways.contains("active-partition")), "{by_menu:?}");
    for words in [&["apply", "--remove", "--yes"][..], &["sector", "standard", "d1", "--yes"]] {
        let said = machine.fails(3, words);
        assert!(said.contains("last-way") && said.contains("Larkspur Linux 10 and Skerry BSD 9"), "{said}");
    }
    // So too where the menu loses one, but for a system that is not wanted.
    machine.ok(&["entry", "remove", "skerry", "--despite", "last-way"]);
    let program = named(&machine);
    let anew = ["apply", "--yes", "--boot-program", &program];
    assert!(machine.fails(3, &anew).contains("no active entry would start Skerry BSD 9 any more"));
    machine.ok(&["entry", "hide", "skerry"]);
    machine.ok(&anew);
    machine.ok(&["apply", "--remove", "--yes", "--despite", "last-way"]);
    assert_eq!(ways(&machine), by_active);
}

#[test]
fn another_version_goes_where_the_old_one_was_and_undo_brings_that_back() {
    let machine = lathe_bench();
    let before_apply = disk(&machine);
    apply(&machine);
    let before = disk(&machine);
    let first = before[..SECTOR].to_vec();
    std::fs::write(machine.path("program.img"), bios_program(70_000)).unwrap();
    let said = apply(&machine);
    assert!(said.contains("2 writes") && !said.contains("first sector of d1"), "{said}");
    assert_eq!(disk(&machine)[..SECTOR], first, "the first sector never changes at an update");
    machine.ok(&["undo", "--yes"]);
    assert!(disk(&machine) == before);
    // What was applied is held, whatever version is installed by now: one copy is written again from the other.
    let program = named(&machine);
    hurt(&machine, area_of(&machine).copy(0) as usize * SECTOR, &[0; 8]);
    let found = machine.json(&with_program(&["check"], &program));
    assert_eq!(found["causes"][0]["code"], "boot-program-gone", "{found:#}");
    assert_eq!(found["causes"][0]["effect"], "will-break", "the other copy counts: {found:#}");
    machine.ok(&["hold"]);
    assert!(disk(&machine) == before);
    // Another system's installer wrote plain code over ours.
    hurt(&machine, 0, &before_apply[..CODE_LEN]);
    assert_eq!(machine.run(&with_program(&["check"], &program)).code, 1);
    machine.ok(&["hold"]);
    assert!(disk(&machine) == before);
}

#[test]
fn what_was_saved_at_boot_is_news() {
    let machine = lathe_bench();
    apply(&machine);
    let more = format!("{MENU}\n[[entry]]\nid = \"three\"\ntitle = \"The third\"\nstarts = \"restart\"\n");
    let slot = Slot {
        serial: 2,
        writer: Writer::Boot,
        machine: String::new(),
        disks: DiskNumbers::default(),
        homes: Vec::new(),
        picture: None,
        text: more,
    };
    let bytes = slot.encode().unwrap();
    assert_eq!(bytes.len(), SLOT_SIZE);
    hurt(&machine, area_of(&machine).slot(1) as usize * SECTOR, &bytes);
    let program = named(&machine);
    let error = flat(&machine.fails(3, &with_program(&["apply", "--yes"], &program)));
    assert!(error.contains("refused (changed-at-boot): three was saved at boot"), "{error}");
    let held = flat(&machine.ok(&["hold", "--dry-run"]));
    assert!(held.contains("the menu was changed at boot") || held.contains("another version"), "{held}");
    machine.ok(&["draft", "--take-saved"]);
    assert!(
        machine.read("menu.toml").contains("id = \"three\"")
            || machine.read("menu.toml").contains("\"three\"")
    );
    apply(&machine);
}

/// A second disk whose own menu goes to itself: a rehearsal says that it does not follow that, and ends.
#[test]
fn a_menu_behind_a_menu_is_not_followed_in_a_circle() {
    let machine = lathe_bench();
    machine.write(
        "menu.toml",
        &MENU
            .replacen("51572000-02\"", "51572000-02\"\nfirst-sector = true", 1)
            .replace("51572000", "51572001"),
    );
    let mut other = disk(&machine);
    other[440..444].copy_from_slice(&0x5157_2001u32.to_le_bytes());
    std::fs::write(machine.path("other.img"), other).unwrap();
    let text = machine.read("machine.toml") + "\n[[disk]]\nimage = \"other.img\"\nserial = \"S-2\"\n";
    machine.write("machine.toml", &text);
    apply(&machine);
    // The other disk gets the same menu, which goes to that disk itself.
    let (own, mut other) = (disk(&machine), std::fs::read(machine.path("other.img")).unwrap());
    other[..CODE_LEN].copy_from_slice(&own[..CODE_LEN]);
    other[SECTOR..2048 * SECTOR].copy_from_slice(&own[SECTOR..2048 * SECTOR]);
    std::fs::write(machine.path("other.img"), other).unwrap();
    let outcome = machine.json(&["rehearse"])["outcome"].clone();
    assert!(outcome["text"].as_str().unwrap().contains("a menu of ours, which is not followed"), "{outcome}");
}

/// Where the menu starts from decides what its names mean: one that moves is foretold from the disk where it will be.
#[test]
fn a_menu_that_moves_to_another_disk_starts_what_was_foretold() {
    let machine = lathe_bench();
    let mut other = disk(&machine);
    other[440..444].copy_from_slice(&0x5157_2001u32.to_le_bytes());
    std::fs::write(machine.path("other.img"), other).unwrap();
    let text = machine
        .read("machine.toml")
        .replace("firmware = \"bios\"\n", "firmware = \"bios\"\norder = [2, 1]\n")
        + "\n[[disk]]\nimage = \"other.img\"\nserial = \"S-2\"\n";
    machine.write("machine.toml", &text);
    let to = |disk: u8| MENU.replace("51572000-02\"", &format!("5157200{disk}-02\"\nfirst-sector = true"));
    let program = named(&machine);
    machine.write("menu.toml", &to(1));
    machine.ok(&with_program(&["apply", "--yes", "--home", "d1"], &program));
    let text = |words: &[&str]| machine.json(words)["outcome"]["text"].as_str().unwrap().to_string();
    // The same menu on the disk whose first sector it starts would go in a circle.
    let refused = machine.fails(3, &with_program(&["apply", "--yes", "--home", "d2"], &program));
    assert!(refused.contains("d2 is the disk that the menu itself starts from"), "{refused}");
    machine.write("menu.toml", &to(0));
    let planned = text(&with_program(&["plan", "--home", "d2"], &program));
    machine.ok(&with_program(&["apply", "--yes", "--home", "d2"], &program));
    assert_eq!(text(&["rehearse"]), planned);
}
