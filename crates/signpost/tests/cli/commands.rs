//! Help, codes, exit codes.

use crate::harness::{TestMachine, run_bare};

const COMMANDS: [&str; 12] = [
    "survey", "draft", "menu", "plan", "apply", "undo", "history", "rehearse", "preview", "once", "explain",
    "demo",
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
    assert!(text.starts_with("entry-stale\n") && text.contains("may go"), "{text}");
}

#[test]
fn an_empty_history_says_so() {
    let machine = TestMachine::small();
    assert_eq!(machine.ok(&["history"]), "Nothing was put in force yet.\n");
    let error = machine.fails(4, &["undo", "--yes"]);
    assert!(error.contains("nothing was put in force that could be taken back"), "{error}");
}
