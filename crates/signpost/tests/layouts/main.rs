//! Layouts of systems that people run: how each names its kernels, initrds and arguments, and what survey, menu and rehearsal
//! say of it. The layouts are data, in `data/`; volumes are made by their own tools.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

#[path = "../cli/harness.rs"]
#[allow(dead_code, unused_imports, reason = "shared with the other tests, which use all of it")]
mod harness;
mod layout;
mod made;

use harness::TestMachine;
use layout::{Expected, Layout};
use signpost_demo::program::Program;

fn check(layout: &Layout) -> Result<(), String> {
    let machine = made::machine(layout);
    let folder = machine.folder().display().to_string();
    let program = machine.path("program.efi");
    std::fs::write(&program, Program::new("Signpost").boot_program().build()).unwrap();
    let survey = machine.json(&["survey"]);
    let titles = texts(&survey["systems"], "title");
    let drafted = machine.run(&["draft", "--host", "signpost"]);
    let drafted_entries = machine.json(&["menu", "--all"])["entries"].clone();
    if drafted_entries.as_array().unwrap().iter().any(|entry| entry["is_included"] == false) {
        let applied = machine.run(&["apply", "--yes", "--boot-program", program.to_str().unwrap()]);
        if applied.code != 0 {
            return Err(format!("apply: {}{}", applied.stdout, applied.stderr));
        }
    }
    let entries = machine.json(&["menu", "--all"])["entries"].clone();
    let said = format!("{}{}{}", drafted.stdout, drafted.stderr, survey["findings"]).replace(&folder, "");
    for expected in &layout.expected {
        let (wanted, found) = match expected {
            Expected::Systems(wanted) => (wanted.join("; "), titles.join("; ")),
            Expected::Menu(wanted) => (wanted.join("; "), in_menu(&entries).join("; ")),
            Expected::Starts { choice, what } => {
                (what.clone(), started(&machine, &entries, choice.as_deref())?)
            }
            Expected::Says(wanted) => {
                let is_said = packed(&said).contains(&packed(wanted));
                (wanted.clone(), if is_said { wanted.clone() } else { said.clone() })
            }
        };
        let wanted = made::with_identities(layout, &wanted);
        if wanted.trim_end() != found.trim_end() {
            return Err(format!("expected: {wanted}\n   found: {found}"));
        }
    }
    Ok(())
}

fn texts(list: &serde_json::Value, key: &str) -> Vec<String> {
    let all = list.as_array().unwrap().iter();
    all.map(|one| one[key].as_str().unwrap_or_default().to_string()).collect()
}

/// How a text is wrapped does not matter.
fn packed(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// The titles in a menu; those in groups behind a sign.
fn in_menu(entries: &serde_json::Value) -> Vec<String> {
    let title = |entry: &serde_json::Value| {
        let inside = if entry["group"].is_null() { "" } else { "> " };
        format!("{inside}{}", entry["title"].as_str().unwrap())
    };
    entries.as_array().unwrap().iter().map(title).collect()
}

/// What starts by itself, or by choosing the entry of a title: place of the kernel, initrds, arguments.
fn started(
    machine: &TestMachine,
    entries: &serde_json::Value,
    title: Option<&str>,
) -> Result<String, String> {
    let id = title.map(|title| {
        // What has a date in its title is named by a part of it.
        let is_it = |entry: &&serde_json::Value| match title.strip_prefix('~') {
            Some(part) => entry["title"].as_str().unwrap().contains(part) && entry["kind"] != "group",
            None => entry["title"] == title,
        };
        let entry = entries.as_array().unwrap().iter().find(is_it);
        entry
            .map(|entry| entry["id"].as_str().unwrap().to_string())
            .ok_or_else(|| format!("no entry {title}; there are {}", in_menu(entries).join("; ")))
    });
    let outcome = match id.transpose()? {
        Some(id) => machine.json(&["rehearse", "--choose", &id]),
        None => machine.json(&["rehearse"]),
    }["outcome"]
        .clone();
    let notes: Vec<&str> =
        outcome["notes"].as_array().unwrap().iter().map(|note| note.as_str().unwrap()).collect();
    let of = |kind: &str| -> Vec<&str> { notes.iter().filter_map(|note| note.strip_prefix(kind)).collect() };
    let text = outcome["text"].as_str().unwrap();
    let from = text.split_once(", from ").map_or(text, |(_, from)| from);
    Ok([from, &of("initrd: ").join(" "), &of("arguments: ").join(" ")].join(" | "))
}

/// All layouts of a file.
fn check_all(text: &str) {
    let layouts = layout::parse(text);
    let faults: Vec<String> = layouts
        .iter()
        .filter_map(|layout| Some(format!("{}\n{}\n", layout.name, check(layout).err()?)))
        .collect();
    assert!(faults.is_empty(), "{} of {} fail:\n\n{}", faults.len(), layouts.len(), faults.join("\n"));
}

#[test]
fn kernels_and_initrds() {
    check_all(include_str!("data/kernels.txt"));
}

#[test]
fn names_and_roots() {
    check_all(include_str!("data/names.txt"));
}

#[test]
fn arguments() {
    check_all(include_str!("data/arguments.txt"));
}

#[test]
fn snapshots_and_subvolumes() {
    check_all(include_str!("data/subvolumes.txt"));
}

#[test]
fn there_are_enough_of_them() {
    let files = ["kernels", "names", "arguments", "subvolumes"];
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/layouts/data");
    let read = |file: &&str| {
        layout::parse(&std::fs::read_to_string(folder.join(file).with_extension("txt")).unwrap())
    };
    let names: Vec<String> = files.iter().flat_map(read).map(|layout| layout.name).collect();
    let mut once = names.clone();
    once.sort();
    once.dedup();
    assert_eq!(once.len(), names.len(), "a name stands twice");
    assert!(names.len() >= 80, "{}", names.len());
}
