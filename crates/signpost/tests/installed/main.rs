//! The package that people get, installed into a folder and run from there.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// The package that `cargo xtask dist` made.
fn package() -> PathBuf {
    let folder = Path::new(env!("CARGO_BIN_EXE_signpost")).ancestors().nth(2).unwrap().join("dist");
    let entries = std::fs::read_dir(&folder)
        .unwrap_or_else(|error| panic!("{}: {error}; `cargo xtask dist` makes it", folder.display()));
    let packages = entries.map(|entry| entry.unwrap().path());
    let mut packages = packages.filter(|path| path.extension().is_some_and(|extension| extension == "deb"));
    packages.next().expect("no package in target/dist; `cargo xtask dist` makes it")
}

/// Installs the package below a folder, as the package manager does it.
fn install(root: &Path) {
    for folder in ["updates", "info", "triggers"] {
        std::fs::create_dir_all(root.join("var/lib/dpkg").join(folder)).unwrap();
    }
    std::fs::write(root.join("var/lib/dpkg/status"), "").unwrap();
    let own = format!("--root={}", root.display());
    let output = Command::new("dpkg").args([&own, "--install"]).arg(package()).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

fn run(root: &Path, args: &[&str]) -> Output {
    Command::new(root.join("usr/bin/signpost")).env_clear().args(args).output().unwrap()
}

fn ok(root: &Path, args: &[&str]) -> String {
    let output = run(root, args);
    assert!(output.status.success(), "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn the_installed_program_does_the_whole_job_with_its_own_boot_program() {
    let work = tempfile::tempdir().unwrap();
    let root = work.path();
    install(root);
    let bench = root.join("bench");
    let bench = bench.to_str().unwrap();
    ok(root, &["demo", bench, "--bench-only"]);
    ok(root, &["--machine", bench, "draft", "--host", "signpost"]);
    let applied = ok(root, &["--machine", bench, "apply", "--yes"]);
    assert!(applied.contains("write the boot program") && applied.contains("In force"), "{applied}");
}

#[test]
fn the_program_needs_no_library_of_the_system() {
    let work = tempfile::tempdir().unwrap();
    install(work.path());
    let output =
        Command::new("readelf").arg("-d").arg(work.path().join("usr/bin/signpost")).output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(output.status.success() && !text.contains("NEEDED"), "{text}");
}

/// What a unit runs is what the package brings, and ends well.
#[test]
fn the_unit_runs_the_program_of_the_package() {
    let work = tempfile::tempdir().unwrap();
    install(work.path());
    let units = work.path().join("usr/lib/systemd/system");
    assert!(units.join("signpost-survey.timer").exists());
    let text = std::fs::read_to_string(units.join("signpost-survey.service")).unwrap();
    let line = text.lines().find_map(|line| line.strip_prefix("ExecStart=/usr/bin/signpost ")).unwrap();
    let bench = work.path().join("bench");
    ok(work.path(), &["demo", bench.to_str().unwrap(), "--bench-only"]);
    let words: Vec<&str> =
        ["--machine", bench.to_str().unwrap()].into_iter().chain(line.split(' ')).collect();
    assert!(ok(work.path(), &words).contains("Starts next"));
}

#[test]
fn manual_and_completions_lie_where_shells_and_man_look() {
    let work = tempfile::tempdir().unwrap();
    install(work.path());
    let share = work.path().join("usr/share");
    let holds = |path: &str, part: &str| {
        let text =
            std::fs::read_to_string(share.join(path)).unwrap_or_else(|error| panic!("{path}: {error}"));
        assert!(text.contains(part), "{path}");
    };
    holds("man/man1/signpost-survey.1", "Show the machine");
    holds("bash-completion/completions/signpost", "COMPLETE");
    holds("zsh/site-functions/_signpost", "COMPLETE");
    holds("fish/vendor_completions.d/signpost.fish", "COMPLETE");
    holds("../lib/systemd/system/signpost-hold.service", "ExecStart=/usr/bin/signpost --quiet");
    holds("../lib/systemd/system/signpost-hold.path", "PathChanged=/boot\n");
    holds("../lib/systemd/system/signpost-hold.timer", "OnUnitActiveSec=1d\n");
    holds("doc/signpost/README.md", "Early Signpost");
}
