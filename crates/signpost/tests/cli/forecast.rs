//! What is announced to start next is what then starts; what was interrupted can be finished or undone.

use signpost_demo::program::Program;
use signpost_demo::{StoreKind, change_fat};
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::variable::{Contents, VariableName};
use signpost_menu::disk_number::DiskNumbers;
use signpost_menu::slot::{SLOT_NAMES, Slot, Writer};

use crate::harness::{LARK, MERIDIAN, TestMachine, file, menu, meridian_disk, sealed, small};
use crate::one_answer::{applied, apply_words};
use crate::promises::ours;

const LARK_ESP: std::ops::Range<usize> = 1 << 20..5 << 20;

fn words(machine: &TestMachine) -> Vec<String> {
    apply_words(machine).to_vec()
}

fn apply(machine: &TestMachine) -> String {
    machine.ok(&words(machine).iter().map(String::as_str).collect::<Vec<_>>())
}

fn refused(machine: &TestMachine) -> String {
    machine.fails(3, &words(machine).iter().map(String::as_str).collect::<Vec<_>>())
}

fn next(said: &str) -> &str {
    said.lines().last().unwrap().trim_start_matches("Next start  ")
}

fn rehearsed(machine: &TestMachine) -> String {
    machine.json(&["rehearse"])["outcome"]["text"].as_str().unwrap().to_string()
}

fn sorted(mut contents: Contents) -> Contents {
    contents.variables.sort_by(|a, b| a.name.cmp(&b.name));
    contents
}

#[test]
fn undo_tells_the_start_of_after_it() {
    let machine = applied(&small(StoreKind::Folder), "timeout = 0", &[LARK, MERIDIAN]);
    machine.write(
        "menu.toml",
        &machine.read("menu.toml").replace("timeout = 0", "timeout = 0\ndefault = \"meridian\""),
    );
    assert!(next(&apply(&machine)).starts_with("Meridian, from"));
    let said = machine.ok(&["undo", "--yes"]);
    assert_eq!(next(&said), rehearsed(&machine));
    assert!(next(&said).starts_with("Larkspur, from"), "the first menu is active again: {said}");
    // And what is active is what is held.
    machine.put(&boot_order(&[1]));
    machine.ok(&["hold"]);
    assert_eq!(machine.boot().order, [0, 1]);
}

#[test]
fn what_hold_made_anew_under_another_number_goes_with_the_menu() {
    let machine = applied(&small(StoreKind::Folder), "timeout = 0", &[LARK, MERIDIAN]);
    let before = TestMachine::small();
    // Ours is deleted, and its number taken by another.
    let other =
        LoadOption::new("Update", meridian_disk(vec![]).path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"), vec![]);
    machine.put(&boot_option(0, &other));
    machine.put(&boot_order(&[1, 0]));
    machine.ok(&["hold"]);
    assert_eq!(machine.boot().order, [2, 1, 0]);
    let said = machine.ok(&["undo", "--yes"]);
    assert_eq!(next(&said), rehearsed(&machine));
    let boot = machine.boot();
    assert_eq!(
        (boot.order.as_slice(), boot.options.keys().copied().collect::<Vec<_>>()),
        (&[1, 0][..], vec![0, 1])
    );
    assert!(rehearsed(&machine).starts_with("Meridian Desktop 4, from"), "{}", rehearsed(&before));
}

#[test]
fn a_default_that_cannot_start_is_refused_on_either_host() {
    let gone = "id = \"gone\"\nstarts = \"efi\"\nprogram = \"uuid:0a0a-0001/EFI/gone.efi\"";
    let stale = "id = \"stale\"\nstarts = \"firmware-entry\"\nlabel = \"Stale\"";
    for host in ["signpost", "firmware"] {
        for (id, entry) in [("gone", gone), ("stale", stale)] {
            let mut spec = small(StoreKind::Folder);
            let path = meridian_disk(vec![]).path_to(1, "\\EFI\\none.efi");
            spec.variables.push(boot_option(7, &LoadOption::new("Stale", path, vec![])));
            let machine = TestMachine::new(&spec);
            std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build())
                .unwrap();
            let text = menu(&format!("default = \"{id}\""), &[LARK, MERIDIAN, entry]);
            machine.write("menu.toml", &text.replace("\"firmware\"\n", &format!("\"{host}\"\n")));
            let error = refused(&machine);
            assert!(error.contains("refused (default-gone)"), "{host} {id}: {error}");
        }
    }
}

#[test]
fn an_entry_that_goes_from_the_firmware_is_gone_for_the_menu_too() {
    let mut spec = small(StoreKind::Folder);
    let option = |file: &str| {
        boot_option(7, &LoadOption::new("Stale", meridian_disk(vec![]).path_to(1, file), vec![]))
    };
    spec.variables.push(option("\\EFI\\BOOT\\BOOTX64.EFI"));
    let stale = "id = \"stale\"\nstarts = \"firmware-entry\"\nlabel = \"Stale\"";
    let machine = applied(&spec, "timeout = 0\ndefault = \"stale\"", &[LARK, MERIDIAN, stale]);
    machine.put(&option("\\EFI\\none.efi"));
    assert!(rehearsed(&machine).contains("firmware entry 0007 starts nothing"), "{}", rehearsed(&machine));
    let said = machine.ok(&["firmware", "--yes", "tidy"]);
    assert_eq!(next(&said), rehearsed(&machine));
    assert!(next(&said).contains("the firmware has no entry \"Stale\""), "{said}");
}

#[test]
fn a_menu_in_which_nothing_starts_by_itself_is_refused() {
    for entries in [&["id = \"again\"\nstarts = \"restart\""][..], &[]] {
        let machine = TestMachine::small();
        std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
        machine.write("menu.toml", &menu("", entries).replace("\"firmware\"", "\"signpost\""));
        let error = refused(&machine);
        assert!(error.contains("refused (nothing-starts)"), "{error}");
    }
    // A menu that waits for a key since that is what was asked for, is none of these; it does not start by itself either.
    let machine = applied(&small(StoreKind::Folder), "timeout = \"never\"", &[LARK, MERIDIAN]);
    let run = machine.run(&["rehearse"]);
    assert_eq!(run.code, 1);
    assert!(
        run.stdout.ends_with("the menu, which waits for a key; Enter starts Larkspur\n"),
        "{}",
        run.stdout
    );
}

#[test]
fn hold_says_that_the_default_is_gone_and_counts_starts_and_not_corrections() {
    let machine = applied(&small(StoreKind::Folder), "timeout = 0", &[LARK, MERIDIAN]);
    change_fat(&machine.path("lark.img"), LARK_ESP, &[], &["/EFI/larkspur/lkload.efi"]).unwrap();
    let said = machine.ok(&["hold"]);
    assert!(said.contains("nothing would start by itself: Larkspur cannot start"), "{said}");
    // After an interrupted step it says which, and how to go on.
    interrupt(&machine, 2);
    let said = machine.ok(&["hold", "--dry-run"]);
    assert!(said.contains("an apply was not finished: `signpost apply` finishes it"), "{said}");
}

#[test]
fn once_sets_the_next_boot_where_the_firmware_shows_the_menu() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[LARK, MERIDIAN]));
    machine.ok(&["apply", "--yes"]);
    let said = machine.ok(&["once", "meridian"]);
    assert_eq!(machine.boot().next, Some(1));
    assert_eq!(next(&said), rehearsed(&machine));
    assert!(next(&said).starts_with("Meridian Desktop 4, from"));
    machine.ok(&["once", "--clear"]);
    assert_eq!(machine.boot().next, None);
    assert!(machine.fails(2, &["once", "menu"]).contains("the firmware's own list is the menu here"));
}

/// The last record as it is while a step is under way: of its writes, only the first `done` were made.
fn interrupt(machine: &TestMachine, serial: u32) {
    let name = format!("history/{serial:04}.json");
    let from = if machine.path(&name).exists() { name.clone() } else { "history/0001.json".to_string() };
    let text = machine.read(&from);
    let text = text
        .replacen("\"serial\": 1", &format!("\"serial\": {serial}"), 1)
        .replace("\"progress\": \"done\"", "\"progress\": \"begun\"");
    machine.write(&name, &sealed(serde_json::from_str(&text).unwrap()));
}

#[test]
fn an_interrupted_apply_is_finished_or_undone_as_a_whole() {
    let fresh = TestMachine::small();
    let before = sorted(fresh.variables());
    for finish in [true, false] {
        let machine = applied(&small(StoreKind::Folder), "timeout = 0", &[LARK, MERIDIAN]);
        // As if a kill had come before the order was written.
        machine.put(&boot_order(&[1]));
        interrupt(&machine, 1);
        assert!(machine.ok(&["history"]).contains("menu applied, not finished"));
        if finish {
            apply(&machine);
            assert_eq!(machine.boot().order, [0, 1]);
        }
        machine.ok(&["undo", "--yes"]);
        assert_eq!(sorted(machine.variables()), before, "finished: {finish}");
        assert!(machine.fails(4, &["undo", "--yes"]).contains("there is nothing that could be undone"));
    }
}

#[test]
fn an_interrupted_undo_is_finished_by_the_next_one() {
    let machine = TestMachine::small();
    let before = sorted(machine.variables());
    machine.write("menu.toml", &menu("timeout = 9", &[LARK, MERIDIAN]));
    machine.ok(&["apply", "--yes"]);
    machine.ok(&["firmware", "order", "1"]);
    let applied = sorted(machine.variables());
    machine.ok(&["undo", "--yes"]);
    // The undo of the order was not finished: nothing of it was written yet.
    machine.put(&boot_order(&[1, 0]));
    let text = machine
        .read("history/0003.json")
        .replace("\"progress\": \"done\"", "\"progress\": { \"failed\": { \"after\": 0 } }");
    machine.write("history/0003.json", &sealed(serde_json::from_str(&text).unwrap()));
    assert_eq!(sorted(machine.variables()), applied);
    let said = machine.ok(&["undo", "--yes"]);
    assert!(said.contains("Record 2 of"), "not the earlier one: {said}");
    machine.ok(&["undo", "--yes"]);
    assert_eq!(sorted(machine.variables()), before);
}

#[test]
fn undo_of_a_number_goes_back_to_before_it() {
    let machine = TestMachine::small();
    let before = sorted(machine.variables());
    machine.write("menu.toml", &menu("timeout = 9", &[LARK, MERIDIAN]));
    machine.ok(&["apply", "--yes"]);
    machine.ok(&["firmware", "order", "1"]);
    machine.ok(&["firmware", "rename", "1", "Another label"]);
    assert!(machine.ok(&["history", "1"]).contains("make entry 0000 \"Larkspur\""));
    assert!(machine.fails(2, &["undo", "7", "--yes"]).contains("there is no record 7"));
    machine.ok(&["undo", "1", "--yes"]);
    assert_eq!(sorted(machine.variables()), before);
    let history = machine.ok(&["history"]);
    assert_eq!(history.matches("undone since").count(), 3, "{history}");
}

#[test]
fn a_record_that_cannot_be_read_is_named_and_is_not_the_end_of_every_command() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("timeout = 9", &[LARK, MERIDIAN]));
    machine.ok(&["apply", "--yes"]);
    machine.ok(&["firmware", "order", "1"]);
    machine.write("history/0001.json", "{");
    assert!(machine.ok(&["history"]).contains("a record cannot be read: [BENCH]/history/0001.json"));
    machine.ok(&["plan"]);
    machine.ok(&["undo", "--yes"]);
    machine.ok(&["firmware", "order", "1"]);
    assert!(machine.ok(&["history"]).contains("4  "), "numbers go on behind it");
    machine.write("history/0004.json", "{");
    machine.ok(&["firmware", "order", "0"]);
    machine.write("history/0005.json", "{");
    assert!(machine.fails(4, &["undo", "--yes"]).contains("cannot be read"));
}

#[test]
fn old_programs_and_old_homes_go_and_what_is_no_boot_program_is_refused() {
    let machine = applied(&small(StoreKind::Folder), "timeout = 0", &[LARK, MERIDIAN]);
    let programs = |volume: u64| {
        let survey = machine.json(&["survey"]);
        let files = survey["boot_files"].as_array().unwrap().clone();
        files.iter().filter(|file| file["role"] == "boot-program" && file["volume"] == volume).count()
    };
    for title in ["Signpost 2", "Signpost 3", "Signpost 4"] {
        std::fs::write(machine.path("program.efi"), Program::new(title).boot_program().build()).unwrap();
        apply(&machine);
        assert_eq!(programs(1), 2, "the active one and the one before: {title}");
    }
    let mut to_second = words(&machine);
    to_second.extend(["--home".to_string(), "label:MERIDIAN".to_string()]);
    machine.ok(&to_second.iter().map(String::as_str).collect::<Vec<_>>());
    assert_eq!((programs(1), programs(3)), (0, 1));
    std::fs::write(machine.path("program.efi"), Program::new("Any").build()).unwrap();
    let error = machine.fails(4, &words(&machine).iter().map(String::as_str).collect::<Vec<_>>());
    assert!(error.contains("not this one's boot program"), "{error}");
}

#[test]
fn ours_is_taken_off_a_machine_and_what_started_before_starts_again() {
    let machine = applied(&small(StoreKind::Folder), "timeout = 0\nfallback-path = true", &[LARK, MERIDIAN]);
    machine.ok(&["once", "meridian"]);
    // Larkspur has no entry of its own: without ours nothing would start it.
    let error = machine.fails(3, &["apply", "--remove", "--yes"]);
    assert!(error.contains("last-way") && error.contains("Larkspur"), "{error}");
    machine.ok(&["firmware", "add", "Larkspur", "d1p1:/EFI/larkspur/lkload.efi"]);
    let said = machine.ok(&["apply", "--remove", "--yes"]);
    assert_eq!(next(&said), rehearsed(&machine));
    let boot = machine.boot();
    assert!(
        boot.options
            .values()
            .all(|option| option.decoded.as_ref().unwrap().description.to_string() != "Signpost")
    );
    assert_eq!(boot.order, [1, 2]);
    let survey = machine.json(&["survey"]);
    assert!(!survey["boot_files"].to_string().contains("/EFI/signpost/"), "{}", survey["boot_files"]);
    assert!(machine.variables().variables.iter().all(|variable| !variable.name.name.starts_with("Signpost")));
    assert_eq!(ours(&machine), Vec::<Vec<u8>>::new());
    assert!(machine.ok(&["apply", "--remove", "--yes"]).contains("nothing was written"));
    machine.ok(&["undo", "--yes"]);
    assert!(rehearsed(&machine).starts_with("Meridian, from"), "{}", rehearsed(&machine));
}

#[test]
fn the_last_serial_of_a_slot_is_no_end() {
    let machine = applied(&small(StoreKind::Folder), "timeout = 0", &[LARK, MERIDIAN]);
    let held = Slot {
        serial: u64::MAX,
        writer: Writer::Desk,
        machine: String::new(),
        text: machine.read("menu.toml"),
        disks: DiskNumbers::default(),
        homes: Vec::new(),
        picture: None,
    };
    let path = format!("/EFI/signpost/{}", SLOT_NAMES[0]);
    change_fat(&machine.path("lark.img"), LARK_ESP, &[], &[&path]).unwrap();
    change_fat(&machine.path("lark.img"), LARK_ESP, &[file(&path, held.encode().unwrap())], &[]).unwrap();
    for default in ["meridian", "lark", "meridian"] {
        machine.write(
            "menu.toml",
            &menu(&format!("timeout = 0\ndefault = \"{default}\""), &[LARK, MERIDIAN])
                .replace("\"firmware\"", "\"signpost\""),
        );
        apply(&machine);
        let title = if default == "lark" { "Larkspur" } else { "Meridian" };
        assert!(
            rehearsed(&machine).starts_with(&format!("{title}, from")),
            "{default}: {}",
            rehearsed(&machine)
        );
    }
}

#[test]
fn a_store_that_cannot_be_written_is_found_before_the_first_file() {
    let machine = TestMachine::new(&small(StoreKind::Fd));
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    machine.write("menu.toml", &menu("", &[LARK]).replace("\"firmware\"", "\"signpost\""));
    // A store without room for the change and for undoing it.
    let mut store =
        signpost_firmware::store::fd::FdImage::decode(std::fs::read(machine.path("variables.fd")).unwrap())
            .unwrap();
    let name = VariableName::global("Ballast");
    let data = vec![7; store.room() - 300];
    let ballast = signpost_firmware::variable::Variable {
        name,
        attributes: signpost_firmware::variable::Attributes::BOOT,
        data,
    };
    store.write(&ballast).unwrap();
    std::fs::write(machine.path("variables.fd"), store.bytes()).unwrap();
    let lark = std::fs::read(machine.path("lark.img")).unwrap();
    let error = machine.fails(4, &words(&machine).iter().map(String::as_str).collect::<Vec<_>>());
    assert!(error.contains("and to undo it, and the firmware has room for"), "{error}");
    assert_eq!(std::fs::read(machine.path("lark.img")).unwrap(), lark);
}

#[test]
fn a_rescue_medium_undoes_what_the_machine_did_and_the_machine_what_the_rescue_medium_did() {
    let machine = applied(&small(StoreKind::Folder), "timeout = 0", &[LARK, MERIDIAN]);
    let (first, variables) = (rehearsed(&machine), sorted(machine.variables()));
    machine.ok(&["tune", "default=meridian"]);
    apply(&machine);
    assert_ne!(rehearsed(&machine), first);
    let (of_machine, aside) = (machine.path("history"), machine.path("aside"));
    // On the rescue medium there is no history but what lies on the home volume.
    std::fs::rename(&of_machine, &aside).unwrap();
    assert_eq!(machine.ok(&["history"]).matches("menu applied").count(), 2);
    machine.ok(&["undo", "--yes"]);
    assert_eq!((rehearsed(&machine), sorted(machine.variables())), (first.clone(), variables));
    machine.ok(&["firmware", "rename", "1", "By the rescue medium"]);
    // The machine knows of both, numbers its next step behind them, and undoes the last.
    std::fs::remove_dir_all(&of_machine).unwrap();
    std::fs::rename(&aside, &of_machine).unwrap();
    let history = machine.ok(&["history"]);
    assert!(
        history.contains("undone back to before record 2") && history.contains("undone since"),
        "{history}"
    );
    machine.ok(&["undo", "--yes"]);
    assert!(!machine.ok(&["firmware", "list"]).contains("By the rescue medium"));
    machine.ok(&["firmware", "order", "1"]);
    assert!(machine.path("history/0006.json").exists());
}

#[test]
fn a_copy_that_does_not_hold_what_is_needed_is_said_to_be_that() {
    let machine = applied(&small(StoreKind::Folder), "timeout = 0", &[LARK, MERIDIAN]);
    for default in ["meridian", "lark", "meridian"] {
        machine.ok(&["tune", &format!("default={default}")]);
        apply(&machine);
    }
    std::fs::remove_dir_all(machine.path("history")).unwrap();
    let before = sorted(machine.variables());
    let refused = machine.fails(4, &["undo", "2", "--yes"]);
    assert!(refused.contains("undo it from the system that did it"), "{refused}");
    assert_eq!(sorted(machine.variables()), before);
    machine.ok(&["undo", "--yes"]);
}
