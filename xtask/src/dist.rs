//! What is handed to people: one folder, a Debian and an rpm package, with a program that needs nothing of the system it is put
//! on.

mod debian;
mod rpm;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use crate::boot;
use crate::run::{Result, at, command, run, static_cargo, static_folder, target_folder, tests, workspace};

const SHELLS: [(&str, &str); 3] = [
    ("bash", "share/bash-completion/completions/signpost"),
    ("zsh", "share/zsh/site-functions/_signpost"),
    ("fish", "share/fish/vendor_completions.d/signpost.fish"),
];
/// Off until somebody turns them on: a picture of the machine at each start and each day, in the journal.
const UNITS: [&str; 6] = [
    "xtask/units/signpost-survey.service",
    "xtask/units/signpost-survey.timer",
    "crates/signpost/units/signpost-hold.service",
    "crates/signpost/units/signpost-hold.path",
    "crates/signpost/units/signpost-hold.timer",
    "crates/signpost/units/signpost-confirm.service",
];
const DOCUMENTS: [&str; 3] = ["README.md", "CHANGELOG.md", "docs"];

/// How the program in the package is built.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Build {
    /// As people get it.
    Full,
    /// As tests run it, so that nothing is built for the package alone.
    Tested,
}

/// Makes all three below `target/dist`.
pub fn make(build: Build) -> Result<()> {
    let folder = target_folder().join("dist");
    if folder.exists() {
        fs::remove_dir_all(&folder).map_err(at(&folder))?;
    }
    let version = env!("CARGO_PKG_VERSION");
    let tree = folder.join(format!("signpost-{version}"));
    fill(&tree, build)?;
    let package = debian::package(&folder, &tree, version)?;
    println!(
        "{}\n{}\n{}",
        tree.display(),
        package.display(),
        rpm::package(&folder, &tree, version)?.display()
    );
    Ok(())
}

fn fill(tree: &Path, build: Build) -> Result<()> {
    let program = tree.join("bin/signpost");
    copy(&static_program(build)?, &program)?;
    if build == Build::Tested {
        // What tests leave in, no package has.
        run(command("strip").arg(&program))?;
    }
    let built = boot::build(true)?;
    for file in [boot::FILE, boot::BIOS_FILE] {
        copy(&built.with_file_name(file), &tree.join("lib/signpost").join(file))?;
    }
    for (shell, path) in SHELLS {
        let output = command(&program.to_string_lossy()).args(["completions", shell]).output();
        let script = output.map_err(at(&program))?.stdout;
        let path = tree.join(path);
        make_parent(&path)?;
        fs::write(&path, script).map_err(at(&path))?;
    }
    run(command(&program.to_string_lossy()).args(["--quiet", "manual"]).arg(tree.join("share/man")))?;
    // `hold --units` would name the program that runs now, in the build folder; as they stand, units name the installed one.
    for unit in UNITS {
        let name = Path::new(unit).file_name().unwrap_or_default();
        copy(&workspace().join(unit), &tree.join("lib/systemd/system").join(name))?;
    }
    let documents = tree.join("share/doc/signpost");
    fs::create_dir_all(&documents).map_err(at(&documents))?;
    for document in DOCUMENTS {
        run(command("cp").arg("-r").arg(workspace().join(document)).arg(&documents))?;
    }
    Ok(())
}

/// The program with its C library in it.
fn static_program(build: Build) -> Result<PathBuf> {
    let profile = match build {
        Build::Full => {
            run(&mut static_cargo(&["build", "--quiet", "--release", "--package", "signpost"]))?;
            "release"
        }
        Build::Tested => {
            run(tests().arg("--no-run"))?;
            "debug"
        }
    };
    Ok(static_folder().join(profile).join("signpost"))
}

fn copy(from: &Path, to: &Path) -> Result<()> {
    make_parent(to)?;
    fs::copy(from, to).map_err(at(from))?;
    let mode = if to.ends_with("bin/signpost") { 0o755 } else { 0o644 };
    fs::set_permissions(to, fs::Permissions::from_mode(mode)).map_err(at(to))
}

fn make_parent(path: &Path) -> Result<()> {
    let parent = path.parent().unwrap_or(path);
    fs::create_dir_all(parent).map_err(at(parent))
}
