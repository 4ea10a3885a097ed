//! The whole job on the demo's bench, every output read.

use signpost_demo::program::Program;
use signpost_demo::{StoreKind, tide};

use crate::harness::{TestMachine, copy_program, program};

/// Replaces times, which differ from run to run.
fn timeless(text: &str) -> String {
    let mut out = String::new();
    for line in text.lines() {
        let line = match line.find(" UTC").and_then(|end| Some((end.checked_sub(19)?, end + 4))) {
            Some((start, end)) => format!("{}[TIME]{}", &line[..start], &line[end..]),
            None => line.to_string(),
        };
        out.push_str(&line);
        out.push('\n');
    }
    out
}

#[test]
fn the_whole_job_on_either_kind_of_store() {
    let mut outputs = Vec::new();
    for store in [StoreKind::Fd, StoreKind::Folder] {
        let machine = TestMachine::new(&tide::bench(store));
        let before = machine.variables();
        let steps: [&[&str]; 10] = [
            &["survey"],
            &["rehearse"],
            &["draft"],
            &["menu"],
            &["plan"],
            &["apply", "--yes"],
            &["rehearse"],
            &["apply", "--yes"],
            &["undo", "--yes"],
            &["history"],
        ];
        let all = steps.map(|step| format!("$ signpost {}\n{}", step.join(" "), timeless(&machine.ok(step))));
        let sorted = |mut contents: signpost_firmware::variable::Contents| {
            contents.variables.sort_by(|a, b| a.name.cmp(&b.name));
            contents
        };
        assert_eq!(sorted(machine.variables()), sorted(before), "undo brings everything back");
        outputs.push(all.join("\n"));
    }
    assert_eq!(outputs[0], outputs[1], "the store's kind makes no difference");
    insta::assert_snapshot!(outputs[0]);
}

#[test]
fn the_drafted_file_is_plain_to_read() {
    let machine = TestMachine::new(&tide::bench(StoreKind::Folder));
    assert!(machine.ok(&["draft", "--dry-run"]).contains("menu.toml would be made"));
    assert!(!machine.path("menu.toml").exists());
    machine.ok(&["draft"]);
    insta::assert_snapshot!(machine.read("menu.toml"));
}

#[test]
fn no_line_is_wider_than_a_hundred_columns() {
    let machine = TestMachine::new(&tide::bench(StoreKind::Folder));
    machine.ok(&["draft"]);
    for command in ["survey", "menu", "plan", "rehearse"] {
        for line in machine.ok(&[command]).lines() {
            let width = unicode_width::UnicodeWidthStr::width(line);
            assert!(width <= 100, "{command}: {width} columns: {line}");
        }
    }
}

#[test]
fn colour_is_there_when_asked_for_and_never_in_a_pipe() {
    let machine = TestMachine::small();
    assert!(!machine.ok(&["survey"]).contains('\u{1b}'));
    assert!(machine.ok(&["survey", "--color", "always"]).contains('\u{1b}'));
}

#[test]
fn the_survey_as_json_has_all_of_it() {
    let machine = TestMachine::new(&tide::bench(StoreKind::Fd));
    let survey = machine.json(&["survey"]);
    assert_eq!(survey["schema"], 1);
    assert_eq!(survey["systems"][0]["title"], "Larkspur Linux 14");
    assert_eq!(survey["systems"][0]["kernels"][0]["version"], "6.9.4-2-larkspur");
    assert_eq!(survey["systems"][0]["arguments"]["source"], "made from the UUID of d1p2");
    assert_eq!(survey["systems"][1]["loaders"][0], "d2p1:/EFI/meridian/start.efi");
    let files = survey["boot_files"].as_array().unwrap();
    assert_eq!(files.len(), 4);
    assert_eq!(files[3]["version"]["company"], "Meridian Works");
    assert_eq!(files[3]["role"], "own-loader");
    assert_eq!(files[2]["role"], "fallback-path");
    assert_eq!(files[2]["sha256"], files[3]["sha256"]);
    assert_eq!(survey["firmware"]["order"], serde_json::json!(["0001", "0003", "0000", "0004", "0002"]));
    assert_eq!(survey["firmware"]["entries"][4]["path"], "network card 02:4b:50:19:00:2e, IPv4");
    let codes: Vec<&str> = survey["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|finding| finding["code"].as_str().unwrap())
        .collect();
    assert_eq!(codes, ["entry-stale", "entry-duplicate", "not-first", "started-by-fallback"]);
}

/// The demo run by a copy of the program, alone in its folder or with something that stands in for the boot
/// program; what was walked, and what is printed at the end.
fn demo(with_boot_program: bool) -> (String, String) {
    let folder = tempfile::tempdir().unwrap();
    let program = folder.path().join("signpost");
    copy_program(&program);
    if with_boot_program {
        let stand_in = Program::new("Signpost").boot_program().build();
        std::fs::write(folder.path().join("signpost-x64.efi"), stand_in).unwrap();
    }
    let bench = folder.path().join("tide");
    let run = || std::process::Command::new(&program).env_clear().arg("demo").arg(&bench).output().unwrap();
    let output = run();
    let text = String::from_utf8(output.stdout).unwrap();
    assert_eq!(output.status.code(), Some(0), "{text}{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(run().status.code(), Some(4), "a folder that is in use is left alone");
    let (walked, next) = text.rsplit_once("The bench is in").unwrap();
    (walked.trim_end().to_string(), next.to_string())
}

#[test]
fn the_demo_walks_through_the_job_and_names_what_starts() {
    let (walked, next) = demo(false);
    let (walked, more) = walked.rsplit_once("\n\n").unwrap();
    assert_eq!(
        walked.lines().last().unwrap(),
        "Ends with  Larkspur Linux 14, from d1p1:/EFI/larkspur/lkload.efi"
    );
    assert!(more.contains("cargo xtask boot"), "{more}");
    assert!(next.contains("undo --dry-run"));
}

#[test]
fn with_the_boot_program_the_demo_goes_through_its_menu() {
    let (walked, _) = demo(true);
    assert_eq!(
        walked.lines().last().unwrap(),
        "Ends with  Larkspur Linux 14, from d1p2:/boot/vmlinuz-6.9.4-2-larkspur"
    );
    assert!(walked.contains("|  > 1  Larkspur Linux 14 "), "the boot screen is shown: {walked}");
    assert!(walked.contains("Meridian Desktop 4, from d2p1:/EFI/meridian/start.efi"));
}

#[test]
fn the_demo_finds_a_folder_by_itself() {
    let folder = tempfile::tempdir().unwrap();
    let output = program().args(["demo", "--bench-only"]).env("TMPDIR", folder.path()).output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.contains(&folder.path().canonicalize().unwrap().display().to_string()), "{text}");
}

/// Which system runs does not matter where a menu decides: nothing is out of place.
#[test]
fn nothing_is_said_of_the_order_where_our_menu_is_what_starts() {
    let machine = TestMachine::new(&tide::bench(StoreKind::Fd));
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["tune", "default=meridian"]);
    machine.ok(&["apply", "--yes", "--boot-program", machine.path("program.efi").to_str().unwrap()]);
    let survey = machine.json(&["survey"]);
    let codes: Vec<&str> = survey["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|finding| finding["code"].as_str().unwrap())
        .collect();
    assert!(!codes.contains(&"not-first"), "{codes:?}");
    assert!(machine.ok(&["rehearse"]).contains("Meridian Desktop 4, from"));
}
