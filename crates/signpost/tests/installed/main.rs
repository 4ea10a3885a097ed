//! The package that people get, installed into a folder and run from there.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// The Debian package that `cargo xtask dist` made.
fn package() -> PathBuf {
    package_of("deb")
}

/// The package of a kind, by the end of its name.
fn package_of(kind: &str) -> PathBuf {
    let folder = signpost_vm::build_folder(env!("CARGO_BIN_EXE_signpost")).join("dist");
    let entries = std::fs::read_dir(&folder)
        .unwrap_or_else(|error| panic!("{}: {error}; `cargo xtask dist` makes it", folder.display()));
    let packages = entries.map(|entry| entry.unwrap().path());
    let mut packages = packages.filter(|path| path.extension().is_some_and(|extension| extension == kind));
    packages.next().expect("no package in target/dist; `cargo xtask dist` makes it")
}

/// Installs the package below a folder, as the package manager does it; its scripts run in there.
fn install(root: &Path) {
    for folder in ["updates", "info", "triggers"] {
        std::fs::create_dir_all(root.join("var/lib/dpkg").join(folder)).unwrap();
    }
    std::fs::write(root.join("var/lib/dpkg/status"), "").unwrap();
    std::fs::create_dir(root.join("bin")).unwrap();
    for tool in ["sh", "rm"] {
        std::fs::copy("/bin/busybox", root.join("bin").join(tool)).expect("busybox-static is not installed");
    }
    dpkg(root, &["--install", package().to_str().unwrap()]);
}

/// What the package manager and the package's scripts say.
fn dpkg(root: &Path, args: &[&str]) -> String {
    let own = format!("--root={}", root.display());
    let output = Command::new("dpkg").arg(&own).args(args).output();
    let output = output.unwrap();
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.success(), "{said}");
    said
}

/// Runs a script of the package in the folder that it is installed below.
fn script(root: &Path, path: &str, args: &[&str]) -> String {
    let output =
        Command::new("/usr/sbin/chroot").arg(root).arg(path).args(args).env_clear().output().unwrap();
    assert!(output.status.success(), "{path}");
    String::from_utf8(output.stderr).unwrap()
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
    assert!(applied.contains("write the boot program") && applied.contains("Applied"), "{applied}");
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
    assert!(ok(work.path(), &words).contains("Next start"));
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
    let page =
        Command::new("gzip").arg("-dc").arg(share.join("man/man1/signpost-survey.1.gz")).output().unwrap();
    assert!(String::from_utf8(page.stdout).unwrap().contains("Show the machine"));
    assert!(share.join("man/man5/signpost-menu-file.5.gz").exists());
    holds("bash-completion/completions/signpost", "COMPLETE");
    holds("zsh/site-functions/_signpost", "COMPLETE");
    holds("fish/vendor_completions.d/signpost.fish", "COMPLETE");
    holds("../lib/systemd/system/signpost-hold.service", "ExecStart=/usr/bin/signpost --color never hold");
    holds("../lib/systemd/system/signpost-hold.path", "PathChanged=/boot\n");
    holds("../lib/systemd/system/signpost-hold.timer", "OnUnitActiveSec=1d\n");
    holds(
        "../lib/systemd/system/signpost-confirm.service",
        "ExecStart=/usr/bin/signpost --color never confirm",
    );
    holds("doc/early-signpost/README.md", "Early Signpost");
}

/// By the other family's own package manager: what is in it, where it goes, and that it goes again.
#[test]
fn the_rpm_package_is_installed_and_removed_by_its_own_package_manager() {
    let work = tempfile::tempdir().unwrap();
    let root = work.path().join("root");
    std::fs::create_dir_all(root.join("bin")).unwrap();
    for tool in ["sh", "rm"] {
        std::fs::copy("/bin/busybox", root.join("bin").join(tool)).expect("busybox-static is not installed");
    }
    let rpm = |args: &[&str]| {
        let own = ["--root", root.to_str().unwrap()];
        let output = Command::new("rpm").args(own).args(args).output().expect("rpm is not installed");
        let said = String::from_utf8(output.stdout).unwrap() + &String::from_utf8(output.stderr).unwrap();
        assert!(output.status.success(), "{args:?}: {said}");
        said
    };
    let package = package_of("rpm");
    rpm(&["--install", "--nodeps", package.to_str().unwrap()]);
    assert!(ok(&root, &["--version"]).contains(env!("CARGO_PKG_VERSION")));
    let listed = rpm(&["--query", "--list", "early-signpost"]);
    for path in [
        "/usr/lib/signpost/signpost-bios.img",
        "/usr/lib/signpost/signpost-x64.efi",
        "/usr/lib/systemd/system/signpost-hold.service",
        "/usr/lib/kernel/install.d/95-signpost.install",
    ] {
        assert!(listed.lines().any(|line| line == path), "{path}: {listed}");
    }
    assert!(rpm(&["--verify", "--nodeps", "early-signpost"]).is_empty());
    std::fs::create_dir_all(root.join("var/lib/signpost")).unwrap();
    std::fs::write(root.join("var/lib/signpost/held.json"), "{}").unwrap();
    let said = rpm(&["--erase", "early-signpost"]);
    assert!(said.contains("goes on starting this machine"), "{said}");
    assert!(!root.join("usr/bin/signpost").exists() && root.join("var/lib/signpost/held.json").exists());
}

/// By Debian's own checker of packages.
#[test]
fn the_package_is_as_debians_policy_wants_it() {
    let output = Command::new("lintian").args(["--fail-on", "error", "--allow-root"]).arg(package()).output();
    let output = output.expect("lintian is not installed");
    let said = String::from_utf8(output.stdout).unwrap();
    assert!(output.status.success() && !said.contains("E: "), "{said}");
}

/// systemd finds nothing to say of the units, and the one that runs as root is shut off from what it does not need.
#[test]
fn systemd_takes_the_units_and_finds_them_shut_off() {
    let work = tempfile::tempdir().unwrap();
    install(work.path());
    let root = format!("--root={}", work.path().display());
    let units = work.path().join("usr/lib/systemd/system");
    // What every system has that runs systemd.
    for target in ["multi-user", "paths", "timers", "sysinit", "basic", "local-fs", "shutdown"] {
        std::fs::write(units.join(format!("{target}.target")), "[Unit]\nDefaultDependencies=no\n").unwrap();
    }
    let analyze = |args: &[&str]| {
        let output = Command::new("systemd-analyze").args(args).output().expect("systemd is not installed");
        (
            output.status.success(),
            String::from_utf8(output.stdout).unwrap() + &String::from_utf8(output.stderr).unwrap(),
        )
    };
    for unit in
        ["signpost-hold.service", "signpost-hold.path", "signpost-hold.timer", "signpost-confirm.service"]
    {
        let (is_good, said) = analyze(&[&root, "--man=no", "verify", unit]);
        let ours: Vec<&str> = said.lines().filter(|line| line.contains("signpost")).collect();
        assert!(is_good && ours.is_empty(), "{unit}: {said}");
    }
    for service in ["signpost-hold.service", "signpost-confirm.service"] {
        let service = units.join(service);
        let (is_good, said) =
            analyze(&["security", "--offline=true", "--threshold=40", service.to_str().unwrap()]);
        assert!(is_good, "{said}");
    }
}

/// `hold --units` of the installed program turns on the package's units and leaves no copies that would count instead.
#[test]
fn the_packages_own_units_are_turned_on() {
    let work = tempfile::tempdir().unwrap();
    let root = work.path();
    install(root);
    let folder = root.join("etc/systemd/system");
    std::fs::create_dir_all(&folder).unwrap();
    ok(root, &["hold", "--units", folder.to_str().unwrap()]);
    let links = ["signpost-hold.service", "signpost-confirm.service"].map(|unit| {
        let link = folder.join("multi-user.target.wants").join(unit);
        assert!(std::fs::read_link(&link).unwrap().ends_with(Path::new("usr/lib/systemd/system").join(unit)));
        link
    });
    assert!(!folder.join("signpost-hold.service").exists());
    dpkg(root, &["--remove", "early-signpost"]);
    assert!(!links.iter().any(|link| link.is_symlink()), "what was turned on goes with the package");
}

#[test]
fn a_kernel_that_comes_or_goes_has_hold_look_and_the_package_goes_without_a_trace_but_what_starts() {
    let work = tempfile::tempdir().unwrap();
    let root = work.path();
    install(root);
    let hook = "/etc/kernel/postinst.d/zz-signpost";
    assert_eq!(script(root, hook, &["6.9.4", "/boot/vmlinuz-6.9.4"]), "", "no menu is active");
    for folder in ["etc/signpost", "var/lib/signpost", "boot/efi/EFI/signpost"] {
        std::fs::create_dir_all(root.join(folder)).unwrap();
        std::fs::write(root.join(folder).join("held.json"), "{}").unwrap();
    }
    // There is no firmware in the folder, which hold says, and a kernel's installation does not fail for it.
    for (path, args) in
        [(hook, &["6.9.4"][..]), ("/usr/lib/kernel/install.d/95-signpost.install", &["add", "6.9.4"])]
    {
        let said = script(root, path, args);
        assert!(said.contains("signpost: hold failed"), "{path}: {said}");
    }
    let said = dpkg(root, &["--remove", "early-signpost"]);
    assert!(said.contains("goes on starting this machine") && said.contains("apply --remove"), "{said}");
    assert!(root.join("var/lib/signpost/held.json").exists());
    dpkg(root, &["--purge", "early-signpost"]);
    assert!(!root.join("var/lib/signpost").exists() && !root.join("etc/signpost").exists());
    assert!(!root.join(hook.trim_start_matches('/')).exists());
    assert!(
        root.join("boot/efi/EFI/signpost/held.json").exists(),
        "what lies on an ESP is never the package's"
    );
}
