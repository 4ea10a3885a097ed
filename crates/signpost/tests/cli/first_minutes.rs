//! What a newcomer meets: one screen, commands that work when they are typed, one answer for what is said twice.

use signpost_demo::{StoreKind, gauge, tide};

use crate::harness::{LARK, MERIDIAN, TestMachine, flat, menu, program, run_bare};

fn tide_bench() -> TestMachine {
    TestMachine::new(&tide::bench(StoreKind::Folder))
}

#[test]
fn the_first_screen_fits_an_old_terminal_and_has_the_worst_first() {
    let machine = tide_bench();
    let on_80 = |words: &[&str]| {
        let mut command = program();
        let output = command.env("COLUMNS", "80").arg("--machine").arg(machine.folder()).args(words).output();
        String::from_utf8(output.unwrap().stdout).unwrap()
    };
    let short = on_80(&["survey", "--short"]);
    assert_eq!(on_80(&[]), short, "it is what stands there where nothing is asked for");
    assert!(short.lines().count() <= 24, "{short}");
    let widest = short.lines().map(unicode_width::UnicodeWidthStr::width).max().unwrap();
    assert!(widest <= 80, "{widest} columns: {short}");
    for word in
        ["Larkspur Linux 14", "no way yet", "Started from", "Next start    Meridian Desktop 4", "not-first"]
    {
        assert!(short.contains(word), "{word}: {short}");
    }
    let at = |word: &str| short.find(word).unwrap();
    assert!(at("Something else starts") < at("A system cannot be started") && at("no-way") < at("Untidy"));
    let coloured = on_80(&["--color", "always"]);
    assert!(coloured.contains("\u{1b}[31mSomething else starts"), "in red, and in words: {coloured:?}");
}

/// Whatever the demo proposes at its end can be typed.
#[test]
fn what_the_demo_proposes_works() {
    for words in [&["--bench-only"][..], &["--kind", "gauge", "--bench-only"], &[]] {
        let folder = tempfile::tempdir().unwrap();
        let bench = folder.path().join("pc");
        let run = run_bare(&[&["demo", bench.to_str().unwrap()], words].concat());
        assert_eq!(run.code, 0, "{}", run.stderr);
        let (_, proposed) = run.stdout.rsplit_once("The bench is in").unwrap();
        let lines: Vec<&str> =
            proposed.lines().filter_map(|line| line.trim().strip_prefix("signpost ")).collect();
        assert!(lines.len() >= 3, "{proposed}");
        for line in lines {
            let mut typed: Vec<&str> = line.split(' ').collect();
            typed.extend(line.ends_with("apply").then_some("--yes"));
            let run = run_bare(&typed);
            assert!(run.code < 2, "{line}: {}", run.stderr);
        }
    }
    let quiet = tempfile::tempdir().unwrap();
    let bench = quiet.path().join("pc");
    assert_eq!(run_bare(&["demo", bench.to_str().unwrap(), "--bench-only", "--quiet"]).stdout, "");
}

#[test]
fn an_entry_that_is_added_twice_is_there_once_and_scripts_get_its_id() {
    let machine = tide_bench();
    machine.ok(&["draft"]);
    let add = ["entry", "add", "efi", "d2p1:/EFI/BOOT/BOOTX64.EFI", "--title", "By the fallback path"];
    let first = machine.json(&add);
    assert_eq!(
        (&first["entries"][0], &first["is_different"]),
        (&"by-the-fallback-path".into(), &true.into())
    );
    let text = machine.read("menu.toml");
    let again = machine.json(&add);
    assert_eq!((&again["entries"], &again["is_written"]), (&first["entries"], &false.into()));
    assert_eq!(machine.read("menu.toml"), text);
    // The system's own entry, which draft wrote, is what this would add.
    let own = machine.json(&["entry", "add", "efi", "d2p1:/EFI/meridian/start.efi", "--title", "Other"]);
    assert_eq!(own["is_different"], true, "under another title it is another entry");
    machine.ok(&["entry", "hide", "other"]);
    let text = machine.read("menu.toml");
    assert_eq!(machine.json(&["entry", "hide", "other"])["is_different"], false);
    assert_eq!(machine.read("menu.toml"), text);
}

#[test]
fn a_policy_from_a_file_is_set_as_a_whole_or_not_at_all() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[LARK, MERIDIAN]));
    machine.write(
        "policy.toml",
        "timeout = 12\ndefault = \"Meridian\"\nshow = \"on-key\"\n\n[kernel]\nargs = \"quiet\"\n",
    );
    let policy = machine.path("policy.toml").display().to_string();
    let said = machine.ok(&["tune", "--from", &policy]);
    for line in
        ["timeout = 12, it was 5", "default = meridian, it was first", "kernel.args = quiet, it was none"]
    {
        assert!(said.contains(line), "{line}: {said}");
    }
    assert!(machine.ok(&["tune", "--from", &policy]).contains("nothing would change"));
    let before = machine.read("menu.toml");
    machine
        .write("policy.toml", "timeuot = 9\ndefault = \"Merid9\"\nshow = \"seldom\"\nkeyboard = [\"de\"]\n");
    let error = machine.fails(1, &["tune", "--from", &policy]);
    assert!(error.contains("line 4, column 1: keyboard takes"), "the notation comes first: {error}");
    machine.write("policy.toml", "timeuot = 9\ndefault = \"Merid9\"\nshow = \"seldom\"\nstrict = true\n");
    let error = machine.fails(1, &["tune", "--from", &policy]);
    for part in [
        "line 1, column 1: there is no key timeuot; did you mean timeout?",
        "line 2, column 1: default: no system and no entry here is called Merid9",
        "line 3",
    ] {
        assert!(error.contains(part), "{part}: {error}");
    }
    machine.write("policy.toml", "timeout = \n");
    assert!(machine.fails(1, &["tune", "--from", &policy]).contains("policy.toml, line 1"));
    machine.fails(4, &["tune", "--from", "/nowhere/policy.toml"]);
    assert_eq!(machine.read("menu.toml"), before);
}

#[test]
fn each_system_that_is_left_out_comes_with_the_command_that_adds_it() {
    let machine = tide_bench();
    let lines = [
        "`signpost tune host=signpost`, then `signpost draft`",
        "`signpost entry add image d3p2:/systems/lantern.img` adds it",
    ];
    let drafted = flat(&machine.ok(&["draft"]));
    let (shown, planned) = (flat(&machine.ok(&["menu"])), flat(&machine.ok(&["plan"])));
    for text in [&drafted, &shown, &planned] {
        assert!(lines.iter().all(|line| text.contains(line)), "{text}");
    }
    assert!(shown.contains("Not in the menu"), "{shown}");
    machine.ok(&["tune", "host=signpost"]);
    machine.ok(&["draft"]);
    machine.ok(&["entry", "add", "image", "d3p2:/systems/lantern.img"]);
    assert!(!machine.ok(&["menu"]).contains("Not in the menu"));
    machine.ok(&["entry", "remove", "meridian", "--despite", "last-way"]);
    assert!(machine.ok(&["menu"]).contains("Meridian Desktop 4: `signpost draft --offer-removed` adds it"));
    machine.ok(&["entry", "hide", "Meridian Desktop 4"]);
    assert!(!machine.ok(&["menu"]).contains("Not in the menu"), "what is hidden is left out on purpose");
}

/// `save` makes the menu where there is none, as at boot, with what draft would put into it.
#[test]
fn save_at_the_desk_makes_the_menu_file() {
    let machine = tide_bench();
    let said =
        machine.ok(&["prompt", "--do", "compose efi d2p1:/EFI/meridian/start.efi", "--do", "save By hand"]);
    assert!(said.contains("There was no menu file") && said.contains("by-hand is in the menu"), "{said}");
    let menu = machine.read("menu.toml");
    assert!(
        menu.contains("title   = \"Larkspur Linux 14\"") && menu.contains("title   = \"By hand\""),
        "{menu}"
    );
    machine.ok(&["menu"]);
}

#[test]
fn a_preview_says_when_it_is_not_what_a_start_shows() {
    let machine = tide_bench();
    machine.ok(&["draft"]);
    let notes = |value: &str| {
        machine.ok(&["tune", value]);
        machine.json(&["preview"])["notes"].to_string()
    };
    assert!(notes("timeout=5").contains("the firmware's own list is the menu"));
    assert_eq!(notes("host=signpost"), "[]");
    assert!(notes("show=on-key").contains("if a key is pressed"));
    assert!(notes("show=never").contains("`signpost once menu`"));
    machine.ok(&["entry", "rename", "meridian", "Mérídian — 子午線"]);
    let notes = machine.json(&["preview"])["notes"][1].to_string();
    assert!(notes.contains('子') && !notes.contains('—') && !notes.contains('é'), "{notes}");
    // Firmware's own letters are fewer.
    machine.ok(&["tune", "look.screen=text"]);
    let notes = machine.json(&["preview"])["notes"][1].to_string();
    assert!(notes.contains('子') && notes.contains('—') && !notes.contains('é'), "{notes}");
}

/// Nothing is cut where it could be shown whole, on the smallest screens that are used too.
#[test]
fn a_preview_cuts_nothing() {
    let machine = tide_bench();
    machine.ok(&["draft", "--host", "signpost"]);
    for size in ["80x25", "40x12"] {
        for words in [&["preview", "--size", size][..], &["preview", "--size", size, "--keys"]] {
            let screen = machine.ok(words);
            assert!(!screen.contains('~'), "{screen}");
        }
    }
}

#[test]
fn a_survey_for_scripts_has_severities_and_cures() {
    let machine = tide_bench();
    let findings = machine.json(&["survey"])["findings"].clone();
    let of = |code: &str| {
        findings.as_array().unwrap().iter().find(|finding| finding["code"] == code).unwrap().clone()
    };
    let stale = of("entry-stale");
    assert_eq!((&stale["severity"], &stale["cure"]), (&"untidy".into(), &"signpost mend entry-stale".into()));
    assert_eq!(stale["subject"]["entry"], "0000");
    assert_eq!(of("not-first")["severity"], "starts-other");
    assert!(of("started-by-fallback")["cure"].is_null(), "only a person can tell");
}

#[test]
fn disks_are_named_by_their_numbers_and_missing_ones_are_answered_with_those_that_are_there() {
    let folder = tempfile::tempdir().unwrap();
    gauge::write(folder.path()).unwrap();
    let typed = |what: &str| run_bare(&["--machine", folder.path().to_str().unwrap(), "survey", what]);
    assert_eq!(typed("d1").stdout, typed("disk1").stdout);
    assert!(typed("d4").stderr.contains("there is no disk d4; there are d1"));
    assert!(typed("skerry").stdout.contains("Skerry BSD 9"));
}
