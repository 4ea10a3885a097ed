//! Help, codes, exit codes.

use crate::harness::{TestMachine, run_bare};
use crate::upkeep::offered;

const COMMANDS: [&str; 16] = [
    "survey",
    "draft",
    "menu",
    "entry",
    "tune",
    "plan",
    "apply",
    "undo",
    "history",
    "rehearse",
    "preview",
    "once",
    "explain",
    "demo",
    "completions",
    "manual",
];

#[test]
fn help_of_every_command() {
    let mut all = run_bare(&["--help"]).stdout;
    for command in COMMANDS {
        let help = run_bare(&[command, "--help"]).stdout;
        // Options that every command has stand in the first part.
        let own = help.split("On every command:").next().unwrap();
        all.push_str(&format!("\n--- {command}\n{own}"));
    }
    insta::assert_snapshot!(all);
}

#[test]
fn wrong_use_ends_with_2_and_a_hint() {
    for args in
        [&["surfey"][..], &["survey", "--colour"], &["apply", "--despite", "clone"], &["explain", "nothing"]]
    {
        assert_eq!(run_bare(args).code, 2, "{args:?}");
    }
    assert!(run_bare(&["surfey"]).stderr.contains("survey"));
}

#[test]
fn codes_are_explained() {
    let text = run_bare(&["explain", "entry-stale"]).stdout;
    assert!(text.starts_with("entry-stale\n") && text.contains("can be removed"), "{text}");
}

#[test]
fn manual_pages_and_completions_know_every_command() {
    let work = tempfile::tempdir().unwrap();
    let folder = work.path().join("man");
    let run = run_bare(&["manual", folder.to_str().unwrap()]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let offered = offered(&TestMachine::small(), &[""]);
    for command in COMMANDS {
        assert!(folder.join(format!("man1/signpost-{command}.1")).exists(), "{command}");
        assert!(offered.iter().any(|word| word == command), "{command}: {offered:?}");
    }
    assert_eq!(run_bare(&["completions", "none"]).code, 2);
}

/// The bench is locked by whoever changes it.
#[test]
fn a_second_run_that_changes_the_machine_is_refused() {
    let machine = TestMachine::small();
    let path = machine.path("signpost.lock");
    let file = std::fs::File::create(&path).unwrap();
    file.lock().unwrap();
    let error = machine.fails(4, &["draft"]);
    assert!(error.contains("another run") && error.contains("try again"), "{error}");
    machine.ok(&["draft", "--dry-run"]);
    drop(file);
    machine.ok(&["draft"]);
    assert!(!path.exists(), "it is there while a run holds it");
    // Whoever can read the bench's description cannot keep its owner out with it.
    let open = std::fs::File::open(machine.path("machine.toml")).unwrap();
    open.lock().unwrap();
    machine.ok(&["draft"]);
}

#[test]
fn an_empty_history_says_so() {
    let machine = TestMachine::small();
    assert_eq!(machine.ok(&["history"]), "Nothing was done yet.\n");
    let error = machine.fails(4, &["undo", "--yes"]);
    assert!(error.contains("there is nothing that could be undone"), "{error}");
}
