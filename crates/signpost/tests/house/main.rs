//! The house as it is built: which crate uses which, what the crates of others allow, and one set of lints.
#![allow(clippy::unwrap_used, reason = "a test ends where something is not as it should be")]

mod circles;
mod words;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;
use spdx::Expression;
use toml_edit::{DocumentMut, Item};

/// What each of our crates may use of ours. Arrows only run down.
const ARROWS: &[(&str, &[&str])] = &[
    ("signpost-menu", &[]),
    ("signpost-disk", &[]),
    ("signpost-firmware", &[]),
    ("signpost-facts", &["menu", "disk", "firmware"]),
    ("signpost-look", &["menu"]),
    ("signpost-place", &["menu", "disk", "firmware", "facts"]),
    ("signpost-machine", &["menu", "disk", "firmware", "facts", "place"]),
    ("signpost-survey", &["menu", "disk", "firmware", "facts", "place", "machine"]),
    // Decisions know no device: neither the machine nor what reads it.
    ("signpost-core", &["menu", "disk", "firmware", "facts", "place"]),
    ("signpost-upkeep", &["menu", "disk", "firmware", "facts", "place", "machine", "survey", "core"]),
    ("signpost-vm", &[]),
    ("signpost-demo", &["disk", "firmware"]),
    (
        "signpost",
        &[
            "menu", "look", "disk", "firmware", "facts", "place", "machine", "survey", "core", "upkeep",
            "demo",
        ],
    ),
    // Of upkeep it calls nothing: it brings the features that the tests have too.
    ("xtask", &["menu", "look", "disk", "firmware", "vm", "demo", "upkeep"]),
    ("signpost-boot", &["menu", "look", "disk", "firmware", "place"]),
    ("signpost-boot-bios", &["menu", "look", "disk", "firmware", "place"]),
];

/// The workspaces, and the target that each is built for.
const WORKSPACES: [(&str, &str); 3] = [
    ("Cargo.toml", "x86_64-unknown-linux-gnu"),
    ("boot/uefi/Cargo.toml", "x86_64-unknown-uefi"),
    ("boot/bios/Cargo.toml", "i586-unknown-linux-gnu"),
];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The packages of a workspace as cargo resolves them.
fn packages((manifest, target): (&str, &str)) -> Vec<Value> {
    let output = Command::new(env!("CARGO"))
        .current_dir(root())
        .args(["metadata", "--format-version", "1", "--locked", "--manifest-path", manifest])
        .args(["--filter-platform", target])
        .output()
        .unwrap();
    assert!(output.status.success(), "{manifest}: {}", String::from_utf8_lossy(&output.stderr));
    let metadata: Value = serde_json::from_slice(&output.stdout).unwrap();
    metadata["packages"].as_array().unwrap().clone()
}

fn document(path: &str) -> DocumentMut {
    std::fs::read_to_string(root().join(path)).unwrap().parse().unwrap()
}

#[test]
fn arrows_only_run_down() {
    let allowed: BTreeMap<_, _> = ARROWS.iter().copied().collect();
    let mut seen = 0;
    for package in WORKSPACES.iter().flat_map(|workspace| packages(*workspace)) {
        if !package["source"].is_null() {
            continue;
        }
        let name = package["name"].as_str().unwrap();
        let may = allowed.get(name).unwrap_or_else(|| panic!("{name} stands in no line of the table"));
        seen += 1;
        for dependency in package["dependencies"].as_array().unwrap() {
            let used = dependency["name"].as_str().unwrap();
            let is_ours = allowed.contains_key(used) && dependency["kind"].is_null();
            assert!(
                !is_ours || used.strip_prefix("signpost-").is_some_and(|short| may.contains(&short)),
                "{name} uses {used}, which it may not"
            );
        }
    }
    assert!(seen >= ARROWS.len(), "{seen} of our crates were looked at");
}

/// The crates that cargo builds for these arguments, each with its features.
fn features(args: &[&str]) -> BTreeMap<String, BTreeSet<String>> {
    let (_, target) = WORKSPACES[0];
    let output = Command::new(env!("CARGO"))
        .current_dir(root())
        .args(["tree", "--locked", "--prefix", "none", "--format", "{p}\t{f}", "--target", target])
        .args(args)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let mut crates = BTreeMap::<_, BTreeSet<_>>::new();
    for (name, features) in
        String::from_utf8(output.stdout).unwrap().lines().filter_map(|line| line.split_once('\t'))
    {
        // What stands there already is marked.
        crates.entry(name.to_string()).or_default().insert(features.trim_end_matches(" (*)").to_string());
    }
    crates
}

/// What xtask is built of is what tests are built of: what has other features would be built twice on each fresh machine.
#[test]
fn xtask_and_tests_are_built_once() {
    let xtask = features(&["--package", "xtask", "--edges", "normal,build"]);
    let tests = features(&["--workspace", "--all-features", "--edges", "normal,build,dev"]);
    assert!(xtask.len() > 100, "{} crates", xtask.len());
    for (name, features) in &xtask {
        assert!(
            features.is_subset(&tests[name]),
            "{name} has {features:?} for xtask and {:?} for tests; `xtask/Cargo.toml` lacks the crate that asks for the difference",
            tests[name]
        );
    }
}

#[test]
fn crates_of_others_have_licences_and_sources_that_are_allowed() {
    let rules = document("deny.toml");
    let licences = rules["licenses"]["allow"].as_array().unwrap();
    let allowed: Vec<&str> = licences.iter().map(|licence| licence.as_str().unwrap()).collect();
    let exceptions = rules["licenses"]["exceptions"].as_array_of_tables().unwrap();
    let may = |name: &str, licence: &str| {
        let excepted = exceptions.iter().filter(|exception| exception["crate"].as_str() == Some(name));
        let mut excepted = excepted.flat_map(|exception| exception["allow"].as_array().unwrap());
        allowed.contains(&licence) || excepted.any(|excepted| excepted.as_str() == Some(licence))
    };
    for workspace in WORKSPACES {
        let (manifest, packages) = (workspace.0, packages(workspace));
        assert!(packages.len() > 20, "{manifest}: {} packages", packages.len());
        for package in packages.iter().filter(|package| !package["source"].is_null()) {
            let name = package["name"].as_str().unwrap();
            let source = package["source"].as_str().unwrap();
            assert!(source.starts_with("registry+"), "{manifest}: {name} comes from {source}");
            // Some old crates write `MIT/Apache-2.0`.
            let licence = package["license"].as_str().unwrap_or_else(|| panic!("{name} names no licence"));
            let expression = Expression::parse(&licence.replace('/', " OR ")).unwrap();
            let fits = expression.evaluate(|wanted| {
                wanted.license.id().is_some_and(|id| may(name, id.name)) && wanted.addition.is_none()
            });
            assert!(fits, "{manifest}: {name} is under {licence}, of which deny.toml allows nothing");
        }
        for package in packages.iter().filter(|package| package["source"].is_null()) {
            for dependency in package["dependencies"].as_array().unwrap() {
                let is_wild = dependency["req"] == "*" && dependency["path"].is_null();
                assert!(!is_wild, "{}: {} of any version", package["name"], dependency["name"]);
            }
        }
    }
}

#[test]
fn files_that_developers_are_led_to_are_there() {
    let mut seen = 0;
    for page in ["CONTRIBUTING.md", "docs/inside.md"] {
        let text = std::fs::read_to_string(root().join(page)).unwrap();
        let quoted = text.split('`').skip(1).step_by(2);
        for path in quoted.filter(|path| path.contains("/src/") && path.ends_with(".rs")) {
            seen += 1;
            let is_there = [root(), root().join("crates")].iter().any(|folder| folder.join(path).exists());
            assert!(is_there, "{page}: there is no {path}");
        }
    }
    assert!(seen > 50, "{seen} files are named");
}

#[test]
fn the_boot_programs_are_held_to_the_same_lints() {
    let table = |item: &Item| {
        let table = item.as_table().unwrap().iter();
        table.map(|(name, level)| (name.to_string(), level.as_str().unwrap().to_string())).collect::<Vec<_>>()
    };
    let ours = document("Cargo.toml");
    let clippy = table(&ours["workspace"]["lints"]["clippy"]);
    assert!(!clippy.is_empty());
    // Boot programs call firmware, which takes unsafe code.
    let mut rust = table(&ours["workspace"]["lints"]["rust"]);
    rust.retain(|(name, _)| name != "unsafe_code");
    for (manifest, _) in &WORKSPACES[1..] {
        let boot = document(manifest);
        assert_eq!(table(&boot["lints"]["clippy"]), clippy, "{manifest}");
        let boot = table(&boot["lints"]["rust"]);
        assert!(rust.iter().all(|lint| boot.contains(lint)), "{manifest}: {rust:?} and {boot:?}");
    }
}
